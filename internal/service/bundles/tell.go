package bundles

import (
	"context"
	"errors"
	"io"
	"maps"
	"slices"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

const (
	// askedAtOnce is how many packages may be asked for at once.
	askedAtOnce = 1000
	// toldVersions is after how many versions the rest is told when it is asked for, and lookedThrough after how
	// many packages of which nothing is wanted.
	toldVersions  = 2000
	lookedThrough = 20000
)

// Tell tells another Crelvo what a repository of our own keeps, in the form of bundles.
func (s *Bundles) Tell(
	ctx context.Context, caller access.Caller, r catalog.Repository, q bundle.Question,
) (*bundle.Held, error) {
	m, err := s.telling(caller, r, q.Only)
	if err != nil {
		return nil, err
	}
	a := &bundle.Held{Packages: []bundle.Package{}, Builds: []bundle.Build{}, LeftOut: []bundle.LeftOut{}}
	if len(q.Packages) > 0 {
		if err := m.named(ctx, r, q.Packages); err != nil {
			return nil, err
		}
		a.Builds, err = m.buildsOf(ctx)
	} else {
		m.briefly = true
		a.Next, err = m.after(ctx, r, q)
	}
	a.Packages, a.LeftOut = append(a.Packages, m.Packages...), append(a.LeftOut, m.LeftOut...)
	return a, err
}

// telling gathers what is wanted of one repository.
func (s *Bundles) telling(caller access.Caller, r catalog.Repository, only []string) (*Making, error) {
	if !r.Own() {
		return nil, fault.New(fault.Conflict, "not-kept", "%s is a %s, and its packages are told of by their own protocol",
			r.Name, r.Kind)
	}
	if r.AsOf != 0 {
		return nil, act.Invalid("as-of", "what is told of is what is there now")
	}
	for _, text := range only {
		if _, err := purl.ParsePattern(text); err != nil {
			return nil, act.Invalid("bad-pattern", "%v", err)
		}
	}
	return &Making{s: s, caller: caller, builds: map[int64]bool{},
		only: chain.NewFilter(&catalog.MirrorSettings{Allow: only})}, nil
}

// keys are those of package URLs.
func (m *Making) keys(r catalog.Repository, packages []string) (keys []catalog.PackageKey, err error) {
	if len(packages) > askedAtOnce {
		return nil, act.Invalid("too-many-packages", "at most %d packages can be asked for at once", askedAtOnce)
	}
	for _, given := range packages {
		p, err := purl.Parse(given)
		if err != nil {
			return nil, act.Invalid("bad-purl", "%v", err)
		}
		key := r.Key(p.Ecosystem, p.Namespace, p.Name)
		if m.s.Ecosystem(p.Ecosystem) != nil && m.s.directory.Shows(key) && !slices.Contains(keys, key) {
			keys = append(keys, key)
		}
	}
	return keys, nil
}

// named gathers packages that are named.
func (m *Making) named(ctx context.Context, r catalog.Repository, packages []string) error {
	keys, err := m.keys(r, packages)
	if err != nil {
		return err
	}
	return m.gatherKeys(ctx, r, keys)
}

// after gathers packages from where the last answer ended, and tells where this one does.
func (m *Making) after(ctx context.Context, r catalog.Repository, q bundle.Question) (next string, err error) {
	last := catalog.PackageKey{RepositoryID: r.ID}
	if q.After != "" {
		p, err := purl.Parse(q.After)
		if err != nil {
			return "", act.Invalid("bad-purl", "%v", err)
		}
		last = r.Key(p.Ecosystem, p.Namespace, p.Name)
	}
	versions := 0
	for looked := 0; versions < toldVersions && looked < lookedThrough; {
		keys, err := m.s.DB.PackagesAfter(ctx, last, q.Ecosystem, lookedAtOnce)
		if err != nil || len(keys) == 0 {
			return "", err
		}
		looked, last = looked+len(keys), keys[len(keys)-1]
		keys = slices.DeleteFunc(keys, func(key catalog.PackageKey) bool {
			return !m.only.Admits(act.PURLOf(key, "")).Allowed ||
				!m.s.directory.Shows(r.Key(key.Ecosystem, key.Namespace, key.Name))
		})
		before := len(m.Packages)
		if err := m.gatherKeys(ctx, r, keys); err != nil {
			return "", err
		}
		for _, p := range m.Packages[before:] {
			versions += len(p.Versions)
		}
	}
	return act.PURLOf(last, "").String(), nil
}

// buildsOf are the builds that made what was gathered.
func (m *Making) buildsOf(ctx context.Context) ([]bundle.Build, error) {
	told := []bundle.Build{}
	if len(m.builds) == 0 {
		return told, nil
	}
	all, err := m.s.DB.Builds(ctx, record.BuildFilter{IDs: slices.Collect(maps.Keys(m.builds))})
	for _, b := range all {
		told = append(told, bundle.Build{Name: b.Name, Number: b.Number, Revision: b.Revision, Branch: b.Branch,
			Link: b.Link, Agent: b.Agent, By: b.Owner, StartedAt: b.StartedAt.UTC(), EndedAt: b.EndedAt, Notes: b.Notes,
			Tests: b.Tests})
	}
	return told, err
}

// filesOf are the files of some packages of a repository and their sizes.
func (s *Bundles) filesOf(
	ctx context.Context, caller access.Caller, r catalog.Repository, packages []string,
) (map[bundle.Sum]int64, error) {
	m, err := s.telling(caller, r, nil)
	if err == nil {
		m.briefly = true
		err = m.named(ctx, r, packages)
	}
	if err != nil {
		return nil, err
	}
	return bundle.Manifest{Packages: m.Packages}.Files(), nil
}

// Send writes the files of some packages of a repository that are wanted, by SHA-256, as the rest of a bundle. Those
// that are not in them are left out.
func (s *Bundles) Send(
	ctx context.Context, caller access.Caller, r catalog.Repository, packages []string, wanted []bundle.Sum,
) (write func(io.Writer) error, err error) {
	sizes, err := s.filesOf(ctx, caller, r, packages)
	if err != nil {
		return nil, err
	}
	return func(w io.Writer) error {
		b := bundle.NewFilesWriter(w, s.Now())
		for _, sum := range wanted {
			size, there := sizes[sum]
			if !there {
				continue
			}
			delete(sizes, sum)
			file, err := s.store.OpenBytes(ctx, sum, size)
			if err != nil { // whoever asks finds that it lacks, and has the rest
				s.Log.Error("a file could not be sent to another server", "sha256", sum.String(), "error", err)
				continue
			}
			if err := errors.Join(b.Add(sum, size, file), file.Close()); err != nil {
				return err
			}
		}
		return b.Close()
	}, nil
}

// SendFrom writes the bytes of one file of some packages of a repository, from one on.
func (s *Bundles) SendFrom(
	ctx context.Context, caller access.Caller, r catalog.Repository, packages []string, sum bundle.Sum, from int64,
) (write func(io.Writer) error, err error) {
	sizes, err := s.filesOf(ctx, caller, r, packages)
	if err != nil {
		return nil, err
	}
	size, there := sizes[sum]
	if !there || from > size {
		return nil, fault.New(fault.NotFound, "no-such-file", "none of these packages has a file with SHA-256 %s and byte %d",
			sum, from)
	}
	file, err := s.store.OpenBytes(ctx, sum, size)
	if err != nil {
		return nil, s.store.Fault(err)
	}
	return func(w io.Writer) error {
		_, err := io.Copy(w, io.NewSectionReader(file, from, size-from))
		return errors.Join(err, file.Close())
	}, nil
}
