package record

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// The states of a delivery.
const (
	DeliveryWaiting   = "waiting"
	DeliveryDone      = "done"
	DeliveryFailed    = "failed"
	DeliveryCancelled = "cancelled"
)

// Delivery is a promoted version that goes on to another server.
type Delivery struct {
	ID          int64      `db:"id"`
	PromotionID int64      `db:"promotion_id"`
	Target      string     `db:"destination"`
	VersionID   int64      `db:"version_id"`
	State       string     `db:"state"`
	Attempts    int        `db:"attempts"`
	NextAt      time.Time  `db:"next_at"`
	Said        string     `db:"said"` // what came of the last attempt
	EndedAt     *time.Time `db:"ended_at"`
}

const deliveryColumns = `id, promotion_id, destination, version_id, state, attempts, next_at, said, ended_at`

// AddDeliveries records what is to be sent on.
func (tx *Tx) AddDeliveries(
	ctx context.Context, promotionID int64, target string, versionIDs []int64, at time.Time,
) error {
	_, err := tx.ExecContext(ctx, `insert into delivery (promotion_id, destination, version_id, state, next_at)
		select $1, $2, n, 'waiting', $4 from unnest($3::bigint[]) n`, promotionID, target, versionIDs, at)
	return err
}

// TakeDelivery takes one that is due, and keeps it from others for a while. ok is
// false if there is none.
func (db *DB) TakeDelivery(ctx context.Context, at, until time.Time) (d Delivery, ok bool, err error) {
	var taken []Delivery
	err = db.SelectContext(ctx, &taken, `update delivery set attempts = attempts + 1, next_at = $2 where id = (
		select id from delivery where state = 'waiting' and next_at <= $1 order by next_at limit 1 for update skip locked)
		returning `+deliveryColumns, at, until)
	if err != nil || len(taken) == 0 {
		return d, false, err
	}
	return taken[0], true, nil
}

// SetDelivery notes what came of an attempt.
func (db *DB) SetDelivery(ctx context.Context, d Delivery) error {
	_, err := db.ExecContext(ctx,
		`update delivery set state = $2, next_at = $3, said = $4, ended_at = $5, attempts = $6
		where id = $1 and state = 'waiting'`, d.ID, d.State, d.NextAt, storable(d.Said), d.EndedAt, d.Attempts)
	return err
}

// HurryDeliveries has what would be tried again by a moment, to a target, tried now.
func (db *DB) HurryDeliveries(ctx context.Context, target string, at, by time.Time) error {
	_, err := db.ExecContext(ctx, `update delivery set next_at = $2
		where destination = $1 and state = 'waiting' and next_at > $2 and next_at <= $3 and said <> ''`, target, at, by)
	return err
}

// Deliveries lists those of promotions.
func (r reads) Deliveries(ctx context.Context, promotionIDs ...int64) (all []Delivery, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select `+deliveryColumns+
		` from delivery where promotion_id = any($1) order by id`, promotionIDs)
	return all, err
}

// RetryDeliveries has those of a promotion that failed tried again.
func (tx *Tx) RetryDeliveries(ctx context.Context, promotionID int64, at time.Time) (int64, error) {
	result, err := tx.ExecContext(ctx,
		`update delivery set state = 'waiting', attempts = 0, next_at = $2, ended_at = null where promotion_id = $1
			and state = 'failed'`, promotionID, at)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// CancelDeliveries ends those of a promotion that were not sent, and tells how
// many were.
func (tx *Tx) CancelDeliveries(ctx context.Context, promotionID int64, at time.Time) (sent int, err error) {
	if _, err := tx.ExecContext(ctx,
		`update delivery set state = 'cancelled', ended_at = $2 where promotion_id = $1 and state in ('waiting', 'failed')`,
		promotionID, at); err != nil {
		return 0, err
	}
	err = tx.GetContext(ctx, &sent, `select count(*) from delivery where promotion_id = $1 and state = 'done'`,
		promotionID)
	return sent, err
}
