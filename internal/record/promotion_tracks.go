package record

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"
)

func itoa(n int) string { return strconv.Itoa(n) }

// Track is an ordered list of repositories that versions are promoted along.
type Track struct {
	ID          int64     `db:"id"`
	Name        string    `db:"name"`
	Description string    `db:"description"`
	CreatedAt   time.Time `db:"created_at"`
	Stages      []Stage   `db:"-"`
}

// Stage is a repository of a track, with what is asked for on the hop that leads
// into it.
type Stage struct {
	RepositoryID int64
	Gates        []string
	SignWith     string   // a signing key; "" for none
	Onward       []string // targets
	Restamps     []string // what is restamped that is left alone otherwise
}

// Tracks lists all tracks by name.
func (r reads) Tracks(ctx context.Context) ([]Track, error) {
	var tracks []Track
	if err := sqlx.SelectContext(ctx, r.q, &tracks,
		`select id, name, description, created_at from track order by name`); err != nil {
		return nil, err
	}
	rows, err := r.q.QueryxContext(ctx,
		`select track_id, repository_id, gates, sign_with, onward, restamps from track_stage order by track_id, position`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var s Stage
		if err := rows.Scan(&id, &s.RepositoryID, list(&s.Gates), &s.SignWith, list(&s.Onward),
			list(&s.Restamps)); err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(tracks, func(t Track) bool { return t.ID == id }); i >= 0 {
			tracks[i].Stages = append(tracks[i].Stages, s)
		}
	}
	return tracks, rows.Err()
}

// AddTrack makes a track. ok is false if the name is taken.
func (tx *Tx) AddTrack(ctx context.Context, t Track) (ok bool, err error) {
	err = tx.GetContext(ctx, &t.ID,
		`insert into track (name, description, created_at) values ($1, $2, $3) on conflict (name) do nothing returning id`,
		t.Name, t.Description, t.CreatedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, tx.SetTrack(ctx, t)
}

// SetTrack writes the description and the stages of a track.
func (tx *Tx) SetTrack(ctx context.Context, t Track) error {
	if _, err := tx.ExecContext(ctx,
		`with gone as (delete from track_stage where track_id = $1) update track set description = $2 where id = $1`, t.ID,
		t.Description); err != nil {
		return err
	}
	for i, s := range t.Stages {
		if _, err := tx.ExecContext(ctx,
			`insert into track_stage (track_id, position, repository_id, gates, sign_with, onward, restamps) values ($1,
				$2, $3, $4, $5, $6, $7)`,
			t.ID, i, s.RepositoryID, append([]string{}, s.Gates...), s.SignWith, append([]string{}, s.Onward...),
			append([]string{}, s.Restamps...)); err != nil {
			return err
		}
	}
	return nil
}

// RemoveTrack removes a track; its promotions stay on record.
func (tx *Tx) RemoveTrack(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `delete from track where id = $1`, id)
	return err
}

// Key is a key by which others sign: OpenPGP, or PEM for statements.
type Key struct {
	Name   string    `db:"name"`
	Form   string    `db:"form"` // openpgp or pem
	Text   string    `db:"text"`
	ByName string    `db:"by_name"`
	At     time.Time `db:"at"`
}

// TrustedKeys lists all by name.
func (r reads) TrustedKeys(ctx context.Context) (keys []Key, err error) {
	err = sqlx.SelectContext(ctx, r.q, &keys, `select name, form, text, by_name, at from trusted_key order by name`)
	return keys, err
}

// AddTrustedKey adds one. ok is false if the name is taken.
func (tx *Tx) AddTrustedKey(ctx context.Context, k Key) (ok bool, err error) {
	result, err := tx.ExecContext(ctx,
		`insert into trusted_key (name, form, text, by_name, at) select $1, $2, $3, $4, $5::timestamptz
		where not exists (select from signing_key where name = $1) on conflict (name) do nothing`, k.Name, k.Form, k.Text,
		k.ByName, k.At)
	return changedOne(result, err)
}

// SigningKey is a key that Crelvo signs with.
type SigningKey struct {
	Name        string    `db:"name"`
	Fingerprint string    `db:"fingerprint"`
	Public      string    `db:"public"` // armored
	Secret      []byte    `db:"secret"` // encrypted
	ByName      string    `db:"by_name"`
	At          time.Time `db:"at"`
}

// SigningKeys lists all by name.
func (r reads) SigningKeys(ctx context.Context) (keys []SigningKey, err error) {
	err = sqlx.SelectContext(ctx, r.q, &keys,
		`select name, fingerprint, public, secret, by_name, at from signing_key order by name`)
	return keys, err
}

// AddSigningKey adds one. ok is false if the name is taken.
func (tx *Tx) AddSigningKey(ctx context.Context, k SigningKey) (ok bool, err error) {
	result, err := tx.ExecContext(ctx,
		`insert into signing_key (name, fingerprint, public, secret, by_name, at) select $1, $2, $3, $4, $5, $6::timestamptz
		where not exists (select from trusted_key where name = $1) on conflict (name) do nothing`, k.Name, k.Fingerprint,
		k.Public, k.Secret, k.ByName, k.At)
	return changedOne(result, err)
}

// RemoveKey removes a key of either kind; done is false if there is none.
func (tx *Tx) RemoveKey(ctx context.Context, name string) (done bool, err error) {
	var n int
	err = tx.GetContext(ctx, &n,
		`with trusted as (delete from trusted_key where name = $1 returning 1), signing as (delete from signing_key
			where name = $1 returning 1)
		select (select count(*) from trusted) + (select count(*) from signing)`, name)
	return n > 0, err
}

func changedOne(result sql.Result, err error) (bool, error) {
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n == 1, err
}

// LostSecrets names whose secrets cannot be opened any more.
type LostSecrets struct {
	Repositories  []int64
	Targets, Keys []string
	Stores        []int16
}

// ForgetSecrets drops what cannot be opened; keys stay with their public parts.
func (db *DB) ForgetSecrets(ctx context.Context, lost LostSecrets) error {
	return db.Within(ctx, func(tx *Tx) error {
		_, err1 := tx.ExecContext(ctx, `update repository set secret = null where id = any($1)`, lost.Repositories)
		_, err2 := tx.ExecContext(ctx, `update destination set secret = null where name = any($1)`, lost.Targets)
		_, err3 := tx.ExecContext(ctx, `update signing_key set secret = '' where name = any($1)`, lost.Keys)
		_, err4 := tx.ExecContext(ctx, `update store set secret = null where id = any($1)`, lost.Stores)
		return errors.Join(err1, err2, err3, err4)
	})
}
