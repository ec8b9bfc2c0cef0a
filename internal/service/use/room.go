// Package use is about who used what, and how much room it takes.
package use

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/retention"
	"crelvo/internal/service/search"
	"crelvo/internal/service/store"
)

// Use tells how packages are used, and what they take. It is safe for use by several at once.
type Use struct {
	*act.Act
	store     *store.Store
	directory *directory.Directory
	retention *retention.Retention
	search    *search.Search
}

// New makes the room.
func New(
	a *act.Act,
	store *store.Store,
	directory *directory.Directory,
	retention *retention.Retention,
	search *search.Search,
) *Use {
	return &Use{Act: a, store: store, directory: directory, retention: retention, search: search}
}
