// Package bundles is about packages that are carried to where no network leads: made into one file that is
// signed, and loaded from it, all of it or nothing.
package bundles

import (
	"context"

	"crelvo/internal/core/access"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/landing"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/store"
	"crelvo/internal/service/vetting"
)

// Bundles makes and loads bundles. It is safe for use by several at once.
type Bundles struct {
	*act.Act
	directory  *directory.Directory
	store      *store.Store
	holdings   *holdings.Holdings
	keys       *keys.Keys
	builds     *builds.Builds
	mirrors    *mirrors.Mirrors
	resolving  *resolving.Resolving
	publishing *publishing.Publishing
	safety     *safety.Safety
	vetting    *vetting.Vetting
	landing    *landing.Landing
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory, store *store.Store, holdings *holdings.Holdings, keys *keys.Keys,
	builds *builds.Builds, mirrors *mirrors.Mirrors, resolving *resolving.Resolving, publishing *publishing.Publishing,
	safety *safety.Safety, vetting *vetting.Vetting, landing *landing.Landing) *Bundles {
	return &Bundles{Act: a, directory: directory, store: store, holdings: holdings, keys: keys, builds: builds,
		mirrors: mirrors, resolving: resolving, publishing: publishing, safety: safety, vetting: vetting,
		landing: landing}
}

// mostListed is how many bundles are listed.
const mostListed = 100

// Bundles lists those that were made or loaded last, for who looks after everything; others see their own.
func (s *Bundles) Bundles(ctx context.Context, caller access.Caller) ([]record.Bundle, error) {
	by := caller.Name
	if s.directory.Allow(caller, access.Manage, act.Everything) == nil {
		by = ""
	}
	return s.DB.Bundles(ctx, by, mostListed)
}
