package record

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// Reclaiming is one run that frees the bytes that nothing names.
type Reclaiming struct {
	ID      int64      `db:"id"`
	BegunBy string     `db:"begun_by"`
	BegunAt time.Time  `db:"begun_at"`
	EndedAt *time.Time `db:"ended_at"`
	Failure string     `db:"failure"`
	// Versions went to history: their grace had ended. Marked are stored files that
	// nothing named for the first time; Files of Bytes are those that were freed.
	Versions int   `db:"versions"`
	Marked   int   `db:"marked"`
	Files    int   `db:"files"`
	Bytes    int64 `db:"bytes"`
}

// BeginReclaiming notes that a run begins.
func (db *DB) BeginReclaiming(ctx context.Context, r Reclaiming) (id int64, err error) {
	err = db.GetContext(ctx, &id, `insert into reclaiming (begun_by, begun_at) values ($1, $2) returning id`, r.BegunBy,
		r.BegunAt)
	return id, err
}

// NoteReclaiming notes how far a run is.
func (db *DB) NoteReclaiming(ctx context.Context, r Reclaiming) error {
	_, err := db.ExecContext(ctx,
		`update reclaiming set ended_at = $2, failure = $3, versions = $4, marked = $5, files = $6, bytes = $7 where id = $1`,
		r.ID, r.EndedAt, r.Failure, r.Versions, r.Marked, r.Files, r.Bytes)
	return err
}

// EndLostReclaimings ends all runs that have no end, for a reason.
func (db *DB) EndLostReclaimings(ctx context.Context, at time.Time, why string) error {
	_, err := db.ExecContext(ctx, `update reclaiming set ended_at = $1, failure = $2 where ended_at is null`, at, why)
	return err
}

// Reclaimings lists runs, the newest first.
func (db *DB) Reclaimings(ctx context.Context, limit int) (all []Reclaiming, err error) {
	err = db.SelectContext(ctx, &all,
		`select id, begun_by, begun_at, ended_at, failure, versions, marked, files, bytes from reclaiming order by id desc
			limit $1`, limit)
	return all, err
}

// reclaimLock is the one that holds off other nodes from reclaiming.
const reclaimLock = 3

// LockReclaiming holds off others who reclaim until the transaction ends; ok is
// false if somebody else does already.
func (tx *Tx) LockReclaiming(ctx context.Context) (ok bool, err error) {
	err = tx.GetContext(ctx, &ok, `select pg_try_advisory_xact_lock($1, 0)`, reclaimLock)
	return ok, err
}

// EndRemoved takes what removed repositories still hold out of use: its grace ends
// with that of the repository.
func (tx *Tx) EndRemoved(ctx context.Context, removedBefore, now time.Time, limit int) (ids []int64, err error) {
	err = tx.SelectContext(ctx, &ids,
		`update version set visible_until = coalesce(visible_until, $2), grace_until = $2 where id in (
		select v.id from version v join package p on p.id = v.package_id join repository r on r.id = p.repository_id
		where r.removed_at < $1 and v.visible_until is null order by v.id limit $3 for update of v) returning id`,
		removedBefore, now, limit)
	return ids, err
}

// EndGrace puts versions to history whose grace has ended: what is known of their
// files stays, as far as it must never come back as something else; their bytes are
// named no more. It gives their ids.
func (tx *Tx) EndGrace(ctx context.Context, now time.Time, limit int) (ids []int64, err error) {
	if err := tx.SelectContext(ctx, &ids,
		`select id from version where grace_until <= $1 and visible_until is not null order by id
			limit $2 for update skip locked`, now, limit); err != nil || len(ids) == 0 {
		return nil, err
	}
	for _, statement := range []string{
		`insert into past_file (version_id, name, sha256, size) select f.version_id, f.name, f.sha256, b.size from file f
			join stored_file b using (sha256)
			join version v on v.id = f.version_id where v.id = any($1) and v.visible_from is not null and not v.snapshot
			and not v.unseen and $2::timestamptz is not null on conflict do nothing`,
		// Whether other versions name their parts is looked at once these have waited a day.
		`update package_part p set named = false, at = $2 from file f join version v on v.id = f.version_id
			where v.id = any($1) and p.package_id = v.package_id and p.file = f.name and p.named`,
		`delete from file where version_id = any($1) and $2::timestamptz is not null`,
		`update version set grace_until = null, reclaimed_at = $2, changed_in = pg_current_xact_id() where id = any($1)`,
		`update sweep_item set state = 'reclaimed', at = $2 where version_id = any($1) and state = 'removed'`,
	} {
		if _, err := tx.ExecContext(ctx, statement, ids, now); err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// isNamed is the condition that a record names a stored file b.
const isNamed = `(exists (select from file f where f.sha256 = b.sha256)
	or exists (select from package_part p where p.sha256 = b.sha256)
	or exists (select from landed l where l.sha256 = b.sha256))`

// MarkUnnamed marks stored files that no record names, and takes the mark from
// those that one names again. It gives how many were marked.
func (db *DB) MarkUnnamed(ctx context.Context, now time.Time) (int64, error) {
	if _, err := db.ExecContext(ctx,
		`update stored_file b set unnamed_since = null where unnamed_since is not null and `+isNamed); err != nil {
		return 0, err
	}
	result, err := db.ExecContext(ctx,
		`update stored_file b set unnamed_since = $1 where unnamed_since is null and not `+isNamed, now)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// Unnamed is a stored file that nothing names.
type Unnamed struct {
	SHA256 []byte  `db:"sha256"`
	Size   int64   `db:"size"`
	Stores []int16 `db:"-"` // that have it
}

// HoldUnnamed locks some stored files that were marked before a moment, and gives
// those that nothing names still. Until the transaction ends nobody can name them;
// who wants to waits, and is told then if they are gone.
func (tx *Tx) HoldUnnamed(ctx context.Context, markedBefore time.Time, limit int) (found []Unnamed, err error) {
	var held [][]byte
	if err := tx.SelectContext(ctx, &held,
		`select sha256 from stored_file where unnamed_since <= $1 order by sha256 limit $2 for update skip locked`,
		markedBefore, limit); err != nil || len(held) == 0 {
		return nil, err
	}
	// What was named while the lock was waited for is seen by a statement of its own.
	err = tx.SelectContext(ctx, &found,
		`select sha256, size from stored_file b where sha256 = any($1) and not `+isNamed+` order by sha256`, held)
	if err != nil {
		return nil, err
	}
	var places []struct {
		SHA256  []byte `db:"sha256"`
		StoreID int16  `db:"store_id"`
	}
	if err := tx.SelectContext(ctx, &places, `select sha256, store_id from stored_file where sha256 = any($1)
		union all select sha256, store_id from stored_copy where sha256 = any($1)`, held); err != nil {
		return nil, err
	}
	for _, p := range places {
		for i := range found {
			if bytes.Equal(found[i].SHA256, p.SHA256) {
				found[i].Stores = append(found[i].Stores, p.StoreID)
			}
		}
	}
	_, err = tx.ExecContext(ctx,
		`update stored_file b set unnamed_since = null where sha256 = any($1) and `+isNamed, held)
	return found, err
}

// DropStored drops the records of stored files that are held.
func (tx *Tx) DropStored(ctx context.Context, sha256 [][]byte) error {
	_, err := tx.ExecContext(ctx, `delete from stored_file where sha256 = any($1)`, sha256)
	return err
}

// BytesGone tells whether err means that a record was to name bytes that were
// reclaimed in that very moment: all of it is to be tried again.
func BytesGone(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "23503" && slices.Contains(
		[]string{"file_sha256_fkey", "package_part_sha256_fkey", "landed_sha256_fkey"}, server.ConstraintName)
}
