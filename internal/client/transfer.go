package client

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/api"
	"crelvo/internal/core/purl"
)

// Transfer takes the packages of a folder on this machine to a repository: a heap of package files, a
// Maven tree, a cache of a package client.
type Transfer struct {
	api.Transfer
	root   string
	locals [][]Local // of each version
	client *Client
}

// TransferWish says which packages of a folder are wanted.
type TransferWish struct {
	Folder, To string
	Only       []purl.Pattern // none: all
	Since      time.Time      // files that changed since; zero: all
}

const (
	// mostTogether is how many files are shown to the server at once.
	mostTogether = 100
	// looksAtOnce is how many folders are looked at at once, and sendsAtOnce how many versions sent.
	looksAtOnce, sendsAtOnce = 8, 4
)

// PlanTransfer looks at the packages of a folder and tells what would become of each. looked is told of
// files that were looked at, and may be nil.
func (c *Client) PlanTransfer(ctx context.Context, w TransferWish, looked func(files int)) (*Transfer, error) {
	t := &Transfer{Transfer: api.Transfer{From: w.Folder, To: w.To, Versions: []api.TransferVersion{}}, root: w.Folder,
		client: c}
	heaps, err := t.heaps(w)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	hands, ctx := errgroup.WithContext(ctx)
	hands.SetLimit(looksAtOnce)
	for _, heap := range heaps {
		hands.Go(func() error {
			versions, locals, err := t.look(ctx, w, heap)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			for i, v := range versions {
				t.add(v, locals[i])
			}
			if looked != nil {
				looked(len(heap))
			}
			return nil
		})
	}
	if err := hands.Wait(); err != nil {
		return nil, err
	}
	t.sort()
	t.merge()
	return t, nil
}

func (t *Transfer) add(v api.TransferVersion, locals []Local) {
	t.Versions, t.locals = append(t.Versions, v), append(t.locals, locals)
}

// sort orders the versions by their names, those that nobody knows last.
func (t *Transfer) sort() {
	type both struct {
		version api.TransferVersion
		locals  []Local
	}
	all := make([]both, len(t.Versions))
	for i := range all {
		all[i] = both{t.Versions[i], t.locals[i]}
	}
	slices.SortFunc(all, func(a, b both) int {
		if (a.version.PURL == "") != (b.version.PURL == "") {
			if a.version.PURL == "" {
				return 1
			}
			return -1
		}
		return strings.Compare(a.version.PURL+" "+a.version.Files[0], b.version.PURL+" "+b.version.Files[0])
	})
	for i, one := range all {
		t.Versions[i], t.locals[i] = one.version, one.locals
	}
}

// merge puts together what several folders, or heaps of a large one, have of one version. Where two have
// other bytes under one name, none of them is taken for the right one.
func (t *Transfer) merge() {
	versions, locals := t.Versions, t.locals
	t.Versions, t.locals = versions[:0:0], nil
	for i, v := range versions {
		last := len(t.Versions) - 1
		if last < 0 || v.PURL == "" || t.Versions[last].PURL != v.PURL || t.Versions[last].Repository != v.Repository {
			t.add(v, locals[i])
			continue
		}
		into := &t.Versions[last]
		for _, l := range locals[i] {
			same := slices.IndexFunc(t.locals[last], func(known Local) bool { return known.Name() == l.Name() })
			if same < 0 {
				t.locals[last] = append(t.locals[last], l)
				into.Files, into.Bytes = append(into.Files, t.shown(l.Path)), into.Bytes+l.Size
				if !l.Here {
					into.Travels += l.Size - l.Arrived
				}
			} else if known := t.locals[last][same]; known.Size != l.Size || known.SHA256 != l.SHA256 {
				into.State, into.Travels = api.TransferRefused, 0
				into.Why = fmt.Sprintf("%s and %s are not the same", t.shown(known.Path), t.shown(l.Path))
				into.Hint = "Take the right one alone: --from its folder."
			}
		}
		switch {
		case into.State == api.TransferRefused:
		case v.State == api.TransferRefused:
			into.State, into.Why, into.Hint, into.Travels = v.State, v.Why, v.Hint, 0
		case v.State == api.TransferNew:
			into.State = v.State
		}
	}
}

// heaps lists the files of the folder that may belong to packages, those together that may belong
// together.
func (t *Transfer) heaps(w TransferWish) (heaps [][]string, err error) {
	in := map[string][]string{}
	var folders []string
	err = filepath.WalkDir(w.Folder, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.IsDir() {
			if _, err := os.Stat(filepath.Join(path, layoutFile)); err == nil && w.Only != nil {
				return filepath.SkipDir
			} else if err == nil {
				t.add(api.TransferVersion{Files: []string{t.shown(path)}, State: api.TransferRefused,
					Why:  "it has container images",
					Hint: "crelvo publish pushes them under the names that they have: crelvo publish " + path + " --to " + w.To}, nil)
				return filepath.SkipDir
			}
		}
		if err != nil || entry.IsDir() {
			return err
		}
		stat, err := os.Stat(path) // links to files are followed, those to folders are not
		if err != nil || !stat.Mode().IsRegular() {
			t.PassedOver++
			return nil // it is gone, or no file
		}
		if isBeside(entry.Name()) || stat.Size() == 0 || stat.ModTime().Before(w.Since) {
			t.PassedOver++
			return nil
		}
		if called, err := calledBy(path); err != nil || called == "" && filepath.Ext(path) == "" {
			t.PassedOver++ // a cache has other things than packages
			return nil
		}
		dir := filepath.Dir(path)
		if in[dir] == nil {
			folders = append(folders, dir)
		}
		in[dir] = append(in[dir], path)
		return nil
	})
	for _, dir := range folders {
		heaps = append(heaps, together(in[dir])...)
	}
	return heaps, err
}

// isBeside tells of files by their names that stand beside packages and are made anew where these go.
func isBeside(name string) bool {
	return slices.Contains([]string{".md5", ".sha1", ".sha256", ".sha512", ".lastUpdated", ".lock", ".repositories",
		".properties", ".log", ".tmp"}, filepath.Ext(name)) || strings.HasPrefix(name, "maven-metadata") ||
		strings.HasPrefix(name, ".")
}

// together cuts the files of a folder into heaps of which none has too many, where it can be between
// files that are not named alike up to a digit, as those of one version are.
func together(paths []string) (heaps [][]string) {
	slices.Sort(paths)
	for len(paths) > mostTogether {
		cut := mostTogether
		for at := mostTogether; at > mostTogether/2; at-- {
			if !alike(filepath.Base(paths[at-1]), filepath.Base(paths[at])) {
				cut = at
				break
			}
		}
		heaps, paths = append(heaps, paths[:cut]), paths[cut:]
	}
	return append(heaps, paths)
}

func alike(a, b string) bool {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return strings.ContainsFunc(a[:n], unicode.IsDigit)
}

// look asks what some files would become.
func (t *Transfer) look(
	ctx context.Context, w TransferWish, paths []string,
) (versions []api.TransferVersion, of [][]Local, err error) {
	files, err := Locals(ctx, paths)
	if err != nil {
		return nil, nil, err
	}
	for i := range files {
		if files[i].called, err = calledBy(files[i].Path); err != nil {
			return nil, nil, err
		}
	}
	looked, err := t.client.lookAt(ctx, w.To, api.Look{Together: isMavenVersion(paths)}, files)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range looked.Publications {
		v := api.TransferVersion{PURL: p.PURL, Repository: p.Repository, State: api.TransferNew}
		var locals []Local
		for _, f := range p.Files {
			if f.File < 0 {
				continue // it is made
			}
			l := files[f.File]
			l.Here, l.Arrived = f.Here, f.Arrived
			v.Bytes += f.Size
			if !f.Here {
				v.Travels += f.Size - f.Arrived
			}
			v.Files, locals = append(v.Files, t.shown(l.Path)), append(locals, l)
		}
		if !wanted(w.Only, p.PURL) {
			continue
		}
		switch {
		case p.Refusal != nil && p.Refusal.Code != api.ToldLater:
			v.State, v.Why, v.Hint, v.Travels = api.TransferRefused, p.Refusal.Detail, p.Refusal.Hint, 0
		case p.There && p.Same:
			v.State, v.Travels = api.TransferThere, 0
		}
		versions, of = append(versions, v), append(of, locals)
	}
	return versions, of, nil
}

// isMavenVersion tells whether files are those of one version in the folder of a Maven tree, which is
// named after it and has its pom: together they are what that says, whatever a jar says by itself
// (https://maven.apache.org/repository/layout.html).
func isMavenVersion(paths []string) bool {
	dir := filepath.Dir(paths[0])
	stem := filepath.Base(filepath.Dir(dir)) + "-" + filepath.Base(dir)
	return slices.Contains(paths, filepath.Join(dir, stem+".pom")) && !slices.ContainsFunc(paths, func(path string) bool {
		return !strings.HasPrefix(filepath.Base(path), stem)
	})
}

func wanted(only []purl.Pattern, text string) bool {
	if only == nil {
		return true
	}
	p, err := purl.Parse(text)
	return err == nil && slices.ContainsFunc(only, func(o purl.Pattern) bool { return o.Match(p) })
}

func (t *Transfer) shown(path string) string {
	if below, err := filepath.Rel(t.root, path); err == nil {
		return filepath.ToSlash(below)
	}
	return path
}

// calledBy is how a file is called that has no extension: caches of package clients name archives by
// their content. "" is that it is called as it is.
func calledBy(path string) (string, error) {
	if filepath.Ext(path) != "" {
		return "", nil
	}
	head := make([]byte, 4)
	n, err := readFile(path, func(r io.Reader) (int64, error) {
		n, err := io.ReadFull(r, head)
		if errors.Is(err, io.ErrUnexpectedEOF) {
			err = nil
		}
		return int64(n), err
	})
	if err == nil && n >= 2 && head[0] == 0x1f && head[1] == 0x8b { // RFC 1952, 2.3.1
		base := filepath.Base(path)
		return base[:min(len(base), 200)] + ".tgz", nil
	}
	return "", err
}

// Run sends what is new, some versions at once; what one of them fails of stands in its place. came is
// told of each version that was sent or failed, and may be nil. It ends early only with ctx.
func (t *Transfer) Run(
	ctx context.Context, progress Followed, came func(v api.TransferVersion),
) error {
	var mu sync.Mutex
	var hands errgroup.Group
	hands.SetLimit(sendsAtOnce)
	for i := range t.Versions {
		if t.Versions[i].State != api.TransferNew {
			continue
		}
		hands.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			err := t.send(ctx, t.locals[i], progress)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			mu.Lock()
			defer mu.Unlock()
			v := &t.Versions[i]
			v.State = api.TransferCame
			if err != nil {
				v.State, v.Why = api.TransferFailed, err.Error()
				if p := (*api.Problem)(nil); errors.As(err, &p) {
					v.Why, v.Hint = p.Detail, p.Hint
				}
			}
			if came != nil {
				came(*v)
			}
			return nil
		})
	}
	return hands.Wait()
}

// send sends one version, and compares what arrived with what is here.
func (t *Transfer) send(
	ctx context.Context, files []Local, progress Followed,
) error {
	published, err := t.client.Send(ctx, t.To, "", files, progress, func(string, ...any) {})
	if err != nil {
		return err
	}
	sums := map[string]bool{}
	for _, f := range published.Files {
		sums[f.SHA256] = true
	}
	for i := range files {
		if files[i].SHA256 == "" {
			if err := files[i].digest(ctx); err != nil {
				return err
			}
		}
		if _, err := hex.DecodeString(files[i].SHA256); err != nil || !sums[files[i].SHA256] {
			return fmt.Errorf("the server has other bytes than %s; it may have changed meanwhile", t.shown(files[i].Path))
		}
	}
	return nil
}
