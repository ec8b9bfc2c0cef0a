package act

import (
	"context"
	"sync"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

// Chore is what a part does again and again while the service runs.
type Chore struct {
	Every time.Duration
	What  string // as an error in the log calls it
	Do    func(context.Context) error
	// Always: it is done also while the node is to be left alone.
	Always bool
	// Last is done once more when the service ends, so that nothing is lost that is
	// only in memory.
	Last bool
}

// A part of the service may be each of these; the service goes through the list of its
// parts, so that nothing that is remembered, and nobody who listens, can be left out.
type (
	// Purger forgets all that it remembers and that may be out of date.
	Purger interface{ Purge() }
	// Hearer is told of every change that some node made.
	Hearer interface{ Hear(c record.Change) error }
	// Busy has chores.
	Busy interface{ Chores() []Chore }
	// Runner does something of its own until ctx ends, and returns when it has ended.
	Runner interface{ Run(ctx context.Context) }
	// Ender ends, when everything else has ended, what it began, and waits for it.
	Ender interface{ End() }
)

// Add adds parts: they are told, run and emptied in the order in which they came.
func (s *Act) Add(parts ...any) { s.parts = append(s.parts, parts...) }

// AllChores are those of all parts. (Every room has the methods of Act too; these must not
// be named as those of a part.)
func (s *Act) AllChores() (all []Chore) {
	for _, part := range s.parts {
		if p, ok := part.(Busy); ok {
			all = append(all, p.Chores()...)
		}
	}
	return all
}

// RunAll does what goes on in the background until ctx ends, and then once more what must
// not stay in memory alone.
func (s *Act) RunAll(ctx context.Context) {
	var running sync.WaitGroup
	running.Go(func() { s.DB.Listen(ctx, s.heard, s.ForgetAll) })
	running.Go(func() {
		s.DB.KeepSealing(ctx, func(err error) { s.Log.Error("sealing the activity record failed", "error", err) })
	})
	running.Go(func() { s.keepFigures(ctx) })
	for _, part := range s.parts {
		if p, ok := part.(Runner); ok {
			running.Go(func() { p.Run(ctx) })
		}
	}
	for _, c := range s.AllChores() {
		running.Go(func() { s.Every(ctx, c) })
	}
	running.Wait()
	s.EndAll()
	final, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	for _, c := range s.AllChores() {
		if !c.Last {
			continue
		}
		if err := c.Do(final); err != nil {
			s.Log.Error(c.What+" failed at the end", "error", err)
		}
	}
	if err := s.DB.Seal(final); err != nil {
		s.Log.Error("sealing the activity record failed at the end; the next node does it", "error", err)
	}
}

// EndAll ends what parts began and that goes on by itself: nothing touches the records or a store
// afterwards.
func (s *Act) EndAll() {
	for _, part := range s.parts {
		if p, ok := part.(Ender); ok {
			p.End()
		}
	}
}

// Every does a chore, over and over, until ctx ends.
func (s *Act) Every(ctx context.Context, c Chore) {
	ticker := time.NewTicker(c.Every)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			if s.Draining.Load() && !c.Always && !c.Last {
				continue
			}
			done := s.Do(c.What)
			if err := c.Do(record.Patiently(ctx)); err != nil && ctx.Err() == nil {
				s.Log.Error(c.What+" failed", "error", err)
			}
			done()
		}
	}
}

// heard takes note of a change that some node made, and tells everybody.
func (s *Act) heard(c record.Change) {
	switch c.Kind {
	case record.OfPackage:
		s.Changed(catalog.PackageKey{RepositoryID: c.RepositoryID, Ecosystem: c.Ecosystem, Namespace: c.Namespace,
			Name: c.Name})
	case record.OfAccess:
		s.AccessChanged()
	}
	s.tellParts(c)
	// What is put together from what a part remembers of these is out of date only when the part
	// has forgotten it: what is read from now on is new.
	switch c.Kind {
	case record.OfAdvisory:
		if c.Name == "" {
			s.SettingsChanged()
		} else {
			s.Changed(catalog.PackageKey{Ecosystem: c.Ecosystem, Namespace: c.Namespace, Name: c.Name})
		}
	case record.OfWaiver, record.OfKey:
		s.SettingsChanged()
	case record.OfVetting:
		if c.RepositoryID == 0 { // somebody decided
			s.SettingsChanged()
		}
	}
	s.watchers.tell(c)
}

func (s *Act) tellParts(c record.Change) {
	for _, part := range s.parts {
		if p, ok := part.(Hearer); ok {
			if err := p.Hear(c); err != nil {
				s.Log.Error("taking note of a change failed", "kind", c.Kind, "error", err)
			}
		}
	}
}

// ForgetAll empties what may be out of date: all that any part remembers, and all
// generations. What is read at a change is read again.
func (s *Act) ForgetAll() {
	for _, part := range s.parts {
		if p, ok := part.(Purger); ok {
			p.Purge()
		}
	}
	s.anything.Add(1)
	s.SettingsChanged()
	s.AccessChanged()
	for _, kind := range []record.ChangeKind{record.OfRepository, record.OfPolicy, record.OfStore} {
		s.tellParts(record.Change{Kind: kind})
	}
}
