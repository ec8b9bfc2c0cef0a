package record

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

// Vetting is a decision about what a pattern fits.
type Vetting struct {
	ID           int64
	Refused      bool
	Pattern      string
	Repositories []string // patterns of names; none is all
	Reason       string
	By           string
	MadeAt       time.Time
	Until        *time.Time
	EndedAt      *time.Time
	EndedBy      string
}

type vettingRow struct {
	ID           int64      `db:"id"`
	Refused      bool       `db:"refused"`
	Pattern      string     `db:"pattern"`
	Repositories []byte     `db:"repositories"`
	Reason       string     `db:"reason"`
	By           string     `db:"by_name"`
	MadeAt       time.Time  `db:"made_at"`
	Until        *time.Time `db:"until"`
	EndedAt      *time.Time `db:"ended_at"`
	EndedBy      string     `db:"ended_by"`
}

const vettingColumns = `id, refused, pattern, repositories, reason, by_name, made_at, until, ended_at, ended_by`

func vettingsOf(rows []vettingRow) ([]Vetting, error) {
	all := make([]Vetting, len(rows))
	for i, r := range rows {
		all[i] = Vetting{ID: r.ID, Refused: r.Refused, Pattern: r.Pattern, Reason: r.Reason, By: r.By, MadeAt: r.MadeAt,
			Until: r.Until, EndedAt: r.EndedAt, EndedBy: r.EndedBy}
		if err := json.Unmarshal(r.Repositories, &all[i].Repositories); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// StandingVettings lists those that nobody ended and whose time is not over, the newest first.
func (r reads) StandingVettings(ctx context.Context, now time.Time) ([]Vetting, error) {
	var rows []vettingRow
	if err := sqlx.SelectContext(ctx, r.q, &rows, `select `+vettingColumns+` from vetting
		where ended_at is null and (until is null or until > $1) order by id desc`, now); err != nil {
		return nil, err
	}
	return vettingsOf(rows)
}

// Vettings lists all that there ever were, the newest first.
func (db *DB) Vettings(ctx context.Context, limit int) ([]Vetting, error) {
	var rows []vettingRow
	if err := db.SelectContext(ctx, &rows, `select `+vettingColumns+` from vetting order by id desc limit $1`,
		limit); err != nil {
		return nil, err
	}
	return vettingsOf(rows)
}

// AddVetting puts one on record and gives its id.
func (tx *Tx) AddVetting(ctx context.Context, v Vetting) (id int64, err error) {
	repositories, err := json.Marshal(append([]string{}, v.Repositories...))
	if err != nil {
		return 0, err
	}
	err = tx.GetContext(ctx, &id, `insert into vetting (refused, pattern, repositories, reason, by_name, made_at, until)
		values ($1, $2, $3, $4, $5, $6, $7) returning id`, v.Refused, v.Pattern, string(repositories), v.Reason, v.By,
		v.MadeAt, v.Until)
	return id, err
}

// Vetting is the one with an id; else ErrNotFound.
func (tx *Tx) Vetting(ctx context.Context, id int64) (Vetting, error) {
	var rows []vettingRow
	if err := tx.SelectContext(ctx, &rows, `select `+vettingColumns+` from vetting where id = $1 for update`,
		id); err != nil {
		return Vetting{}, err
	}
	if len(rows) == 0 {
		return Vetting{}, ErrNotFound
	}
	all, err := vettingsOf(rows)
	if err != nil {
		return Vetting{}, err
	}
	return all[0], nil
}

// EndVetting ends one.
func (tx *Tx) EndVetting(ctx context.Context, id int64, by string, at time.Time) error {
	_, err := tx.ExecContext(ctx, `update vetting set ended_at = $3, ended_by = $2 where id = $1`, id, by, at)
	return err
}

// VettingRequest is something that somebody wanted and that awaits a decision.
type VettingRequest struct {
	ID      int64
	Key     catalog.PackageKey
	Version string
	FirstAt time.Time
	LastAt  time.Time
	Asked   int64
	By      []string
	Purpose string
}

// The bounds of what is kept of requests: how many names of who wants something, and how many
// requests, of which those that were made longest ago go first.
const (
	mostWanting  = 20
	mostRequests = 10_000
)

// AskForVetting notes that somebody wants a version, and what for unless that is "". added is
// false if somebody did before.
func (tx *Tx) AskForVetting(
	ctx context.Context, key catalog.PackageKey, version, by, purpose string, at time.Time,
) (added bool, err error) {
	names, err := json.Marshal([]string{by})
	if err != nil {
		return false, err
	}
	if err := tx.GetContext(ctx, &added, `insert into vetting_request as q
			(repository_id, ecosystem, namespace, name, version, first_at, last_at, wanted_by, purpose)
		values ($1, $2, $3, $4, $5, $8, $8, $6, $7)
		on conflict (repository_id, ecosystem, namespace, name, version) do update set asked = q.asked + 1,
			last_at = excluded.last_at, purpose = coalesce(nullif(excluded.purpose, ''), q.purpose),
			wanted_by = (select coalesce(jsonb_agg(w order by n), '[]') from (select w, n from
				jsonb_array_elements(q.wanted_by) with ordinality x(w, n) where w <> excluded.wanted_by->0
				order by n desc limit $9) x) || excluded.wanted_by
		returning xmax = 0`, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, version, string(names), purpose,
		at, mostWanting-1); err != nil || !added {
		return false, err
	}
	_, err = tx.ExecContext(ctx, `delete from vetting_request where id in (select id from vetting_request
		order by last_at desc, id desc offset $1)`, mostRequests)
	return true, err
}

// VettingRequests lists requests of repositories, which were made last first.
func (db *DB) VettingRequests(ctx context.Context, repositories []int64) (all []VettingRequest, err error) {
	rows, err := db.QueryxContext(ctx, `select id, repository_id, ecosystem, namespace, name, version, first_at, last_at,
			asked, wanted_by, purpose from vetting_request where repository_id = any($1) order by last_at desc, id desc`,
		repositories)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var q VettingRequest
		var by []byte
		if err := rows.Scan(&q.ID, &q.Key.RepositoryID, &q.Key.Ecosystem, &q.Key.Namespace, &q.Key.Name, &q.Version,
			&q.FirstAt, &q.LastAt, &q.Asked, &by, &q.Purpose); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(by, &q.By); err != nil {
			return nil, err
		}
		all = append(all, q)
	}
	return all, rows.Err()
}

// CountVettingRequests counts requests of repositories.
func (db *DB) CountVettingRequests(ctx context.Context, repositories []int64) (n int64, err error) {
	err = db.GetContext(ctx, &n, `select count(*) from vetting_request where repository_id = any($1)`, repositories)
	return n, err
}

// DropVettingRequests takes requests away.
func (db *DB) DropVettingRequests(ctx context.Context, ids []int64) error {
	_, err := db.ExecContext(ctx, `delete from vetting_request where id = any($1)`, ids)
	return err
}

// usedMuch is from how many downloads on a package counts as much used.
const usedMuch = 50

// WellKnown lists packages of an ecosystem that are ours, or of which a mirror keeps what was
// downloaded often: ours first, then what was used most. The keys name no repository.
func (db *DB) WellKnown(ctx context.Context, ecosystem string, limit int) (all []catalog.PackageKey, err error) {
	rows, err := db.QueryxContext(ctx, `select p.namespace, p.name from package p join repository r on r.id = p.repository_id
		left join lateral (select sum(u.downloads) downloads from version v join version_use u on u.version_id = v.id
			where v.package_id = p.id) used on r.kind <> 'house'
		where p.ecosystem = $1 and p.versions > 0 group by 1, 2
		having bool_or(r.kind = 'house') or sum(used.downloads) >= $2
		order by bool_or(r.kind = 'house') desc, sum(used.downloads) desc nulls last, 1, 2 limit $3`, ecosystem, usedMuch,
		limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		key := catalog.PackageKey{Ecosystem: ecosystem}
		if err := rows.Scan(&key.Namespace, &key.Name); err != nil {
			return nil, err
		}
		all = append(all, key)
	}
	return all, rows.Err()
}
