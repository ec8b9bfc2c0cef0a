// Package transfers is about packages that move from one repository into another as they are: planned first,
// done in the background, and told of to the last version.
package transfers

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"sync"
	"time"

	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/landing"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/store"
)

// Transfers plans and does transfers. It is safe for use by several at once.
type Transfers struct {
	*act.Act
	act.Underway // who works on the same data next goes on with what was begun
	directory    *directory.Directory
	store        *store.Store
	holdings     *holdings.Holdings
	mirrors      *mirrors.Mirrors
	resolving    *resolving.Resolving
	publishing   *publishing.Publishing
	safety       *safety.Safety
	rights       *rights.Rights
	builds       *builds.Builds
	landing      *landing.Landing

	places  chan struct{} // one for each transfer that is done here
	counted sync.Map      // what became of the versions of transfers that have ended, by their ids
}

const (
	// atOnce is how many transfers a node does at the same time.
	atOnce = 2
	// signOfLife is how often who works on a transfer says so, and abandoned after how long without it
	// somebody else takes it.
	signOfLife = 5 * time.Second
	abandoned  = 30 * time.Second
	// told is for how long it is told what became of each version of a transfer.
	told = 90 * 24 * time.Hour
)

// New makes the room.
func New(a *act.Act, directory *directory.Directory, store *store.Store, holdings *holdings.Holdings,
	mirrors *mirrors.Mirrors, resolving *resolving.Resolving, publishing *publishing.Publishing,
	safety *safety.Safety, rights *rights.Rights, builds *builds.Builds, landing *landing.Landing) *Transfers {
	return &Transfers{Act: a, directory: directory, store: store, holdings: holdings, mirrors: mirrors,
		resolving: resolving, publishing: publishing, safety: safety, rights: rights,
		builds: builds, landing: landing,
		places: make(chan struct{}, atOnce)}
}

// Chores implements act.Busy.
func (s *Transfers) Chores() []act.Chore {
	return []act.Chore{{Every: time.Second, What: "taking up transfers", Do: s.takeUp},
		{Every: time.Hour, What: "dropping old transfers", Do: func(ctx context.Context) error {
			s.counted.Clear()
			return s.DB.DropTransfers(ctx, s.Now().Add(-told))
		}}}
}

// takeUp begins to work on transfers on which nobody works.
func (s *Transfers) takeUp(ctx context.Context) error {
	for {
		select {
		case s.places <- struct{}{}:
		default:
			return nil
		}
		worker := strings.ToLower(rand.Text())
		t, err := s.DB.TakeTransfer(ctx, worker, s.Now(), s.Now().Add(-abandoned))
		if err != nil {
			<-s.places
			if errors.Is(err, record.ErrNotFound) {
				return nil
			}
			return err
		}
		s.Go(func(ctx context.Context) {
			defer func() { <-s.places }()
			s.work(record.Patiently(ctx), &moving{s: s, Transfer: t, worker: worker})
		})
	}
}
