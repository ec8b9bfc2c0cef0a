package mirrors

import (
	"context"
	"errors"
	"net/url"
	"slices"
	"strconv"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/upstream"
)

// labelled is File for what a label points to. The upstream is asked for it no more often
// than its documents are, and not for the bytes; if it fails, it points to where it did.
func (s *Mirrors) labelled(ctx context.Context, m *Mirror, q catalog.FileQuestion) (ecosystem.Found, error) {
	byContent, ok := m.Speaks.(ecosystem.ByContent)
	if !ok {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	if q.Key.AsOf != 0 { // what it pointed to then is on record, or not known
		f, err := s.DB.File(ctx, q)
		if errors.Is(err, record.ErrNotFound) {
			err = ecosystem.ErrNoFile
		}
		return ecosystem.Found{File: f, Mirror: m.Name}, err
	}
	key := m.Key(q.Key.Ecosystem, q.Key.Namespace, q.Key.Name)
	path := byContent.LabelPath(key, q.Label)
	known, err := s.Document(ctx, m, path, key)
	if err != nil {
		return ecosystem.Found{}, err
	}
	if known == nil || !s.Now().Before(m.lasts(known)) {
		known, err = s.refreshLabel(ctx, m, key, path, known)
	}
	if err != nil {
		return ecosystem.Found{}, err
	}
	sum, ok := catalog.ParseSum(known.ETag)
	if !known.Found || !ok {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	of := byContent.FileOf(key, sum)
	found, err := s.file(ctx, m, of, q.Label)
	found.Name = of.Name // also while it arrives
	return found, err
}

// refreshLabel asks an upstream what a label points to.
func (s *Mirrors) refreshLabel(
	ctx context.Context, m *Mirror, key catalog.PackageKey, path string, known *record.UpstreamDocument,
) (*record.UpstreamDocument, error) {
	result := m.refreshing.DoChan(path, func() (any, error) {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		return s.askForLabel(ctx, m, key, path, known)
	})
	select {
	case got := <-result:
		if got.Err == nil {
			return got.Val.(*record.UpstreamDocument), nil
		}
		if known != nil && known.Found {
			s.counting.Mirror(m.ID, func(h *record.MirrorHour) { h.Stale++ })
			return known, nil
		}
		return nil, s.upstreamFault(m, got.Err)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// askForLabel asks with HEAD, which upstreams that limit pulls do not count, and notes the
// answer.
func (s *Mirrors) askForLabel(
	ctx context.Context, m *Mirror, key catalog.PackageKey, path string, known *record.UpstreamDocument,
) (*record.UpstreamDocument, error) {
	now := s.Now()
	d := record.UpstreamDocument{RepositoryID: m.ID, Path: path, About: key, CheckedAt: now, ChangedAt: now}
	request := upstream.Request{Path: path, Accept: m.Speaks.Accepts(), Head: true}
	response, err := m.Source.Get(ctx, request)
	if err == nil && response.Digest == "" {
		// One that does not say it is asked for the bytes.
		if err = response.Body.Close(); err == nil {
			request.Head = false
			response, err = m.Source.Get(ctx, request)
		}
	}
	switch {
	case errors.Is(err, upstream.ErrAbsent):
		return &d, s.setDocument(ctx, m, d, false)
	case err != nil:
		if known != nil {
			err = errors.Join(err, s.DB.FailedUpstreamDocument(ctx, m.ID, path, now, fault.Of(s.inWords(m, err)).Message))
		}
		return nil, err
	}
	defer response.Body.Close()
	d.Found, d.URL, d.ETag = true, response.Upstream, response.Digest
	if d.ETag == "" {
		staged, err := s.store.Staging(ctx, m.Repository, response.Body, -1, path)
		if err != nil {
			return nil, err
		}
		defer staged.Discard()
		d.ETag = catalog.Sum{Algorithm: "sha256", Hex: staged.Digests().Hex("sha256")}.String()
	}
	if _, ok := catalog.ParseSum(d.ETag); !ok {
		return nil, m.Source.Wrong(response.Upstream, "says that %s is %.80q, which is no digest", path, d.ETag)
	}
	return &d, s.setDocument(ctx, m, d, known == nil || known.ETag != d.ETag)
}

// names are the parts that a copy names, and its media type; nil where an ecosystem knows
// no such.
func (m *Mirror) names(
	ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt, contentType string,
) (*record.Naming, error) {
	byContent, ok := m.Speaks.(ecosystem.ByContent)
	if !ok {
		return nil, nil
	}
	parts, mediaType, err := byContent.Names(ctx, place, file, contentType)
	if err != nil {
		return nil, err
	}
	naming := &record.Naming{By: record.NamedPart{Name: place.FileName, MediaType: mediaType}}
	for _, p := range parts {
		naming.Parts = append(naming.Parts, record.NamedPart{Name: p.FileName(), Extension: p.Extension,
			MediaType: p.MediaType})
	}
	return naming, nil
}

// keepCopy records a copy: a version's file or, without a version, a part of its package.
func (s *Mirrors) keepCopy(
	ctx context.Context, tx *record.Tx, f record.NewFile, names *record.Naming, label string,
) (kept bool, err error) {
	if f.Version == "" {
		return tx.AddPartCopy(ctx, record.Part{Key: f.Key, Name: f.Name, Digests: f.Digests, At: f.At, By: f.PublisherName})
	}
	if kept, err = tx.AddCopy(ctx, f); err != nil || !kept {
		return kept, err
	}
	if names != nil {
		if err := tx.NameCopies(ctx, f, *names); err != nil {
			return kept, err
		}
	}
	if label != "" {
		err = tx.SetLabel(ctx, f.Key, label, f.Version, f.PublisherName, f.At)
	}
	return kept, err
}

// labelPages is how many pages of labels are asked for at most, and labelsAsked how many
// labels are to be on each.
const labelPages, labelsAsked = 1000, 20_000

// Labels lists the labels of a package that an upstream has, from after one on; those on
// record, if it fails.
func (s *Mirrors) Labels(
	ctx context.Context, m *Mirror, key catalog.PackageKey, after string, limit int,
) (all []catalog.Label, err error) {
	byContent, ok := m.Speaks.(ecosystem.ByContent)
	if !ok || key.AsOf != 0 {
		return s.DB.Labels(ctx, []int64{m.ID}, key, after, limit)
	}
	here, err := s.DB.Labels(ctx, []int64{m.ID}, key, after, limit)
	if err != nil {
		return nil, err
	}
	all, err = s.labelsThere(ctx, m, byContent, key, after, limit)
	switch {
	case errors.Is(err, upstream.ErrAbsent):
		return here, nil
	case err != nil && here != nil:
		s.counting.Mirror(m.ID, func(h *record.MirrorHour) { h.Stale++ })
		return here, nil
	case err != nil:
		return nil, s.upstreamFault(m, err)
	}
	return all, nil
}

// labelsThere lists the labels that an upstream lists, page by page: each page goes on after
// the one before, and pages are in the order of the bytes of their names (distribution
// specification, "Content discovery"). What comes at once may be in any order.
func (s *Mirrors) labelsThere(
	ctx context.Context, m *Mirror, byContent ecosystem.ByContent, key catalog.PackageKey, after string, limit int,
) (all []catalog.Label, err error) {
	query := url.Values{"n": {strconv.Itoa(min(limit, labelsAsked))}}
	if after != "" {
		query.Set("last", after)
	}
	request := upstream.Request{Path: byContent.LabelsPath(key), Query: query.Encode(), Document: true}
	last := after
	for range labelPages {
		names, from, next, err := s.labelPage(ctx, m, byContent, request)
		if err != nil {
			return nil, err
		}
		slices.Sort(names)
		for _, name := range slices.Compact(names) {
			if name > last && len(all) < limit {
				all = append(all, catalog.Label{Name: name, SetBy: from})
			}
		}
		if len(all) > 0 {
			last = all[len(all)-1].Name
		}
		if next == "" || len(all) == limit || next == request.Address {
			break
		}
		request = upstream.Request{Address: next, At: from, Document: true}
	}
	return all, nil
}

// labelPage is one page of them, the upstream that sent it, and where the next one is.
func (s *Mirrors) labelPage(
	ctx context.Context, m *Mirror, byContent ecosystem.ByContent, request upstream.Request,
) (names []string, from, next string, err error) {
	response, err := m.Source.Get(ctx, request)
	if err != nil {
		return nil, "", "", err
	}
	defer response.Body.Close()
	names, err = byContent.ReadLabels(ecosystem.Reading{Reader: response.Body, Address: response.Address})
	if err != nil {
		err = m.Source.Wrong(response.Upstream, "sent a list of labels that cannot be read: %s", err)
	}
	return names, response.Upstream, response.Next, err
}
