package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

type repositoryRow struct {
	ID            int64         `db:"id"`
	Name          string        `db:"name"`
	Kind          string        `db:"kind"`
	Holds         string        `db:"holds"`
	Ecosystem     string        `db:"ecosystem"`
	Description   string        `db:"description"`
	AnonymousRead bool          `db:"anonymous_read"`
	CreatedAt     time.Time     `db:"created_at"`
	ChangedAt     time.Time     `db:"changed_at"`
	Settings      []byte        `db:"settings"`
	Secret        []byte        `db:"secret"`
	ReleasesTo    sql.NullInt64 `db:"releases_to"`
	SnapshotsTo   sql.NullInt64 `db:"snapshots_to"`
	OpenMembers   bool          `db:"open_members"`
	OnlyBuilds    bool          `db:"only_builds"`
	OnlyRobots    bool          `db:"only_robots"`
	Closed        bool          `db:"closed"`
	LargestFile   int64         `db:"largest_file"`
	ReleaseTags   []byte        `db:"release_tags"`
	StoreID       sql.NullInt16 `db:"store_id"`
	FromStore     bool          `db:"from_store"`
	Safety        []byte        `db:"safety"`
}

func (r repositoryRow) value() (catalog.Repository, error) {
	v := catalog.Repository{ID: r.ID, Name: r.Name, Kind: catalog.Kind(r.Kind), Holds: catalog.Holds(r.Holds),
		Ecosystem:   r.Ecosystem,
		Description: r.Description, AnonymousRead: r.AnonymousRead, CreatedAt: r.CreatedAt, ChangedAt: r.ChangedAt,
		OnlyBuilds: r.OnlyBuilds, OnlyRobots: r.OnlyRobots,
		Closed: r.Closed, LargestFile: r.LargestFile, StoreID: r.StoreID.Int16, FromStore: r.FromStore}
	if err := errors.Join(json.Unmarshal(r.ReleaseTags, &v.ReleaseTags), json.Unmarshal(r.Safety, &v.Safety)); err != nil {
		return v, err
	}
	switch v.Kind {
	case catalog.Mirror:
		v.Mirror = new(catalog.MirrorSettings)
		return v, json.Unmarshal(r.Settings, v.Mirror)
	case catalog.Chain:
		v.Chain = &catalog.ChainSettings{ReleasesTo: r.ReleasesTo.Int64, SnapshotsTo: r.SnapshotsTo.Int64,
			OpenMembers: r.OpenMembers}
	}
	return v, nil
}

// StoredRepository is a repository with the encrypted secret of a mirror.
type StoredRepository struct {
	catalog.Repository
	Secret []byte
}

// Repositories lists all that are not removed, by name.
func (r reads) Repositories(ctx context.Context) ([]StoredRepository, error) {
	var rows []repositoryRow
	if err := sqlx.SelectContext(ctx, r.q, &rows,
		`select id, name, kind, holds, ecosystem, description, anonymous_read, created_at, changed_at,
		settings, secret, releases_to, snapshots_to, open_members, only_builds, only_robots, closed, largest_file,
		release_tags, store_id, from_store, safety from repository where removed_at is null order by name`); err != nil {
		return nil, err
	}
	var members []struct {
		ChainID  int64 `db:"chain_id"`
		MemberID int64 `db:"member_id"`
		MaySkip  bool  `db:"may_skip"`
	}
	if err := sqlx.SelectContext(ctx, r.q, &members,
		`select chain_id, member_id, may_skip from chain_member order by chain_id, position`); err != nil {
		return nil, err
	}
	var hosts []struct {
		Host         string `db:"host"`
		RepositoryID int64  `db:"repository_id"`
	}
	if err := sqlx.SelectContext(ctx, r.q, &hosts,
		`select host, repository_id from repository_host order by repository_id, position`); err != nil {
		return nil, err
	}
	repositories := make([]StoredRepository, len(rows))
	for i, row := range rows {
		v, err := row.value()
		if err != nil {
			return nil, err
		}
		if v.Chain != nil {
			for _, m := range members {
				if m.ChainID == v.ID {
					v.Chain.Members = append(v.Chain.Members, catalog.Member{RepositoryID: m.MemberID, MaySkip: m.MaySkip})
				}
			}
		}
		for _, h := range hosts {
			if h.RepositoryID == v.ID {
				v.Hosts = append(v.Hosts, h.Host)
			}
		}
		repositories[i] = StoredRepository{v, row.Secret}
	}
	return repositories, nil
}

// HasRepository tells whether there is a repository of that name.
func (db *DB) HasRepository(ctx context.Context, name string) (there bool, err error) {
	err = db.GetContext(ctx, &there, `select exists (select from repository where name = $1 and removed_at is null)`, name)
	return there, err
}

// LockRepositories holds off other changes of settings that concern several
// repositories until the transaction ends.
func (tx *Tx) LockRepositories(ctx context.Context) error { return tx.LockName(ctx, "repositories") }

// AddRepository makes one and returns it with its id. ok is false if the name
// is taken.
func (tx *Tx) AddRepository(ctx context.Context, r StoredRepository) (_ catalog.Repository, ok bool, err error) {
	err = tx.GetContext(ctx, &r.ID, `insert into repository
		(name, kind, holds, ecosystem, description, anonymous_read, created_at, changed_at)
		values ($1, $2, $3, $4, $5, $6, $7, $7)
		on conflict (name) where removed_at is null do nothing returning id`,
		r.Name, r.Kind, r.Holds, r.Ecosystem, r.Description, r.AnonymousRead, r.CreatedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return r.Repository, false, nil
	}
	if err != nil {
		return r.Repository, false, err
	}
	r.ChangedAt = r.CreatedAt
	return r.Repository, true, tx.SetRepository(ctx, r)
}

// SetRepository writes the settings of r, its members included.
func (tx *Tx) SetRepository(ctx context.Context, r StoredRepository) error {
	settings := []byte("{}")
	var releases, snapshots sql.NullInt64
	open := false
	if r.Mirror != nil {
		var err error
		if settings, err = json.Marshal(r.Mirror); err != nil {
			return err
		}
	}
	if r.Chain != nil {
		open = r.Chain.OpenMembers
		releases = sql.NullInt64{Int64: r.Chain.ReleasesTo, Valid: r.Chain.ReleasesTo != 0}
		snapshots = sql.NullInt64{Int64: r.Chain.SnapshotsTo, Valid: r.Chain.SnapshotsTo != 0}
	}
	releaseTags, err := json.Marshal(append([]string{}, r.ReleaseTags...))
	if err != nil {
		return err
	}
	safety, err := json.Marshal(r.Safety)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx,
		`update repository set holds = $2, description = $3, anonymous_read = $4, changed_at = $5,
		settings = $6, secret = $7, releases_to = $8, snapshots_to = $9, open_members = $10, only_builds = $11,
		only_robots = $12, closed = $13, largest_file = $14, release_tags = $15, store_id = nullif($16, 0)::smallint,
		from_store = $17, safety = $18 where id = $1`,
		r.ID, r.Holds, r.Description, r.AnonymousRead, r.ChangedAt, settings, r.Secret, releases, snapshots, open,
		r.OnlyBuilds, r.OnlyRobots, r.Closed, r.LargestFile, releaseTags, r.StoreID, r.FromStore,
		safety); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `delete from repository_host where repository_id = $1`, r.ID); err != nil {
		return err
	}
	for i, host := range r.Hosts {
		if _, err := tx.ExecContext(ctx, `insert into repository_host (host, repository_id, position) values ($1, $2, $3)`,
			host, r.ID, i); err != nil {
			return err
		}
	}
	if r.Chain == nil {
		return nil
	}
	if _, err := tx.ExecContext(ctx, `delete from chain_member where chain_id = $1`, r.ID); err != nil {
		return err
	}
	for i, m := range r.Chain.Members {
		if _, err := tx.ExecContext(ctx,
			`insert into chain_member (chain_id, position, member_id, may_skip) values ($1, $2, $3, $4)`,
			r.ID, i, m.RepositoryID, m.MaySkip); err != nil {
			return err
		}
	}
	return nil
}

// RemoveRepository takes a repository out of use; its contents stay on record, and the names
// of its hosts are free.
func (tx *Tx) RemoveRepository(ctx context.Context, id int64, by string, at time.Time) error {
	if _, err := tx.ExecContext(ctx, `delete from repository_host where repository_id = $1`, id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `update repository set removed_at = $2, removed_by = $3 where id = $1`, id, at, by)
	return err
}

// RemovedRepository is a repository that is out of use, and can be brought back.
type RemovedRepository struct {
	Name string
	Kind catalog.Kind
	At   time.Time
	By   string
}

// RemovedRepositories lists those that were removed since a moment and whose names are
// free, of each name the one that went last; by name.
func (r reads) RemovedRepositories(ctx context.Context, since time.Time) (all []RemovedRepository, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all,
		`select distinct on (name) name, kind, removed_at at, removed_by by from repository r
		where removed_at > $1 and not exists (select from repository n where n.name = r.name and n.removed_at is null)
		order by name, removed_at desc`, since)
	return all, err
}

// BringBackRepository puts the repository of a name that was removed last, and not
// before a moment, into use again; id is 0 if there is none.
func (tx *Tx) BringBackRepository(ctx context.Context, name string, since time.Time) (id int64, err error) {
	err = tx.GetContext(ctx, &id, `update repository set removed_at = null where id = (
		select id from repository where name = $1 and removed_at > $2 order by removed_at desc limit 1) returning id`, name,
		since)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return id, err
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

// Totals are the totals of those repositories that ever held anything.
func (db *DB) Totals(ctx context.Context, scope Scope) (map[int64]Total, error) {
	arguments := []any{scope.Repositories}
	rows, err := db.QueryContext(ctx, `select repository_id, sum(packages)::bigint, sum(versions)::bigint, sum(bytes)::bigint,
		max(changed), coalesce(array_agg(ecosystem order by ecosystem) filter (where packages > 0), '{}')
		from (select repository_id, ecosystem, count(*) filter (where versions > 0) packages, sum(versions) versions,
			sum(bytes) bytes, max(greatest(changed_at, last_arrived)) changed
			from package p where repository_id = any($1)`+scope.and(&arguments)+` group by 1, 2) parts
		group by repository_id`, arguments...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	totals := map[int64]Total{}
	for rows.Next() {
		var t Total
		if err := rows.Scan(&t.RepositoryID, &t.Packages, &t.Versions, &t.Bytes, &t.LastChange,
			list(&t.Ecosystems)); err != nil {
			return nil, err
		}
		totals[t.RepositoryID] = t
	}
	return totals, rows.Err()
}

// TotalAsOf is what repositories together held at a moment, without their
// ecosystems.
func (db *DB) TotalAsOf(ctx context.Context, scope Scope, at catalog.Moment) (t Total, err error) {
	arguments := []any{scope.Repositories}
	row := db.QueryRowContext(ctx,
		`select count(distinct p.id), count(distinct v.id), coalesce(sum(b.size), 0)::bigint, max(v.visible_from)
		from package p join version v on v.package_id = p.id left join file f on f.version_id = v.id `+addedBy(at)+
			` left join stored_file b using (sha256)
		where p.repository_id = any($1)`+scope.and(&arguments)+` and`+seen(at), arguments...)
	return t, row.Scan(&t.Packages, &t.Versions, &t.Bytes, &t.LastChange)
}

// Packages counts the packages with visible or open versions in a repository.
func (tx *Tx) Packages(ctx context.Context, repositoryID int64) (n int64, err error) {
	err = tx.GetContext(ctx, &n, `select count(*) from package p where repository_id = $1 and
		exists (select from version v where v.package_id = p.id and v.visible_until is null)`, repositoryID)
	return n, err
}
