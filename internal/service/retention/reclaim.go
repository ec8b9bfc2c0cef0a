package retention

import (
	"context"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/service/schedule"
)

// reclaimArgs is a job that reclaims on schedule.
type reclaimArgs struct{}

// Kind implements river.JobArgs.
func (reclaimArgs) Kind() string { return "reclaim" }

type reclaimWorker struct {
	river.WorkerDefaults[reclaimArgs]
	service *Retention
}

// Work implements river.Worker.
func (w *reclaimWorker) Work(ctx context.Context, job *river.Job[reclaimArgs]) error {
	_, err := w.service.reclaimMarked(ctx, access.Caller{Name: "schedule"}, markedFor)
	return err
}

const (
	// reclaimTimes is when bytes are reclaimed by themselves.
	reclaimTimes = "40 4 * * *"
	// markedFor is how long stored files must have been marked before they are
	// freed.
	markedFor    = time.Hour
	reclaimBatch = 500
)

// Reclaim frees the bytes that nothing names: those of versions whose grace has
// ended, and of publications that came to nothing. What nothing names is marked
// first, and freed by a run that comes later than markedFor; or with now, at once.
func (s *Retention) Reclaim(ctx context.Context, caller access.Caller, now bool) (record.Reclaiming, error) {
	if err := s.directory.Allow(caller, access.Manage, access.Object{}); err != nil {
		return record.Reclaiming{}, err
	}
	wait := markedFor
	if now {
		wait = 0
	}
	return s.reclaimMarked(ctx, caller, wait)
}

func (s *Retention) reclaimMarked(
	ctx context.Context, caller access.Caller, wait time.Duration,
) (record.Reclaiming, error) {
	ctx = record.Patiently(ctx)
	run := record.Reclaiming{BegunBy: caller.Name, BegunAt: s.Now()}
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		// The lock is held by a transaction that does nothing else.
		ok, err := tx.LockReclaiming(ctx)
		if err == nil && !ok {
			err = fault.New(fault.Conflict, "reclaiming", "bytes are being reclaimed already").
				WithHint("crelvo reclaim --list shows how far that is.")
		}
		if err != nil {
			return err
		}
		// Nobody else is at it: what is said to be under way was killed.
		if err := s.DB.EndLostReclaimings(ctx, run.BegunAt, schedule.EndedInTheMiddle); err != nil {
			return err
		}
		if run.ID, err = s.DB.BeginReclaiming(ctx, run); err != nil {
			return err
		}
		failed := s.ReclaimAll(ctx, &run, wait)
		ended := s.Now()
		run.EndedAt = &ended
		if failed != nil {
			run.Failure = fault.Of(failed).Message
			s.Log.Error("reclaiming failed", "error", failed)
		}
		noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		return s.DB.NoteReclaiming(noting, run)
	})
	if err != nil {
		return run, err
	}
	if run.Versions+run.Marked+run.Files > 0 {
		err = s.DB.Within(ctx, func(tx *record.Tx) error {
			event := s.Event(caller, record.EventBytesReclaimed)
			event.Detail = map[string]string{"versions": fmt.Sprint(run.Versions), "marked": fmt.Sprint(run.Marked),
				"files": fmt.Sprint(run.Files), "bytes": fmt.Sprint(run.Bytes)}
			return tx.Append(ctx, event)
		})
	}
	return run, err
}

func (s *Retention) ReclaimAll(ctx context.Context, run *record.Reclaiming, wait time.Duration) error {
	if err := s.endRemoved(ctx); err != nil {
		return err
	}
	for ctx.Err() == nil {
		n, err := s.endGrace(ctx)
		if err != nil {
			return err
		}
		if run.Versions += n; n == 0 {
			break
		}
	}
	if err := s.store.DropStrays(ctx); err != nil {
		return err
	}
	now, err := s.SurelyNow(ctx)
	if err != nil {
		return err
	}
	marked, err := s.DB.MarkUnnamed(ctx, now)
	if err != nil {
		return err
	}
	run.Marked = int(marked)
	for ctx.Err() == nil {
		now, err := s.SurelyNow(ctx)
		if err != nil {
			return err
		}
		files, bytes, err := s.free(ctx, now.Add(-wait))
		run.Files, run.Bytes = run.Files+files, run.Bytes+bytes
		if err != nil {
			return err
		}
		if files == 0 {
			break
		}
		if err := s.DB.NoteReclaiming(ctx, *run); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// endLostRuns ends the runs that a kill has left under way.
func (s *Retention) endLostRuns(ctx context.Context) error {
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		ok, err := tx.LockReclaiming(ctx)
		if err != nil || !ok {
			return err
		}
		return s.DB.EndLostReclaimings(ctx, s.Now(), schedule.EndedInTheMiddle)
	})
	if err != nil {
		return err
	}
	return s.DB.EndLostPrefetches(ctx, s.Now(), s.Now().Add(-schedule.AbandonedRun), schedule.EndedInTheMiddle)
}

// endRemoved ends what removed repositories still hold, after a time of grace.
func (s *Retention) endRemoved(ctx context.Context) error {
	for {
		n := 0
		now, err := s.SurelyNow(ctx)
		if err != nil {
			return err
		}
		err = s.DB.Within(ctx, func(tx *record.Tx) error {
			ids, err := tx.EndRemoved(ctx, now.Add(-retention.DefaultGrace), now, reclaimBatch)
			n = len(ids)
			return err
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// endGrace puts versions to history whose grace has ended.
func (s *Retention) endGrace(ctx context.Context) (n int, err error) {
	now, err := s.SurelyNow(ctx)
	if err != nil {
		return 0, err
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		ids, err := tx.EndGrace(ctx, now, reclaimBatch)
		if n = len(ids); err != nil || n == 0 {
			return err
		}
		keys, err := tx.KeysOf(ctx, ids)
		if err != nil {
			return err
		}
		// What is remembered as of a moment may have had them.
		return s.tellPackages(ctx, tx, keys)
	})
	return n, err
}

// free frees some stored files that nothing names. Their records are held
// meanwhile: whoever comes to name the same bytes waits, and stores them again.
func (s *Retention) free(ctx context.Context, markedBefore time.Time) (files int, bytes int64, err error) {
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		bytes = 0 // it may be tried again
		unnamed, err := tx.HoldUnnamed(ctx, markedBefore, reclaimBatch)
		if err != nil {
			return err
		}
		sums := make([][]byte, len(unnamed))
		for i, u := range unnamed {
			if err := s.store.DropFrom(ctx, [32]byte(u.SHA256), u.Stores); err != nil {
				return err
			}
			sums[i] = u.SHA256
			bytes += u.Size
		}
		files = len(unnamed)
		return tx.DropStored(ctx, sums)
	})
	if err != nil {
		return 0, 0, err
	}
	return files, bytes, nil
}

// Reclaimings lists the last runs.
func (s *Retention) Reclaimings(ctx context.Context, caller access.Caller, limit int) ([]record.Reclaiming, error) {
	if err := s.directory.Allow(caller, access.Manage, access.Object{}); err != nil {
		return nil, err
	}
	return s.DB.Reclaimings(ctx, limit)
}
