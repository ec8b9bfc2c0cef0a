// Package targets is about the places outside that versions go on to: servers of an ecosystem, to which they are
// published by its protocol.
package targets

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/secret"
	"crelvo/internal/service/store"
)

// Targets keeps targets, and sends versions there. It is safe for use by several at once.
type Targets struct {
	*act.Act
	safe      secret.Safe
	directory *directory.Directory
	store     *store.Store
}

// New makes the room.
func New(a *act.Act, safe secret.Safe, directory *directory.Directory, store *store.Store) *Targets {
	return &Targets{Act: a, safe: safe, directory: directory, store: store}
}
