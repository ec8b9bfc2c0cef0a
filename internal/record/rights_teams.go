package record

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Team is a group of users and robots that grants can be given to.
type Team struct {
	ID          int64     `db:"id"`
	Name        string    `db:"name"`
	Description string    `db:"description"`
	CreatedAt   time.Time `db:"created_at"`
	Names       string    `db:"members"`
}

// Members names those who are in it, by name.
func (t Team) Members() []string { return strings.Fields(t.Names) }

// Teams lists all teams by name; of a principal if its id is not 0.
func (r reads) Teams(ctx context.Context, principalID int64) (all []Team, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select t.id, t.name, t.description, t.created_at,
		coalesce((select string_agg(p.name, ' ' order by p.name) from team_member m join principal p on p.id = m.principal_id
		where m.team_id = t.id), '') members
		from team t where $1 = 0 or t.id in (select team_id from team_member where principal_id = $1) order by t.name`,
		principalID)
	return all, err
}

// Team finds a team by name, or ErrNotFound.
func (r reads) Team(ctx context.Context, name string) (t Team, err error) {
	err = sqlx.GetContext(ctx, r.q, &t, `select t.id, t.name, t.description, t.created_at,
		coalesce((select string_agg(p.name, ' ' order by p.name) from team_member m join principal p on p.id = m.principal_id
		where m.team_id = t.id), '') members
		from team t where t.name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return t, ErrNotFound
	}
	return t, err
}

// AddTeam makes a team. ok is false if the name is taken.
func (tx *Tx) AddTeam(ctx context.Context, t Team) (id int64, ok bool, err error) {
	err = tx.GetContext(ctx, &id,
		`insert into team (name, description, created_at) values ($1, $2, $3) on conflict (name) do nothing returning id`,
		t.Name, t.Description, t.CreatedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// SetTeam writes the description of a team.
func (tx *Tx) SetTeam(ctx context.Context, t Team) error {
	_, err := tx.ExecContext(ctx, `update team set description = $2 where id = $1`, t.ID, t.Description)
	return err
}

// RemoveTeam removes a team with its grants.
func (tx *Tx) RemoveTeam(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `delete from team where id = $1`, id)
	return err
}

// Join puts users and robots into a team, and gives the names that nobody has.
func (tx *Tx) Join(ctx context.Context, teamID int64, names []string) (unknown []string, err error) {
	if err := tx.SelectContext(ctx, &unknown,
		`select n from unnest($1::text[]) n where not exists (select from principal p where p.name = n)`, names); err != nil {
		return nil, err
	}
	_, err = tx.ExecContext(ctx,
		`insert into team_member (team_id, principal_id) select $1, id from principal where name = any($2)
			on conflict do nothing`, teamID, names)
	return unknown, err
}

// Leave takes users and robots out of a team.
func (tx *Tx) Leave(ctx context.Context, teamID int64, names []string) error {
	_, err := tx.ExecContext(ctx,
		`delete from team_member where team_id = $1 and principal_id in (select id from principal where name = any($2))`,
		teamID, names)
	return err
}
