package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/access"
	"crelvo/internal/core/purl"
)

// StoredGrant is a grant with who gave it.
type StoredGrant struct {
	access.Grant
	By string
	At time.Time
}

// grantSelect selects grants g of principals p and teams t.
const grantSelect = `select g.id, coalesce(p.name, 'team:' || t.name, g.everyone) holder, g.role, g.repositories, g.packages, g.given_by, g.given_at
	from role_grant g left join principal p on p.id = g.principal_id left join team t on t.id = g.team_id `

func (r reads) grants(ctx context.Context, where string, args ...any) ([]StoredGrant, error) {
	var rows []struct {
		ID           int64     `db:"id"`
		Holder       string    `db:"holder"`
		Role         string    `db:"role"`
		Repositories string    `db:"repositories"`
		Packages     string    `db:"packages"`
		By           string    `db:"given_by"`
		At           time.Time `db:"given_at"`
	}
	if err := sqlx.SelectContext(ctx, r.q, &rows, grantSelect+where, args...); err != nil {
		return nil, err
	}
	grants := make([]StoredGrant, len(rows))
	for i, row := range rows {
		g := access.Grant{ID: row.ID, Holder: row.Holder, Role: access.Role(row.Role), Repositories: row.Repositories}
		if row.Packages != "" {
			var err error
			if g.Packages, err = purl.ParsePattern(row.Packages); err != nil {
				return nil, err
			}
		}
		grants[i] = StoredGrant{Grant: g, By: row.By, At: row.At}
	}
	return grants, nil
}

func plain(stored []StoredGrant, err error) ([]access.Grant, error) {
	grants := make([]access.Grant, len(stored))
	for i, g := range stored {
		grants[i] = g.Grant
	}
	return grants, err
}

// GrantsOf lists the grants that count for a principal: its own, those of its
// teams, and those of everybody. 0 is who did not sign in.
func (r reads) GrantsOf(ctx context.Context, principalID int64) ([]access.Grant, error) {
	return plain(
		r.grants(ctx, `where g.everyone = 'anonymous' or $1 <> 0 and (g.principal_id = $1 or g.everyone = 'signed-in'
		or g.team_id in (select team_id from team_member where principal_id = $1)) order by g.principal_id is null,
		g.team_id is null, g.id`, principalID))
}

// Grants lists all grants by holder: users and robots, teams, and everybody.
func (r reads) Grants(ctx context.Context) ([]StoredGrant, error) {
	return r.grants(ctx, `order by g.principal_id is null, g.team_id is null, holder, g.repositories, g.packages, g.id`)
}

// AdminGrants lists the grants of the role admin to users, robots and teams.
func (r reads) AdminGrants(ctx context.Context) ([]access.Grant, error) {
	return plain(r.grants(ctx, `where g.role = 'admin' and g.everyone = '' order by g.team_id is null, holder`))
}

// AddGrant gives a grant to a principal, a team (the other id is 0), or with
// both 0 to access.Everybody or access.Anonymous. ok is false if it is there.
func (tx *Tx) AddGrant(ctx context.Context, principalID, teamID int64, g StoredGrant) (id int64, ok bool, err error) {
	everyone := ""
	if principalID == 0 && teamID == 0 {
		everyone = g.Holder
	}
	err = tx.GetContext(ctx, &id,
		`insert into role_grant (principal_id, team_id, everyone, role, repositories, packages, given_by, given_at)
		values (nullif($1::bigint, 0), nullif($2::bigint, 0), $3, $4, $5, $6, $7, $8) on conflict do nothing returning id`,
		principalID, teamID, everyone, g.Role, g.Repositories, g.Packages.String(), g.By, g.At)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// RemoveGrant takes a grant away, and gives what it was, or ErrNotFound.
func (tx *Tx) RemoveGrant(ctx context.Context, id int64) (StoredGrant, error) {
	found, err := tx.grants(ctx, `where g.id = $1`, id)
	if err != nil {
		return StoredGrant{}, err
	}
	if len(found) == 0 {
		return StoredGrant{}, ErrNotFound
	}
	_, err = tx.ExecContext(ctx, `delete from role_grant where id = $1`, id)
	return found[0], err
}

// AnyAdmin tells whether there is a user who gets in and is admin of
// everything.
func (tx *Tx) AnyAdmin(ctx context.Context) (any bool, err error) {
	err = tx.GetContext(ctx, &any, `select exists (select from principal p join role_grant g on g.principal_id = p.id
		or g.team_id in (select team_id from team_member m where m.principal_id = p.id)
		where p.kind = 'user' and p.blocked_at is null and g.role = 'admin' and g.repositories = '*' and g.packages = '')`)
	return any, err
}
