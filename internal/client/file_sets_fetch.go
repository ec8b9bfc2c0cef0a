package client

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
)

// FetchSet is a version of a file set that a folder is to become, or to be compared with.
type FetchSet struct {
	FileSet
	Into string
	// Only are patterns of the paths that are wanted, in which * stands for any characters; none for all.
	Only []string
	// Like are other folders that may have some of it, such as one with an earlier version.
	Like []string
	// Delete: what the version does not have is removed from the folder.
	Delete bool
	// SignedBy are armored OpenPGP keys, one of which must have signed the version; "" if nobody must.
	SignedBy string
	Told     func(SetProgress)
	Say      func(format string, args ...any)
}

// FetchedSet is what came of it, or what would have to be done.
type FetchedSet struct {
	Files   int   `json:"files"`
	Bytes   int64 `json:"bytes"`
	Fetched int64 `json:"fetched" doc:"bytes that went over the network"`
	// Changed are those that were not as they should be, Missing those that were not there, and Extra those that
	// the version does not have, by their paths.
	Changed []string `json:"changed"`
	Missing []string `json:"missing"`
	Extra   []string `json:"extra"`
}

// setWanted is an entry of the version that the folder does not have as it should be.
type setWanted struct {
	fileset.Entry
	first int // the number of its first chunk
}

// fetching is a folder on its way.
type fetching struct {
	FetchSet
	c       *Client
	root    *os.Root
	total   int64
	entries map[string]bool // all paths of the version
	lacking []setWanted
	likes   []*os.Root
	parts   []string // files that an earlier one did not finish
	result  FetchedSet

	done, moved atomic.Int64
}

// plan reads the manifest, and finds out what the folder lacks. thorough: it reads every file, however old.
func (c *Client) plan(ctx context.Context, w FetchSet, thorough bool) (*fetching, error) {
	if w.Told == nil {
		w.Told = func(SetProgress) {}
	}
	if w.Say == nil {
		w.Say = func(string, ...any) {}
	}
	root, err := os.OpenRoot(w.Into)
	if err != nil {
		return nil, err
	}
	f := &fetching{FetchSet: w, c: c, root: root, entries: map[string]bool{}}
	f.result = FetchedSet{Changed: []string{}, Missing: []string{}, Extra: []string{}}
	number := 0
	read := c.ManifestOf
	if w.SignedBy != "" {
		read = func(ctx context.Context, s FileSet, begin func(fileset.Header) error, each func(fileset.Entry) error) error {
			return c.signedManifestOf(ctx, s, w.SignedBy, begin, each)
		}
	}
	err = read(ctx, w.FileSet, func(fileset.Header) error { return nil }, func(e fileset.Entry) error {
		one := setWanted{e, number}
		number += len(e.Made())
		f.entries[e.Path] = true
		if !f.wants(e.Path) {
			return nil
		}
		if e.Kind == fileset.File {
			f.result.Files++
			f.result.Bytes += e.Size
		}
		state, err := f.state(e, thorough)
		switch state {
		case missing:
			f.result.Missing = append(f.result.Missing, e.Path)
		case changed:
			f.result.Changed = append(f.result.Changed, e.Path)
		}
		if state != right {
			f.lacking = append(f.lacking, one)
			f.total += e.Size
		}
		return err
	})
	if err == nil {
		err = f.extra()
	}
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return f, nil
}

func (f *fetching) close() {
	for _, root := range append(f.likes, f.root) {
		_ = root.Close() // what was written through it is closed
	}
}

func (f *fetching) wants(name string) bool {
	if len(f.Only) == 0 {
		return true
	}
	for _, p := range f.Only {
		if purl.Glob(strings.TrimPrefix(p, "/"), strings.TrimSuffix(name, "/")) {
			return true
		}
	}
	return false
}

// state is how an entry is in the folder.
type state int

const (
	right state = iota
	changed
	missing
)

// state tells whether an entry is in the folder as it should be. A file of the right size and time is, unless it is
// to be looked at thoroughly.
func (f *fetching) state(e fileset.Entry, thorough bool) (state, error) {
	info, err := f.root.Lstat(filepath.FromSlash(strings.TrimSuffix(e.Path, "/")))
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR):
		return missing, nil
	case err != nil:
		return missing, err
	}
	switch e.Kind {
	case fileset.Folder:
		if !info.IsDir() {
			return changed, nil
		}
		return right, nil
	case fileset.Link:
		if target, err := f.root.Readlink(filepath.FromSlash(e.Path)); err != nil || filepath.ToSlash(target) != e.Target {
			return changed, nil
		}
		return right, nil
	}
	if !info.Mode().IsRegular() || info.Size() != e.Size {
		return changed, nil
	}
	if !thorough && info.ModTime().Equal(e.Modified) {
		return right, nil
	}
	file, err := f.root.Open(filepath.FromSlash(e.Path))
	if err != nil {
		return changed, err
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return changed, err
	}
	if fileset.Digest(sum.Sum(nil)) != e.Digest {
		return changed, nil
	}
	if thorough {
		return right, nil
	}
	return right, f.root.Chtimes(filepath.FromSlash(e.Path), time.Time{}, e.Modified)
}

// part is how what is not whole yet begins.
const part = ".crelvo-part-"

// extra finds what the version does not have.
func (f *fetching) extra() error {
	return fs.WalkDir(f.root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		if d.IsDir() || f.entries[name] || !f.wants(name) {
			return nil
		}
		if strings.HasPrefix(path.Base(name), part) {
			f.parts = append(f.parts, name) // of one that was cut off
			return nil
		}
		f.result.Extra = append(f.result.Extra, name)
		return nil
	})
}

// CompareSet reads a folder, and tells how it differs from a version.
func (c *Client) CompareSet(ctx context.Context, w FetchSet) (FetchedSet, error) {
	f, err := c.plan(ctx, w, true)
	if err != nil {
		return FetchedSet{}, err
	}
	return f.result, f.root.Close()
}

// FetchSet makes a folder a version: of what it lacks, those chunks come over the network that neither the folder nor
// others like it have. Each file takes its place when it is whole and right. What the version does not have stays,
// unless it is to be deleted; confirm is asked before, and may be nil.
func (c *Client) FetchSet(
	ctx context.Context, w FetchSet, confirm func(delete []string) error,
) (done FetchedSet, err error) {
	if err := os.MkdirAll(w.Into, 0o755); err != nil {
		return done, err
	}
	err = again(ctx, w.Say, func() error {
		f, err := c.plan(ctx, w, false)
		if err != nil {
			return err
		}
		defer f.close()
		if w.Delete && len(f.result.Extra) > 0 && confirm != nil {
			if err := confirm(f.result.Extra); err != nil {
				return err
			}
		}
		moved := done.Fetched
		err = f.fetch(ctx)
		done = f.result
		done.Fetched = moved + f.moved.Load()
		return err
	})
	return done, err
}

func (f *fetching) fetch(ctx context.Context) error {
	here, err := f.chunksHere(ctx)
	if err != nil {
		return err
	}
	for _, w := range f.lacking {
		if err := f.makeWay(w.Entry); err != nil {
			return err
		}
	}
	if err := (&placing{f: f, here: here, targets: map[fileset.Digest][]target{}}).place(ctx); err != nil {
		return err
	}
	for _, w := range f.lacking {
		if w.Kind == fileset.Link {
			if err := f.link(w.Entry); err != nil {
				return err
			}
		}
	}
	for _, name := range f.parts {
		if err := f.root.Remove(filepath.FromSlash(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if f.Delete {
		for _, name := range f.result.Extra {
			if err := f.root.Remove(filepath.FromSlash(name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// makeWay makes the folder that an entry is in, and takes away what is there instead of it.
func (f *fetching) makeWay(e fileset.Entry) error {
	name := filepath.FromSlash(strings.TrimSuffix(e.Path, "/"))
	folder := filepath.Dir(name)
	if e.Kind == fileset.Folder {
		folder = name
	}
	// A file or a link where a folder belongs is in the way.
	for i := range len(folder) + 1 {
		if i < len(folder) && folder[i] != filepath.Separator {
			continue
		}
		if info, err := f.root.Lstat(folder[:i]); i > 0 && err == nil && !info.IsDir() {
			if err := f.root.Remove(folder[:i]); err != nil {
				return err
			}
		}
	}
	if err := f.root.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if e.Kind == fileset.Folder {
		return nil
	}
	if info, err := f.root.Lstat(name); err == nil && info.IsDir() {
		if err := f.root.Remove(name); err != nil {
			return fmt.Errorf("%s is a folder here and a file there: %w", e.Path, err)
		}
	}
	return nil
}

func (f *fetching) link(e fileset.Entry) error {
	name := filepath.FromSlash(e.Path)
	if err := f.root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return f.root.Symlink(filepath.FromSlash(e.Target), name)
}

// hereChunk is where a chunk is on this machine.
type hereChunk struct {
	folder *os.Root
	name   string
	offset int64
}

// chunksHere finds chunks of what is lacking in files that are here: those in the folder that are not as they should
// be, or that the version does not have, and those of folders that are like it.
func (f *fetching) chunksHere(ctx context.Context) (map[fileset.Digest]hereChunk, error) {
	here := map[fileset.Digest]hereChunk{}
	if f.total == 0 {
		return here, nil
	}
	wantedChunks := map[fileset.Digest]bool{}
	for _, w := range f.lacking {
		for _, c := range w.Made() {
			wantedChunks[c.Digest] = true
		}
	}
	cutter, err := fileset.NewCutter()
	if err != nil {
		return nil, err
	}
	read := func(root *os.Root, name string) error {
		file, err := root.Open(filepath.FromSlash(name))
		if err != nil {
			return err
		}
		defer file.Close()
		var at int64
		return cutter.Cut(&watched{ctx, file}, func(c fileset.Chunk, _ []byte) error {
			if wantedChunks[c.Digest] {
				if _, known := here[c.Digest]; !known {
					here[c.Digest] = hereChunk{root, name, at}
				}
			}
			at += int64(c.Length)
			return nil
		})
	}
	for _, name := range append(append([]string{}, f.result.Changed...), f.result.Extra...) {
		if info, err := f.root.Lstat(filepath.FromSlash(strings.TrimSuffix(name, "/"))); err == nil &&
			info.Mode().IsRegular() {
			if err := read(f.root, name); err != nil {
				return nil, err
			}
		}
	}
	for _, folder := range f.Like {
		if err := f.alike(folder, here, read); err != nil {
			return nil, err
		}
	}
	return here, nil
}

// alike finds chunks in another folder. A file that is there at the same path with the same size and time is taken to
// be the same, which is seen when it is copied.
func (f *fetching) alike(folder string, here map[fileset.Digest]hereChunk, read func(root *os.Root,
	name string) error) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	f.likes = append(f.likes, root)
	by := make(map[string]fileset.Entry, len(f.lacking))
	for _, w := range f.lacking {
		by[w.Path] = w.Entry
	}
	return fs.WalkDir(root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		e, known := by[name]
		if !known || info.Size() != e.Size || !info.ModTime().Equal(e.Modified) {
			return read(root, name)
		}
		var at int64
		for _, c := range e.Made() {
			if _, known := here[c.Digest]; !known {
				here[c.Digest] = hereChunk{root, name, at}
			}
			at += int64(c.Length)
		}
		return nil
	})
}
