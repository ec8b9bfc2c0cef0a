package mirrors

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/klauspost/compress/gzip"

	"crelvo/internal/api"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/upstream"
)

// sections is a document of an upstream that lists all its packages, taken apart. It is kept
// in memory alone: what was asked for of it is on record like any list.
type sections struct {
	upstream, address  string
	etag, lastModified string
	checked            time.Time
	of                 map[string]section
	weight             int64
}

// section is what stands there of a package.
type section struct {
	packed []byte // by gzip
	tag    string // of its bytes
}

// sectionsFor is how long such a document answers for all its packages without being asked
// for anew: when one's list has to be brought up to date, that of others has, too.
const sectionsFor = 10 * time.Second

// get asks an upstream for a document, or for the part of one that is about a package.
func (s *Mirrors) get(
	ctx context.Context, m *Mirror, p purl.PURL, path string, request upstream.Request,
) (*upstream.Response, error) {
	e, ok := m.Speaks.(ecosystem.Sectioned)
	if !ok || path != e.ListingPath(p) {
		return m.Source.Get(ctx, request)
	}
	all, err := s.sections(ctx, m, e)
	if err != nil {
		return nil, err
	}
	part, ok := all.of[p.Name]
	if !ok {
		return nil, upstream.ErrAbsent
	}
	response := &upstream.Response{Upstream: all.upstream, Address: all.address, Length: -1, ETag: part.tag}
	if request.ETag == part.tag && request.From == all.upstream {
		response.NotModified, response.Body = true, io.NopCloser(bytes.NewReader(nil))
		return response, nil
	}
	response.Body, err = gzip.NewReader(bytes.NewReader(part.packed))
	return response, err
}

// sections gives the document that lists all packages, however many ask for it, at once.
func (s *Mirrors) sections(ctx context.Context, m *Mirror, e ecosystem.Sectioned) (sections, error) {
	fresh := func(known sections) bool {
		return s.Now().Before(known.checked.Add(min(sectionsFor, m.Mirror.Freshness)))
	}
	known, ok := s.whole.Get(m.Source)
	if ok && fresh(known) {
		return known, nil
	}
	asked := s.Now()
	result := m.refreshing.DoChan("\x00"+e.WholePath(), func() (any, error) {
		known, _ := s.whole.Get(m.Source)
		if known.checked.After(asked) {
			return known, nil
		}
		ctx, cancel := context.WithTimeout(context.Background(), longestListing)
		defer cancel()
		return s.takeApart(ctx, m, e, known)
	})
	select {
	case r := <-result:
		if r.Err != nil {
			return sections{}, r.Err
		}
		return r.Val.(sections), nil
	case <-ctx.Done():
		return sections{}, ctx.Err()
	}
}

// takeApart fetches the document, if it has changed.
func (s *Mirrors) takeApart(
	ctx context.Context, m *Mirror, e ecosystem.Sectioned, known sections,
) (sections, error) {
	request := upstream.Request{Path: e.WholePath(), Document: true, Accept: e.Accepts()}
	if known.of != nil {
		request.ETag, request.LastModified, request.From = known.etag, known.lastModified, known.upstream
	}
	begun := s.Now()
	response, err := m.Source.Get(ctx, request)
	if errors.Is(err, upstream.ErrAbsent) {
		return sections{}, m.Source.Wrong(m.Mirror.Upstreams[0].URL, "has no %s", e.WholePath())
	}
	if err != nil {
		return sections{}, err
	}
	defer response.Body.Close()
	if response.NotModified {
		known.checked = begun
		s.whole.Add(m.Source, known)
		return known, nil
	}
	all := sections{upstream: response.Upstream, address: response.Address, etag: response.ETag,
		lastModified: response.LastModified, checked: begun, of: map[string]section{}, weight: 500}
	body := &sparingReader{from: response.Body}
	defer body.end()
	limited := &cutReader{from: body, left: maxListing}
	var packed bytes.Buffer
	w, err := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
	if err != nil {
		return sections{}, err
	}
	err = e.Sections(limited, func(name string, content []byte) error {
		sum := sha256.Sum256(content)
		packed.Reset()
		w.Reset(&packed)
		if _, err := w.Write(content); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
		part := section{packed: bytes.Clone(packed.Bytes()), tag: hex.EncodeToString(sum[:8])}
		all.of[name] = part
		all.weight += int64(200 + len(name) + len(part.packed))
		return nil
	})
	switch {
	case errors.Is(limited.err, errTooLong):
		return sections{}, m.Source.Wrong(response.Upstream, "lists more than can be read: its %s is over %s", e.WholePath(),
			api.Bytes(maxListing))
	case limited.err != nil:
		return sections{}, limited.err
	case err != nil:
		return sections{}, m.Source.Wrong(response.Upstream, "sent a list that is none: %s", err)
	}
	s.whole.Add(m.Source, all)
	return all, nil
}

// Names are the packages that a mirror may have anything of: what its upstream lists, where
// it can list all, and what is kept. While the upstream fails they are those that were seen.
func (s *Mirrors) Names(ctx context.Context, m *Mirror, at catalog.Moment) ([]string, error) {
	names, err := s.DB.ListedNames(ctx, m.ID, m.Ecosystem)
	if err != nil {
		return nil, err
	}
	e, ok := m.Speaks.(ecosystem.Sectioned)
	if !ok || at != 0 {
		return names, nil
	}
	all, err := s.sections(ctx, m, e)
	if err != nil && len(names) == 0 {
		return nil, s.inWords(m, err)
	}
	if err == nil {
		filter := chain.NewFilter(m.Mirror)
		for name := range all.of {
			if filter.Admits(purl.PURL{Ecosystem: m.Ecosystem, Name: name}).Allowed {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// sectionOf finds the part of such a document that is about a package.
func sectionOf(e ecosystem.Sectioned, r io.Reader, name string) (part []byte, err error) {
	err = e.Sections(r, func(of string, content []byte) error {
		if of == name {
			part = content
		}
		return nil
	})
	if err == nil && part == nil {
		err = fmt.Errorf("it does not list %s", name)
	}
	return part, err
}

// newWhole makes the memory of such documents.
func newWhole(a *act.Act) *act.Weighted[*upstream.Source, sections] {
	return act.NewWeighted[*upstream.Source](a.Remembered, 1000, func(s sections) int64 { return s.weight })
}
