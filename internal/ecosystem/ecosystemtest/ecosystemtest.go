// Package ecosystemtest is the conformance test that every ecosystem passes,
// as testing/fstest is for io/fs.
package ecosystemtest

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Sample is a publication that the ecosystem must understand.
type Sample struct {
	Name  string
	Files map[string][]byte // handed over by hand, by name
	As    string            // a purl, where the files do not say
	PURL  string            // what they are
}

// Samples are what the test needs to know of an ecosystem.
type Samples struct {
	Good []Sample
	// Bad are files that are handed over and must be refused with a fault.
	Bad []Sample
	// Foreign is a file of another ecosystem.
	Foreign map[string][]byte
	// Snapshot and Release are versions of either maturity.
	Snapshot, Release string
}

// Bytes are a file's bytes in memory.
func Bytes(content []byte) ecosystem.SizedReaderAt { return bytes.NewReader(content) }

func hand(files map[string][]byte) (all []ecosystem.Handed) {
	for name, content := range files {
		all = append(all, ecosystem.Handed{Name: name, SizedReaderAt: Bytes(content)})
	}
	return all
}

// Run tests an ecosystem.
func Run(t *testing.T, e ecosystem.Ecosystem, s Samples) {
	t.Run("names", func(t *testing.T) {
		if e.Name() == "" || e.Name() != strings.ToLower(e.Name()) || e.Title() == "" {
			t.Errorf("name %q, title %q", e.Name(), e.Title())
		}
	})
	t.Run("routes", func(t *testing.T) { routes(t, e) })
	t.Run("maturity", func(t *testing.T) {
		if !purl.IsSnapshot(e.Name(), s.Snapshot) || purl.IsSnapshot(e.Name(), s.Release) {
			t.Errorf("%s must be a snapshot and %s a release", s.Snapshot, s.Release)
		}
	})
	t.Run("upload names", func(t *testing.T) {
		at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
		if a, b := e.UploadName(s.Snapshot, at, 1), e.UploadName(s.Snapshot, at, 2); a == b || a == s.Snapshot {
			t.Errorf("two uploads are named %q and %q", a, b)
		}
	})
	for _, sample := range s.Good {
		t.Run(sample.Name, func(t *testing.T) { good(t, e, sample) })
	}
	for _, sample := range s.Bad {
		t.Run(sample.Name, func(t *testing.T) { bad(t, e, sample) })
	}
	t.Run("foreign files", func(t *testing.T) {
		if placed, err := e.Place(hand(s.Foreign), purl.PURL{}); !errors.Is(err, ecosystem.ErrNotMine) {
			t.Errorf("%+v, %v; want ErrNotMine", placed, err)
		}
		if _, err := e.Place(hand(s.Foreign), purl.PURL{Ecosystem: "abacus", Name: "x", Version: "1"}); !errors.Is(err, ecosystem.ErrNotMine) {
			t.Errorf("a purl of another ecosystem: %v; want ErrNotMine", err)
		}
	})
	t.Run("folders of nothing", func(t *testing.T) {
		if f, err := e.Folder(t.Context(), emptyDesk{}, catalog.Repository{Name: "releases"}, ""); err != nil || len(f.Entries) != 0 {
			t.Errorf("the root of an empty repository: %+v, %v", f, err)
		}
		if _, err := e.Folder(t.Context(), emptyDesk{}, catalog.Repository{Name: "releases"}, "no/such/folder/anywhere"); !errors.Is(err, ecosystem.ErrNoFolder) {
			t.Errorf("a folder that is not there: %v; want ErrNoFolder", err)
		}
	})
	t.Run("pointing clients", func(t *testing.T) { pointing(t, e) })
	if m, ok := e.(ecosystem.Mirrored); ok {
		t.Run("upstreams", func(t *testing.T) { mirrored(t, m, s) })
	}
}

func routes(t *testing.T, e ecosystem.Ecosystem) {
	methods := map[string]map[string]bool{}
	for _, r := range e.Routes() {
		if !strings.HasPrefix(r.Path, "/") || r.Serve == nil {
			t.Errorf("route %s %q is not whole", r.Method, r.Path)
		}
		switch r.Action {
		case access.Read, access.Publish, access.Remove, access.Manage, access.SignedIn, access.Anyone:
		default:
			t.Errorf("route %s %s has no decision: action %q", r.Method, r.Path, r.Action)
		}
		if (r.Method == http.MethodPut || r.Method == http.MethodPost || r.Method == http.MethodDelete) && r.Action == access.Read && !r.Asks {
			t.Errorf("route %s %s changes something with the right to read", r.Method, r.Path)
		}
		if methods[r.Path] == nil {
			methods[r.Path] = map[string]bool{}
		}
		methods[r.Path][r.Method] = true
	}
	for path, has := range methods {
		if has[http.MethodGet] && !has[http.MethodHead] {
			t.Errorf("%s answers GET but not HEAD", path)
		}
	}
}

func parse(t *testing.T, s string) (p purl.PURL) {
	t.Helper()
	if s != "" {
		var err error
		if p, err = purl.Parse(s); err != nil {
			t.Fatal(err)
		}
	}
	return p
}

func good(t *testing.T, e ecosystem.Ecosystem, s Sample) {
	files := hand(s.Files)
	placed, err := e.Place(files, parse(t, s.As))
	if err != nil {
		t.Fatalf("Place: %v", err)
	}
	if len(placed) < len(files) {
		t.Errorf("%d files were handed over, %d have a place", len(files), len(placed))
	}
	var details catalog.Details
	var stored []catalog.File
	names := map[string]bool{}
	for _, p := range placed {
		if got := p.Place.PURL(e.Name()).String(); got != s.PURL {
			t.Errorf("%s is placed at %s; want %s", p.Place.FileName, got, s.PURL)
		}
		if p.Place.Snapshot != purl.IsSnapshot(e.Name(), p.Place.Version) {
			t.Errorf("%s: snapshot %v disagrees with its version", p.Place.FileName, p.Place.Snapshot)
		}
		if p.Place.Snapshot {
			address := func(upload string) string {
				return e.Address(parse(t, s.PURL), upload, catalog.File{Name: p.Place.NameOf(upload)})
			}
			at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
			if a, b := address(e.UploadName(p.Place.Version, at, 1)), address(e.UploadName(p.Place.Version, at, 2)); a == b {
				t.Errorf("two uploads of %s have the same address %s", p.Place.FileName, a)
			}
		}
		if names[p.Place.FileName] {
			t.Errorf("two files are named %s", p.Place.FileName)
		}
		names[p.Place.FileName] = true
		content := Bytes(p.Content)
		if p.File >= 0 {
			content = files[p.File]
		}
		known, err := e.Inspect(p.Place, content)
		if err != nil {
			t.Errorf("Inspect(%s): %v", p.Place.FileName, err)
		}
		details = details.Merge(known)
		f := catalog.File{Name: p.Place.FileName, Classifier: p.Place.Classifier, Extension: p.Place.Extension}
		stored = append(stored, f)
		if a := e.Address(parse(t, s.PURL), "", f); strings.HasPrefix(a, "/") || !strings.HasSuffix(a, f.Name) {
			t.Errorf("the address of %s is %q", f.Name, a)
		}
	}
	if !e.Whole(details, stored) {
		t.Errorf("the version is not whole with %v", stored)
	}
	if e.Whole(details, nil) {
		t.Error("a version without files is whole")
	}
}

func bad(t *testing.T, e ecosystem.Ecosystem, s Sample) {
	files := hand(s.Files)
	placed, err := e.Place(files, parse(t, s.As))
	for i := 0; err == nil && i < len(placed); i++ {
		if placed[i].File >= 0 {
			_, err = e.Inspect(placed[i].Place, files[placed[i].File])
		}
	}
	if !fault.Is(err, fault.Invalid) {
		t.Fatalf("%+v, %v; want a fault of the kind Invalid", placed, err)
	}
	if f := fault.Of(err); f.Code == "" || f.Message == "" {
		t.Errorf("the fault says nothing: %+v", f)
	}
}

func pointing(t *testing.T, e ecosystem.Ecosystem) {
	const address = "https://packages.skerry.example/at/releases/"
	p := ecosystem.Pointing{Address: address + e.Name() + "/", Repository: catalog.Repository{Name: "releases", Holds: catalog.Both}, User: "deckhand"}
	told := false
	for _, s := range e.Point(p) {
		if s.Title == "" || s.File == "" || s.Text == "" {
			t.Errorf("a snippet is not whole: %+v", s)
		}
		told = told || strings.Contains(s.Text, p.Address)
	}
	if !told {
		t.Error("no snippet says the address")
	}
}

// mirrored tests what is known of servers elsewhere.
func mirrored(t *testing.T, e ecosystem.Mirrored, s Samples) {
	for _, sample := range s.Good {
		p := parse(t, sample.PURL)
		if purl.IsSnapshot(e.Name(), p.Version) {
			continue // which of its uploads is meant is not said
		}
		name := p
		name.Version = ""
		list := e.ListingPath(name)
		if strings.HasPrefix(list, "/") {
			t.Errorf("the list of %s is at %q", name, list)
		}
		if byPath, ok := e.(ecosystem.ByPath); ok {
			found(t, byPath, p, list)
		} else if list == "" {
			t.Errorf("nothing tells where the files of %s are", name)
		}
	}
	for _, nonsense := range []string{"", "<!doctype html><title>Welcome</title>", "{", "\x00\x01"} {
		if l, err := e.ReadListing(purl.PURL{Ecosystem: e.Name(), Name: "x"}, ecosystem.Reading{Reader: strings.NewReader(nonsense), Address: "https://packages.openshore.example/x"}); err == nil {
			t.Errorf("%q was read as the list %+v", nonsense, l)
		}
	}
	if place, err := e.PlaceOf(catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: e.Name(), Name: "x", Namespace: "y"}, Version: "1", Name: "../../etc/passwd"}); err == nil {
		t.Errorf("a way out of the repository has the place %+v", place)
	}
}

// found tests where files of an ecosystem are looked for.
func found(t *testing.T, e ecosystem.ByPath, p purl.PURL, list string) {
	place, err := e.PlaceOf(e.Marker(p, ""))
	if err != nil {
		t.Fatalf("%s: the marker has no place: %v", p, err)
	}
	if got := place.PURL(e.Name()).String(); got != p.String() {
		t.Errorf("the marker of %s belongs to %s", p, got)
	}
	path := e.FilePath(place)
	if path == "" || path == list || strings.HasPrefix(path, "/") || !strings.Contains(path, p.Name) {
		t.Errorf("the marker of %s is at %q", p, path)
	}
	for _, sum := range e.Checksums(path) {
		if sum.Path == path || (catalog.Digests{}).Hex(sum.Algorithm) == "" {
			t.Errorf("a checksum of %s is %+v", path, sum)
		}
	}
}

// emptyDesk is a service that has nothing.
type emptyDesk struct{ ecosystem.Desk }

func (emptyDesk) Package(context.Context, catalog.PackageKey) (*catalog.Package, error) {
	return nil, ecosystem.ErrNoPackage
}

func (emptyDesk) Below(context.Context, catalog.Repository, string, string, string) ([]ecosystem.Branch, []ecosystem.PackageLine, error) {
	return nil, nil, nil
}
