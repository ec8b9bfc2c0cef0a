package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"crelvo/internal/core/catalog"
)

type repositoryRow struct {
	ID            int64     `db:"id"`
	Name          string    `db:"name"`
	Kind          string    `db:"kind"`
	Holds         string    `db:"holds"`
	Description   string    `db:"description"`
	AnonymousRead bool      `db:"anonymous_read"`
	CreatedAt     time.Time `db:"created_at"`
	ChangedAt     time.Time `db:"changed_at"`
}

func (r repositoryRow) value() catalog.Repository {
	return catalog.Repository{ID: r.ID, Name: r.Name, Kind: catalog.Kind(r.Kind), Holds: catalog.Holds(r.Holds),
		Description: r.Description, AnonymousRead: r.AnonymousRead, CreatedAt: r.CreatedAt, ChangedAt: r.ChangedAt}
}

// Repositories lists all that are not removed, by name.
func (db *DB) Repositories(ctx context.Context) ([]catalog.Repository, error) {
	var rows []repositoryRow
	err := db.SelectContext(ctx, &rows, `select id, name, kind, holds, description, anonymous_read, created_at, changed_at
		from repository where removed_at is null order by name`)
	repositories := make([]catalog.Repository, len(rows))
	for i, row := range rows {
		repositories[i] = row.value()
	}
	return repositories, err
}

// AddRepository makes one and returns it with its id. ok is false if the name
// is taken.
func (tx *Tx) AddRepository(ctx context.Context, r catalog.Repository) (_ catalog.Repository, ok bool, err error) {
	err = tx.GetContext(ctx, &r.ID, `insert into repository
		(name, kind, holds, description, anonymous_read, created_at, changed_at)
		values ($1, $2, $3, $4, $5, $6, $6)
		on conflict (name) where removed_at is null do nothing returning id`,
		r.Name, r.Kind, r.Holds, r.Description, r.AnonymousRead, r.CreatedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	r.ChangedAt = r.CreatedAt
	return r, err == nil, err
}

// SetRepository writes the settings of r.
func (tx *Tx) SetRepository(ctx context.Context, r catalog.Repository) error {
	_, err := tx.ExecContext(ctx, `update repository set holds = $2, description = $3, anonymous_read = $4, changed_at = $5
		where id = $1`, r.ID, r.Holds, r.Description, r.AnonymousRead, r.ChangedAt)
	return err
}

// RemoveRepository takes a repository out of use; its contents stay on record.
func (tx *Tx) RemoveRepository(ctx context.Context, id int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, `update repository set removed_at = $2 where id = $1`, id, at)
	return err
}

// LockRepository holds off publishing to a repository until the transaction
// ends; Total then stays true.
func (tx *Tx) LockRepository(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `select from repository where id = $1 for update`, id)
	return err
}

// Total is what a repository holds.
type Total struct {
	RepositoryID int64
	Packages     int64
	Versions     int64
	Bytes        int64
	LastChange   *time.Time
	Ecosystems   []string // of what it holds
}

// Totals are the totals of all repositories that ever held anything.
func (db *DB) Totals(ctx context.Context) (map[int64]Total, error) {
	rows, err := db.QueryContext(ctx, `select repository_id, count(*) filter (where versions > 0),
		sum(versions)::bigint, sum(bytes)::bigint, max(changed_at),
		coalesce(array_agg(distinct ecosystem) filter (where versions > 0), '{}')
		from package group by repository_id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	totals := map[int64]Total{}
	for rows.Next() {
		var t Total
		if err := rows.Scan(&t.RepositoryID, &t.Packages, &t.Versions, &t.Bytes, &t.LastChange, list(&t.Ecosystems)); err != nil {
			return nil, err
		}
		totals[t.RepositoryID] = t
	}
	return totals, rows.Err()
}

// Packages counts the packages with visible or open versions in a repository.
func (tx *Tx) Packages(ctx context.Context, repositoryID int64) (n int64, err error) {
	err = tx.GetContext(ctx, &n, `select count(*) from package p where repository_id = $1 and
		exists (select from version v where v.package_id = p.id and v.visible_until is null)`, repositoryID)
	return n, err
}
