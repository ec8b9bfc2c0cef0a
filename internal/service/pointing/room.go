// Package pointing is about how package clients are set up for a repository.
package pointing

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/rights"
)

// Pointing tells what clients need to know. It is safe for use by several at once.
type Pointing struct {
	*act.Act
	directory *directory.Directory
	rights    *rights.Rights
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory, rights *rights.Rights) *Pointing {
	return &Pointing{Act: a, directory: directory, rights: rights}
}
