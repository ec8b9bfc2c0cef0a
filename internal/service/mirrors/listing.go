package mirrors

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"reflect"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/holdings"
	"crelvo/internal/upstream"
)

type documentKey struct {
	repositoryID int64
	path         string
}

// Document is what is known of a path of an upstream; nil if nothing is.
func (s *Mirrors) Document(
	ctx context.Context, m *Mirror, path string, about catalog.PackageKey,
) (*record.UpstreamDocument, error) {
	key, age := documentKey{m.ID, path}, s.Age(about)
	if known, ok := s.documents.Get(key); ok && known.Generation == age {
		return &known.Value, nil
	}
	if waiting := s.noting.of(key); waiting != nil {
		return waiting, nil
	}
	d, err := s.DB.UpstreamDocument(ctx, m.ID, path, true)
	if errors.Is(err, record.ErrNotFound) {
		return nil, nil
	}
	if err == nil {
		s.documents.Add(key, act.Aged[record.UpstreamDocument]{Value: d, Generation: age})
	}
	return &d, err
}

// patience is how long somebody waits for a document to be refreshed while an
// older one is there.
const patience = 3 * time.Second

// maxListing is how large a document of an upstream may be, in bytes.
const maxListing = 64 << 20

// longestListing is how long fetching one may take, whoever waits for it.
const longestListing = 10 * time.Minute

// largeListing is from which size on a document is read sparingly, in bytes.
const largeListing = 2 << 20

// listed is what an upstream lists.
type listed struct {
	document *record.UpstreamDocument // nil if there is no such list
	stale    *catalog.Staleness       // not nil if it could not be brought up to date
	until    time.Time                // when it is to be brought up to date again
}

// lasts is how long a document is taken as current.
func (m *Mirror) lasts(d *record.UpstreamDocument) time.Time {
	if d.Found {
		return d.CheckedAt.Add(m.Mirror.Freshness)
	}
	return d.CheckedAt.Add(m.Mirror.AbsentFor)
}

// about is what a document that is asked for by a purl tells of.
func (m *Mirror) about(p purl.PURL) catalog.PackageKey {
	return m.Key(p.Ecosystem, p.Namespace, p.Name)
}

// listing gives what an upstream lists for a purl, fresh or, if the upstream
// fails, as it was.
func (s *Mirrors) listing(ctx context.Context, m *Mirror, p purl.PURL) (listed, error) {
	return s.listingFrom(ctx, m, p, m.Speaks.ListingPath(p))
}

// listingOfFiles is listing for who asks where files are: a list that is not in memory, and
// is current, comes without what its versions are like, and is not remembered.
func (s *Mirrors) listingOfFiles(ctx context.Context, m *Mirror, p purl.PURL) (listed, error) {
	path := m.Speaks.ListingPath(p)
	key := documentKey{m.ID, path}
	if _, inMemory := s.documents.Get(key); !inMemory && s.noting.of(key) == nil {
		d, err := s.DB.UpstreamDocument(ctx, m.ID, path, false)
		if until := m.lasts(&d); err == nil && s.Now().Before(until) {
			return listed{document: orNil(&d), until: until}, nil
		}
	}
	return s.listing(ctx, m, p)
}

// listingFrom is listing, of the document at a path.
func (s *Mirrors) listingFrom(ctx context.Context, m *Mirror, p purl.PURL, path string) (listed, error) {
	if path == "" {
		return listed{}, nil
	}
	known, err := s.Document(ctx, m, path, m.about(p))
	if err != nil {
		return listed{}, err
	}
	if known != nil {
		if until := m.lasts(known); s.Now().Before(until) {
			return listed{document: orNil(known), until: until}, nil
		}
	}
	if bad, ok := m.unreadable.Get(path); ok && s.Now().Before(bad.until) {
		return s.staleListing(m, known, bad.err)
	}
	result := m.refreshing.DoChan(path, func() (any, error) {
		ctx, cancel := context.WithTimeout(context.Background(), longestListing)
		defer cancel()
		d, err := s.refresh(ctx, m, p, path, known)
		if err != nil && ctx.Err() != nil {
			err = m.Source.Wrong(m.Mirror.Upstreams[0].URL, "did not send its list within %s", longestListing)
		}
		return d, err
	})
	enough := make(<-chan time.Time)
	if known != nil {
		timer := time.NewTimer(patience)
		defer timer.Stop()
		enough = timer.C
	}
	select {
	case r := <-result:
		if r.Err == nil {
			d := r.Val.(*record.UpstreamDocument)
			return listed{document: orNil(d), until: m.lasts(d)}, nil
		}
		err = r.Err
	case <-enough:
		err = &upstream.Failure{Upstream: m.Mirror.Upstreams[0].URL, What: fmt.Sprintf("did not answer within %s", patience)}
	case <-ctx.Done():
		return listed{}, ctx.Err()
	}
	return s.staleListing(m, known, err)
}

// staleListing is what an upstream listed last, where it could not be asked anew
// for a reason.
func (s *Mirrors) staleListing(m *Mirror, known *record.UpstreamDocument, err error) (listed, error) {
	if known == nil {
		return listed{}, s.inWords(m, err)
	}
	s.counting.Mirror(m.ID, func(h *record.MirrorHour) { h.Stale++ })
	why := err.Error()
	if f := (*upstream.Failure)(nil); errors.As(err, &f) {
		why = f.What
	}
	stale := &catalog.Staleness{Mirror: m.Name, By: s.Now().Sub(m.lasts(known)), Why: why}
	return listed{document: orNil(known), stale: stale}, nil
}

// askAnew brings what an upstream lists of a package up to date, however fresh
// it is.
func (s *Mirrors) askAnew(ctx context.Context, m *Mirror, p purl.PURL) error {
	path := m.Speaks.ListingPath(p)
	if path == "" {
		return nil
	}
	known, err := s.Document(ctx, m, path, m.about(p))
	if err != nil {
		return err
	}
	if _, err, _ = m.refreshing.Do(path, func() (any, error) { return s.refresh(ctx, m, p, path, known) }); err != nil {
		return s.inWords(m, err)
	}
	return nil
}

// listingAt is listing as of a moment: what was listed by then, for which the
// upstream need not be asked.
func (s *Mirrors) listingAt(ctx context.Context, m *Mirror, p purl.PURL, at catalog.Moment) (listed, error) {
	if at == 0 {
		return s.listing(ctx, m, p)
	}
	path := m.Speaks.ListingPath(p)
	known, err := s.Document(ctx, m, path, m.about(p))
	if err != nil || known == nil {
		return listed{until: Forever}, err
	}
	return listed{document: known, until: Forever}, nil
}

// ListedThen tells whether the upstream of a mirror was seen to list a version
// by a moment.
func (s *Mirrors) ListedThen(ctx context.Context, m *Mirror, key catalog.PackageKey, version string) (bool, error) {
	list, err := s.listingAt(ctx, m, act.PURLOf(key, ""), key.AsOf)
	if err != nil || list.document == nil {
		return false, err
	}
	return slices.ContainsFunc(list.document.Listing.Versions, func(v catalog.ListedVersion) bool {
		return v.Version == version && v.Then(key.AsOf)
	}), nil
}

func orNil(d *record.UpstreamDocument) *record.UpstreamDocument {
	if !d.Found {
		return nil
	}
	return d
}

// refresh asks the upstream for a document, if it has changed.
func (s *Mirrors) refresh(
	ctx context.Context, m *Mirror, p purl.PURL, path string, known *record.UpstreamDocument,
) (_ *record.UpstreamDocument, err error) {
	defer func() {
		if bad := recover(); bad != nil { // what comes from elsewhere must not end the service
			err = fmt.Errorf("reading %s failed badly: %v\n%s", path, bad, debug.Stack())
		}
	}()
	about := m.about(p)
	request := upstream.Request{Document: true, Accept: m.Speaks.Accepts()}
	if known != nil && known.Found {
		request.ETag, request.LastModified, request.From = known.ETag, known.LastModified, known.URL
	}
	if err := s.whereIs(ctx, m, p, path, &request); err != nil {
		return nil, s.noteFailure(ctx, m, known, err)
	}
	response, err := s.get(ctx, m, p, path, request)
	now := s.Now()
	next := record.UpstreamDocument{RepositoryID: m.ID, Path: path, About: about, CheckedAt: now, ChangedAt: now}
	switch {
	case errors.Is(err, upstream.ErrAbsent):
		if known != nil { // what it once listed is remembered
			next.Listing.Versions = chain.Seen(known.Listing.Versions, nil, now)
		}
		return &next, s.setDocument(ctx, m, next, known != nil && known.Found)
	case err != nil:
		return nil, s.noteFailure(ctx, m, known, err)
	}
	defer response.Body.Close()
	if response.NotModified {
		next = *known
		next.CheckedAt, next.FailedAt, next.Failure = now, time.Time{}, ""
		if err := s.DB.CheckedUpstreamDocument(ctx, m.ID, path, now); err != nil {
			return nil, err
		}
		s.documents.Add(documentKey{m.ID, path}, act.Aged[record.UpstreamDocument]{Value: next, Generation: s.Age(about)})
		return &next, nil
	}
	body := &sparingReader{from: response.Body}
	defer body.end()
	limited := &cutReader{from: body, left: maxListing}
	ctx = budget.With(ctx, budget.Limits{Bytes: 4 * maxListing, Held: budget.Default.Held,
		Elements: budget.Default.Elements})
	listing, err := s.readListing(ctx, m, p, path, request.Accept, response, limited)
	if errors.Is(limited.err, errTooLong) || errors.Is(err, errTooLong) {
		return nil, s.noteUnreadable(ctx, m, known, path,
			m.Source.Wrong(response.Upstream, "lists more for %s than can be read: over %s", p.Name, api.Bytes(maxListing)))
	}
	if limited.err != nil {
		return nil, s.noteFailure(ctx, m, known, limited.err)
	}
	if err != nil {
		return nil, s.noteUnreadable(ctx, m, known, path,
			m.Source.Wrong(response.Upstream, "sent a list for %s that is none: %s", p.Name, err))
	}
	next.Found, next.URL, next.ETag, next.LastModified = true, response.Upstream, response.ETag, response.LastModified
	var before []catalog.ListedVersion
	if known != nil {
		before = known.Listing.Versions
	}
	next.Listing = listing
	next.Listing.Versions = chain.Seen(before, listing.Versions, now)
	news := known == nil || !reflect.DeepEqual(known.Listing, next.Listing)
	if !news {
		next.ChangedAt = known.ChangedAt
	}
	return &next, s.setDocument(ctx, m, next, news)
}

// whereIs says in a request for a document where it is: at its path below the upstream
// or, where the path begins with the {name} of an address that the upstream's entrance
// tells, there. Upstreams without an entrance speak an older protocol.
func (s *Mirrors) whereIs(ctx context.Context, m *Mirror, p purl.PURL, path string, request *upstream.Request) error {
	name, rest, ok := strings.Cut(strings.TrimPrefix(path, "{"), "}")
	guided, isGuided := m.Speaks.(ecosystem.Guided)
	if isGuided {
		if _, tells, accepts := guided.Older(p); path == tells {
			request.Path, request.Accept = path, accepts
			return nil
		}
	}
	if !ok || !isGuided || path[0] != '{' {
		request.Path = path
		return nil
	}
	entrance, err := s.listingFrom(ctx, m, purl.PURL{Ecosystem: m.Ecosystem}, guided.Entrance())
	if err != nil {
		return err
	}
	first := m.Mirror.Upstreams[0].URL
	if entrance.document == nil {
		listing, tells, accepts := guided.Older(p)
		// An entrance that is gone for a moment is no other protocol.
		if told, err := s.listingFrom(ctx, m, purl.PURL{Ecosystem: m.Ecosystem}, tells); err != nil {
			return err
		} else if told.document == nil {
			return m.Source.Wrong(first, "has neither %s nor %s", guided.Entrance(), tells)
		}
		request.Address, request.Accept = first+listing, accepts
		return nil
	}
	if entrance.document.Listing.Places[name] == "" {
		return m.Source.Wrong(first, "does not say at %s where %s is", guided.Entrance(), name)
	}
	request.Address = strings.TrimSuffix(entrance.document.Listing.Places[name], "/") + "/" + rest
	return nil
}

// readListing reads the document at a path.
func (s *Mirrors) readListing(
	ctx context.Context, m *Mirror, p purl.PURL, path, accepts string, response *upstream.Response, body io.Reader,
) (catalog.Listing, error) {
	reading := ecosystem.Reading{Reader: body, Address: response.Address,
		More: func(address string) (io.ReadCloser, error) {
			more, err := m.Source.Get(ctx, upstream.Request{Address: address, At: response.Upstream, Document: true,
				Accept: accepts})
			if err != nil {
				return nil, err
			}
			return struct {
				io.Reader
				io.Closer
			}{&cutReader{from: more.Body, left: maxListing}, more.Body}, nil
		}}
	if guided, ok := m.Speaks.(ecosystem.Guided); ok && path == guided.Entrance() {
		places, err := guided.ReadEntrance(reading)
		return catalog.Listing{Places: places}, err
	}
	if guided, ok := m.Speaks.(ecosystem.Guided); ok {
		if _, tells, _ := guided.Older(p); path == tells {
			return catalog.Listing{}, guided.ReadOlder(reading)
		}
	}
	listing, err := m.Speaks.ReadListing(ctx, p, reading)
	listing.Clean()
	_, byPath := m.Speaks.(ecosystem.ByPath)
	for n, v := range listing.Versions {
		for i, f := range v.Files {
			// Other upstreams of the mirror may have it at the same path.
			v.Files[i].Address = strings.TrimPrefix(f.Address, response.Upstream)
		}
		if !byPath && v.Upload == "" && len(v.Files) > 0 && purl.IsSnapshot(m.Ecosystem, v.Version) {
			listing.Versions[n].Upload = ecosystem.UploadWith(v.Version, contentStamp(v.Files))
		}
	}
	return listing, err
}

// contentStamp names an upload of a snapshot by what its upstream says of its
// files, so that other bytes under the same version are another upload.
func contentStamp(files []catalog.ListedFile) string {
	var lines []string
	for _, f := range files {
		known := f.Address
		for _, algorithm := range strongest {
			if digest := f.Digests[algorithm]; digest != "" {
				known = digest
				break
			}
		}
		lines = append(lines, f.Name+" "+known)
	}
	slices.Sort(lines)
	sum := sha256.Sum256([]byte(strings.Join(lines, "\n")))
	return "h" + hex.EncodeToString(sum[:8]) // a letter first: it is part of a version
}

// noteUnreadable is noteFailure for a document that arrived: it is not fetched
// again at once.
func (s *Mirrors) noteUnreadable(
	ctx context.Context, m *Mirror, known *record.UpstreamDocument, path string, err error,
) error {
	m.unreadable.Add(path, unreadable{err, s.Now().Add(unreadableFor)})
	return s.noteFailure(ctx, m, known, err)
}

// noteFailure notes that a document could not be refreshed, and gives err back.
func (s *Mirrors) noteFailure(ctx context.Context, m *Mirror, known *record.UpstreamDocument, err error) error {
	s.counting.Mirror(m.ID, func(h *record.MirrorHour) { h.Failures++ })
	if known != nil {
		if noteErr := s.DB.FailedUpstreamDocument(ctx, m.ID, known.Path, s.Now(), err.Error()); noteErr != nil {
			s.Log.Error("a stale document could not be noted", "error", noteErr)
		}
	}
	return err
}

// Forever is until when something holds that only a change can end.
var Forever = time.Unix(1<<40, 0)

// Plugins are the plugins of a namespace that a mirror knows of.
func (s *Mirrors) Plugins(ctx context.Context, m *Mirror, namespace string) ([]ecosystem.Plugin, error) {
	if m == nil {
		return nil, nil
	}
	list, err := s.listing(ctx, m, purl.PURL{Ecosystem: m.Ecosystem, Namespace: namespace})
	if err != nil || list.document == nil {
		return nil, err
	}
	var plugins []ecosystem.Plugin
	filter := chain.NewFilter(m.Mirror)
	for _, l := range list.document.Listing.Plugins {
		if filter.Admits(purl.PURL{Ecosystem: m.Ecosystem, Namespace: namespace, Name: l.Name}).Allowed {
			plugins = append(plugins, ecosystem.Plugin(l))
		}
	}
	return plugins, nil
}

// cutReader ends a reader that gives too much, and keeps the reader's error,
// which parsers hide.
type cutReader struct {
	from io.Reader
	left int64
	err  error
}

var errTooLong = errors.New("it is too long")

// Read implements io.Reader.
func (c *cutReader) Read(p []byte) (int, error) {
	if c.err != nil {
		return 0, c.err // some read on after an error, and are told another
	}
	n, err := c.from.Read(p)
	if c.left -= int64(n); c.left < 0 {
		n, err = 0, errTooLong
	}
	if err != nil && err != io.EOF {
		c.err = err
	}
	return n, err
}

// forgetAbsences drops what was not there long ago and was not asked for since.
func (s *Mirrors) forgetAbsences(ctx context.Context) error {
	const keep = 30 * 24 * time.Hour
	return s.DB.ForgetOldAbsences(ctx, s.Now().Add(-keep))
}

// weightOfListing is about what an upstream's document takes in memory, in bytes.
func weightOfListing(known act.Aged[record.UpstreamDocument]) int64 {
	w := holdings.Weigher{Alone: true}
	for i := range known.Value.Listing.Versions {
		v := &known.Value.Listing.Versions[i]
		w.Weight += 500 + 550*int64(len(v.Files))
		if v.Details != nil {
			w.Weight += 300
			w.Details(v.Details)
		}
	}
	return 500 + w.Weight
}
