package record

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"
)

// Token is a token as it is kept: without its secret.
type Token struct {
	ID          int64
	PrincipalID int64
	Name        string
	Can         []string // empty: everything
	On          []string // repository patterns; empty: all
	Only        []string // package patterns; empty: all
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
	err = tx.GetContext(ctx, &id,
		`insert into token (principal_id, name, hash, can, repositories, packages, created_at, expires_at)
		values ($1, $2, $3, coalesce($4, '{}'::text[]), coalesce($5, '{}'::text[]), coalesce($6, '{}'::text[]), $7, $8)
		on conflict (principal_id, name) where revoked_at is null do nothing returning id`,
		t.PrincipalID, t.Name, hash[:], t.Can, t.On, t.Only, t.CreatedAt, t.ExpiresAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// RevokeToken ends a token of a principal. done is false if there is none of
// that name.
func (tx *Tx) RevokeToken(ctx context.Context, principalID int64, name string, at time.Time) (done bool, err error) {
	result, err := tx.ExecContext(ctx,
		`update token set revoked_at = $3 where principal_id = $1 and name = $2 and revoked_at is null`,
		principalID, name, at)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n == 1, err
}

func tokenColumns(of string) string {
	return of + strings.ReplaceAll(
		`id, principal_id, name, can, repositories, packages, created_at, expires_at, revoked_at, used_at, used_from,
			used_client`, ", ", ", "+of)
}

func scanToken(scan func(...any) error) (t Token, err error) {
	err = scan(&t.ID, &t.PrincipalID, &t.Name, list(&t.Can), list(&t.On), list(&t.Only), &t.CreatedAt, &t.ExpiresAt,
		&t.RevokedAt, &t.UsedAt, &t.UsedFrom, &t.UsedClient)
	return t, err
}

// Tokens lists the tokens of a principal that are not revoked, by name.
func (db *DB) Tokens(ctx context.Context, principalID int64) (tokens []Token, err error) {
	rows, err := db.QueryContext(ctx, `select `+tokenColumns("")+
		` from token where principal_id = $1 and revoked_at is null order by name`, principalID)
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

// OwnedToken is a token with its owner's name and kind.
type OwnedToken struct {
	Token
	Owner string
	Robot bool
}

// AllTokens lists the tokens of everybody that are not revoked, those that end
// first first.
func (db *DB) AllTokens(ctx context.Context) (tokens []OwnedToken, err error) {
	rows, err := db.QueryContext(ctx, `select `+tokenColumns("t.")+
		`, p.name, p.kind = 'robot' from token t join principal p on p.id = t.principal_id
		where t.revoked_at is null order by t.expires_at, p.name, t.name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var t OwnedToken
		t.Token, err = scanToken(func(to ...any) error { return rows.Scan(append(to, &t.Owner, &t.Robot)...) })
		if err != nil {
			return nil, err
		}
		tokens = append(tokens, t)
	}
	return tokens, rows.Err()
}

// RevokeTokens ends all tokens of a principal, and tells how many.
func (tx *Tx) RevokeTokens(ctx context.Context, principalID int64, at time.Time) (int64, error) {
	result, err := tx.ExecContext(ctx, `update token set revoked_at = $2 where principal_id = $1 and revoked_at is null`,
		principalID, at)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// ByToken finds a token and its owner by the hash of its secret, or ErrNotFound.
func (db *DB) ByToken(ctx context.Context, hash [32]byte) (Token, Principal, error) {
	t, err := scanToken(db.QueryRowContext(ctx, `select `+tokenColumns("")+` from token where hash = $1`, hash[:]).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return t, Principal{}, ErrNotFound
	}
	if err != nil {
		return t, Principal{}, err
	}
	p, err := db.principal(ctx, `id = $1`, t.PrincipalID)
	return t, p, err
}

// TokenNamed finds a token of somebody that is not revoked, or ErrNotFound.
func (db *DB) TokenNamed(ctx context.Context, principalID int64, name string) (Token, error) {
	t, err := scanToken(db.QueryRowContext(ctx, `select `+tokenColumns("")+
		` from token where principal_id = $1 and name = $2 and revoked_at is null`, principalID, name).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return t, err
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
		from unnest($1::bigint[], $2::timestamptz[], $3::text[], $4::text[]) u(id, at, origin, client) where t.id = u.id`,
		ids, at, from, client)
	return err
}

// PutToken makes a token whose secret somebody else chose; one with the same
// secret is taken over.
func (tx *Tx) PutToken(ctx context.Context, t Token, hash [32]byte) error {
	_, err := tx.ExecContext(ctx,
		`insert into token (principal_id, name, hash, created_at, expires_at) values ($1, $2, $3, $4, $5)
		on conflict (hash) do update set principal_id = excluded.principal_id, name = excluded.name,
		expires_at = excluded.expires_at, revoked_at = null`, t.PrincipalID, t.Name, hash[:], t.CreatedAt, t.ExpiresAt)
	return err
}
