package record

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// AddSession starts a session; those that have ended make way.
func (tx *Tx) AddSession(
	ctx context.Context, hash [32]byte, principalID int64, now, expires time.Time, address, client string,
) error {
	if _, err := tx.ExecContext(ctx, `delete from session where expires_at <= $1`, now); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx,
		`insert into session (hash, principal_id, created_at, expires_at, address, client) values ($1, $2, $3, $4, $5, $6)`,
		hash[:], principalID, now, expires, address, client)
	return err
}

// EndSessions ends all sessions of a principal but one, and tells how many.
func (tx *Tx) EndSessions(ctx context.Context, principalID int64, but [32]byte) (int64, error) {
	result, err := tx.ExecContext(ctx, `delete from session where principal_id = $1 and hash <> $2`, principalID, but[:])
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// EndSession ends a session, if there is one.
func (tx *Tx) EndSession(ctx context.Context, hash [32]byte) error {
	_, err := tx.ExecContext(ctx, `delete from session where hash = $1`, hash[:])
	return err
}

// BySession finds the owner of a session that has not ended, or ErrNotFound.
func (db *DB) BySession(ctx context.Context, hash [32]byte, now time.Time) (p Principal, expires time.Time, err error) {
	var row struct {
		PrincipalID int64     `db:"principal_id"`
		ExpiresAt   time.Time `db:"expires_at"`
	}
	err = db.GetContext(ctx, &row, `select principal_id, expires_at from session where hash = $1 and expires_at > $2`,
		hash[:], now)
	if errors.Is(err, sql.ErrNoRows) {
		return p, expires, ErrNotFound
	}
	if err != nil {
		return p, expires, err
	}
	p, err = db.principal(ctx, `id = $1`, row.PrincipalID)
	return p, row.ExpiresAt, err
}
