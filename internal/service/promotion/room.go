// Package promotion is about tracks, gates, and versions that go along them: judged,
// restamped, signed, made visible all at once, and sent on to other servers.
package promotion

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/store"
	"crelvo/internal/service/targets"
	"crelvo/internal/service/vetting"
)

// Promotion promotes versions, and takes that back. It is safe for use by several at once.
type Promotion struct {
	*act.Act
	counting   *counting.Counting
	directory  *directory.Directory
	store      *store.Store
	keys       *keys.Keys
	builds     *builds.Builds
	rights     *rights.Rights
	publishing *publishing.Publishing
	safety     *safety.Safety
	vetting    *vetting.Vetting
	targets    *targets.Targets

	promoting promoting
}

// New makes the room.
func New(
	a *act.Act,
	counting *counting.Counting,
	directory *directory.Directory,
	store *store.Store,
	keys *keys.Keys,
	builds *builds.Builds,
	rights *rights.Rights,
	publishing *publishing.Publishing,
	safety *safety.Safety,
	vetting *vetting.Vetting,
	targets *targets.Targets,
) *Promotion {
	return &Promotion{
		Act: a, counting: counting, directory: directory, store: store, keys: keys, builds: builds,
		rights: rights, publishing: publishing, safety: safety, vetting: vetting, targets: targets,
	}
}
