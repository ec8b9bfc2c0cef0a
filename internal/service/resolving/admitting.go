package resolving

import (
	"context"
	"slices"
	"time"
	"weak"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/safety"
)

// admitting keeps out of a source's answers what its repository does not let in.
type admitting struct {
	s *Resolving
	r catalog.Repository
	Source
}

// File implements Source. Who publishes a version reads back what came of it, whatever is
// known of it. (What is found by a label or a digest alone is of kinds of packages that
// advisories do not name.)
func (a admitting) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	if q.Open || q.Version == "" {
		return a.Source.File(ctx, q)
	}
	judge, err := a.s.safety.Judge(ctx, a.r, q.Key)
	if err != nil {
		return ecosystem.Found{}, err
	}
	refusal := judge.Refusal(q.Version)
	if refusal != nil && a.r.Fetches() {
		return ecosystem.Found{}, refusal // it is not even fetched
	}
	found, err := a.Source.File(ctx, q)
	if err == nil && refusal != nil {
		return ecosystem.Found{}, refusal
	}
	return found, err
}

// Package implements Source. If nothing of a package is let in, it has no versions.
func (a admitting) Package(
	ctx context.Context, key catalog.PackageKey, version string,
) (*catalog.Package, time.Time, error) {
	age := a.s.Age(key)
	p, until, err := a.Source.Package(ctx, key, version)
	if err != nil {
		return p, until, err
	}
	judge, err := a.s.safety.Judge(ctx, a.r, key)
	if err != nil || judge == nil {
		return p, until, err
	}
	return a.s.admitted(p, judge, age), until, nil
}

// admittedPackage is what was let in of a package.
type admittedPackage struct {
	of    weak.Pointer[catalog.Package]
	value *catalog.Package
}

// admitted is a package without what is not let in of it, as it was decided at a generation. It
// is the same value as long as nothing changes, since documents are remembered for it.
func (s *Resolving) admitted(p *catalog.Package, judge *safety.Judge, age uint64) *catalog.Package {
	of := weak.Make(p)
	known, ok := s.admittances.Get(p.Key)
	if ok && known.Generation == age && known.Value.of == of {
		if known.Value.value == nil {
			return p
		}
		return known.Value.value
	}
	made := without(p, judge)
	remembered := made
	if made == p {
		remembered = nil // which would keep it alive
	}
	s.admittances.Add(p.Key, act.Aged[admittedPackage]{Value: admittedPackage{of, remembered}, Generation: age})
	return made
}

// without is a package without what is not let in of it: itself, if all is.
func without(p *catalog.Package, judge *safety.Judge) *catalog.Package {
	refused := map[string]*fault.Error{}
	for i := range p.Versions {
		version := p.Versions[i].Version
		if _, known := refused[version]; known {
			continue
		}
		refused[version] = nil
		if err := judge.Refusal(version); err != nil {
			refused[version] = fault.Of(err)
		}
	}
	less := *p
	less.KeptOut = slices.Clone(p.KeptOut)
	for version, f := range refused {
		if f != nil {
			less.KeptOut = append(less.KeptOut, catalog.KeptOut{Version: version, Why: f.Message, Hint: f.Hint})
		}
	}
	if len(less.KeptOut) == len(p.KeptOut) {
		return p
	}
	less.Versions = slices.DeleteFunc(slices.Clone(p.Versions), func(v catalog.Version) bool {
		return refused[v.Version] != nil
	})
	less.Labels = map[string]string{}
	for label, version := range p.Labels {
		if refused[version] == nil {
			less.Labels[label] = version
		}
	}
	return &less
}

// keptOut tells why a repository lets a version of a package not in that is there, or
// whichever, if version is "" and it lets none in; nil if that is not so.
func (s *Resolving) keptOut(ctx context.Context, key catalog.PackageKey, version string) *fault.Error {
	p, _, err := s.packageAdmitted(ctx, key, "")
	if err != nil {
		return nil
	}
	for _, k := range p.KeptOut {
		if k.Version == version || version == "" && len(p.Versions) == 0 {
			f := fault.New(fault.Denied, ecosystem.KeptOut, "%s", k.Why)
			f.Hint = k.Hint
			return f
		}
	}
	return nil
}

// packageUntil is what a repository of any kind lets in of a package, and until when that
// holds if nothing changes.
func (s *Resolving) packageUntil(
	ctx context.Context, key catalog.PackageKey, version string,
) (p *catalog.Package, until time.Time, err error) {
	p, until, err = s.packageAdmitted(ctx, key, version)
	if err == nil && len(p.Versions) == 0 && len(p.KeptOut) > 0 {
		return nil, until, ecosystem.ErrNoPackage
	}
	return p, until, err
}

// packageAdmitted is packageUntil, and gives also a package of which nothing is let in.
func (s *Resolving) packageAdmitted(
	ctx context.Context, key catalog.PackageKey, version string,
) (p *catalog.Package, until time.Time, err error) {
	source, seen, ok := s.sourceOf(key)
	if !ok || !s.directory.Shows(key) {
		return nil, mirrors.Forever, ecosystem.ErrNoPackage
	}
	return source.Package(ctx, seen, version)
}
