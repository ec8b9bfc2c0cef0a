package mirrors

import (
	"context"
	"errors"
	"slices"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
)

// Package is what a mirror has of a package: what it keeps, and what its
// upstream lists. version is "" or a snapshot whose uploads are wanted. until is
// when the upstream is to be asked again, if nothing changes before.
func (s *Mirrors) Package(
	ctx context.Context, m *Mirror, key catalog.PackageKey, version string,
) (_ *catalog.Package, until time.Time, err error) {
	if m == nil || key.Ecosystem != m.Ecosystem {
		return nil, Forever, ecosystem.ErrNoPackage
	}
	filter := chain.NewFilter(m.Mirror)
	if !filter.Admits(act.PURLOf(key, "")).Allowed {
		return nil, Forever, ecosystem.ErrNoPackage
	}
	// What is kept is looked for while the upstream is asked.
	kept := ahead(func() (*catalog.Package, error) { return s.holdings.Package(ctx, key) })
	list, listErr := s.listingAt(ctx, m, act.PURLOf(key, version), key.AsOf)
	copies, err := kept()
	if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
		return nil, until, err
	}
	if listErr != nil && copies == nil {
		return nil, until, listErr
	}
	if listErr != nil {
		list.stale = &catalog.Staleness{Mirror: m.Name, Why: fault.Of(listErr).Message}
	}
	all := &catalog.Package{Key: key}
	places := map[string]int{}              // of what is kept
	current := map[string]catalog.Version{} // uploads of snapshots that are listed
	if copies != nil {
		all.ID, all.Revision, all.Changed, all.Labels = copies.ID, copies.Revision, copies.Changed, copies.Labels
		all.Versions = slices.Grow(all.Versions, len(copies.Versions))
		for i, v := range copies.Versions {
			places[v.Version+"/"+v.Upload] = i
			all.Versions = append(all.Versions, v)
		}
	}
	if list.stale != nil {
		all.Stale = append(all.Stale, *list.stale)
	}
	if d := list.document; d != nil {
		if d.ChangedAt.After(all.Changed) {
			all.Changed = d.ChangedAt
		}
		dates := newDates(d.Listing.Versions, m.Ecosystem)
		for _, l := range d.Listing.Versions {
			if !l.Then(key.AsOf) {
				continue
			}
			listed := listedVersion(m, l)
			listed.Dated = dates.of(l)
			if i, ok := places[l.Version+"/"+l.Upload]; ok {
				listed = withListed(all.Versions[i], listed)
				all.Versions[i] = listed
			} else {
				all.Versions = append(all.Versions, listed)
			}
			if listed.Snapshot {
				current[l.Version] = listed
			}
		}
		if _, ok := m.Speaks.(ecosystem.ByPath); !ok {
			// The upload that is listed is the newest, even where another came later.
			all.Versions = slices.DeleteFunc(all.Versions, func(v catalog.Version) bool {
				now, ok := current[v.Version]
				return ok && v.Upload != now.Upload && v.Newer(now)
			})
		}
		all.Labels = d.Listing.Labels
	}
	if all.Versions = m.fit(all.Versions, key, filter); len(all.Versions) == 0 {
		return nil, list.until, ecosystem.ErrNoPackage
	}
	return all, list.until, nil
}

// fit are the versions that a mirror may have at all.
func (m *Mirror) fit(all []catalog.Version, key catalog.PackageKey, filter chain.Filter) []catalog.Version {
	fits := all[:0]
	for _, v := range all {
		if v.Outside = true; v.Dated.IsZero() {
			v.Dated = v.PublishedAt // it is not listed any more
		}
		if m.Holds.Takes(v.Snapshot) && filter.Admits(act.PURLOf(key, v.Version)).Allowed {
			fits = append(fits, v)
		}
	}
	return fits
}

// ahead begins something, and gives what waits for its end. A panic in it is one of whoever
// waits.
func ahead[T any](do func() (T, error)) (wait func() (T, error)) {
	var value T
	var err error
	var bad any
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer func() { bad = recover() }()
		value, err = do()
	}()
	return func() (T, error) {
		if <-done; bad != nil {
			panic(bad)
		}
		return value, err
	}
}

func listedVersion(m *Mirror, l catalog.ListedVersion) catalog.Version {
	v := catalog.Version{Version: l.Version, Upload: l.Upload, Snapshot: purl.IsSnapshot(m.Ecosystem, l.Version),
		Listed:     true,
		UploadedAt: l.UploadedAt, UploadCount: l.UploadCount, PublishedAt: l.SeenAt, PublishedBy: m.Name}
	switch _, byPath := m.Speaks.(ecosystem.ByPath); {
	case l.UploadedAt.IsZero() && v.Snapshot:
		v.UploadedAt = l.SeenAt
	case l.UploadedAt.IsZero():
	case v.Upload == "" || !byPath:
		v.PublishedAt = l.UploadedAt
	}
	if l.Details != nil {
		v.Details = *l.Details
	}
	v.Withdrawn = l.Withdrawn
	for _, f := range l.Files {
		file := catalog.File{RepositoryID: m.ID, Name: f.Name, Classifier: f.Classifier, Extension: f.Extension,
			AddedAt: l.UploadedAt}
		file.Digests.Size = f.Size
		for algorithm, text := range f.Digests {
			file.Digests.ParseHex(algorithm, text)
		}
		v.Files = append(v.Files, file)
	}
	return v
}

// withListed is a version that is kept, with what its upstream says of it
// besides: files that are not kept yet, and that it was withdrawn.
func withListed(v, listed catalog.Version) catalog.Version {
	v.Withdrawn, v.Dated = listed.Withdrawn, listed.Dated
	if differ(v, listed) {
		return v // what is said of other bytes is not said of these
	}
	v.Details = listed.Details.Merge(v.Details)
	if !listed.UploadedAt.IsZero() {
		v.PublishedAt = listed.UploadedAt
	}
	files := slices.Clip(v.Files)
	for _, f := range listed.Files {
		if !slices.ContainsFunc(v.Files, func(k catalog.File) bool { return k.Name == f.Name }) {
			files = append(files, f)
		}
	}
	v.Files = files
	return v
}

// dates tell when the versions of a list were published.
type dates struct {
	first  time.Time // when the list was seen for the first time
	newest string    // the version that may have come just before, if no list says when any came
}

func newDates(listed []catalog.ListedVersion, ecosystemName string) (d dates) {
	for _, l := range listed {
		if d.first.IsZero() || l.SeenAt.Before(d.first) {
			d.first = l.SeenAt
		}
	}
	for _, l := range listed {
		if !l.UploadedAt.IsZero() {
			d.newest = ""
			break
		}
		if l.SeenAt.Equal(d.first) && (d.newest == "" || purl.Compare(ecosystemName, l.Version, d.newest) > 0) {
			d.newest = l.Version
		}
	}
	return d
}

// of is when a version was published, as far as its upstream says: at the latest when it was
// first seen there. Where nothing is said of a version that was in the first list, it was there
// before anybody looked; but the newest may have come just before.
func (d dates) of(l catalog.ListedVersion) time.Time {
	switch {
	case !l.UploadedAt.IsZero() && l.UploadedAt.Before(l.SeenAt):
		return l.UploadedAt
	case l.UploadedAt.IsZero() && l.SeenAt.Equal(d.first) && l.Version != d.newest:
		return catalog.LongAgo
	}
	return l.SeenAt
}
