// Package makeup is about what versions consist of, where they consist of layers, and how
// two of them differ.
package makeup

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/search"
	"crelvo/internal/service/store"
)

// Makeup tells what versions are made of. It is safe for use by several at once.
type Makeup struct {
	*act.Act
	directory *directory.Directory
	store     *store.Store
	resolving *resolving.Resolving
	search    *search.Search
	// unpacking holds a place for each comparison that reads layers.
	unpacking chan struct{}
}

// New makes the room.
func New(
	a *act.Act, directory *directory.Directory, store *store.Store, resolving *resolving.Resolving, search *search.Search,
) *Makeup {
	return &Makeup{a, directory, store, resolving, search, make(chan struct{}, atOnce)}
}
