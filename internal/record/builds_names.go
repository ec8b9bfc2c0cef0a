package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// BuildName is who may speak for the builds of a name.
type BuildName struct {
	Name    string    `db:"name"`
	OwnerID int64     `db:"owner_id"` // 0 if that user or robot was removed
	Owner   string    `db:"owner"`
	Robot   bool      `db:"robot"`
	GivenBy string    `db:"given_by"` // "" if it was the first to use it
	At      time.Time `db:"at"`
	Builds  int       `db:"builds"`
}

const buildNameRows = `select n.name, coalesce(n.owner_id, 0) owner_id, n.owner, coalesce(p.kind = 'robot', false) robot, n.given_by, n.at,
	(select count(*) from build b where b.name = n.name) builds from build_name n left join principal p
	on p.id = n.owner_id`

// BuildNames lists the names of builds that have owners.
func (db *DB) BuildNames(ctx context.Context) (all []BuildName, err error) {
	err = db.SelectContext(ctx, &all, buildNameRows+` order by n.name`)
	return all, err
}

// BuildOwners gives the owners of those of some names that have one, 0 for somebody who was removed.
func (db *DB) BuildOwners(ctx context.Context, names []string) (map[string]int64, error) {
	var rows []BuildName
	err := db.SelectContext(ctx, &rows, `select name, coalesce(owner_id, 0) owner_id from build_name where name = any($1)`,
		names)
	owners := make(map[string]int64, len(rows))
	for _, n := range rows {
		owners[n.Name] = n.OwnerID
	}
	return owners, err
}

// BuildName finds the owner of a name, or ErrNotFound.
func (r reads) BuildName(ctx context.Context, name string) (n BuildName, err error) {
	err = sqlx.GetContext(ctx, r.q, &n, buildNameRows+` where n.name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return n, err
}

// TakeBuildName makes somebody the owner of a name that has none, and gives who is
// the owner then.
func (tx *Tx) TakeBuildName(ctx context.Context, n BuildName) (BuildName, error) {
	if _, err := tx.ExecContext(ctx,
		`insert into build_name (name, owner_id, owner, given_by, at) values ($1, $2, $3, '', $4)
		on conflict (name) do update set owner_id = excluded.owner_id, owner = excluded.owner, given_by = '',
		at = excluded.at where build_name.owner_id is null`,
		n.Name, n.OwnerID, n.Owner, n.At); err != nil {
		return BuildName{}, err
	}
	return tx.BuildName(ctx, n.Name)
}

// GiveBuildName makes somebody the owner of a name, whoever was.
func (tx *Tx) GiveBuildName(ctx context.Context, n BuildName) error {
	_, err := tx.ExecContext(ctx, `insert into build_name (name, owner_id, owner, given_by, at) values ($1, $2, $3, $4, $5)
		on conflict (name) do update set owner_id = excluded.owner_id, owner = excluded.owner, given_by = excluded.given_by,
		at = excluded.at`,
		n.Name, n.OwnerID, n.Owner, n.GivenBy, n.At)
	return err
}

// FreeBuildName leaves a name to who uses it next; done is false if it had no owner.
func (tx *Tx) FreeBuildName(ctx context.Context, name string) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, `delete from build_name where name = $1`, name))
}

// RemoveBuild drops the record of a build that nothing refers to; done is false if
// something does: versions that it made, or promotions of it.
func (tx *Tx) RemoveBuild(ctx context.Context, id int64) (done bool, err error) {
	var used bool
	if err := tx.GetContext(ctx, &used,
		`select exists (select from version where build_id = $1) or exists (select from promotion where build_id = $1)`,
		id); err != nil || used {
		return false, err
	}
	for _, from := range []string{"build_use", "build_document"} {
		if _, err := tx.ExecContext(ctx, `delete from `+from+` where build_id = $1`, id); err != nil {
			return false, err
		}
	}
	return changedOne(tx.ExecContext(ctx, `delete from build where id = $1`, id))
}
