package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// writebackEvery is how much of an upload may wait in the page cache before its
// writing is begun, so that the fsync at the end has little left to do.
const writebackEvery = 8 << 20

// Folder is a Store in a folder of a local file system:
//
//	bytes/ab/abcd…   stored files, named by their SHA-256
//	staging/x1y2…/   what is arriving in one process; hard-linked into bytes/
//	                 by Keep, so that what a crash leaves here tells which
//	                 files of bytes/ may have no record
//	begun/           what arrives in pieces, and may be gone on with
//	documents/       small documents, by their names
//	identity         the name that the store was given
//
// Several processes may use one folder, on a file system that they share and that has locks
// and hard links.
type Folder struct {
	bytes, staging, begun, identity string
	// lock is held as long as this process uses its folder of staging.
	lock *os.File
	// Reserve is how many bytes of the disk files leave free.
	Reserve int64

	mu     sync.Mutex
	shards map[string]bool // folders of bytes/ known to be durable
	// arriving is what is known of begun files by their names.
	arriving map[string]*arriving
}

var _ Store = (*Folder)(nil)

// OpenFolder makes the folder if need be.
func OpenFolder(dir string) (*Folder, error) {
	f := &Folder{bytes: filepath.Join(dir, "bytes"),
		staging: filepath.Join(dir, "staging", strings.ToLower(rand.Text())),
		begun:   filepath.Join(dir, "begun"), identity: filepath.Join(dir, "identity"),
		shards: map[string]bool{}, arriving: map[string]*arriving{}}
	for _, d := range []string{f.bytes, f.staging, f.begun} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	var err error
	if f.lock, err = os.OpenFile(filepath.Join(f.staging, lockName), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, err
	}
	return f, tryLock(f.lock)
}

const lockName = "lock"

// Close implements Store.
func (f *Folder) Close() error {
	// What is left there is for Leftovers.
	if entries, err := os.ReadDir(f.staging); err == nil && len(entries) == 1 {
		return errors.Join(os.RemoveAll(f.staging), f.lock.Close())
	}
	return f.lock.Close()
}

type folderStaged struct {
	*os.File
	path string // changes once, to a name that tells the digest
	left bool
	// putBack makes a file that was not kept a begun one again; nil where it was none.
	putBack func() error
}

func (s *folderStaged) discard() error {
	if s.left {
		return nil
	}
	if s.putBack != nil {
		return errors.Join(s.putBack(), s.File.Close())
	}
	return errors.Join(s.File.Close(), os.Remove(s.path))
}

func (s *folderStaged) leave() (Leftover, error) {
	s.left = true
	return Leftover{note: s.path}, s.File.Close()
}

// Stage implements Store.
func (f *Folder) Stage(ctx context.Context, r io.Reader, length int64) (*Staged, error) {
	return f.stage(ctx, r, length, nil)
}

// StageOpenly implements Store.
func (f *Folder) StageOpenly(ctx context.Context, r io.Reader, length int64, w Watcher) (*Staged, error) {
	return f.stage(ctx, r, length, w)
}

func (f *Folder) stage(ctx context.Context, r io.Reader, length int64, w Watcher) (*Staged, error) {
	if free, err := f.Free(); err == nil && free <= max(0, length) {
		return nil, ErrReserved
	}
	path := filepath.Join(f.staging, "arriving."+rand.Text())
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	staged := &folderStaged{File: file, path: path}
	if length >= 0 {
		r = &exactly{r: r, length: length}
	}
	if w != nil {
		w.Begun(func() (*os.File, error) { return os.Open(path) })
	}
	digester := newDigester()
	err = digester.copy(ctx, &earlyWriter{file: file, watcher: w, room: f.Free}, r, w != nil)
	if err != nil {
		_ = staged.discard() // the first failure is the one to tell
		var w writeError
		if errors.As(err, &w) {
			return nil, w.error
		}
		return nil, fmt.Errorf("%w: %w", ErrCut, err)
	}
	return &Staged{Digests: digester.sum(), Arrived: time.Now(), file: staged}, nil
}

// earlyWriter starts the writing of what it was given every now and then.
type earlyWriter struct {
	file           *os.File
	watcher        Watcher // may be nil
	room           func() (int64, error)
	written, begun int64
}

func (w *earlyWriter) Write(p []byte) (int, error) {
	if w.written-w.begun >= writebackEvery {
		if free, err := w.room(); err == nil && free <= 0 {
			return 0, ErrReserved
		}
	}
	n, err := w.file.Write(p)
	w.written += int64(n)
	if w.written-w.begun >= writebackEvery && err == nil {
		startWriting(w.file, w.begun, w.written-w.begun)
		w.begun = w.written
	}
	if w.watcher != nil && err == nil {
		w.watcher.Arrived(w.written)
	}
	return n, err
}

// Keep implements Store.
func (f *Folder) Keep(ctx context.Context, s *Staged) error {
	staged, ok := s.file.(*folderStaged)
	if !ok {
		return errors.New("staged in another store")
	}
	digest := s.Digests.Hex("sha256")
	noted := filepath.Join(f.staging, digest+"."+rand.Text())
	if err := os.Rename(staged.path, noted); err != nil {
		return err
	}
	staged.path, staged.putBack = noted, nil
	if err := staged.Sync(); err != nil {
		return err
	}
	target := f.path(digest)
	if err := f.makeShard(filepath.Dir(target)); err != nil {
		return err
	}
	for {
		err := os.Link(noted, target)
		if errors.Is(err, fs.ErrExist) {
			if err = f.mend(s, noted, target); errors.Is(err, errDropped) {
				continue
			}
		}
		if err != nil {
			return err
		}
		return syncFolder(filepath.Dir(target))
	}
}

// errDropped is that what was there a moment ago has been dropped by somebody else.
var errDropped = errors.New("it was dropped at this moment")

// checkedWhole is up to how many bytes what is there is compared byte by byte, and
// not by its size alone.
const checkedWhole = 1 << 20

// mend replaces what is stored where it is not what was staged. It gives errDropped where
// nothing is stored there any more.
func (f *Folder) mend(s *Staged, noted, target string) error {
	stat, err := os.Stat(target)
	if errors.Is(err, fs.ErrNotExist) {
		return errDropped
	}
	if err != nil {
		return err
	}
	whole := stat.Size() == s.Digests.Size
	if whole && s.Digests.Size <= checkedWhole {
		there, err := os.ReadFile(target)
		if errors.Is(err, fs.ErrNotExist) {
			return errDropped
		}
		if err != nil {
			return err
		}
		whole = sha256.Sum256(there) == s.Digests.SHA256
	}
	if whole {
		return nil
	}
	// A link of its own is renamed over it: whoever reads the old one goes on.
	beside := noted + ".mending"
	if err := os.Link(noted, beside); err != nil {
		return err
	}
	return os.Rename(beside, target)
}

func (f *Folder) path(digest string) string {
	return filepath.Join(f.bytes, digest[:2], digest)
}

// makeShard makes a folder of bytes/ durable, once.
func (f *Folder) makeShard(dir string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.shards[dir] {
		return nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := syncFolder(f.bytes); err != nil {
		return err
	}
	f.shards[dir] = true
	return nil
}

func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Open implements Store.
func (f *Folder) Open(ctx context.Context, digest [32]byte, size int64) (Reader, error) {
	file, err := os.Open(f.path(hex.EncodeToString(digest[:])))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrMissing
	}
	if err != nil {
		return nil, err
	}
	stat, err := file.Stat()
	if err == nil && stat.Size() != size {
		err = fmt.Errorf("%w: there are %d bytes of %d", ErrDamaged, stat.Size(), size)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// Verify implements Store.
func (f *Folder) Verify(
	ctx context.Context, digest [32]byte, size int64, through func(io.Reader) io.Reader,
) error {
	r, err := f.Open(ctx, digest, size)
	if err != nil {
		return err
	}
	defer r.Close()
	return verify(through(r), digest, size)
}

// Has implements Store.
func (f *Folder) Has(ctx context.Context, sha256 [32]byte) (bool, error) {
	_, err := os.Stat(f.path(hex.EncodeToString(sha256[:])))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Free implements Store.
func (f *Folder) Free() (int64, error) {
	size, free, err := diskOf(f.bytes)
	// On a small disk the reserve is a part of it.
	return free - min(f.Reserve, size/20), err
}

// Walk implements Store.
func (f *Folder) Walk(ctx context.Context, untouched time.Time, each func(sha256 [32]byte, size int64) error) error {
	return filepath.WalkDir(f.bytes, func(path string, entry fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil || entry.IsDir() {
			return err
		}
		raw, err := hex.DecodeString(entry.Name())
		if err != nil || len(raw) != 32 {
			return nil // nothing of ours
		}
		stat, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) || err == nil && stat.ModTime().After(untouched) {
			return nil
		}
		if err != nil {
			return err
		}
		return each([32]byte(raw), stat.Size())
	})
}

// Identity implements Store.
func (f *Folder) Identity() (string, error) {
	raw, err := os.ReadFile(f.identity)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return strings.TrimSpace(string(raw)), err
}

// SetIdentity implements Store.
func (f *Folder) SetIdentity(name string) error {
	return os.WriteFile(f.identity, []byte(name+"\n"), 0o600)
}

// Drop implements Store.
func (f *Folder) Drop(ctx context.Context, sha256 [32]byte) error {
	err := os.Remove(f.path(hex.EncodeToString(sha256[:])))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Leftovers implements Store.
func (f *Folder) Leftovers(ctx context.Context) ([]Leftover, error) {
	staging := filepath.Dir(f.staging)
	entries, err := os.ReadDir(staging)
	if err != nil {
		return nil, err
	}
	// What is not in a folder is of a version that kept it so.
	found, err := leftIn(staging)
	for _, entry := range entries {
		folder := filepath.Join(staging, entry.Name())
		if err != nil || !entry.IsDir() || folder == f.staging {
			continue
		}
		var left []Leftover
		left, err = ofEnded(folder)
		found = append(found, left...)
	}
	return found, err
}

// ofEnded lists what is left in the staging folder of a process that has ended, and removes
// the folder once that is nothing.
func ofEnded(folder string) ([]Leftover, error) {
	lock, err := os.OpenFile(filepath.Join(folder, lockName), os.O_RDWR, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		// Another process has just removed it, or makes it at this moment.
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if err := tryLock(lock); errors.Is(err, ErrBusy) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	left, err := leftIn(folder)
	if err == nil && len(left) == 0 {
		err = os.RemoveAll(folder)
	}
	return left, err
}

// leftIn lists what was being kept, and removes what was only arriving.
func leftIn(folder string) ([]Leftover, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	var found []Leftover
	for _, entry := range entries {
		if entry.IsDir() || entry.Name() == lockName {
			continue
		}
		path := filepath.Join(folder, entry.Name())
		digest, _, _ := strings.Cut(entry.Name(), ".")
		raw, err := hex.DecodeString(digest)
		if err != nil || len(raw) != 32 {
			if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
			continue
		}
		found = append(found, Leftover{SHA256: [32]byte(raw), note: path})
	}
	return found, nil
}

// Forget implements Store.
func (f *Folder) Forget(l Leftover) error {
	if err := os.Remove(l.note); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Tidy implements Store: Leftovers has done it.
func (f *Folder) Tidy(context.Context, time.Time) error { return nil }
