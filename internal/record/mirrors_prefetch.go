package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"
)

// PrefetchRun is one run of a mirror's prefetch rule.
type PrefetchRun struct {
	ID           int64      `db:"id"`
	RepositoryID int64      `db:"repository_id"`
	BegunBy      string     `db:"begun_by"`
	BegunAt      time.Time  `db:"begun_at"`
	TouchedAt    time.Time  `db:"touched_at"`
	EndedAt      *time.Time `db:"ended_at"`
	Failure      string     `db:"failure"` // why it could not be done as a whole
	Planned      int        `db:"planned"` // versions
	Came         int        `db:"came"`
	There        int        `db:"there"`
	Failed       int        `db:"failed"`
	Bytes        int64      `db:"bytes"`
	RawReport    []byte     `db:"report"`
}

// What became of a version that was to be fetched ahead.
const (
	PrefetchCame   = "came"
	PrefetchThere  = "there" // it was kept already
	PrefetchFailed = "failed"
)

// PrefetchLine is what became of one version, or of a package whose versions
// could not be found out.
type PrefetchLine struct {
	PURL    string `json:"purl"`
	Outcome string `json:"outcome"` // came, there, failed
	Files   int    `json:"files,omitempty"`
	Bytes   int64  `json:"bytes,omitempty"`
	Why     string `json:"why,omitempty"`
}

// Report gives the lines of the run.
func (r PrefetchRun) Report() (lines []PrefetchLine, err error) {
	return lines, json.Unmarshal(r.RawReport, &lines)
}

// BeginPrefetch begins a run; ok is false if one is under way.
func (tx *Tx) BeginPrefetch(ctx context.Context, r PrefetchRun) (id int64, ok bool, err error) {
	err = tx.GetContext(ctx, &id,
		`insert into prefetch_run (repository_id, begun_by, begun_at, touched_at) values ($1, $2, $3, $3)
		on conflict (repository_id) where ended_at is null do nothing returning id`, r.RepositoryID, r.BegunBy, r.BegunAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// EndLostPrefetches ends runs that had begun their work and gave no sign of life
// since a moment, for a reason.
func (db *DB) EndLostPrefetches(ctx context.Context, at, silentSince time.Time, why string) error {
	_, err := db.ExecContext(ctx,
		`update prefetch_run set ended_at = $1, failure = $3 where ended_at is null and touched_at < $2
			and touched_at > begun_at`, at, silentSince, why)
	return err
}

// TouchPrefetch is a run's sign of life.
func (db *DB) TouchPrefetch(ctx context.Context, id int64, at time.Time) error {
	_, err := db.ExecContext(ctx,
		`update prefetch_run set touched_at = greatest(touched_at, $2) where id = $1 and ended_at is null`, id, at)
	return err
}

// NotePrefetch writes how far a run is. report may be nil to leave it.
func (db *DB) NotePrefetch(ctx context.Context, r PrefetchRun, report []PrefetchLine) error {
	raw, err := json.Marshal(report)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx,
		`update prefetch_run set touched_at = $2, ended_at = $3, failure = $4, planned = $5, came = $6, there = $7,
		failed = $8, bytes = $9, report = $10 where id = $1`,
		r.ID, r.TouchedAt, r.EndedAt, r.Failure, r.Planned, r.Came, r.There, r.Failed, r.Bytes, raw)
	return err
}

const runColumns = `id, repository_id, begun_by, begun_at, touched_at, ended_at, failure, planned, came, there, failed, bytes, report`

// PrefetchRuns lists the runs of a mirror, the last one first.
func (db *DB) PrefetchRuns(ctx context.Context, repositoryID int64, limit int) (runs []PrefetchRun, err error) {
	err = db.SelectContext(ctx, &runs, `select `+runColumns+
		` from prefetch_run where repository_id = $1 order by begun_at desc, id desc limit $2`, repositoryID, limit)
	return runs, err
}

// PrefetchRun finds a run, or ErrNotFound.
func (db *DB) PrefetchRun(ctx context.Context, id int64) (r PrefetchRun, err error) {
	err = db.GetContext(ctx, &r, `select `+runColumns+` from prefetch_run where id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return r, err
}
