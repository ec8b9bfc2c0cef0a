package record

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Waiver accepts an advisory for what a pattern fits.
type Waiver struct {
	ID       int64      `db:"id"`
	Advisory string     `db:"advisory"`
	Pattern  string     `db:"pattern"`
	Reason   string     `db:"reason"`
	By       string     `db:"by_name"`
	MadeAt   time.Time  `db:"made_at"`
	Until    *time.Time `db:"until"`
	EndedAt  *time.Time `db:"ended_at"`
	EndedBy  string     `db:"ended_by"`
	// Justification is why it is not affected, as statements of exploitability say it; "" if it
	// is, and that is accepted.
	Justification string `db:"justification"`
}

const waiverColumns = `id, advisory, pattern, reason, by_name, made_at, until, ended_at, ended_by, justification`

// StandingWaivers lists those that nobody ended and whose time is not over, the newest first.
func (r reads) StandingWaivers(ctx context.Context, now time.Time) (all []Waiver, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select `+waiverColumns+` from waiver
		where ended_at is null and (until is null or until > $1) order by id desc`, now)
	return all, err
}

// Waivers lists all that there ever were, the newest first.
func (db *DB) Waivers(ctx context.Context, limit int) (all []Waiver, err error) {
	err = db.SelectContext(ctx, &all, `select `+waiverColumns+` from waiver order by id desc limit $1`, limit)
	return all, err
}

// AddWaiver puts one on record and gives its id.
func (tx *Tx) AddWaiver(ctx context.Context, w Waiver) (id int64, err error) {
	err = tx.GetContext(ctx, &id, `insert into waiver (advisory, pattern, reason, by_name, made_at, until, justification)
		values ($1, $2, $3, $4, $5, $6, $7) returning id`, w.Advisory, w.Pattern, w.Reason, w.By, w.MadeAt, w.Until,
		w.Justification)
	return id, err
}

// EndWaiver ends one that stands; ended is false if there is no such one.
func (tx *Tx) EndWaiver(ctx context.Context, id int64, by string, at time.Time) (w Waiver, ended bool, err error) {
	var all []Waiver
	err = tx.SelectContext(ctx, &all, `update waiver set ended_at = $3, ended_by = $2
		where id = $1 and ended_at is null and (until is null or until > $3) returning `+waiverColumns, id, by, at)
	if err != nil || len(all) == 0 {
		return w, false, err
	}
	return all[0], true, nil
}
