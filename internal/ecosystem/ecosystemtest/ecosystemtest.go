// Package ecosystemtest is the conformance test that every ecosystem passes,
// as testing/fstest is for io/fs.
package ecosystemtest

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"maps"
	"net/http"
	"slices"
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
	// Tagged: versions are named by their content, and have no maturity by their names.
	Tagged bool
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
		if s.Tagged == purl.IsSnapshot(e.Name(), s.Snapshot) || purl.IsSnapshot(e.Name(), s.Release) {
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
		if placed, err := e.Place(t.Context(), hand(s.Foreign), purl.PURL{}); !errors.Is(err, ecosystem.ErrNotMine) {
			t.Errorf("%+v, %v; want ErrNotMine", placed, err)
		}
		if _, err := e.Place(t.Context(), hand(s.Foreign),
			purl.PURL{Ecosystem: "abacus", Name: "x", Version: "1"}); !errors.Is(err, ecosystem.ErrNotMine) {
			t.Errorf("a purl of another ecosystem: %v; want ErrNotMine", err)
		}
	})
	t.Run("folders of nothing", func(t *testing.T) {
		if f, err := e.Folder(t.Context(), emptyDesk{}, catalog.Repository{Name: "releases"}, ""); err != nil ||
			len(f.Entries) != 0 {
			t.Errorf("the root of an empty repository: %+v, %v", f, err)
		}
		if _, err := e.Folder(t.Context(), emptyDesk{}, catalog.Repository{Name: "releases"},
			"no/such/folder/anywhere"); !errors.Is(err, ecosystem.ErrNoFolder) {
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
		if (r.Method == http.MethodPut || r.Method == http.MethodPost || r.Method == http.MethodDelete) &&
			r.Action == access.Read && !r.Asks {
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
	placed, err := e.Place(t.Context(), files, parse(t, s.As))
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
		known, err := e.Inspect(t.Context(), p.Place, content)
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
	placed, err := e.Place(t.Context(), files, parse(t, s.As))
	for i := 0; err == nil && i < len(placed); i++ {
		if placed[i].File >= 0 {
			_, err = e.Inspect(t.Context(), placed[i].Place, files[placed[i].File])
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
	const body = access.TokenPrefix + "aaaabbbbccccddddeeeeffffgggghhhh"
	secret := body + access.CheckDigits(body)
	for _, c := range e.Clients() {
		for _, address := range []string{"https://packages.skerry.example:8443/at/platform/",
			"http://packages.skerry.example/at/platform/"} {
			p := ecosystem.Pointing{Address: address + e.Name() + "/", ID: "platform", User: "deckhand", Secret: secret,
				Everything: true,
				Releases:   true, Snapshots: true, PublishReleases: c.Publishes, PublishSnapshots: c.Publishes}
			if len(c.Parts(p)) == 0 {
				pointByHand(t, c, p)
				continue
			}
			pointClient(t, c, p)
			p.Everything = false
			pointClient(t, c, p)
		}
	}
}

// inSeveral tells whether several of a client's files have its name of the repository.
func inSeveral(c ecosystem.PackageClient, p ecosystem.Pointing, files map[string]string) bool {
	has := map[string]bool{}
	for _, piece := range c.Parts(p) {
		if strings.Contains(files[piece.File], p.ID) {
			has[piece.File] = true
		}
	}
	return len(has) > 1
}

// pointClient points a client, reads back what that gives, and makes the mistakes
// that people make.
func pointClient(t *testing.T, c ecosystem.PackageClient, p ecosystem.Pointing) {
	t.Helper()
	files := map[string]string{}
	// Some clients write name and secret as Basic does.
	encoded := base64.StdEncoding.EncodeToString([]byte(p.User + ":" + p.Secret))
	write := func(p ecosystem.Pointing) {
		t.Helper()
		for _, piece := range c.Parts(p) {
			text, err := piece.Edit(files[piece.File])
			if err != nil {
				t.Fatalf("%s: %s: %v", c.Name, piece.File, err)
			}
			secret := strings.Contains(text, p.Secret) || strings.Contains(text, encoded)
			if piece.Secret != secret || piece.Secret && !piece.Personal() {
				t.Errorf("%s: %s is a secret: %v, personal: %v, and says\n%s", c.Name, piece.File, piece.Secret, piece.Personal(),
					text)
			}
			if again, err := piece.Edit(text); err != nil || again != text {
				t.Errorf("%s: %s, a second time: %v\n%s\ninstead of\n%s", c.Name, piece.File, err, again, text)
			}
			if piece.Title == "" || piece.Language == "" || piece.Text() == "" {
				t.Errorf("%s: a piece is not whole: %+v", c.Name, piece)
			}
			files[piece.File] = text
		}
	}
	host := "://" + strings.Split(p.Address, "/")[2] + "/"
	read := func() []ecosystem.Use {
		return c.Configured(ecosystem.Files{Read: func(file string) string {
			return files[file]
		}, Env: func(string) string { return "" },
			Ours: func(address string) bool { return strings.Contains(address, host) }, At: p.Address})
	}
	write(p)
	uses := read()
	publishes := false
	for _, u := range uses {
		if u.Address != p.Address || u.Secret != p.Secret || u.Wrong != "" || u.In == "" || u.SecretIn == "" ||
			u.User != "" && u.User != p.User {
			t.Errorf("%s: %+v; want %s and its secret", c.Name, u, p.Address)
		}
		publishes = publishes || u.Publish
	}
	if len(uses) == 0 || c.Publishes && !publishes {
		t.Errorf("%s finds %+v in %v", c.Name, uses, files)
	}
	// A repository more: the first one stays as it is.
	whole, pasted := maps.Clone(files), false
	for file, text := range files {
		if cut := strings.Index(text, p.Secret); cut >= 0 {
			files[file], pasted = text[:cut+20]+"\n"+text[cut+20:], true
		}
	}
	if uses := read(); pasted && (len(uses) == 0 || !strings.Contains(uses[0].Wrong, "line break") ||
		!strings.Contains(uses[0].Wrong, uses[0].SecretIn)) {
		t.Errorf("%s: of a token with a line break: %+v", c.Name, uses)
	}
	files = maps.Clone(whole)
	for _, piece := range c.Parts(p) {
		if piece.Secret && inSeveral(c, p, files) && strings.Contains(files[piece.File], "platform") {
			files[piece.File] = strings.ReplaceAll(files[piece.File], "platform", "platfrom")
			if uses := read(); !slices.ContainsFunc(uses, func(u ecosystem.Use) bool {
				return strings.Contains(u.Wrong, "platfrom") && strings.Contains(u.Wrong, "in both")
			}) {
				t.Errorf("%s: of an id that differs: %+v\n%s", c.Name, uses, files[piece.File])
			}
		}
	}
	files = map[string]string{}
	if uses := read(); len(uses) != 0 {
		t.Errorf("%s finds %+v in no files", c.Name, uses)
	}
	if commands := c.Commands(p); len(commands) == 0 {
		t.Errorf("%s has no commands", c.Name)
	}
	if c.Variables == nil && c.Reference == "" && c.Name != "sbt" {
		t.Errorf("%s has no way to be used in CI", c.Name)
	}
}

// pointByHand points a client that keeps nothing in files: it is told each time.
func pointByHand(t *testing.T, c ecosystem.PackageClient, p ecosystem.Pointing) {
	t.Helper()
	given := ""
	uses := func() []ecosystem.Use {
		return c.Configured(ecosystem.Files{At: p.Address, Read: func(string) string { return "" },
			Env: func(name string) string {
				if name != ecosystem.TokenVariable {
					return ""
				}
				return given
			}})
	}
	if found := uses(); len(found) != 0 {
		t.Errorf("%s without a token: %+v", c.Name, found)
	}
	given = p.Secret
	if found := uses(); len(found) != 1 || found[0].Address != p.Address || found[0].Secret != p.Secret ||
		!strings.Contains(found[0].SecretIn, ecosystem.TokenVariable) || found[0].Wrong != "" {
		t.Errorf("%s with a token: %+v", c.Name, found)
	}
	given = p.Secret[:20] + "\n" + p.Secret[20:]
	if found := uses(); len(found) != 1 || !strings.Contains(found[0].Wrong, "line break") {
		t.Errorf("%s with a broken token: %+v", c.Name, found)
	}
	if said := strings.Join(c.Commands(p), "\n"); !strings.Contains(said, strings.TrimSuffix(p.Address, "/")) ||
		strings.Contains(said, p.Secret) || len(c.Variables(p)) == 0 {
		t.Errorf("%s is told %q and %v", c.Name, said, c.Variables(p))
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
		if l, err := e.ReadListing(t.Context(), purl.PURL{Ecosystem: e.Name(), Name: "x"},
			ecosystem.Reading{Reader: strings.NewReader(nonsense),
				Address: "https://packages.openshore.example/x"}); err == nil {
			t.Errorf("%q was read as the list %+v", nonsense, l)
		}
	}
	if place, err := e.PlaceOf(catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: e.Name(), Name: "x",
		Namespace: "y"}, Version: "1", Name: "../../etc/passwd"}); err == nil {
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

func (emptyDesk) WhyNot(context.Context, catalog.PackageKey, string) *fault.Error { return nil }

func (emptyDesk) Below(
	context.Context, catalog.Repository, string, string, string,
) ([]ecosystem.Branch, []ecosystem.PackageLine, error) {
	return nil, nil, nil
}

// File implements ecosystem.Reader.
func (emptyDesk) File(context.Context, catalog.FileQuestion) (ecosystem.Found, error) {
	return ecosystem.Found{}, ecosystem.ErrNoFile
}
