// Package repositories is about the settings of repositories, and which names are
// claimed.
package repositories

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/schedule"
	"crelvo/internal/service/secret"
	"crelvo/internal/service/store"
)

// Repositories makes, changes and removes repositories. It is safe for use by several at once.
type Repositories struct {
	*act.Act
	safe      secret.Safe
	directory *directory.Directory
	schedule  *schedule.Schedule
	store     *store.Store
}

// New makes the room.
func New(
	a *act.Act, safe secret.Safe, directory *directory.Directory, schedule *schedule.Schedule, store *store.Store,
) *Repositories {
	return &Repositories{Act: a, safe: safe, directory: directory, schedule: schedule, store: store}
}
