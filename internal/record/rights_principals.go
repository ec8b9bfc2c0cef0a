package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/access"
)

// Principal is a user or robot.
type Principal struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	Kind         string `db:"kind"` // user or robot
	Description  string `db:"description"`
	PasswordHash string `db:"password_hash"` // "" for none
	// PasswordGiven: somebody else chose the password, so it is to be changed.
	PasswordGiven bool       `db:"password_given"`
	CreatedAt     time.Time  `db:"created_at"`
	BlockedAt     *time.Time `db:"blocked_at"` // it does not get in since then
	// Grants are all that count for it, those of its teams and of everybody too.
	Grants []access.Grant
}

const principalColumns = `id, name, kind, description, password_hash, password_given, created_at, blocked_at`

// AddPrincipal makes one, without its grants, and returns its id. ok is false if
// the name is taken.
func (tx *Tx) AddPrincipal(ctx context.Context, p Principal) (id int64, ok bool, err error) {
	err = tx.GetContext(ctx, &id,
		`insert into principal (name, kind, description, password_hash, password_given, created_at)
		values ($1, $2, $3, $4, $5, $6) on conflict (name) do nothing returning id`,
		p.Name, p.Kind, p.Description, p.PasswordHash, p.PasswordGiven, p.CreatedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// SetPrincipal writes the description of one, and whether it is blocked.
func (tx *Tx) SetPrincipal(ctx context.Context, p Principal) error {
	_, err := tx.ExecContext(ctx, `update principal set description = $2, blocked_at = $3 where id = $1`, p.ID,
		p.Description, p.BlockedAt)
	return err
}

// RemovePrincipal removes one with its tokens, sessions and grants.
func (tx *Tx) RemovePrincipal(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `delete from principal where id = $1`, id)
	return err
}

// SetPassword replaces a password hash. given: somebody else chose it.
func (tx *Tx) SetPassword(ctx context.Context, principalID int64, hash string, given bool) error {
	_, err := tx.ExecContext(ctx, `update principal set password_hash = $2, password_given = $3 where id = $1`,
		principalID, hash, given)
	return err
}

// Principal finds one by name with its grants, or ErrNotFound.
func (r reads) Principal(ctx context.Context, name string) (Principal, error) {
	return r.principal(ctx, `name = $1`, name)
}

// AnyPrincipal tells whether there is any.
func (db *DB) AnyPrincipal(ctx context.Context) (any bool, err error) {
	err = db.GetContext(ctx, &any, `select exists (select from principal)`)
	return any, err
}

func (r reads) principal(ctx context.Context, where string, arg any) (p Principal, err error) {
	err = sqlx.GetContext(ctx, r.q, &p, `select `+principalColumns+` from principal where `+where, arg)
	if errors.Is(err, sql.ErrNoRows) {
		return p, ErrNotFound
	}
	if err != nil {
		return p, err
	}
	p.Grants, err = r.GrantsOf(ctx, p.ID)
	return p, err
}

// PrincipalLine is a user or robot in a list.
type PrincipalLine struct {
	Principal
	Teams    string     `db:"teams"` // with spaces between them
	Tokens   int        `db:"tokens"`
	Sessions int        `db:"sessions"`
	SeenAt   *time.Time `db:"seen_at"` // when it signed in or used a token last
}

// Principals lists users and robots by name, without their grants; kind may be
// "" for both.
func (db *DB) Principals(ctx context.Context, kind string, now time.Time) (all []PrincipalLine, err error) {
	err = db.SelectContext(ctx, &all, `select `+principalColumns+`,
		coalesce((select string_agg(t.name, ' ' order by t.name) from team_member m join team t on t.id = m.team_id
		where m.principal_id = p.id), '') teams,
		(select count(*) from token t where t.principal_id = p.id and t.revoked_at is null and t.expires_at > $2) tokens,
		(select count(*) from session s where s.principal_id = p.id and s.expires_at > $2) sessions,
		greatest((select max(used_at) from token t where t.principal_id = p.id), (select max(created_at) from session s
		where s.principal_id = p.id)) seen_at
		from principal p where $1 = '' or kind = $1 order by name`, kind, now)
	return all, err
}

// Steps tells what of the first steps with a new service was done.
type Steps struct {
	Mirror    bool `db:"mirror"`    // there is one
	Client    bool `db:"client"`    // a package client fetched something
	Published bool `db:"published"` // something was published to a house
}

// Steps tells how far a new service is.
func (db *DB) Steps(ctx context.Context) (s Steps, err error) {
	err = db.GetContext(ctx, &s, `select
		exists (select from repository where kind = 'mirror' and removed_at is null) mirror,
		exists (select from version_use) client,
		exists (select from version v join package p on p.id = v.package_id join repository r on r.id = p.repository_id
			where r.kind = 'house' and v.visible_from is not null) published`)
	return s, err
}
