// Package publishing is about what comes in: files, until a version of them is
// complete, labels, and withdrawing.
package publishing

import (
	"sync"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/service/act"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/store"
)

// Publishing takes in files and makes versions of them. It is safe for use by several at once.
type Publishing struct {
	*act.Act
	directory *directory.Directory
	store     *store.Store
	holdings  *holdings.Holdings
	builds    *builds.Builds
	rights    *rights.Rights
	resolving *resolving.Resolving

	lookedAt time.Time
	// packsRead are packages, at the age that they had when all of their packs were on record.
	packsRead *act.Weighted[catalog.PackageKey, uint64]
	// gathering is held while a line is added to what somebody gathers.
	gathering sync.Mutex
}

// New makes the room.
func New(
	a *act.Act,
	directory *directory.Directory,
	store *store.Store,
	holdings *holdings.Holdings,
	builds *builds.Builds,
	rights *rights.Rights,
	resolving *resolving.Resolving,
) *Publishing {
	return &Publishing{
		Act: a, directory: directory, store: store, holdings: holdings, builds: builds, rights: rights,
		resolving: resolving,
		packsRead: act.NewWeighted[catalog.PackageKey](a.Remembered, 10_000, func(uint64) int64 { return 300 }),
	}
}
