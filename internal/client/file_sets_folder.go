package client

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/text/unicode/norm"

	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
)

// IgnoreFile is the file in a folder that says what of it does not belong into its file set, a pattern in each line.
const IgnoreFile = ".crelvo-ignore"

// SetFolder is what on this machine is to become a file set: what is in a folder, if Paths is one alone, else files and
// folders by their names.
type SetFolder struct {
	Paths []string
	// Exclude are patterns of what is left out, besides those of the ignore file: * stands for any characters; one
	// without a slash is about the names of files and folders wherever they are.
	Exclude []string
	// AnyNames: names that some systems cannot hold are taken, too.
	AnyNames bool
}

// localEntry is an entry with where it is on this machine.
type localEntry struct {
	fileset.Entry
	at string
}

// excluded tells whether a path, that of a folder with a slash at its end, is left out.
func excluded(patterns []string, name string) bool {
	plain := strings.TrimSuffix(name, "/")
	last := plain[strings.LastIndexByte(plain, '/')+1:]
	for _, p := range patterns {
		of := last
		if strings.Contains(strings.TrimSuffix(p, "/"), "/") {
			of = plain
			p = strings.TrimPrefix(p, "/")
		}
		if trimmed, folder := strings.CutSuffix(p, "/"); purl.Glob(trimmed, of) && (!folder || strings.HasSuffix(name, "/")) {
			return true
		}
	}
	return false
}

// patterns are what is left out of a folder.
func (f SetFolder) patterns(folder string) ([]string, error) {
	all := append([]string{IgnoreFile}, f.Exclude...)
	raw, err := os.ReadFile(filepath.Join(folder, IgnoreFile))
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	for line := range strings.Lines(string(raw)) {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if strings.HasPrefix(line, "!") {
			return nil, fmt.Errorf("%s: %q: a pattern cannot take another one back; say what is to be left out", IgnoreFile,
				line)
		}
		all = append(all, line)
	}
	return all, err
}

// gathering is what was found so far.
type gathering struct {
	SetFolder
	all    []localEntry
	bytes  int64
	known  map[string]bool
	folded map[string]string
	empty  map[string]localEntry // folders in which nothing was found yet
}

// entries lists what there is: files without their digests, links, and folders that are empty.
func (f SetFolder) entries() (all []localEntry, bytes int64, err error) {
	g := gathering{SetFolder: f, known: map[string]bool{}, folded: map[string]string{}, empty: map[string]localEntry{}}
	for _, from := range f.Paths {
		stat, err := os.Stat(from)
		if err != nil {
			return nil, 0, err
		}
		prefix := ""
		if !stat.IsDir() || len(f.Paths) > 1 {
			if from, err = filepath.Abs(from); err != nil {
				return nil, 0, err
			}
			prefix = filepath.Base(from)
		}
		if err := g.walk(from, prefix); err != nil {
			return nil, 0, err
		}
	}
	for _, e := range g.empty {
		g.all = append(g.all, e)
	}
	return g.all, g.bytes, nil
}

// walk gathers what is at a place on this machine, under a path in the set.
func (g *gathering) walk(from, prefix string) error {
	patterns, err := g.patterns(from)
	if err != nil && !errors.Is(err, syscall.ENOTDIR) {
		return err
	}
	return filepath.WalkDir(from, func(at string, d fs.DirEntry, err error) error {
		if err != nil || at == from && d.IsDir() {
			return err
		}
		below, err := filepath.Rel(from, at)
		if err != nil {
			return err
		}
		e := localEntry{at: at, Entry: fileset.Entry{Path: norm.NFC.String(filepath.ToSlash(filepath.Join(prefix, below)))}}
		if d.IsDir() {
			e.Path, e.Kind = e.Path+"/", fileset.Folder
		}
		if excluded(patterns, e.Path) {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if err := e.look(d); err != nil {
			return err
		}
		return g.add(e)
	})
}

// add adds an entry whose name is possible.
func (g *gathering) add(e localEntry) error {
	if g.known[e.Path] {
		return fmt.Errorf("%s is there twice, written in two ways that are the same", e.Path)
	}
	if other := g.folded[fileset.Folded(e.Path)]; other != "" && !g.AnyNames {
		return fmt.Errorf("%s and %s differ in upper and lower case alone, which are the same on some systems%s", other,
			e.Path, anyNames)
	}
	if why := fileset.Unportable(e.Path); why != "" && !g.AnyNames {
		return fmt.Errorf("some systems cannot hold %s: %s%s", e.Path, why, anyNames)
	}
	g.known[e.Path], g.folded[fileset.Folded(e.Path)] = true, e.Path
	delete(g.empty, e.Path[:1+strings.LastIndexByte(strings.TrimSuffix(e.Path, "/"), '/')])
	if e.Kind == fileset.Folder {
		g.empty[e.Path] = e
		return nil
	}
	g.all = append(g.all, e)
	g.bytes += e.Size
	return nil
}

const anyNames = ". Rename it, leave it out with --exclude, or take it as it is with --any-names"

// look reads what a file or folder is.
func (e *localEntry) look(d fs.DirEntry) error {
	info, err := d.Info()
	if err != nil {
		return err
	}
	e.Modified = info.ModTime().UTC()
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		e.Kind = fileset.Link
		target, err := os.Readlink(e.at)
		if err != nil {
			return err
		}
		e.Target = norm.NFC.String(filepath.ToSlash(target))
		if err := fileset.CheckTarget(e.Path, e.Target); err != nil {
			return fmt.Errorf("%w; put what it leads to in its place, or leave it out with --exclude", err)
		}
		return fileset.CheckPath(e.Path, false)
	case info.Mode().IsRegular():
		e.Size = info.Size()
	case !info.IsDir():
		return fmt.Errorf("%s is neither a file nor a folder nor a link; leave it out with --exclude", e.Path)
	}
	e.Mode = uint16(info.Mode().Perm())
	return fileset.CheckPath(e.Path, info.IsDir())
}
