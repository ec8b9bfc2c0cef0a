package mirrors

import (
	"context"
	"errors"
	"io"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/upstream"
)

// Packages are those of a mirror that are wanted: that patterns name, that it knows, and, where its upstream
// lists all that there is, of these. One that has to be asked for that, and may be everybody's, is asked only if
// a pattern leaves open which packages are wanted.
func (s *Mirrors) Packages(
	ctx context.Context, m *Mirror, patterns []string, wants func(purl.PURL) bool,
) ([]purl.PURL, error) {
	var wanted []purl.PURL
	seen := map[string]bool{}
	add := func(of purl.PURL) {
		of.Version, of.Qualifiers = "", nil
		if key := of.String(); !seen[key] && wants(of) {
			seen[key] = true
			wanted = append(wanted, of)
		}
	}
	open := false
	for _, given := range patterns {
		pattern, err := purl.ParsePattern(given)
		if err != nil {
			return nil, err
		}
		of, named := pattern.Exact()
		if named {
			add(of)
		}
		open = open || !named
	}
	if e, ok := m.Speaks.(ecosystem.Enumerated); ok && open {
		if err := s.enumerate(ctx, m, e, func(of purl.PURL) error {
			if add(of); len(wanted) > mostEnumerated {
				return fault.New(fault.TooLarge, "too-many-packages", "more than %d packages fit", mostEnumerated).
					WithHint("Name fewer, by patterns, or in a file: --only @FILE.")
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	listed, err := s.DB.UpstreamPackages(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	for _, key := range listed {
		add(act.PURLOf(key, ""))
	}
	if _, ok := m.Speaks.(ecosystem.Sectioned); ok { // it lists all that there is
		all, err := s.Names(ctx, m, 0)
		if err != nil {
			return nil, err
		}
		for _, name := range all {
			add(purl.PURL{Ecosystem: m.Ecosystem, Name: name})
		}
	}
	names, err := s.DB.PackagesOf(ctx, m.ID)
	for _, key := range names {
		add(act.PURLOf(key, ""))
	}
	return wanted, err
}

// mostEnumerated is how many packages of an upstream may be wanted by patterns.
const mostEnumerated = 100_000

// enumerate has the upstream tell which packages it has; nothing, if it does not offer that.
func (s *Mirrors) enumerate(
	ctx context.Context, m *Mirror, e ecosystem.Enumerated, each func(of purl.PURL) error,
) error {
	at := ""
	err := e.Enumerate(ctx, func(a ecosystem.Asked) (ecosystem.Reading, io.Closer, error) {
		response, err := m.Source.Get(ctx, upstream.Request{Path: a.Path, Query: a.Query, Address: a.Address,
			Accept: a.Accept, Document: true, At: at})
		if err != nil {
			return ecosystem.Reading{}, nil, err
		}
		at = response.Upstream
		return ecosystem.Reading{Reader: &cutReader{from: response.Body, left: maxListing}, Address: response.Address},
			response.Body, nil
	}, func(of purl.PURL) error {
		if text.Check("", of.Namespace, false, text.MaxName) != nil || text.Check("", of.Name, false, text.MaxName) != nil {
			return nil // nobody could ask for it
		}
		return each(of)
	})
	var told *fault.Error
	switch {
	case errors.Is(err, upstream.ErrAbsent):
		return nil
	case err != nil && !errors.As(err, &told):
		return s.inWords(m, err)
	}
	return err
}

// Bring fetches what is not kept of a version: the files that its upstream lists, or, where that does not
// list files, those that belong to it, as far as the upstream has them. It gives how many came, and their
// bytes, also with an error.
func (s *Mirrors) Bring(
	ctx context.Context, m *Mirror, key catalog.PackageKey, v *catalog.Version, like []catalog.File,
) (files int, bytes int64, err error) {
	of := act.PURLOf(key, v.Version)
	if _, byPath := m.Speaks.(ecosystem.ByPath); byPath {
		return s.bring(ctx, m, of, v.Details, key, like)
	}
	for _, f := range v.Files {
		came, err := s.fetch(ctx, m, catalog.FileQuestion{Key: key, Version: v.Version, Upload: v.Upload, Name: f.Name})
		if errors.Is(err, ecosystem.ErrNoFile) {
			err = fault.New(fault.NotFound, "no-such-file", "the upstream lists %s, and does not have it", f.Name)
		}
		if err != nil {
			return files, bytes, err
		}
		if came > 0 {
			files, bytes = files+1, bytes+came
		}
	}
	return files, bytes, nil
}

// fetch has one file kept; came is how many bytes came for that.
func (s *Mirrors) fetch(ctx context.Context, m *Mirror, q catalog.FileQuestion) (came int64, err error) {
	q.Key.RepositoryID = m.ID
	found, err := s.File(ctx, m, q)
	if err != nil {
		return 0, err
	}
	f, err := found.Kept(ctx)
	if err == nil && found.Fetched {
		came = f.Digests.Size
	}
	return came, err
}

// bring fetches a version: the file that every version has, and then those that are wanted beside it.
func (s *Mirrors) bring(
	ctx context.Context, m *Mirror, of purl.PURL, details catalog.Details, key catalog.PackageKey, like []catalog.File,
) (files int, bytes int64, err error) {
	fetch := func(q catalog.FileQuestion) error {
		came, err := s.fetch(ctx, m, q)
		if came > 0 {
			files, bytes = files+1, bytes+came
		}
		return err
	}
	if byPath, ok := m.Speaks.(ecosystem.ByPath); ok {
		if err := fetch(byPath.Marker(of, "")); err != nil {
			if errors.Is(err, ecosystem.ErrNoFile) {
				err = fault.New(fault.NotFound, "no-such-version", "the upstream lists it, but does not have it")
			}
			return files, bytes, err
		}
		kept, err := s.holdings.Package(ctx, key)
		if err != nil {
			return files, bytes, err
		}
		for _, v := range kept.Versions {
			if v.Version == of.Version {
				details = v.Details
			}
		}
	}
	for i, q := range m.Speaks.Companions(of, details, like) {
		// Only the first two are what the version promises.
		if err := fetch(q); err != nil && !(i > 1 && errors.Is(err, ecosystem.ErrNoFile)) {
			if errors.Is(err, ecosystem.ErrNoFile) {
				err = fault.New(fault.NotFound, "no-such-file", "the upstream does not have %s", q.Name)
			}
			return files, bytes, err
		}
	}
	return files, bytes, nil
}
