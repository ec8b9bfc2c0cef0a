// Package relays is about rules that send what arrives in a repository on to another server: when it arrives,
// and on a schedule as the net under that, which finds what was missed.
package relays

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"golang.org/x/time/rate"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/schedule"
	"crelvo/internal/service/targets"
)

// Relays keeps relays, and sends what they are about. It is safe for use by several at once.
type Relays struct {
	*act.Act
	directory *directory.Directory
	targets   *targets.Targets
	safety    *safety.Safety
	schedule  *schedule.Schedule

	known atomic.Pointer[[]record.Relay] // nil: they are to be read again
	kick  chan struct{}                  // has one when something may be to send
	// missed: something may have arrived of which nobody told.
	missed atomic.Bool

	mu      sync.Mutex
	changes int                         // of relays
	arrived map[catalog.PackageKey]bool // that is to be looked at
	limits  map[int64]*rate.Limiter     // of relays that have one
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory, targets *targets.Targets, safety *safety.Safety,
	schedule *schedule.Schedule) *Relays {
	s := &Relays{Act: a, directory: directory, targets: targets, safety: safety, schedule: schedule,
		kick: make(chan struct{}, 1), arrived: map[catalog.PackageKey]bool{}, limits: map[int64]*rate.Limiter{}}
	s.missed.Store(true)
	return s
}

// Hear implements act.Hearer: what arrives is looked at, at once.
func (s *Relays) Hear(c record.Change) error {
	switch c.Kind {
	case record.OfRelay:
		if c.Name == "" {
			return nil // only how far one is
		}
		s.forget()
	case record.OfRepository:
		s.forget() // those of a removed repository are gone
		return nil
	case record.OfPackage:
		known := s.known.Load()
		if c.RepositoryID == 0 || known != nil && !slices.ContainsFunc(*known, func(r record.Relay) bool {
			return r.RepositoryID == c.RepositoryID
		}) {
			return nil // most of what is published goes nowhere
		}
		s.mu.Lock()
		s.arrived[catalog.PackageKey{RepositoryID: c.RepositoryID, Ecosystem: c.Ecosystem, Namespace: c.Namespace,
			Name: c.Name}] = true
		s.mu.Unlock()
	default:
		return nil
	}
	select {
	case s.kick <- struct{}{}:
	default:
	}
	return nil
}

// Purge implements act.Purger: changes may have been missed.
func (s *Relays) Purge() {
	s.forget()
	s.missed.Store(true)
}

// forget has the relays read again.
func (s *Relays) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes++
	s.known.Store(nil)
}

// relays are those that there are.
func (s *Relays) relays(ctx context.Context) ([]record.Relay, error) {
	if known := s.known.Load(); known != nil {
		return *known, nil
	}
	s.mu.Lock()
	before := s.changes
	s.mu.Unlock()
	all, err := s.DB.Relays(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.changes != before {
		return all, nil // what was read may be out of date
	}
	s.known.Store(&all)
	return all, s.keepSchedule(all)
}

// forgotten is after how long what was sent, and is not there any more, is forgotten.
const forgotten = 30 * 24 * time.Hour

// Chores implements act.Busy.
func (s *Relays) Chores() []act.Chore {
	return []act.Chore{{Every: time.Hour, What: "forgetting what was relayed long ago",
		Do: func(ctx context.Context) error { return s.DB.DropRelayed(ctx, s.Now().Add(-forgotten)) }}}
}

// Run implements act.Runner: it sends what is due, as soon as something arrives.
func (s *Relays) Run(ctx context.Context) {
	var sending sync.WaitGroup
	defer sending.Wait()
	places := make(chan struct{}, sentAtOnce)
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for ctx.Err() == nil {
		if err := s.look(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("looking for what is to be relayed failed", "error", err)
		}
		for full := false; !full && ctx.Err() == nil; {
			select {
			case places <- struct{}{}:
				do, err := s.due(ctx)
				if full = do == nil || err != nil; full {
					<-places
				}
				if err != nil && ctx.Err() == nil {
					s.Log.Error("finding what is to be relayed failed", "error", err)
				}
				if !full {
					sending.Go(func() {
						do(ctx)
						<-places
						select {
						case s.kick <- struct{}{}: // the next of its package may be due
						default:
						}
					})
				}
			default:
				full = true
			}
		}
		select {
		case <-ctx.Done():
		case <-s.kick:
		case <-tick.C:
		}
	}
}

// due is something that is to be done now, or nil.
func (s *Relays) due(ctx context.Context) (do func(context.Context), err error) {
	items, relay, err := s.next(ctx)
	if err != nil {
		return nil, err
	}
	if len(items) > 0 {
		return func(ctx context.Context) { s.send(ctx, relay, items) }, nil
	}
	m, of, ok, err := s.nextMark(ctx)
	if err != nil || !ok {
		return nil, err
	}
	return func(ctx context.Context) { s.tellMark(ctx, of, m) }, nil
}

// catchUp is a job that looks for what a relay missed.
type catchUp struct {
	Relay int64 `json:"relay"`
}

// Kind implements river.JobArgs.
func (catchUp) Kind() string { return "relay" }

type worker struct {
	river.WorkerDefaults[catchUp]
	service *Relays
}

// Work implements river.Worker.
func (w *worker) Work(ctx context.Context, job *river.Job[catchUp]) error {
	all, err := w.service.relays(ctx)
	if err != nil {
		return err
	}
	for _, r := range all {
		if r.ID == job.Args.Relay {
			return w.service.catchUp(ctx, r)
		}
	}
	return nil // it was removed
}

// Work takes part in the queue.
func (s *Relays) Work(workers *river.Workers) { river.AddWorker(workers, &worker{service: s}) }

// keepSchedule puts relays on the schedule.
func (s *Relays) keepSchedule(all []record.Relay) error {
	wanted := map[string]schedule.Rule{}
	for _, r := range all {
		if !r.Paused {
			wanted[act.Itoa(r.ID)] = schedule.Rule{Schedule: r.Schedule, Zone: r.Zone, Args: catchUp{r.ID}}
		}
	}
	s.schedule.Keep("relay", wanted)
	return nil
}
