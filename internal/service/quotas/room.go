// Package quotas is about how much repositories, teams and stores may use.
package quotas

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/store"
)

// Quotas knows how much is used of what may be, and lets in what fits. It is safe for use by
// several at once.
type Quotas struct {
	*act.Act
	directory *directory.Directory
	store     *store.Store

	known   atomic.Pointer[bounds] // nil: they are to be read again
	changes atomic.Uint64
	loading sync.Mutex
	usages  map[int64]*usage // by the quota; whoever is loading may use it
	sweeps  func(ctx context.Context, r catalog.Repository) []Sweepable
	tight   atomic.Pointer[func()]
}

// Sweepable is what a sweep would free.
type Sweepable struct {
	Policy   string
	Versions int
	Bytes    int64
}

// New makes the room, which from then on is asked about everything that is to be stored.
func New(a *act.Act, directory *directory.Directory, store *store.Store) *Quotas {
	s := &Quotas{Act: a, directory: directory, store: store}
	store.Ask(s.fits)
	return s
}

// OnFull has sweeps asked for what a sweep of a repository would free, and tight called when
// a mirror is full.
func (s *Quotas) OnFull(sweeps func(ctx context.Context, r catalog.Repository) []Sweepable, tight func()) {
	s.sweeps = sweeps
	s.tight.Store(&tight)
}

// Chores implements act.Busy.
func (s *Quotas) Chores() []act.Chore {
	return []act.Chore{{Every: watchEvery, What: "watching quotas", Do: s.look}}
}

// watchEvery is how often it is looked whether quotas are reached.
const watchEvery = 30 * time.Second

// Purge forgets what may be out of date.
func (s *Quotas) Purge() {
	s.changes.Add(1)
	s.known.Store(nil)
}

// Hear implements act.Hearer.
func (s *Quotas) Hear(c record.Change) error {
	switch c.Kind {
	case record.OfQuota, record.OfRepository, record.OfStore:
		s.Purge()
	case record.OfAccess: // a team may be an admin of something else
		if b := s.known.Load(); b == nil || b.ofTeams {
			s.Purge()
		}
	}
	return nil
}
