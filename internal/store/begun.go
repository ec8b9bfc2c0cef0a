package store

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// ErrOffset is returned by Continue where a file has not as much as is to be gone on
// from.
var ErrOffset = errors.New("it does not go on from there")

// ErrBusy is returned where somebody else is sending the same begun file, or publishing
// it.
var ErrBusy = errors.New("somebody else has it in hand")

// Begun is a file that arrives in pieces, perhaps over days: what arrived of it stays
// when its sender leaves. It is named by whoever sends it.
type Begun struct {
	Name  string
	Size  int64 // that arrived
	Since time.Time
}

// arriving is what is known of the bytes of a begun file, so that they need not be read
// again once it is whole. It is kept in memory alone: after a restart, what is on the
// disk is what counts, and is read.
type arriving struct {
	digester *digester
	crc      hash.Hash32 // CRC-32C
	of       fs.FileInfo // that it is about
}

// castagnoli is the polynomial of CRC-32C (RFC 3720 section 12.1), which processors
// compute by themselves.
var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// take adds what r gives, and writes it to w too.
func (a *arriving) take(ctx context.Context, w io.Writer, r io.Reader) error {
	return a.digester.copy(ctx, io.MultiWriter(w, a.crc), r, false)
}

// arrivingOf gives what is known of an open begun file that is in hand, all of which it
// reads if that is nothing. Nobody else has it meanwhile; what became of it is told to
// knowArriving.
func (f *Folder) arrivingOf(ctx context.Context, name string, file *os.File, stat fs.FileInfo) (*arriving, error) {
	f.mu.Lock()
	known := f.arriving[name]
	delete(f.arriving, name)
	f.mu.Unlock()
	if known == nil || !os.SameFile(known.of, stat) || known.digester.size > stat.Size() {
		known = &arriving{digester: newDigester(), crc: crc32.New(castagnoli), of: stat}
	}
	missing := io.NewSectionReader(file, known.digester.size, stat.Size()-known.digester.size)
	return known, known.take(ctx, io.Discard, missing)
}

// knowArriving keeps what is known of a begun file; nil forgets it.
func (f *Folder) knowArriving(name string, known *arriving) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if known == nil {
		delete(f.arriving, name)
		return
	}
	f.arriving[name] = known
}

// isBegunName tells whether a begun file can be called so: names are of letters, digits
// and dashes.
func isBegunName(name string) bool {
	return name != "" && strings.Trim(name, "0123456789abcdefghijklmnopqrstuvwxyz-") == ""
}

// begunPath is where a begun file is.
func (f *Folder) begunPath(name string) (string, error) {
	if !isBegunName(name) {
		return "", fmt.Errorf("%q cannot be the name of a begun file", name)
	}
	return filepath.Join(f.begun, name), nil
}

// AllBegun implements Store.
func (f *Folder) AllBegun(ctx context.Context, prefix string) ([]Begun, error) {
	entries, err := os.ReadDir(f.begun)
	if err != nil {
		return nil, err
	}
	var all []Begun
	for _, entry := range entries {
		if !strings.HasPrefix(entry.Name(), prefix) {
			continue
		}
		stat, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, Begun{Name: entry.Name(), Size: stat.Size(), Since: stat.ModTime()})
	}
	return all, nil
}

// Continue implements Store.
func (f *Folder) Continue(ctx context.Context, name string, at int64, r io.Reader) (size int64, err error) {
	path, err := f.begunPath(name)
	if err != nil {
		return 0, err
	}
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, file.Close()) }()
	stat, err := inHand(file, path)
	if err != nil {
		return 0, err
	}
	if stat.Size() != at {
		return stat.Size(), ErrOffset
	}
	if free, err := f.Free(); err == nil && free <= 0 {
		return at, ErrReserved
	}
	known, err := f.arrivingOf(ctx, name, file, stat)
	if err != nil {
		return at, err
	}
	to := &earlyWriter{file: file, room: f.Free, written: at, begun: at}
	err = known.take(ctx, to, r)
	if known.digester.size == to.written {
		f.knowArriving(name, known)
	}
	if failed := (writeError{}); errors.As(err, &failed) {
		return to.written, failed.error
	}
	if err != nil {
		err = fmt.Errorf("%w: %w", ErrCut, err)
	}
	return to.written, err
}

// inHand takes the lock on a begun file, which must still be at its path: it may have
// been moved since it was opened.
func inHand(file *os.File, path string) (fs.FileInfo, error) {
	if err := tryLock(file); err != nil {
		return nil, err
	}
	stat, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if there, err := os.Stat(path); err != nil || !os.SameFile(there, stat) {
		return nil, ErrBusy
	}
	return stat, nil
}

// StageBegun implements Store.
func (f *Folder) StageBegun(ctx context.Context, name string) (*Staged, error) {
	path, err := f.begunPath(name)
	if err != nil {
		return nil, err
	}
	file, err := os.OpenFile(path, os.O_RDWR, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrMissing
	}
	if err != nil {
		return nil, err
	}
	stat, err := inHand(file, path)
	var known *arriving
	if err == nil {
		known, err = f.arrivingOf(ctx, name, file, stat)
	}
	// It is moved: whoever sends more now begins anew, and cannot add to what is stored.
	staged := filepath.Join(f.staging, "arriving."+rand.Text())
	if err == nil {
		err = os.Rename(path, staged)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &Staged{Digests: known.digester.sum(), CRC32C: known.crc.Sum32(), Arrived: time.Now(),
		file: &folderStaged{File: file, path: staged, putBack: func() error {
			f.knowArriving(name, known)
			return os.Rename(staged, path)
		}}}, nil
}

// DropBegun implements Store.
func (f *Folder) DropBegun(ctx context.Context, name string) error {
	path, err := f.begunPath(name)
	if err != nil {
		return err
	}
	f.knowArriving(name, nil)
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
