package ecosystem

import (
	"context"
	"crypto/sha256"
	"time"

	"crelvo/internal/core/catalog"
)

// Plain is an ecosystem whose repositories can be written out as a plain tree: files that any web server hands out
// as they are, and from which its clients install.
type Plain interface {
	// NamesBase tells whether documents name whole addresses, so that it must be known at which one the tree is
	// read.
	NamesBase() bool
	// Leaves are the files about a package, each after those that it names; base is the address of the tree, with
	// a slash at the end. gives is what the package gives to documents about all; nil if nothing.
	Leaves(base string, p *catalog.Package) (all []Leaf, gives []byte, err error)
	// Roots are the documents about all packages, which are in the order of their namespaces and names.
	Roots(base string, all []Given) ([]Leaf, error)
}

// Given is what a package gives to documents about all.
type Given struct {
	Namespace, Name string
	Gives           []byte
	Changed         time.Time
}

// LastChanged is when a package changed last.
func LastChanged(all []Given) (last time.Time) {
	for _, g := range all {
		if g.Changed.After(last) {
			last = g.Changed
		}
	}
	return last
}

// Leaf is a file of a plain tree.
type Leaf struct {
	Path        string // below the tree, with slashes
	ContentType string
	Document    []byte       // nil for one that has the bytes of a file, or is made from them
	File        catalog.File // where it is no document
	// Make makes it from the bytes of the file; nil is those themselves.
	Make func(ctx context.Context, content SizedReaderAt) ([]byte, error)
	// Names: it names what comes before it, and is written when all of that is there.
	Names bool
}

// LeafOf is a file of a package as a leaf.
func LeafOf(path, contentType string, f catalog.File) Leaf {
	return Leaf{Path: path, ContentType: contentType, File: f}
}

// LeafDocument is a document as a leaf that names others.
func LeafDocument(path string, d Document) Leaf {
	return Leaf{Path: path, ContentType: d.ContentType, Document: d.Bytes(), Names: true}
}

// Sum is the same for leaves that are the same.
func (l Leaf) Sum() [32]byte {
	switch {
	case l.Document != nil:
		return sha256.Sum256(l.Document)
	case l.Make != nil:
		return sha256.Sum256(append([]byte("made from "), l.File.Digests.SHA256[:]...))
	}
	return l.File.Digests.SHA256
}
