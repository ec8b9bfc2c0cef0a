package ecosystemtest

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/symbols"
	"crelvo/internal/ecosystem"
)

// Desk is one house repository in memory, as testing/fstest.MapFS is a file system: an
// ecosystem's routes, documents and publishing can be tried without the service. It knows
// no rights and no other repositories; uploads of a snapshot are kept apart as they are
// there. It is for one test, and not safe for use by several at once.
type Desk struct {
	t          testing.TB
	ecosystem  ecosystem.Ecosystem
	Repository catalog.Repository
	// Caller is who asks. Now is when, and goes on by a minute with each publication.
	Caller access.Caller
	Now    time.Time
	// Why is what WhyNot says of packages, by their name.
	Why map[string]*fault.Error
	// Refuses is what MayPublish and Publish say; nil lets everything in.
	Refuses error
	// Downloads counts them, by the name of the file.
	Downloads map[string]int
	// Known is what advisories say; nil is that there are none.
	Known []safety.Known
	// Symbols are what debuggers may ask for, and Contents what these and the sources beside them have, by their paths.
	Symbols  []symbols.At
	Contents map[string][]byte

	host     string
	packages map[catalog.PackageKey]*catalog.Package
	open     []received
	contents map[[32]byte][]byte
	parts    map[catalog.PackageKey]map[string]catalog.File
	begun    map[string][]byte
	next     int64
}

// received is a file of a version that is not complete.
type received struct {
	place   ecosystem.Place
	file    catalog.File
	details catalog.Details
}

// NewDesk makes a repository that has nothing, and takes both maturities.
func NewDesk(t testing.TB, e ecosystem.Ecosystem) *Desk {
	return &Desk{t: t, ecosystem: e, Repository: catalog.Repository{ID: 1, Name: "platform", Kind: catalog.House,
		Holds: catalog.Both},
		Caller: access.Caller{ID: 7, Name: "deckhand", Token: "laptop"}, Now: time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC),
		host: "http://packages.skerry.example", Why: map[string]*fault.Error{}, Downloads: map[string]int{},
		packages: map[catalog.PackageKey]*catalog.Package{}, contents: map[[32]byte][]byte{},
		parts: map[catalog.PackageKey]map[string]catalog.File{}, begun: map[string][]byte{}}
}

var _ interface {
	ecosystem.Desk
	ecosystem.Session
	ecosystem.PluginLister
	ecosystem.PartTaker
	ecosystem.LabelReader
	ecosystem.Lister
} = (*Desk)(nil)

// Address is that of the ecosystem's door, with a slash at the end.
func (d *Desk) Address() string {
	return d.host + "/at/" + d.Repository.At() + "/" + d.ecosystem.Name() + "/"
}

// Ask makes a request to a path below the door, as the server would pass it on.
func (d *Desk) Ask(method, path string, body []byte, headers ...string) *httptest.ResponseRecorder {
	d.t.Helper()
	e := echo.New()
	for _, route := range d.ecosystem.Routes() {
		e.Add(route.Method, "/at/:repository/"+d.ecosystem.Name()+route.Path, func(c *echo.Context) error {
			_, rest, _ := strings.Cut(c.Request().URL.Path, "/"+d.ecosystem.Name()+"/")
			call := &ecosystem.Call{Context: c, Caller: d.Caller, Repository: d.Repository, Desk: d, Base: d.Address, Rest: rest}
			call.Folder = func(path string) (ecosystem.Folder, error) {
				return d.ecosystem.Folder(c.Request().Context(), d, d.Repository, path)
			}
			call.ShowFolder = func() error {
				folder, err := call.Folder(strings.Trim(rest, "/"))
				if errors.Is(err, ecosystem.ErrNoFolder) {
					return fault.New(fault.NotFound, "no-such-folder", "nothing is there")
				}
				if err != nil {
					return err
				}
				return c.JSON(http.StatusOK, folder.Entries)
			}
			if err := route.Serve(call); err != nil {
				return d.ecosystem.Refuse(call, err)
			}
			return nil
		})
	}
	request := httptest.NewRequest(method, d.Address()+path, bytes.NewReader(body))
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	answer := httptest.NewRecorder()
	e.ServeHTTP(answer, request)
	return answer
}

// Serve puts the repository behind a server of its own, until the test ends. Asked is told
// of each request before it is answered.
func (d *Desk) Serve(asked func(r *http.Request)) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked(r)
		body, err := io.ReadAll(r.Body)
		if err != nil {
			d.t.Error(err)
		}
		var headers []string
		for name := range r.Header {
			headers = append(headers, name, r.Header.Get(name))
		}
		_, path, _ := strings.Cut(r.URL.RequestURI(), "/"+d.ecosystem.Name()+"/")
		a := d.Ask(r.Method, path, body, headers...)
		for name, values := range a.Header() {
			w.Header()[name] = values
		}
		w.WriteHeader(a.Code)
		if _, err := w.Write(a.Body.Bytes()); err != nil {
			d.t.Error(err)
		}
	}))
	d.t.Cleanup(server.Close)
	d.host = server.URL
}

// Says tells of each text that is not in what was said.
func Says(t testing.TB, said string, wants ...string) {
	t.Helper()
	for _, want := range wants {
		if !strings.Contains(said, want) {
			t.Errorf("it does not say %q: %.2000q", want, said)
		}
	}
}

// CheckSend publishes files by hand in one repository and sends their version on to
// another, twice, since an answer may be lost; what is there with other bytes is refused
// for good. other are such files of the same version; door is where clients are pointed,
// below the address.
func CheckSend(t *testing.T, e ecosystem.Ecosystem, door string, files, other map[string][]byte) {
	t.Helper()
	here, there := NewDesk(t, e), NewDesk(t, e)
	signedIn := 0
	there.Serve(func(r *http.Request) {
		if strings.Contains(r.Header.Get("Authorization")+r.Header.Get("X-NuGet-ApiKey"), "token") {
			signedIn++
		}
	})
	here.Hand(files)
	ship := func(from *Desk) error {
		for key, p := range from.packages {
			v := p.Versions[0]
			return e.(ecosystem.Sending).Send(t.Context(),
				ecosystem.Shipment{Namespace: key.Namespace, Name: key.Name, Version: v.Version, Files: v.Files,
					URL: there.Address() + door, Secret: "token", Client: http.DefaultClient, Agent: "crelvo",
					Open: func(f catalog.File) (ecosystem.SeekableFile, error) { return from.Open(t.Context(), f) }})
		}
		return errors.New("nothing was published")
	}
	for i := range 2 {
		if err := ship(here); err != nil {
			t.Fatalf("sent for the %d. time: %v", i+1, err)
		}
	}
	if signedIn == 0 {
		t.Error("nobody signed in")
	}
	for key, p := range here.packages {
		arrived := there.packages[key]
		if arrived == nil || len(arrived.Versions) != 1 || arrived.Versions[0].Version != p.Versions[0].Version {
			t.Fatalf("there is %+v of %+v", arrived, key)
		}
		for _, f := range p.Versions[0].Files {
			if !slices.ContainsFunc(arrived.Versions[0].Files, func(a catalog.File) bool {
				return a.Name == f.Name && a.Digests == f.Digests
			}) {
				t.Errorf("%s did not arrive", f.Name)
			}
		}
	}
	changed := NewDesk(t, e)
	changed.Hand(other)
	var refused *ecosystem.Rejection
	if err := ship(changed); !errors.As(err, &refused) || !refused.Final {
		t.Errorf("other bytes: %v", err)
	}
}

// Get asks for a path, and wants a status.
func (d *Desk) Get(status int, path string, headers ...string) string {
	d.t.Helper()
	return d.wants(status, http.MethodGet, path, nil, headers...)
}

// Send sends a body, and wants a status.
func (d *Desk) Send(status int, method, path string, body []byte, headers ...string) string {
	d.t.Helper()
	return d.wants(status, method, path, body, headers...)
}

func (d *Desk) wants(status int, method, path string, body []byte, headers ...string) string {
	d.t.Helper()
	a := d.Ask(method, path, body, headers...)
	if a.Code != status {
		d.t.Errorf("%s %s: %d %.500q; want %d", method, path, a.Code, a.Body, status)
	}
	return a.Body.String()
}

// Hand publishes files by hand.
func (d *Desk) Hand(files map[string][]byte) {
	d.t.Helper()
	ctx, all := d.t.Context(), hand(files)
	placed, err := d.ecosystem.Place(ctx, all, purl.PURL{})
	if err != nil {
		d.t.Fatal(err)
	}
	var p ecosystem.Publication
	for _, at := range placed {
		content := at.Content
		if at.File >= 0 {
			content = make([]byte, all[at.File].Size())
			if _, err := all[at.File].ReadAt(content, 0); err != nil && err != io.EOF {
				d.t.Fatal(err)
			}
		}
		p.Files = append(p.Files, ecosystem.StagedFile{Place: at.Place,
			Staged: staged{bytes.NewReader(content), digestsOf(content)}})
	}
	if _, err := d.Publish(ctx, d.Caller, d.Repository, d.ecosystem, p); err != nil {
		d.t.Fatal(err)
	}
}

type staged struct {
	*bytes.Reader
	digests catalog.Digests
}

// Digests implements ecosystem.Staged.
func (s staged) Digests() catalog.Digests { return s.digests }

// Discard implements ecosystem.Staged.
func (staged) Discard() {}

func digestsOf(content []byte) catalog.Digests {
	return catalog.Digests{Size: int64(len(content)), MD5: md5.Sum(content), SHA1: sha1.Sum(content),
		SHA256: sha256.Sum256(content), SHA512: sha512.Sum512(content)}
}

// Stage implements ecosystem.Publisher.
func (d *Desk) Stage(
	_ context.Context, _ catalog.Repository, body io.Reader, length int64, name string,
) (ecosystem.Staged, error) {
	content, err := io.ReadAll(body)
	var told *fault.Error
	if !errors.As(err, &told) && (err != nil || length >= 0 && int64(len(content)) != length) {
		err = fault.New(fault.Invalid, "cut-upload", "%s did not arrive whole", name)
	}
	return staged{bytes.NewReader(content), digestsOf(content)}, err
}

// MayPublish implements ecosystem.Publisher.
func (d *Desk) MayPublish(access.Caller, catalog.Repository, catalog.PackageKey) error {
	return d.Refuses
}

// Target implements ecosystem.Publisher.
func (d *Desk) Target(access.Caller, catalog.Repository, bool) (catalog.Repository, error) {
	return d.Repository, nil
}

// keep records a file, which needs a number to be kept.
func (d *Desk) keep(place ecosystem.Place, upload string, s ecosystem.Staged) (catalog.File, error) {
	content := make([]byte, s.Size())
	if _, err := s.ReadAt(content, 0); err != nil && err != io.EOF {
		return catalog.File{}, err
	}
	d.next++
	d.contents[s.Digests().SHA256] = content
	return catalog.File{ID: d.next, RepositoryID: d.Repository.ID, Name: place.NameOf(upload),
		Classifier: place.Classifier, Extension: place.Extension,
		Digests: s.Digests(), AddedAt: d.Now, AddedBy: d.Caller.Name}, nil
}

// version finds a version of a package, or makes it; of a snapshot a new upload.
func (d *Desk) version(e ecosystem.Ecosystem, place ecosystem.Place) *catalog.Version {
	key := place.Key(e.Name(), d.Repository)
	p := d.packages[key]
	if p == nil {
		d.next++
		p = &catalog.Package{ID: d.next, Key: key, Labels: map[string]string{}}
		d.packages[key] = p
	}
	d.Now = d.Now.Add(time.Minute)
	p.Changed, p.Revision = d.Now, p.Revision+1
	v := catalog.Version{Version: place.Version, Snapshot: place.Snapshot, Upload: place.Upload, UploadedAt: d.Now,
		PublishedAt: d.Now, Arrived: d.Now, PublishedBy: d.Caller.Name}
	for _, other := range p.Versions {
		if other.Version == v.Version {
			v.UploadCount++
		}
	}
	if place.Upload != "" {
		v.UploadedAt, v.UploadCount = place.UploadedAt, place.UploadCount
	}
	if i := slices.IndexFunc(p.Versions, func(o catalog.Version) bool {
		return o.Version == v.Version
	}); i >= 0 && !v.Snapshot {
		return &p.Versions[i]
	}
	if v.Snapshot && v.Upload == "" {
		v.UploadCount++
		v.Upload = e.UploadName(v.Version, d.Now, v.UploadCount)
	}
	d.next++
	v.ID = d.next
	p.Versions = append(p.Versions, v)
	return &p.Versions[len(p.Versions)-1]
}

// Publish implements ecosystem.Publisher.
func (d *Desk) Publish(
	ctx context.Context, _ access.Caller, _ catalog.Repository, e ecosystem.Ecosystem, p ecosystem.Publication,
) (ecosystem.Receipt, error) {
	if d.Refuses != nil {
		return ecosystem.Receipt{}, d.Refuses
	}
	details := make([]catalog.Details, len(p.Files))
	for i, f := range p.Files {
		known, err := e.Inspect(ctx, f.Place, f.Staged)
		if err != nil {
			return ecosystem.Receipt{}, err
		}
		details[i] = known.Merge(f.Details)
		if there, err := d.File(ctx, catalog.FileQuestion{Key: f.Place.Key(e.Name(), d.Repository), Version: f.Place.Version,
			Name: f.Place.FileName}); err == nil && !f.Place.Snapshot {
			if there.File.Digests == f.Digests() {
				for _, label := range p.Labels {
					d.packages[f.Place.Key(e.Name(), d.Repository)].Labels[label] = f.Place.Version
				}
				return ecosystem.Receipt{Same: true}, nil
			}
			return ecosystem.Receipt{}, fault.New(fault.Conflict, "published-already", "%s %s was published before",
				f.Place.Name, f.Place.Version)
		}
	}
	named, err := d.named(e, p)
	if err != nil {
		return ecosystem.Receipt{}, err
	}
	v := d.version(e, p.Files[0].Place)
	v.Files = append(v.Files, named...)
	for i, f := range p.Files {
		kept, err := d.keep(f.Place, v.Upload, f.Staged)
		if err != nil {
			return ecosystem.Receipt{}, err
		}
		kept.VersionID, kept.MediaType = v.ID, p.MediaType
		v.Files, v.Details = append(v.Files, kept), v.Details.Merge(details[i])
	}
	for _, label := range p.Labels {
		d.packages[p.Files[0].Place.Key(e.Name(), d.Repository)].Labels[label] = v.Version
	}
	return ecosystem.Receipt{}, nil
}

// Receive implements ecosystem.Publisher.
func (d *Desk) Receive(
	ctx context.Context, _ access.Caller, _ catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place,
	body io.Reader, length int64,
) (ecosystem.Receipt, error) {
	if d.Refuses != nil {
		return ecosystem.Receipt{}, d.Refuses
	}
	s, err := d.Stage(ctx, catalog.Repository{}, body, length, place.FileName)
	if err != nil {
		return ecosystem.Receipt{}, err
	}
	details, err := e.Inspect(ctx, place, s)
	if err != nil {
		return ecosystem.Receipt{}, err
	}
	f, err := d.keep(place, place.Upload, s)
	d.open = append(d.open, received{place, f, details})
	return ecosystem.Receipt{Open: true, Quiet: d.Now.Add(time.Minute), End: d.Now.Add(24 * time.Hour)}, err
}

// Finish implements ecosystem.Publisher.
func (d *Desk) Finish(_ context.Context, _ access.Caller, _ catalog.Repository, c ecosystem.Completion) error {
	var made *catalog.Version
	d.open = slices.DeleteFunc(d.open, func(r received) bool {
		if r.place.Key(d.ecosystem.Name(), d.Repository) != c.Key || !c.Version(r.place.Version, r.place.Upload) {
			return false
		}
		if made == nil || made.Version != r.place.Version {
			made = d.version(d.ecosystem, r.place)
		}
		r.file.VersionID = made.ID
		made.Files, made.Details = append(made.Files, r.file), made.Details.Merge(r.details)
		return true
	})
	return nil
}

// Broken implements ecosystem.Publisher.
func (d *Desk) Broken(_ context.Context, f catalog.File) error {
	d.open = slices.DeleteFunc(d.open, func(r received) bool { return r.file.ID == f.ID })
	return nil
}

func (d *Desk) known(key catalog.PackageKey) (*catalog.Package, error) {
	if p := d.packages[key]; p != nil && len(p.Versions) > 0 {
		return p, nil
	}
	return nil, fault.New(fault.NotFound, "no-such-package", "%s holds no %s", d.Repository.Name, key.Name)
}

// SetLabel implements ecosystem.Publisher.
func (d *Desk) SetLabel(_ context.Context, _ access.Caller, key catalog.PackageKey, label, version string) error {
	p, err := d.known(key)
	if err != nil {
		return err
	}
	if p.Labels[label] = version; version == "" {
		delete(p.Labels, label)
	}
	return nil
}

// Withdraw implements ecosystem.Publisher.
func (d *Desk) Withdraw(_ context.Context, _ access.Caller, key catalog.PackageKey, reasons map[string]*string) error {
	p, err := d.known(key)
	if err != nil {
		return err
	}
	for version, reason := range reasons {
		if !slices.ContainsFunc(p.Versions, func(v catalog.Version) bool { return v.Version == version }) {
			return fault.New(fault.NotFound, "no-such-version", "%s has no version %s", key.Name, version)
		}
		for i := range p.Versions {
			if v := &p.Versions[i]; v.Version == version {
				if v.Withdrawn = nil; reason != nil {
					v.Withdrawn = &catalog.Withdrawal{Reason: *reason, By: d.Caller.Name, At: d.Now}
				}
			}
		}
	}
	return nil
}

// Remove implements ecosystem.Publisher.
func (d *Desk) Remove(_ context.Context, _ access.Caller, key catalog.PackageKey, versions []string) error {
	p, err := d.known(key)
	if err == nil {
		maps.DeleteFunc(p.Labels, func(_, version string) bool { return slices.Contains(versions, version) })
		p.Versions = slices.DeleteFunc(p.Versions, func(v catalog.Version) bool {
			return slices.Contains(versions, v.Version)
		})
	}
	return err
}

// Package implements ecosystem.Shelves.
func (d *Desk) Package(_ context.Context, key catalog.PackageKey) (*catalog.Package, error) {
	if p := d.packages[key]; p != nil && len(p.Versions) > 0 {
		shared := *p
		return &shared, nil
	}
	return nil, ecosystem.ErrNoPackage
}

// Uploads implements ecosystem.Shelves.
func (d *Desk) Uploads(ctx context.Context, key catalog.PackageKey, _ string) (*catalog.Package, error) {
	return d.Package(ctx, key)
}

// Below implements ecosystem.Shelves. It knows no namespaces but the one asked for.
func (d *Desk) Below(
	_ context.Context, _ catalog.Repository, _, namespace, _ string,
) (branches []ecosystem.Branch, lines []ecosystem.PackageLine, err error) {
	for key, p := range d.packages {
		if key.Namespace == namespace && len(p.Versions) > 0 {
			lines = append(lines, ecosystem.PackageLine{Name: key.Name, ChangedAt: p.Changed})
		}
	}
	slices.SortFunc(lines, func(a, b ecosystem.PackageLine) int { return strings.Compare(a.Name, b.Name) })
	return nil, lines, nil
}

// File implements ecosystem.Reader.
func (d *Desk) File(_ context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	if q.Label == "" && q.Version == "" {
		if f, ok := d.parts[q.Key][q.Name]; ok {
			return ecosystem.Found{File: f}, nil
		}
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	if p := d.packages[q.Key]; p != nil {
		if q.Label != "" {
			q.Version = p.Labels[q.Label]
			if slices.ContainsFunc(p.Versions, func(v catalog.Version) bool {
				return v.Version == q.Version && v.Withdrawn != nil
			}) {
				return ecosystem.Found{}, ecosystem.ErrNoFile
			}
			q.Name = strings.Replace(q.Version, ":", "-", 1)
		}
		for i := len(p.Versions) - 1; i >= 0; i-- { // the newest upload first
			v := p.Versions[i]
			if v.Version != q.Version || q.Upload != "" && v.Upload != q.Upload {
				continue
			}
			for _, f := range v.Files {
				if q.Name != "" && f.Name == q.Name || q.Name == "" && f.Extension == q.Extension && f.Classifier == q.Classifier {
					return ecosystem.Found{File: f}, nil
				}
			}
		}
	}
	for _, r := range d.open {
		if q.Open && r.place.Key(d.ecosystem.Name(), d.Repository) == q.Key && r.file.Name == q.Name {
			return ecosystem.Found{File: r.file}, nil
		}
	}
	return ecosystem.Found{}, ecosystem.ErrNoFile
}

type opened struct{ *bytes.Reader }

// Close implements io.Closer.
func (opened) Close() error { return nil }

// Open implements ecosystem.Reader.
func (d *Desk) Open(_ context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	return opened{bytes.NewReader(d.contents[f.Digests.SHA256])}, nil
}

// Elsewhere implements ecosystem.Reader: all is read here.
func (d *Desk) Elsewhere(context.Context, catalog.File) string { return "" }

// WhyNot implements ecosystem.Reader.
func (d *Desk) WhyNot(_ context.Context, key catalog.PackageKey, _ string) *fault.Error {
	return d.Why[key.Name]
}

// Readme implements ecosystem.Reader.
func (*Desk) Readme(_ context.Context, v catalog.Version) (*catalog.Readme, error) {
	return v.Details.Readme, nil
}

// Rendered implements ecosystem.Shelves. It remembers nothing.
func (*Desk) Rendered(
	_ *catalog.Package, _ string, render func(ecosystem.Document) (ecosystem.Document, error),
) (ecosystem.Document, error) {
	return render(ecosystem.Document{})
}

// Downloaded implements ecosystem.Counter.
func (d *Desk) Downloaded(_ access.Caller, f catalog.File, _ bool) { d.Downloads[f.Name]++ }
