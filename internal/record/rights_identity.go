package record

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"strings"
)

// Identity is something that the records note of what they belong together with;
// "" if nothing is noted.
func (db *DB) Identity(ctx context.Context, what string) (value string, err error) {
	err = db.GetContext(ctx, &value, `select value from identity where what = $1`, what)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return value, err
}

// HouseName is what this Crelvo calls itself towards others, wherever its records are.
func (db *DB) HouseName(ctx context.Context) (name string, err error) {
	if _, err := db.ExecContext(ctx, `insert into identity (what, value) values ('house', $1) on conflict (what) do nothing`,
		strings.ToLower(rand.Text())); err != nil {
		return "", err
	}
	return db.Identity(ctx, "house")
}

// SetIdentity notes it.
func (db *DB) SetIdentity(ctx context.Context, what, value string) error {
	_, err := db.ExecContext(ctx,
		`insert into identity (what, value) values ($1, $2) on conflict (what) do update set value = excluded.value`, what,
		value)
	return err
}

// TakeIdentity notes it if it is still what it was; done is false if somebody else
// was quicker.
func (db *DB) TakeIdentity(ctx context.Context, what, was, value string) (done bool, err error) {
	return changedOne(
		db.ExecContext(ctx,
			`insert into identity (what, value) values ($1, $3) on conflict (what) do update set value = excluded.value
				where identity.value = $2`, what, was, value))
}
