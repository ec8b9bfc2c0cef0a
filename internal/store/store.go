// Package store keeps bytes, in a folder or in a bucket of an object store. A store is
// content-addressed by SHA-256; bytes enter it through staging, with every digest computed
// on the way, and are durable before Keep returns.
package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"
	"time"

	"crelvo/internal/core/catalog"
)

// ErrMissing is returned by Open for bytes that the store does not have.
var ErrMissing = errors.New("the store has no such bytes")

// ErrDamaged is returned by Open for bytes that are not what was stored.
var ErrDamaged = errors.New("the stored bytes are not whole")

// ErrReserved is returned where the last of the room is kept for other things than
// files.
var ErrReserved = fmt.Errorf("the rest of the disk is kept for the database: %w", syscall.ENOSPC)

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
	// Continue adds what r gives to a begun file of that name, which is made at the
	// offset 0, and tells how large it is then. What r gave before it failed, which is
	// reported as ErrCut, stays. ErrOffset, with the size that it has, if that is not at.
	Continue(ctx context.Context, name string, at int64, r io.Reader) (size int64, err error)
	// AllBegun lists the begun files whose names begin so.
	AllBegun(ctx context.Context, prefix string) ([]Begun, error)
	// StageBegun stages all that arrived of a begun file; or ErrMissing. If that is
	// discarded before it was kept, it is begun again.
	StageBegun(ctx context.Context, name string) (*Staged, error)
	// DropBegun drops a begun file, if it is there.
	DropBegun(ctx context.Context, name string) error
	// Keep makes the staged bytes durable and readable under their SHA-256.
	// Bytes that are there already are kept once; what is there and is not what it
	// should be is replaced.
	Keep(ctx context.Context, s *Staged) error
	// Open gives stored bytes, of which there must be so many; or ErrMissing, or
	// ErrDamaged if there are more or fewer.
	Open(ctx context.Context, sha256 [32]byte, size int64) (Reader, error)
	// Has tells whether the store has such bytes.
	Has(ctx context.Context, sha256 [32]byte) (bool, error)
	// Verify reads stored bytes where they are, and not a copy, by way of through, and gives
	// what Open would, or ErrDamaged if they are not those of the digest.
	Verify(ctx context.Context, sha256 [32]byte, size int64, through func(io.Reader) io.Reader) error
	// Drop removes bytes that no record names.
	Drop(ctx context.Context, sha256 [32]byte) error
	// Free tells how many bytes of files there is room for.
	Free() (int64, error)
	// Walk calls each with everything that is stored and was not touched since a
	// moment, until it fails.
	Walk(ctx context.Context, untouched time.Time, each func(sha256 [32]byte, size int64) error) error
	// Identity is the name that the store was given; "" if it has none yet.
	Identity() (string, error)
	SetIdentity(name string) error
	// Tidy drops what processes that were killed left of files that never came to be
	// kept, where it was not touched since a moment.
	Tidy(ctx context.Context, untouched time.Time) error
	// Leftovers lists the digests that a process which has ended may have kept without
	// a record naming them, because it ended between the two. Forget removes
	// the note of one of them, once it was looked after.
	Leftovers(ctx context.Context) ([]Leftover, error)
	Forget(l Leftover) error
	// Document gives a small document that the store was given under a name, such as what a
	// backup consists of; or ErrMissing. Documents lists their names, in order.
	Document(ctx context.Context, name string) ([]byte, error)
	Documents(ctx context.Context) ([]string, error)
	SetDocument(ctx context.Context, name string, content []byte) error
	DropDocument(ctx context.Context, name string) error
	// Close ends the use of the store by this process.
	Close() error
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
	// CRC32C is of a begun file; 0 of any other.
	CRC32C  uint32
	Arrived time.Time
	// Store is for whoever has several stores, to note which one it is in.
	Store int16
	file  stagedFile
}

type stagedFile interface {
	io.ReaderAt
	discard() error
	// leave is discard, but the note of what was kept stays.
	leave() (Leftover, error)
}

// ReadAt reads the staged bytes.
func (s *Staged) ReadAt(p []byte, off int64) (int, error) { return s.file.ReadAt(p, off) }

// Leave ends the use of staged bytes that were kept, when it is not known whether
// a record names them: the note of them stays until it was looked after.
func (s *Staged) Leave() (Leftover, error) {
	l, err := s.file.leave()
	l.SHA256 = s.Digests.SHA256
	return l, err
}

// Discard removes the staging file and the note of it. Bytes that were kept
// stay kept.
func (s *Staged) Discard() error { return s.file.discard() }

// verify compares what is read with a digest.
func verify(r io.Reader, digest [32]byte, size int64) error {
	sum := sha256.New()
	buf := chunkPool.Get().(*[chunkSize]byte)
	defer chunkPool.Put(buf)
	n, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{r}, buf[:])
	switch {
	case err != nil:
		return err
	case n != size:
		return fmt.Errorf("%w: there are %d bytes of %d", ErrDamaged, n, size)
	case [32]byte(sum.Sum(nil)) != digest:
		return fmt.Errorf("%w: they are other bytes", ErrDamaged)
	}
	return nil
}
