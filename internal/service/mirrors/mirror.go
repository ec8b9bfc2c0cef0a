package mirrors

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"reflect"
	"strings"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/store"
	"crelvo/internal/upstream"
)

// Mirror is what a mirror repository needs at work.
type Mirror struct {
	catalog.Repository
	Speaks     ecosystem.Mirrored
	Source     *upstream.Source
	flights    *upstream.Flights
	refreshing *singleflight.Group
	following  *atomic.Bool                   // its upstream is being asked what changed
	unreadable *lru.Cache[string, unreadable] // documents that were fetched in vain, by path
	referring  *lru.Cache[string, aboutThere] // lists of what is about versions, by path
}

// unreadable is a document that arrived and cannot be used.
type unreadable struct {
	err   error
	until time.Time
}

// unreadableFor is how long such a document is not fetched again.
const unreadableFor = time.Minute

// setMirrors makes what the mirrors of a directory need. A mirror whose
// settings are as they were keeps what it has learnt of its upstreams.
func (s *Mirrors) setMirrors(d *directory.State) error {
	before := map[int64]*Mirror{}
	if m := s.mirrors.Load(); m != nil {
		before = *m
	}
	after := map[int64]*Mirror{}
	for id, r := range d.ByID {
		if !r.Fetches() {
			continue
		}
		e, ok := s.Ecosystems[r.Ecosystem].(ecosystem.Mirrored)
		if !ok {
			return fmt.Errorf("%s mirrors %s, which this program does not know how to", r.Name, r.Ecosystem)
		}
		m := &Mirror{Repository: r, Speaks: e, flights: &upstream.Flights{Go: s.Go}, refreshing: new(singleflight.Group),
			following: new(atomic.Bool)}
		if was := before[id]; was != nil {
			m.flights, m.following = was.flights, was.following
			if reflect.DeepEqual(was.Mirror, r.Mirror) {
				m.Source, m.refreshing, m.unreadable, m.referring = was.Source, was.refreshing, was.unreadable,
					was.referring
			} else {
				was.Source.Close()
			}
		}
		if m.Source == nil {
			var err error
			if m.Source, err = upstream.New(*r.Mirror, "crelvo/"+s.Settings.Version, s.counting.Observer(id),
				s.Now); err != nil {
				return err
			}
			if m.unreadable, err = lru.New[string, unreadable](1000); err != nil {
				return err
			}
			if m.referring, err = lru.New[string, aboutThere](aboutKept); err != nil {
				return err
			}
		}
		after[id] = m
	}
	s.mirrors.Store(&after)
	return nil
}

// Of is the mirror at work of a repository; nil for any other kind, and
// for one that was removed a moment ago.
func (s *Mirrors) Of(id int64) *Mirror { return (*s.mirrors.Load())[id] }

// Admits tells in a fault why a mirror does not let something in.
func (m *Mirror) Admits(p purl.PURL) error {
	v := chain.Admits(m.Mirror, p)
	if v.Allowed {
		return nil
	}
	return fault.New(fault.Denied, "denied-by-pattern", "%s does not let %s in: it is %s", m.Name, p, v.Why).
		WithHint("Whoever looks after %s can change its patterns.", m.Name)
}

// File finds a file in a mirror, or begins to fetch it.
func (s *Mirrors) File(ctx context.Context, m *Mirror, q catalog.FileQuestion) (ecosystem.Found, error) {
	if m == nil || q.Key.Ecosystem != m.Ecosystem || !m.Holds.Takes(purl.IsSnapshot(m.Ecosystem, q.Version)) {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	if err := m.Admits(act.PURLOf(q.Key, q.Version)); err != nil {
		return ecosystem.Found{}, err
	}
	if q.Label != "" {
		return s.labelled(ctx, m, q)
	}
	return s.file(ctx, m, q, "")
}

// file is File for what is named exactly; label is the one that it was asked for by.
func (s *Mirrors) file(
	ctx context.Context, m *Mirror, q catalog.FileQuestion, label string,
) (ecosystem.Found, error) {
	if q.Name == "" && purl.IsSnapshot(m.Ecosystem, q.Version) {
		var err error
		if q, err = s.newestUpload(ctx, m, q); err != nil {
			return ecosystem.Found{}, err
		}
	}
	f, err := s.DB.File(ctx, q)
	if err == nil {
		return ecosystem.Found{File: f, Mirror: m.Name}, nil
	}
	if !errors.Is(err, record.ErrNotFound) {
		return ecosystem.Found{}, err
	}
	if q.Key.AsOf != 0 {
		// What was listed by then is what it is now, if it was not kept then.
		listed, err := s.ListedThen(ctx, m, q.Key, q.Version)
		if err != nil || !listed {
			return ecosystem.Found{}, cmp.Or(err, ecosystem.ErrNoFile)
		}
		q.Key.AsOf = 0
		return s.file(ctx, m, q, label)
	}
	place, err := m.Speaks.PlaceOf(q)
	if err != nil {
		return ecosystem.Found{}, err
	}
	path, stated, err := s.fileAt(ctx, m, &q, &place)
	if err != nil {
		return ecosystem.Found{}, err
	}
	known, err := s.Document(ctx, m, path, q.Key)
	if err != nil {
		return ecosystem.Found{}, err
	}
	if known != nil && !known.Found && s.Now().Before(m.lasts(known)) {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	flight, begun := m.flights.Join(path, func(ctx context.Context, flight *upstream.Flight) (catalog.File, error) {
		return s.fetchCopy(ctx, m, flight, copying{q, place, path, stated, known, label})
	})
	if begun {
		s.counting.Mirror(m.ID, func(h *record.MirrorHour) { h.Misses++ })
	}
	return ecosystem.Found{Arriving: &arriving{flight,
		&passing{service: s, mirror: m, place: place, path: path, digests: stated}}, Mirror: m.Name, Fetched: begun}, nil
}

// fileAt tells where an upstream has a file, and, where its list says so, by
// which digests it is known. A snapshot's question and place are made exact: its
// file is that of the upload that is listed. ErrNoFile is that no list has it.
func (s *Mirrors) fileAt(
	ctx context.Context, m *Mirror, q *catalog.FileQuestion, place *ecosystem.Place,
) (path string, stated map[string]string, err error) {
	if byPath, ok := m.Speaks.(ecosystem.ByPath); ok {
		if byContent, ok := byPath.(ecosystem.ByContent); ok {
			if sum, ok := byContent.SumOf(*place); ok {
				stated = map[string]string{sum.Algorithm: sum.Hex}
			}
		}
		return byPath.FilePath(*place), stated, nil
	}
	list, err := s.listingOfFiles(ctx, m, act.PURLOf(q.Key, ""))
	if err != nil {
		return "", nil, err
	}
	if list.document == nil {
		return "", nil, ecosystem.ErrNoFile
	}
	for _, v := range list.document.Listing.Versions {
		if v.Version != q.Version || q.Upload != "" && v.Upload != q.Upload || !v.Then(0) {
			continue
		}
		for _, f := range v.Files {
			if f.Name != place.FileName || f.Address == "" {
				continue
			}
			if replaced, err := s.replaced(ctx, m, q.Key, v); replaced || err != nil {
				return "", nil, cmp.Or(err, ecosystem.ErrNoFile)
			}
			if q.Upload = v.Upload; v.Upload != "" {
				place.Upload, place.UploadedAt = v.Upload, cmp.Or(v.UploadedAt, v.SeenAt)
			}
			return f.Address, f.Digests, nil
		}
	}
	return "", nil, ecosystem.ErrNoFile
}

// replaced tells whether an upstream lists a version with other bytes than those
// that are kept of it. What it says of those bytes is not true of ours.
func (s *Mirrors) replaced(
	ctx context.Context, m *Mirror, key catalog.PackageKey, listed catalog.ListedVersion,
) (bool, error) {
	key.Sight = ""
	kept, err := s.holdings.Package(ctx, key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	for _, v := range kept.Versions {
		if v.Version == listed.Version && v.Upload == listed.Upload {
			return differ(v, listedVersion(m, listed)), nil
		}
	}
	return false, nil
}

// differ tells whether two versions have a file of one name with different
// digests.
func differ(a, b catalog.Version) bool {
	for _, f := range a.Files {
		for _, other := range b.Files {
			if f.Name == other.Name && f.Digests.Contradicts(other.Digests) {
				return true
			}
		}
	}
	return false
}

// requestFor asks for a file by what fileAt gives. What a list says is an address, which
// may have a query; a path that follows from a name has none.
func (m *Mirror) requestFor(path string) upstream.Request {
	if strings.HasPrefix(path, "http://") || strings.HasPrefix(path, "https://") {
		return upstream.Request{Address: path}
	}
	r := upstream.Request{Path: path}
	if _, byPath := m.Speaks.(ecosystem.ByPath); !byPath {
		r.Path, r.Query, _ = strings.Cut(path, "?")
	}
	return r
}

// newestUpload makes a question for the newest upload of a snapshot exact.
func (s *Mirrors) newestUpload(ctx context.Context, m *Mirror, q catalog.FileQuestion) (catalog.FileQuestion, error) {
	p, _, err := s.Package(ctx, m, q.Key, q.Version)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return q, ecosystem.ErrNoFile
	}
	if err != nil {
		return q, err
	}
	newest := NewestWith(p, q)
	if newest == nil {
		return q, ecosystem.ErrNoFile
	}
	q.Upload, q.Name, q.Classifier, q.Extension = newest.Version.Upload, newest.File, "", ""
	return q, nil
}

// upload is an upload of a snapshot, and the name of a file of it.
type upload struct {
	Version catalog.Version
	File    string
}

// NewestWith is the newest upload of a snapshot that has the file that a
// question asks for by classifier and extension; nil if there is none.
func NewestWith(p *catalog.Package, q catalog.FileQuestion) *upload {
	var newest *upload
	for _, v := range p.Versions {
		if v.Version != q.Version || newest != nil && !v.Newer(newest.Version) {
			continue
		}
		for _, f := range v.Files {
			if f.Classifier == q.Classifier && f.Extension == q.Extension {
				newest = &upload{v, f.Name}
			}
		}
	}
	return newest
}

// copying is a file that is fetched: which, where it belongs, where it is, its digests as
// far as they are stated, what was known of its path, and the label that it was asked for by.
type copying struct {
	q       catalog.FileQuestion
	place   ecosystem.Place
	path    string
	digests map[string]string
	known   *record.UpstreamDocument
	label   string
}

// fetchCopy fetches a file, verifies it, and keeps it. It runs on its own, not for
// one who waits. The error is ErrNotKept where the store does not take it.
func (s *Mirrors) fetchCopy(
	ctx context.Context, m *Mirror, flight *upstream.Flight, c copying,
) (catalog.File, error) {
	q, place, path, digests, known := c.q, c.place, c.path, c.digests, c.known
	// It may have been kept between the look and the flight.
	if f, err := s.DB.File(ctx, q); err == nil {
		return f, nil
	}
	if !s.Alone() {
		f, release, err := s.forAll(ctx, m, q, path)
		if err != nil || release == nil {
			return f, err
		}
		defer release()
	}
	response, err := m.Source.Get(ctx, m.requestFor(path))
	if errors.Is(err, upstream.ErrAbsent) {
		return catalog.File{}, s.noteAbsence(ctx, m, path, q.Key)
	}
	if err != nil {
		if known != nil && !known.Found {
			return catalog.File{}, ecosystem.ErrNoFile // as far as we know, and nobody can tell us better
		}
		return catalog.File{}, s.upstreamFault(m, err)
	}
	defer response.Body.Close()
	if strings.HasPrefix(response.ContentType, "text/html") && !strings.HasPrefix(place.Extension, "htm") {
		return catalog.File{}, s.upstreamFault(m, m.Source.Wrong(response.Upstream, "sent a web page instead of %s",
			place.FileName))
	}
	flight.Expect(response.Length)
	stated := make(chan statedChecksum, 1)
	go func(ctx context.Context) {
		stated <- s.fetchChecksum(ctx, m, response.Upstream, path, digests)
	}(ctx) // which is another one below
	staged, err := s.store.StagingOpenly(ctx, m.Repository, response.Body, response.Length, flight)
	if errors.Is(err, store.ErrCut) {
		return catalog.File{}, s.upstreamFault(m, err)
	}
	if err != nil {
		return catalog.File{}, fmt.Errorf("%w: %w", ecosystem.ErrNotKept, s.store.Fault(err))
	}
	ctx = context.WithoutCancel(ctx) // all of it is here
	defer staged.Discard()
	sum := <-stated
	if sum.err != nil {
		return catalog.File{}, s.upstreamFault(m, sum.err)
	}
	if got := staged.Digests().Hex(sum.algorithm); sum.hex != "" && got != sum.hex {
		return catalog.File{}, s.upstreamFault(m, m.Source.Wrong(response.Upstream,
			"sent other bytes for %s than its own checksum says: their %s is %s, not %s",
			place.FileName, sum.algorithm, got, sum.hex))
	}
	details, err := m.Speaks.Inspect(ctx, place, staged)
	if err != nil && sum.hex == "" && !errors.Is(err, ecosystem.ErrDisagrees) {
		return catalog.File{}, s.upstreamFault(m, m.Source.Wrong(response.Upstream, "sent something else as %s: %s",
			place.FileName, err))
	}
	flight.Verified(staged.Size())
	f := s.newCopy(m, place, response.Upstream)
	if described, ok := m.Speaks.(ecosystem.Described); ok {
		details = described.SaidBeside(response.Header).Merge(details)
	}
	f.Digests, f.Details = staged.Digests(), details
	names, err := m.names(ctx, place, staged, response.ContentType)
	if err != nil {
		return catalog.File{}, s.upstreamFault(m, m.Source.Wrong(response.Upstream, "sent something else as %s: %s",
			place.FileName, err))
	}
	err = s.recordCopy(ctx, m, staged.File, f, names, c)
	s.Changed(q.Key)
	if err != nil {
		s.Log.Error("a copy could not be kept", "mirror", m.Name, "path", path, "error", err)
		return catalog.File{}, err
	}
	return s.DB.File(ctx, q)
}

// recordCopy puts a copy on record whose bytes have arrived.
func (s *Mirrors) recordCopy(
	ctx context.Context, m *Mirror, staged *store.Staged, f record.NewFile, names *record.Naming, c copying,
) error {
	if c.known != nil { // or it would be written after it was forgotten
		s.noting.wait(func(w *noted) bool { return w.key() == documentKey{m.ID, c.path} })
	}
	return s.store.Recorded(ctx, []*store.Staged{staged}, func(tx *record.Tx) error {
		if c.known != nil {
			if err := tx.ForgetUpstreamDocument(ctx, m.ID, c.path); err != nil {
				return err
			}
		}
		kept, err := s.keepCopy(ctx, tx, f, names, c.label)
		if err != nil || !kept {
			return err
		}
		return tx.Tell(ctx, record.Change{Kind: record.OfPackage, RepositoryID: m.ID, Repository: m.Name,
			Ecosystem: m.Ecosystem, Namespace: f.Key.Namespace, Name: f.Key.Name, Version: f.Version})
	})
}

// newCopy is what is recorded of a copy whatever its bytes are.
func (s *Mirrors) newCopy(m *Mirror, place ecosystem.Place, from string) record.NewFile {
	now := s.Now()
	if place.UploadedAt.IsZero() {
		place.UploadedAt = now
	}
	host := from
	if u, err := url.Parse(from); err == nil {
		host = u.Host
	}
	return record.NewFile{Key: place.Key(m.Ecosystem, m.Repository), Version: place.Version, Upload: place.Upload,
		Snapshot:   place.Snapshot,
		UploadedAt: place.UploadedAt, UploadCount: place.UploadCount,
		Name: place.FileName, Classifier: place.Classifier, Extension: place.Extension, PublisherName: host, At: now}
}

// statedChecksum is what an upstream says that the checksum of a file is; an
// empty hex is that it says nothing.
type statedChecksum struct {
	algorithm, hex string
	err            error
}

// strongest are the algorithms of digests, the strongest first.
var strongest = []string{"sha512", "sha256", "sha1", "md5"}

// maxChecksum is more than any checksum file has, in bytes.
const maxChecksum = 4 << 10

// fetchChecksum gives the strongest digest that the upstream's list states of a
// file, or asks for its checksum where the file came from.
func (s *Mirrors) fetchChecksum(
	ctx context.Context, m *Mirror, at, path string, listed map[string]string,
) statedChecksum {
	for _, algorithm := range strongest {
		if hex := listed[algorithm]; hex != "" {
			return statedChecksum{algorithm: algorithm, hex: strings.ToLower(hex)}
		}
	}
	byPath, ok := m.Speaks.(ecosystem.ByPath)
	if !ok {
		return statedChecksum{}
	}
	for _, sum := range byPath.Checksums(path) {
		response, err := m.Source.Get(ctx, upstream.Request{Path: sum.Path, At: at})
		if errors.Is(err, upstream.ErrAbsent) {
			continue
		}
		if err != nil {
			return statedChecksum{err: err}
		}
		raw, err := io.ReadAll(io.LimitReader(response.Body, maxChecksum))
		if closeErr := response.Body.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return statedChecksum{err: err}
		}
		if hex, ok := ecosystem.ChecksumIn(string(raw), sum.Algorithm); ok {
			return statedChecksum{algorithm: sum.Algorithm, hex: hex}
		}
		// Some servers answer with a page where there is nothing.
	}
	return statedChecksum{}
}

// upstreamFault makes a fault of a failure to fetch.
func (s *Mirrors) upstreamFault(m *Mirror, err error) error {
	s.counting.Mirror(m.ID, func(h *record.MirrorHour) { h.Failures++ })
	return s.inWords(m, err)
}

// inWords makes a fault of a failure of an upstream.
func (s *Mirrors) inWords(m *Mirror, err error) error {
	var f *upstream.Failure
	if !errors.As(err, &f) {
		return err
	}
	e := fault.New(fault.Unavailable, "upstream-failed", "the upstream of %s, %s, %s", m.Name, f.Upstream, f.What).
		WithCause(f.Cause)
	if f.RetryAt.After(s.Now()) {
		return e.WithHint("It is tried again after %s.", f.RetryAt.UTC().Format("15:04:05 UTC"))
	}
	return e.WithHint("crelvo mirror show %s tells how it is.", m.Name)
}

// noteAbsence remembers that an upstream does not have something, and gives
// ErrNoFile.
func (s *Mirrors) noteAbsence(ctx context.Context, m *Mirror, path string, about catalog.PackageKey) error {
	about.RepositoryID = m.ID
	now := s.Now()
	d := record.UpstreamDocument{RepositoryID: m.ID, Path: path, About: about, CheckedAt: now, ChangedAt: now}
	if err := s.setDocument(ctx, m, d, false); err != nil {
		return err
	}
	return ecosystem.ErrNoFile
}

func (s *Mirrors) Purge() {
	s.documents.Purge()
	s.whole.Purge()
}

func (s *Mirrors) Chores() []act.Chore {
	return []act.Chore{{Every: time.Hour, What: "forgetting what was not there", Do: s.forgetAbsences},
		{Every: askedEvery, What: "asking upstreams what changed", Do: s.follow}}
}
