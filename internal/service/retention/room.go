// Package retention is about what stays and what goes: policies, plans, sweeps, pins,
// removal by hand, and reclaiming bytes.
package retention

import (
	"sync/atomic"

	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/quotas"
	"crelvo/internal/service/schedule"
	"crelvo/internal/service/store"
)

// Retention removes versions, brings them back, and frees what nothing needs. It is
// safe for use by several at once.
type Retention struct {
	*act.Act
	directory  *directory.Directory
	schedule   *schedule.Schedule
	store      *store.Store
	publishing *publishing.Publishing
	quotas     *quotas.Quotas
	cramped    atomic.Bool // a mirror refused something for lack of room
}

// New makes the room.
func New(
	a *act.Act,
	directory *directory.Directory,
	schedule *schedule.Schedule,
	store *store.Store,
	publishing *publishing.Publishing,
	quotas *quotas.Quotas,
) *Retention {
	s := &Retention{
		Act: a, directory: directory, schedule: schedule, store: store, publishing: publishing, quotas: quotas,
	}
	quotas.OnFull(s.sweepable, func() { s.cramped.Store(true) })
	return s
}
