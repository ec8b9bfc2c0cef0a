package retention

import (
	"context"
	"fmt"

	"github.com/riverqueue/river"

	"crelvo/internal/core/access"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// verifyArgs is a job that verifies the records on schedule.
type verifyArgs struct{}

// Kind implements river.JobArgs.
func (verifyArgs) Kind() string { return "verify" }

type verifyWorker struct {
	river.WorkerDefaults[verifyArgs]
	service *Retention
}

// Work implements river.Worker.
func (w *verifyWorker) Work(ctx context.Context, job *river.Job[verifyArgs]) error {
	_, err := w.service.mendRecords(ctx, access.Caller{Name: "schedule"})
	return err
}

// verifyTimes is when the records are verified by themselves.
const verifyTimes = "20 4 * * *"

// VerifyRecords compares what is counted and marked with the rows that it is about,
// puts right what differs, and tells it.
func (s *Retention) VerifyRecords(ctx context.Context, caller access.Caller) ([]record.Mended, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	return s.mendRecords(ctx, caller)
}

func (s *Retention) mendRecords(ctx context.Context, caller access.Caller) ([]record.Mended, error) {
	ctx = record.Patiently(ctx)
	var mended []record.Mended
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		var err error
		if mended, err = tx.Mend(ctx, s.Now()); err != nil || len(mended) == 0 {
			return err
		}
		event := s.Event(caller, record.EventRecordsMended)
		event.Detail = map[string]string{}
		for _, m := range mended {
			event.Detail[m.What] = fmt.Sprintf("%d, such as %s", m.Count, m.Sample)
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfRepository}) // all that is remembered is out of date
	})
	if err == nil && len(mended) > 0 {
		s.Log.Error("records did not agree with each other and were put right", "mended", mended)
		s.Worry("records", act.Concern{Level: "wrong",
			What: fmt.Sprintf("Records did not agree with each other and were put right: %d %s, such as %s", mended[0].Count,
				mended[0].What, mended[0].Sample),
			Do:   "The activity record lists all of it (records mended). Tell whoever looks after Crelvo: it should not happen.",
			Page: "/activity"})
		s.ForgetAll()
	}
	return mended, err
}
