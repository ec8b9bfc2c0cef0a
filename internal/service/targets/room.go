// Package targets is about the places outside that versions go on to: servers of an ecosystem, to which they are
// published by its protocol, and plain trees, which are written out as files.
package targets

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/secret"
	"crelvo/internal/service/store"
)

// Targets keeps targets, and sends versions there. It is safe for use by several at once.
type Targets struct {
	*act.Act
	safe      secret.Safe
	directory *directory.Directory
	store     *store.Store
	holdings  *holdings.Holdings
	safety    *safety.Safety

	trees  atomic.Pointer[[]string] // ecosystems of plain trees; nil: they are to be read again
	missed atomic.Bool              // something may have changed of which nobody told
	kick   chan struct{}            // has one when something may be to write

	mu      sync.Mutex
	changes int // of targets
	changed map[catalog.PackageKey]bool
	turns   map[string]chan struct{} // by targets
	lines   map[string]line          // to targets
}

// New makes the room.
func New(a *act.Act, safe secret.Safe, directory *directory.Directory, store *store.Store, holdings *holdings.Holdings,
	safety *safety.Safety) *Targets {
	s := &Targets{Act: a, safe: safe, directory: directory, store: store, holdings: holdings, safety: safety,
		kick: make(chan struct{}, 1), changed: map[catalog.PackageKey]bool{}, turns: map[string]chan struct{}{},
		lines: map[string]line{}}
	s.missed.Store(true) // as a node may have ended in the middle of it
	return s
}

// Hear implements act.Hearer: what changes is looked at in the trees that have it.
func (s *Targets) Hear(c record.Change) error {
	trees := s.trees.Load()
	switch c.Kind {
	case record.OfTarget:
		s.forget()
	case record.OfPackage, record.OfAdvisory:
		if c.Name == "" {
			s.missed.Store(true)
			break
		}
		if trees != nil && !slices.Contains(*trees, c.Ecosystem) {
			return nil // most of what is published is in no tree
		}
		s.mu.Lock()
		s.changed[catalog.PackageKey{Ecosystem: c.Ecosystem, Namespace: c.Namespace, Name: c.Name}] = true
		s.mu.Unlock()
	case record.OfRepository:
		s.missed.Store(true) // with one that is removed its versions go, and its rules decide what is let in
	case record.OfWaiver, record.OfVetting, record.OfKey:
		if c.RepositoryID != 0 {
			return nil // only that a decision is wanted
		}
		s.missed.Store(true)
	default:
		return nil
	}
	if trees != nil && len(*trees) == 0 {
		return nil
	}
	select {
	case s.kick <- struct{}{}:
	default:
	}
	return nil
}

// Purge implements act.Purger: changes may have been missed.
func (s *Targets) Purge() {
	s.forget()
	s.missed.Store(true)
}

func (s *Targets) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes++
	s.trees.Store(nil)
}

// Chores implements act.Busy.
func (s *Targets) Chores() []act.Chore {
	return []act.Chore{{Every: time.Hour, What: "forgetting what was in plain trees", Do: s.DB.DropPlain}}
}

// Run implements act.Runner: it keeps plain trees up to date.
func (s *Targets) Run(ctx context.Context) {
	var writing sync.WaitGroup
	defer writing.Wait()
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for ctx.Err() == nil {
		if err := s.look(ctx, &writing); err != nil && ctx.Err() == nil {
			s.Log.Error("looking for what is to be written to plain trees failed", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-s.kick:
		case <-tick.C:
		}
	}
}

// look notes what changed, and begins to write what is due.
func (s *Targets) look(ctx context.Context, writing *sync.WaitGroup) error {
	all, err := s.known(ctx)
	if err != nil || len(all) == 0 {
		return err
	}
	if err := s.noteChanged(ctx, all); err != nil {
		return err
	}
	if s.Draining.Load() {
		return nil
	}
	due, err := s.DB.DueTrees(ctx, s.Now())
	if err != nil || len(due) == 0 {
		return err
	}
	targets, err := s.DB.Targets(ctx)
	for _, to := range targets {
		turn := s.turnOf(to.Name)
		if !slices.Contains(due, to.Name) || len(turn) > 0 {
			continue
		}
		writing.Go(func() {
			if err := s.write(record.Patiently(ctx), to, nil); err != nil && ctx.Err() == nil {
				s.Log.Warn("a plain tree could not be written", "target", to.Name, "error", err)
			}
		})
	}
	return err
}

// known are the ecosystems of the plain trees that there are.
func (s *Targets) known(ctx context.Context) ([]string, error) {
	if trees := s.trees.Load(); trees != nil {
		return *trees, nil
	}
	s.mu.Lock()
	before := s.changes
	s.mu.Unlock()
	all, err := s.DB.Targets(ctx)
	if err != nil {
		return nil, err
	}
	trees := []string{}
	for _, t := range all {
		if t.Plain && !slices.Contains(trees, t.Ecosystem) {
			trees = append(trees, t.Ecosystem)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.changes == before {
		s.trees.Store(&trees)
	}
	return trees, nil
}

// noteChanged has what changed looked at in trees. What could not be noted is not forgotten.
func (s *Targets) noteChanged(ctx context.Context, trees []string) (err error) {
	s.mu.Lock()
	changed := s.changed
	s.changed = map[catalog.PackageKey]bool{}
	s.mu.Unlock()
	missed := s.missed.Swap(false)
	defer func() {
		if err != nil {
			s.missed.Store(true)
		}
	}()
	if missed {
		return s.DB.Within(ctx, func(tx *record.Tx) error { return tx.AskForAllPlain(ctx) })
	}
	var keys []catalog.PackageKey
	for key := range changed {
		if slices.Contains(trees, key.Ecosystem) {
			keys = append(keys, key)
		}
	}
	if len(keys) == 0 {
		return nil
	}
	_, err = s.DB.ChangedInPlain(ctx, keys)
	return err
}
