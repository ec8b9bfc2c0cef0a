package ecosystem

import (
	"context"
	"io"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/promotion"
)

// Recasting is an ecosystem of versions whose files are made anew together when they are promoted: because texts in
// them change, or because what they are kept as has more in it than they have.
type Recasting interface {
	// Recast says what becomes of a version in another repository; nil if its files stay what they are.
	Recast(ctx context.Context, v ToRecast) (*Recast, error)
}

// ToRecast is a version on its way into another repository.
type ToRecast struct {
	Name  string // of the package
	Files []catalog.File
	Stamp Stamp
	All   Stamps // its own among them
	// Texts are to be replaced, if it becomes a release.
	Texts []promotion.Text
	Desk  RecastDesk
}

// RecastDesk is what a version is recast from and into. Its Packs are, as here, those of the package that it comes
// into and, as others, those of the version.
type RecastDesk interface {
	Packs
	// Open opens a file of the version.
	Open(ctx context.Context, f catalog.File) (SeekableFile, error)
	// Without are those of some bytes, by their SHA-256, that are no part of the package which it comes into.
	Without(ctx context.Context, sha256s [][]byte) ([][]byte, error)
	// Stage takes a file that is made anew.
	Stage(ctx context.Context, name string, body io.Reader) (Staged, error)
}

// Recast is what becomes of a version.
type Recast struct {
	// Files are what becomes of its files, by their names; none of them is written by itself.
	Files map[string]Rewriting
	// NewBytes is how many bytes are written, about.
	NewBytes int64
	// Write writes what is new, and gives all files of the version, those that stay among them.
	Write func(ctx context.Context) ([]RecastFile, error)
}

// RecastFile is a file of a version that was recast.
type RecastFile struct {
	Name, Extension, MediaType string
	SHA256                     [32]byte
	// Staged is what was written; nil of what stays.
	Staged Staged
}
