// Package search is about finding packages and showing them, and searches that are
// saved.
package search

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/resolving"
)

// Search answers queries over all repositories. It is safe for use by several at once.
type Search struct {
	*act.Act
	directory  *directory.Directory
	holdings   *holdings.Holdings
	builds     *builds.Builds
	resolving  *resolving.Resolving
	publishing *publishing.Publishing
}

// New makes the room.
func New(
	a *act.Act,
	directory *directory.Directory,
	holdings *holdings.Holdings,
	builds *builds.Builds,
	resolving *resolving.Resolving,
	publishing *publishing.Publishing,
) *Search {
	return &Search{
		Act: a, directory: directory, holdings: holdings, builds: builds, resolving: resolving, publishing: publishing,
	}
}
