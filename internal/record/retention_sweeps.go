package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

// Policy is a retention policy as it is kept.
type Policy struct {
	ID        int64     `db:"id"`
	Name      string    `db:"name"`
	Text      string    `db:"text"`
	Paused    bool      `db:"paused"`
	ChangedBy string    `db:"changed_by"`
	ChangedAt time.Time `db:"changed_at"`
}

// Policies lists the retention policies by name.
func (r reads) Policies(ctx context.Context) (all []Policy, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all,
		`select id, name, text, paused, changed_by, changed_at from retention_policy order by name`)
	return all, err
}

// SetPolicy makes a policy, or changes the one of that name.
func (tx *Tx) SetPolicy(ctx context.Context, p Policy) (made bool, err error) {
	err = tx.GetContext(ctx, &made,
		`insert into retention_policy (name, text, paused, changed_by, changed_at) values ($1, $2, $3, $4, $5)
		on conflict (name) do update set text = excluded.text, paused = excluded.paused, changed_by = excluded.changed_by,
		changed_at = excluded.changed_at
		returning xmax = 0`, p.Name, storable(p.Text), p.Paused, p.ChangedBy, p.ChangedAt)
	return made, err
}

// DropPolicy removes a policy; what it swept stays on record.
func (tx *Tx) DropPolicy(ctx context.Context, name string) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, `delete from retention_policy where name = $1`, name))
}

// The states of sweeps and of what they took.
const (
	SweepAsking    = "asking" // it would take more than its policy lets it
	SweepUnderway  = "underway"
	SweepDone      = "done"
	SweepCancelled = "cancelled"
	SweepFailed    = "failed"

	ItemPlanned   = "planned"
	ItemRemoved   = "removed"
	ItemSpared    = "spared" // something changed since it was planned
	ItemBack      = "back"
	ItemReclaimed = "reclaimed"
)

// Sweep is one run of a policy, or what somebody removed by hand.
type Sweep struct {
	ID       int64         `db:"id"`
	Policy   string        `db:"policy"`
	Text     string        `db:"text"`
	State    string        `db:"state"`
	Why      string        `db:"why"`
	Grace    time.Duration `db:"-"`
	BegunBy  string        `db:"begun_by"`
	BegunAt  time.Time     `db:"begun_at"`
	AliveAt  time.Time     `db:"alive_at"`
	EndedAt  *time.Time    `db:"ended_at"`
	Versions int           `db:"versions"`
	Bytes    int64         `db:"bytes"`
	Freed    int64         `db:"freed"`
	Done     int           `db:"done"`   // removed
	Spared   int           `db:"spared"` // after all
	// Back and Reclaimed count what became of those that were removed.
	Back         int     `db:"back"`
	Reclaimed    int     `db:"reclaimed"`
	GraceSeconds float64 `db:"grace_seconds"`
	Repositories []int64 `db:"-"`
}

const sweepColumns = `select s.id, s.policy, s.text, s.state, s.why, extract(epoch from s.grace)::float8 grace_seconds, s.begun_by, s.begun_at,
	case when s.alive_at = '-infinity' then s.begun_at else s.alive_at end alive_at, s.ended_at,
	s.versions, s.bytes, s.freed, s.done, s.spared,
	(select count(*) from sweep_item i where i.sweep_id = s.id and i.state = 'back') back,
	(select count(*) from sweep_item i where i.sweep_id = s.id and i.state = 'reclaimed') reclaimed from sweep s `

// SweepFilter selects sweeps; zero fields select all.
type SweepFilter struct {
	ID     int64
	Policy string
	States []string
	// Repositories, if not nil, are those of which it must be about one.
	Repositories []int64
	Before       int64
	Limit        int
}

// Sweeps lists sweeps, the newest first.
func (r reads) Sweeps(ctx context.Context, f SweepFilter) (all []Sweep, err error) {
	limit := any(f.Limit)
	if f.Limit == 0 {
		limit = nil
	}
	err = sqlx.SelectContext(ctx, r.q, &all, sweepColumns+
		`where ($1 = 0 or s.id = $1) and ($2 = '' or s.policy = $2) and ($3::text[] is null or s.state = any($3))
		and ($4::bigint[] is null or s.repositories && $4) and ($5 = 0 or s.id < $5) order by s.id desc limit $6`,
		f.ID, f.Policy, f.States, f.Repositories, f.Before, limit)
	if err != nil {
		return nil, err
	}
	return all, r.fillSweeps(ctx, all)
}

// LastSweeps gives the last sweep of each policy.
func (r reads) LastSweeps(ctx context.Context) (all []Sweep, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, sweepColumns+
		`where s.id in (select max(id) from sweep where policy <> '' group by policy)`)
	if err != nil {
		return nil, err
	}
	return all, r.fillSweeps(ctx, all)
}

// fillSweeps adds what is not a column of a sweep.
func (r reads) fillSweeps(ctx context.Context, all []Sweep) error {
	at := map[int64]*Sweep{}
	ids := make([]int64, len(all))
	for i := range all {
		all[i].Grace = time.Duration(all[i].GraceSeconds * float64(time.Second))
		at[all[i].ID], ids[i] = &all[i], all[i].ID
	}
	var rows []struct {
		Sweep      int64 `db:"id"`
		Repository int64 `db:"repository"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows, `select id, unnest(repositories) repository from sweep where id = any($1)`,
		ids)
	for _, row := range rows {
		at[row.Sweep].Repositories = append(at[row.Sweep].Repositories, row.Repository)
	}
	return err
}

// AddSweep records a sweep with what it is to take.
func (tx *Tx) AddSweep(ctx context.Context, s Sweep) (id int64, err error) {
	err = tx.GetContext(ctx, &id,
		`insert into sweep (policy, text, state, why, grace, begun_by, begun_at, alive_at, ended_at, repositories, versions,
			bytes, freed, done)
		values ($1, $2, $3, $4, make_interval(secs => $5), $6, $7::timestamptz, $7::timestamptz, $8, $9, $10, $11, $12, $13)
		returning id`,
		s.Policy, s.Text, s.State, s.Why, s.Grace.Seconds(), s.BegunBy, s.BegunAt, s.EndedAt,
		append([]int64{}, s.Repositories...), s.Versions, s.Bytes, s.Freed, s.Done)
	return id, err
}

// SetSweep writes what a sweep that was just recorded takes, and its state.
func (tx *Tx) SetSweep(ctx context.Context, s Sweep) error {
	// Nobody is at it yet.
	_, err := tx.ExecContext(ctx,
		`update sweep set state = $2, why = $3, versions = $4, bytes = $5, freed = $6, alive_at = '-infinity' where id = $1`,
		s.ID, s.State, s.Why, s.Versions, s.Bytes, s.Freed)
	return err
}

// Weight is how many bytes a version has, and how it was used.
type Weight struct {
	Use
	Bytes int64 `db:"bytes"`
}

// Weights gives that of versions, in the order of their ids.
func (r reads) Weights(ctx context.Context, versionIDs []int64) (weights []Weight, err error) {
	err = sqlx.SelectContext(ctx, r.q, &weights,
		`select v.id version_id, v.bytes, u.used_at, coalesce(u.downloads, 0) downloads, coalesce(u.users, 0) users
		from version v left join version_use u on u.version_id = v.id where v.id = any($1) order by v.id`, versionIDs)
	return weights, err
}

// SweepItem is a version that a sweep takes.
type SweepItem struct {
	SweepID   int64      `db:"sweep_id"`
	Position  int        `db:"position"`
	VersionID int64      `db:"version_id"`
	Bytes     int64      `db:"bytes"`
	Freed     int64      `db:"freed"`
	UsedAt    *time.Time `db:"used_at"`
	Users     int64      `db:"users"`
	State     string     `db:"state"`
	At        *time.Time `db:"at"`
	Note      string     `db:"note"`

	RepositoryID int64      `db:"repository_id"`
	Ecosystem    string     `db:"ecosystem"`
	Namespace    string     `db:"namespace"`
	Name         string     `db:"name"`
	Version      string     `db:"version"`
	Upload       string     `db:"upload"`
	GraceUntil   *time.Time `db:"grace_until"`
}

// Key is the package that it is a version of.
func (i SweepItem) Key() catalog.PackageKey {
	return catalog.PackageKey{RepositoryID: i.RepositoryID, Ecosystem: i.Ecosystem, Namespace: i.Namespace, Name: i.Name}
}

// AddItems records versions that a sweep takes, after those that it has.
func (tx *Tx) AddItems(ctx context.Context, sweepID int64, items []SweepItem) error {
	n := len(items)
	positions, versions, bytes, freed, users, used := make([]int, n), make([]int64, n), make([]int64, n), make([]int64, n),
		make([]int64, n), make([]*time.Time, n)
	states, ats := make([]string, n), make([]*time.Time, n)
	for i, item := range items {
		positions[i], versions[i], bytes[i], freed[i], users[i], used[i] = item.Position, item.VersionID, item.Bytes,
			item.Freed, item.Users, item.UsedAt
		states[i], ats[i] = item.State, item.At
	}
	_, err := tx.ExecContext(ctx,
		`insert into sweep_item (sweep_id, position, version_id, bytes, freed, used_at, users, state, at)
		select $1, * from unnest($2::int[], $3::bigint[], $4::bigint[], $5::bigint[], $6::timestamptz[], $7::bigint[],
		$8::text[], $9::timestamptz[])`,
		sweepID, positions, versions, bytes, freed, used, users, states, ats)
	return err
}

// ItemFilter selects what a sweep took.
type ItemFilter struct {
	SweepID int64
	States  []string // nil for all
	After   int      // positions after it
	Limit   int
}

// SweepItems lists what a sweep takes, in its order.
func (r reads) SweepItems(ctx context.Context, f ItemFilter) (items []SweepItem, err error) {
	err = sqlx.SelectContext(ctx, r.q, &items,
		`select i.sweep_id, i.position, i.version_id, i.bytes, i.freed, i.used_at, i.users, i.state, i.at, i.note,
		p.repository_id, p.ecosystem, p.namespace, p.name, v.version, v.upload, v.grace_until
		from sweep_item i join version v on v.id = i.version_id join package p on p.id = v.package_id
		where i.sweep_id = $1 and ($2::text[] is null or i.state = any($2)) and i.position > $3
		order by i.position limit $4`, f.SweepID, f.States, f.After, f.Limit)
	return items, err
}

// MoveItems notes what became of items of a sweep.
func (tx *Tx) MoveItems(ctx context.Context, sweepID int64, positions []int, state, note string, at time.Time) error {
	_, err := tx.ExecContext(ctx,
		`update sweep_item set state = $3, note = $4, at = $5 where sweep_id = $1 and position = any($2)`, sweepID, positions,
		state, note, at)
	return err
}

// MoveSweep changes a sweep that is in one of the states before; done is false if
// it is in none of them.
func (tx *Tx) MoveSweep(ctx context.Context, id int64, before []string, s Sweep) (done bool, err error) {
	return changedOne(
		tx.ExecContext(ctx,
			`update sweep set state = $3, why = $4, alive_at = $5, ended_at = $6, done = done + $7, spared = spared + $8
		where id = $1 and state = any($2)`, id, before, s.State, s.Why, s.AliveAt, s.EndedAt, s.Done, s.Spared))
}

// TakeSweep gives a sweep that is underway and of which nobody gave a sign of life
// since a moment, and notes that somebody does now; or ErrNotFound.
func (db *DB) TakeSweep(ctx context.Context, silentSince, now time.Time) (id int64, err error) {
	err = db.GetContext(ctx, &id,
		`update sweep set alive_at = $2 where id = (select id from sweep where state = 'underway' and alive_at < $1
		order by id limit 1 for update skip locked) returning id`, silentSince, now)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, ErrNotFound
	}
	return id, err
}

// SweptIn names the sweeps that took versions, the last one of each.
func (db *DB) SweptIn(ctx context.Context, versionIDs []int64) (map[int64]int64, error) {
	var rows []struct {
		Version int64 `db:"version"`
		Sweep   int64 `db:"sweep"`
	}
	err := db.SelectContext(ctx, &rows,
		`select version_id "version", max(sweep_id) sweep from sweep_item where version_id = any($1) and state in ('removed',
			'reclaimed') group by version_id`, versionIDs)
	in := make(map[int64]int64, len(rows))
	for _, row := range rows {
		in[row.Version] = row.Sweep
	}
	return in, err
}

// LastSweepOf is the last sweep of a policy that took anything, or ErrNotFound.
func (db *DB) LastSweepOf(ctx context.Context, policy string) (Sweep, error) {
	all, err := db.Sweeps(ctx, SweepFilter{Policy: policy, States: []string{SweepDone, SweepUnderway}, Limit: 1})
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Sweep{}, err
	}
	return all[0], nil
}
