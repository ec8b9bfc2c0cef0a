// Package blob keeps bytes. A store is content-addressed by SHA-256; bytes
// enter it through a staging file, with every digest computed on the way, and
// are durable before Keep returns.
package blob

import (
	"context"
	"errors"
	"io"
	"os"
	"time"

	"crelvo/internal/core/catalog"
)

// ErrMissing is returned by Open for bytes that the store does not have.
var ErrMissing = errors.New("the store has no such bytes")

// ErrCut is returned by Stage when the source ended early, ran over or failed.
var ErrCut = errors.New("the bytes did not arrive whole")

// Reader gives the bytes of a stored file. A *os.File is one, so that it can
// leave by sendfile.
type Reader interface {
	io.ReadSeekCloser
	io.ReaderAt
}

// Store keeps bytes under their SHA-256. Its methods may be called at the same
// time.
type Store interface {
	// Stage reads r to its end into a staging file. If length is not negative,
	// r must give exactly so many bytes. Any failure of r, a wrong length
	// included, is reported as ErrCut with its cause, and leaves nothing.
	Stage(ctx context.Context, r io.Reader, length int64) (*Staged, error)
	// StageOpenly is Stage for bytes that others read while they arrive.
	StageOpenly(ctx context.Context, r io.Reader, length int64, w Watcher) (*Staged, error)
	// Keep makes the staged bytes durable and readable under their SHA-256.
	// Bytes that are there already are kept once.
	Keep(ctx context.Context, s *Staged) error
	// Open gives stored bytes, or ErrMissing.
	Open(ctx context.Context, sha256 [32]byte) (Reader, error)
	// Has tells whether the store has such bytes.
	Has(ctx context.Context, sha256 [32]byte) (bool, error)
	// Drop removes bytes that no record names.
	Drop(ctx context.Context, sha256 [32]byte) error
	// Free tells how many bytes there is room for.
	Free() (int64, error)
	// Leftovers lists the digests that an earlier process may have kept without
	// a record naming them, because it ended between the two. Forget removes
	// the note of one of them, once it was looked after.
	Leftovers(ctx context.Context) ([]Leftover, error)
	Forget(l Leftover) error
}

// Watcher is told how far a staging file is. Its methods are called one after
// the other.
type Watcher interface {
	// Begun comes before the first byte. open gives the bytes for reading, as
	// far as they have arrived, until StageOpenly has returned; what was opened
	// can be read after that too.
	Begun(open func() (*os.File, error))
	// Arrived tells how many bytes can be read.
	Arrived(n int64)
}

// Leftover is the trace of a publication that may not have been recorded.
type Leftover struct {
	SHA256 [32]byte
	note   string
}

// Staged is bytes that arrived and are not stored yet. Whoever gets one must
// Discard it in the end, kept or not.
type Staged struct {
	Digests catalog.Digests
	Arrived time.Time
	file    stagedFile
}

type stagedFile interface {
	io.ReaderAt
	discard() error
}

// ReadAt reads the staged bytes.
func (s *Staged) ReadAt(p []byte, off int64) (int, error) { return s.file.ReadAt(p, off) }

// Discard removes the staging file and the note of it. Bytes that were kept
// stay kept.
func (s *Staged) Discard() error { return s.file.discard() }
