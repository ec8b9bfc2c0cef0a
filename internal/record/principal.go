package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"crelvo/internal/core/access"
)

// Principal is a user or robot with what it may do.
type Principal struct {
	ID           int64     `db:"id"`
	Name         string    `db:"name"`
	Kind         string    `db:"kind"`
	PasswordHash string    `db:"password_hash"`
	CreatedAt    time.Time `db:"created_at"`
	Grants       []access.Grant
}

// AddPrincipal makes one, with its grants, and returns its id. ok is false if
// the name is taken.
func (tx *Tx) AddPrincipal(ctx context.Context, p Principal) (id int64, ok bool, err error) {
	err = tx.GetContext(ctx, &id, `insert into principal (name, kind, password_hash, created_at) values ($1, $2, $3, $4)
		on conflict (name) do nothing returning id`, p.Name, p.Kind, p.PasswordHash, p.CreatedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	for _, g := range p.Grants {
		if _, err := tx.ExecContext(ctx, `insert into role_grant (principal_id, role, repositories) values ($1, $2, $3)`,
			id, g.Role, g.Repositories); err != nil {
			return 0, false, err
		}
	}
	return id, true, nil
}

// SetPassword replaces a password hash and ends the sessions of its owner.
func (tx *Tx) SetPassword(ctx context.Context, principalID int64, hash string) error {
	if _, err := tx.ExecContext(ctx, `update principal set password_hash = $2 where id = $1`, principalID, hash); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `delete from session where principal_id = $1`, principalID)
	return err
}

// Principal finds one by name, or ErrNotFound.
func (db *DB) Principal(ctx context.Context, name string) (Principal, error) {
	return db.principal(ctx, `name = $1`, name)
}

// AnyPrincipal tells whether there is any.
func (db *DB) AnyPrincipal(ctx context.Context) (any bool, err error) {
	err = db.GetContext(ctx, &any, `select exists (select from principal)`)
	return any, err
}

func (db *DB) principal(ctx context.Context, where string, arg any) (p Principal, err error) {
	err = db.GetContext(ctx, &p, `select id, name, kind, password_hash, created_at from principal where `+where, arg)
	if errors.Is(err, sql.ErrNoRows) {
		return p, ErrNotFound
	}
	if err != nil {
		return p, err
	}
	var grants []struct {
		Role         string `db:"role"`
		Repositories string `db:"repositories"`
	}
	err = db.SelectContext(ctx, &grants, `select role, repositories from role_grant where principal_id = $1`, p.ID)
	for _, g := range grants {
		p.Grants = append(p.Grants, access.Grant{Role: access.Role(g.Role), Repositories: g.Repositories})
	}
	return p, err
}

// Token is a token as it is kept: without its secret.
type Token struct {
	ID          int64
	PrincipalID int64
	Name        string
	Can         []string // empty: everything
	On          []string // repository patterns; empty: all
	CreatedAt   time.Time
	ExpiresAt   time.Time
	RevokedAt   *time.Time
	UsedAt      *time.Time
	UsedFrom    string
	UsedClient  string
}

// AddToken makes one and returns its id. ok is false if its owner has one of
// that name that is in force; one that has ended makes way.
func (tx *Tx) AddToken(ctx context.Context, t Token, hash [32]byte) (id int64, ok bool, err error) {
	if _, err := tx.ExecContext(ctx, `update token set revoked_at = $3 where principal_id = $1 and name = $2
		and revoked_at is null and expires_at <= $3`, t.PrincipalID, t.Name, t.CreatedAt); err != nil {
		return 0, false, err
	}
	err = tx.GetContext(ctx, &id, `insert into token (principal_id, name, hash, can, repositories, created_at, expires_at)
		values ($1, $2, $3, coalesce($4, '{}'::text[]), coalesce($5, '{}'::text[]), $6, $7)
		on conflict (principal_id, name) where revoked_at is null do nothing returning id`,
		t.PrincipalID, t.Name, hash[:], t.Can, t.On, t.CreatedAt, t.ExpiresAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// RevokeToken ends a token of a principal. done is false if there is none of
// that name.
func (tx *Tx) RevokeToken(ctx context.Context, principalID int64, name string, at time.Time) (done bool, err error) {
	result, err := tx.ExecContext(ctx, `update token set revoked_at = $3 where principal_id = $1 and name = $2 and revoked_at is null`,
		principalID, name, at)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n == 1, err
}

const tokenColumns = `id, principal_id, name, can, repositories, created_at, expires_at, revoked_at, used_at, used_from, used_client`

func scanToken(scan func(...any) error) (t Token, err error) {
	err = scan(&t.ID, &t.PrincipalID, &t.Name, list(&t.Can), list(&t.On), &t.CreatedAt, &t.ExpiresAt,
		&t.RevokedAt, &t.UsedAt, &t.UsedFrom, &t.UsedClient)
	return t, err
}

// Tokens lists the tokens of a principal that are not revoked, by name.
func (db *DB) Tokens(ctx context.Context, principalID int64) (tokens []Token, err error) {
	rows, err := db.QueryContext(ctx, `select `+tokenColumns+` from token where principal_id = $1 and revoked_at is null order by name`, principalID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		t, err := scanToken(rows.Scan)
		if err != nil {
			return nil, err
		}
		tokens = append(tokens, t)
	}
	return tokens, rows.Err()
}

// ByToken finds a token and its owner by the hash of its secret, or ErrNotFound.
func (db *DB) ByToken(ctx context.Context, hash [32]byte) (Token, Principal, error) {
	t, err := scanToken(db.QueryRowContext(ctx, `select `+tokenColumns+` from token where hash = $1`, hash[:]).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return t, Principal{}, ErrNotFound
	}
	if err != nil {
		return t, Principal{}, err
	}
	p, err := db.principal(ctx, `id = $1`, t.PrincipalID)
	return t, p, err
}

// TokenUse says when, from where and by what a token was used last.
type TokenUse struct {
	TokenID      int64
	At           time.Time
	From, Client string
}

// NoteTokenUses writes the last uses of tokens.
func (tx *Tx) NoteTokenUses(ctx context.Context, uses []TokenUse) error {
	ids, at := make([]int64, len(uses)), make([]time.Time, len(uses))
	from, client := make([]string, len(uses)), make([]string, len(uses))
	for i, u := range uses {
		ids[i], at[i], from[i], client[i] = u.TokenID, u.At, u.From, u.Client
	}
	_, err := tx.ExecContext(ctx, `update token t set used_at = u.at, used_from = u.origin, used_client = u.client
		from unnest($1::bigint[], $2::timestamptz[], $3::text[], $4::text[]) u(id, at, origin, client) where t.id = u.id`, ids, at, from, client)
	return err
}

// AddSession starts a session.
func (tx *Tx) AddSession(ctx context.Context, hash [32]byte, principalID int64, now, expires time.Time) error {
	_, err := tx.ExecContext(ctx, `insert into session (hash, principal_id, created_at, expires_at) values ($1, $2, $3, $4)`,
		hash[:], principalID, now, expires)
	return err
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
	err = db.GetContext(ctx, &row, `select principal_id, expires_at from session where hash = $1 and expires_at > $2`, hash[:], now)
	if errors.Is(err, sql.ErrNoRows) {
		return p, expires, ErrNotFound
	}
	if err != nil {
		return p, expires, err
	}
	p, err = db.principal(ctx, `id = $1`, row.PrincipalID)
	return p, row.ExpiresAt, err
}

// PutToken makes a token whose secret somebody else chose; one with the same
// secret is taken over.
func (tx *Tx) PutToken(ctx context.Context, t Token, hash [32]byte) error {
	_, err := tx.ExecContext(ctx, `insert into token (principal_id, name, hash, created_at, expires_at) values ($1, $2, $3, $4, $5)
		on conflict (hash) do update set principal_id = excluded.principal_id, name = excluded.name,
		expires_at = excluded.expires_at, revoked_at = null`, t.PrincipalID, t.Name, hash[:], t.CreatedAt, t.ExpiresAt)
	return err
}
