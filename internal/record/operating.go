package record

import (
	"context"
	"time"
)

// JobCount is how many jobs of a kind are in a state, and since when the oldest of them is.
type JobCount struct {
	Kind   string    `db:"kind"`
	State  string    `db:"state"` // waiting, running, failed or done
	Jobs   int64     `db:"jobs"`
	Oldest time.Time `db:"oldest"`
}

// JobCounts counts the jobs in the background; of those that ended, the last ones that are
// remembered.
func (db *DB) JobCounts(ctx context.Context) (all []JobCount, err error) {
	err = db.SelectContext(ctx, &all, `select kind, state, count(*) jobs, min(at) oldest from (
			select kind, case state when 'running' then 'running' when 'completed' then 'done' when 'discarded' then 'failed'
				when 'cancelled' then 'failed' else 'waiting' end state, coalesce(attempted_at, scheduled_at) at
			from river_job) j
		group by 1, 2 order by 1, 2`)
	return all, err
}

// StateCount is how many there are in a state.
type StateCount struct {
	State string `db:"state"`
	Count int64  `db:"count"`
}

// PromotionCounts counts the promotions by state.
func (db *DB) PromotionCounts(ctx context.Context) (all []StateCount, err error) {
	err = db.SelectContext(ctx, &all, `select state, count(*) from promotion group by 1 order by 1`)
	return all, err
}

// SweepCounts counts the sweeps by state.
func (db *DB) SweepCounts(ctx context.Context) (all []StateCount, err error) {
	err = db.SelectContext(ctx, &all, `select state, count(*) from sweep group by 1 order by 1`)
	return all, err
}

// DeliveryCounts counts the deliveries to places outside by state.
func (db *DB) DeliveryCounts(ctx context.Context) (all []StateCount, err error) {
	err = db.SelectContext(ctx, &all, `select state, count(*) from delivery group by 1 order by 1`)
	return all, err
}
