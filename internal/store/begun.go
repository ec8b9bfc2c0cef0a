package store

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
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

// begunPath is where a begun file is; names are of letters, digits and dashes.
func (f *Folder) begunPath(name string) (string, error) {
	if name == "" || strings.ContainsFunc(name, func(r rune) bool {
		return r != '-' && (r < '0' || r > '9') && (r < 'a' || r > 'z')
	}) {
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
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
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
	to := &earlyWriter{file: file, room: f.Free, written: at, begun: at}
	if free, err := f.Free(); err == nil && free <= 0 {
		return at, ErrReserved
	}
	_, err = io.Copy(to, &endedBy{ctx, r})
	if err != nil && !errors.Is(err, ErrReserved) {
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

// endedBy ends reading with its context.
type endedBy struct {
	ctx context.Context
	io.Reader
}

// Read implements io.Reader.
func (e *endedBy) Read(p []byte) (int, error) {
	if err := e.ctx.Err(); err != nil {
		return 0, err
	}
	return e.Reader.Read(p)
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
	var digests catalog.Digests
	if _, err = inHand(file, path); err == nil {
		digests, err = copyDigesting(ctx, io.Discard, file, false)
	}
	// It is moved: whoever sends more now begins anew, and cannot add to what is stored.
	staged := filepath.Join(f.staging, "arriving."+rand.Text())
	if err == nil {
		err = os.Rename(path, staged)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &Staged{Digests: digests, Arrived: time.Now(), file: &folderStaged{File: file, path: staged, back: path}}, nil
}

// DropBegun implements Store.
func (f *Folder) DropBegun(ctx context.Context, name string) error {
	path, err := f.begunPath(name)
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
