// Package mirrors is about what comes from elsewhere: lists and copies, fetched when
// somebody asks or ahead of time, and how upstreams are.
package mirrors

import (
	"sync/atomic"

	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/schedule"
	"crelvo/internal/service/store"
	"crelvo/internal/upstream"
)

// Mirrors fetches from upstreams, for all mirrors. It is safe for use by several at once.
type Mirrors struct {
	*act.Act
	act.Underway // what is being fetched
	counting     *counting.Counting
	directory    *directory.Directory
	schedule     *schedule.Schedule
	store        *store.Store
	holdings     *holdings.Holdings
	repositories *repositories.Repositories
	safety       *safety.Safety

	noting    *noting
	documents *act.Weighted[documentKey, act.Aged[record.UpstreamDocument]]
	whole     *act.Weighted[*upstream.Source, sections]
	mirrors   atomic.Pointer[map[int64]*Mirror]
}

// New makes the room.
func New(
	a *act.Act,
	counting *counting.Counting,
	directory *directory.Directory,
	schedule *schedule.Schedule,
	store *store.Store,
	holdings *holdings.Holdings,
	repositories *repositories.Repositories,
	safety *safety.Safety,
) *Mirrors {
	s := &Mirrors{
		Act: a, counting: counting, directory: directory, schedule: schedule, store: store, holdings: holdings,
		repositories: repositories, safety: safety, noting: newNoting(),
		documents: act.NewWeighted[documentKey](a.Remembered, 20_000, weightOfListing),
		whole:     newWhole(a),
	}
	directory.Subscribe(s.setMirrors)
	directory.Subscribe(s.schedulePrefetch)
	return s
}
