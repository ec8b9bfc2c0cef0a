package mirrors

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/upstream"
)

// aboutThere is what an upstream lists about a version, and until when that is taken as
// current.
type aboutThere struct {
	versions []catalog.Version
	until    time.Time
}

// aboutKept is how many such lists of a mirror are remembered, and aboutSize how long one
// may be that is, in bytes.
const aboutKept, aboutSize = 200, 32 << 10

// maxAbout is how long such a list may be at most, in bytes.
const maxAbout = 4 << 20

// About lists versions that are about another one: those that the upstream lists, and those
// that are kept; these alone, if it fails. Of versions that are only listed nothing but their
// own file's description is known.
func (s *Mirrors) About(
	ctx context.Context, m *Mirror, key catalog.PackageKey, subject, after string, limit int,
) ([]catalog.Version, error) {
	kept, err := s.DB.About(ctx, []int64{m.ID}, key, subject, after, limit)
	byContent, ok := m.Speaks.(ecosystem.ByContent)
	if err != nil || !ok || key.AsOf != 0 || m.Admits(act.PURLOf(key, "")) != nil {
		return kept, err
	}
	listed, err := s.aboutListed(ctx, m, byContent, key, subject)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		s.counting.Mirror(m.ID, func(h *record.MirrorHour) { h.Stale++ })
		return kept, nil
	}
	for _, v := range listed {
		if v.Version > after && !slices.ContainsFunc(kept, func(o catalog.Version) bool { return o.Version == v.Version }) {
			kept = append(kept, v)
		}
	}
	slices.SortFunc(kept, func(a, b catalog.Version) int { return strings.Compare(a.Version, b.Version) })
	return kept[:min(len(kept), limit)], nil
}

// aboutListed asks the upstream, no more often than for its documents, and once for all who
// ask at the same time.
func (s *Mirrors) aboutListed(
	ctx context.Context, m *Mirror, byContent ecosystem.ByContent, key catalog.PackageKey, subject string,
) ([]catalog.Version, error) {
	paths := byContent.AboutPaths(key, subject)
	if known, ok := m.referring.Get(paths[0]); ok && s.Now().Before(known.until) {
		return known.versions, nil
	}
	result := m.refreshing.DoChan("about "+paths[0], func() (any, error) {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		now := s.Now()
		for _, path := range paths {
			response, err := m.Source.Get(ctx, upstream.Request{Path: path, Accept: m.Speaks.Accepts(), Document: true})
			if errors.Is(err, upstream.ErrAbsent) {
				continue
			}
			if err != nil {
				return nil, err
			}
			cut := &cutReader{from: response.Body, left: maxAbout}
			versions, err := byContent.ReadAbout(ecosystem.Reading{Reader: cut, Address: response.Address})
			if err = errors.Join(err, response.Body.Close()); err != nil {
				return nil, m.Source.Wrong(response.Upstream, "sent a list of what is about %s that cannot be read", subject)
			}
			if maxAbout-cut.left <= aboutSize {
				m.referring.Add(paths[0], aboutThere{versions, now.Add(m.Mirror.Freshness)})
			}
			return versions, nil
		}
		m.referring.Add(paths[0], aboutThere{until: now.Add(m.Mirror.AbsentFor)})
		return []catalog.Version(nil), nil
	})
	select {
	case got := <-result:
		if got.Err != nil {
			return nil, got.Err
		}
		return got.Val.([]catalog.Version), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
