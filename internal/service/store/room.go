// Package store is about bytes on their way to a record, and out of it again, and about the
// stores that they are in.
package store

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/secret"
	bytestore "crelvo/internal/store"
)

// Store takes in bytes, and gives out those that are recorded. It is safe for use by several at once.
type Store struct {
	*act.Act
	safe      secret.Safe
	directory *directory.Directory
	folder    bytestore.Store // of the data folder

	known    atomic.Pointer[known]
	loading  sync.Mutex
	small    *act.Weighted[[32]byte, *ecosystem.Held]
	places   *act.Weighted[[32]byte, []int16] // stores that have bytes, where there are several
	limit    *rate.Limiter                    // of what nobody waits for; nil is none
	lookedAt time.Time                        // for stores that are away, by the one chore that does
	unasked  unasked
	fits     Fits
	measures *measures
}

// Fits lets in so many bytes for a repository and a store, or says why not. Whoever brings
// them calls done when they are recorded, or will not come.
type Fits func(ctx context.Context, r catalog.Repository, store int16, bytes int64) (done func(), err error)

// Ask has somebody asked about everything that is to be stored. Call it before anything is.
func (s *Store) Ask(fits Fits) { s.fits = fits }

// New makes the room. folder is the store in the data folder of this process.
func New(a *act.Act, safe secret.Safe, directory *directory.Directory, folder bytestore.Store) *Store {
	s := &Store{
		Act: a, safe: safe, directory: directory, folder: folder, measures: newMeasures(),
		small: act.NewWeighted[[32]byte](a.Remembered, smallCount, func(held *ecosystem.Held) int64 {
			return 700 + int64(len(held.Content))
		}),
		places: act.NewWeighted[[32]byte](a.Remembered, placeCount, func([]int16) int64 { return 100 }),
	}
	if most := a.Settings.Rate; most > 0 {
		s.limit = rate.NewLimiter(rate.Limit(most), 1<<20)
	}
	return s
}

// placeCount is of how many files it is remembered where they are.
const placeCount = 100_000

// Purge forgets what may be out of date.
func (s *Store) Purge() { s.places.Purge() }

// Chores implements act.Busy.
func (s *Store) Chores() []act.Chore {
	return []act.Chore{
		{Every: askEvery, What: "looking after stored bytes", Do: s.askAboutLeft},
		{Every: askEvery, What: "looking for stores that are away", Do: s.lookForAway},
		{Every: tidyEvery, What: "looking after what ended processes left", Do: s.tidyAll},
		{Every: moveEvery, What: "moving bytes to other stores", Do: s.move},
		{Every: placeEvery, What: "copying bytes to other stores", Do: s.place},
	}
}
