package resolving

import (
	"context"
	"errors"
	"slices"
	"time"
	"weak"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
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
// known of it.
func (a admitting) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	if q.Open {
		return a.Source.File(ctx, q)
	}
	judge, err := a.s.safety.Judge(ctx, a.r, q.Key)
	if err != nil {
		return ecosystem.Found{}, err
	}
	if a.s.byContent(q.Key) {
		return a.byLabel(ctx, q, judge)
	}
	if q.Version == "" {
		return a.Source.File(ctx, q)
	}
	refusal, err := a.s.refusal(ctx, a.r, judge, q.Key, q.Version)
	if errors.Is(err, errUnlisted) {
		err = ecosystem.ErrNoFile
	}
	if err != nil {
		return ecosystem.Found{}, err
	}
	if refusal != nil && !a.r.Own() {
		return ecosystem.Found{}, refusal // it is not even fetched
	}
	found, err := a.Source.File(ctx, q)
	if err == nil && refusal != nil {
		return ecosystem.Found{}, refusal
	}
	return found, err
}

// byLabel is File where versions are named by their content, and asked for by labels. What is
// known of them is their name, which is decided about.
func (a admitting) byLabel(ctx context.Context, q catalog.FileQuestion, judge *safety.Judge) (ecosystem.Found, error) {
	refusal := judge.Refusal(q.Version, judge.ByName(q.Version, true))
	if refusal != nil && a.r.Fetches() {
		return ecosystem.Found{}, refusal
	}
	found, err := a.Source.File(ctx, q)
	if err != nil || judge == nil {
		return found, err
	}
	if refusal := judge.Refusal(q.Version, judge.ByName(q.Version, found.Mirror != "")); refusal != nil {
		return ecosystem.Found{}, refusal
	}
	return found, nil
}

// byContent tells whether the versions of a package are named by their content, so that nothing else is known of them
// before they are here.
func (s *Resolving) byContent(key catalog.PackageKey) bool {
	switch s.Ecosystem(key.Ecosystem).(type) {
	case ecosystem.Maturing, ecosystem.ByName:
		return true
	}
	return false
}

// errUnlisted is that nobody can tell about a version whether it may come in, since its upstream
// does not list it.
var errUnlisted = errors.New("it is not in its upstream's list, without which nothing is let in")

// refusal is what whoever asks for a version is told that a repository does not let in; nil if it
// does, or if there is no such version.
func (s *Resolving) refusal(
	ctx context.Context, r catalog.Repository, judge *safety.Judge, key catalog.PackageKey, version string,
) (*fault.Error, error) {
	if f := judge.Refusal(version, judge.Named(version)); f != nil || !judge.NeedsFacts() {
		return f, nil
	}
	if s.byContent(key) {
		return judge.Refusal(version, judge.ByName(version, r.Fetches())), nil
	}
	of := ""
	if purl.IsSnapshot(key.Ecosystem, version) {
		of = version // its uploads may be listed apart
	}
	p, _, err := s.packageAdmitted(ctx, key, of)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		p, err = new(catalog.Package), nil
	}
	if err != nil {
		return nil, err
	}
	for i := range p.Versions {
		if p.Versions[i].Version == version {
			return nil, nil
		}
	}
	for _, k := range p.KeptOut {
		if k.Version == version {
			return s.refused(key, k), nil
		}
	}
	// Files that are asked for by their names may be there nevertheless.
	if _, byPath := s.Ecosystem(key.Ecosystem).(ecosystem.ByPath); byPath && r.Fetches() &&
		judge.ByFacts(version, core.Facts{Outside: true}).Refused {
		return nil, errUnlisted
	}
	return nil, nil
}

// refused is what whoever asks for a version is told that is kept out.
func (s *Resolving) refused(key catalog.PackageKey, k catalog.KeptOut) *fault.Error {
	by := s.directory.Known().ByID[k.By]
	by.AsOf = key.AsOf
	return safety.Refused(by, act.PURLOf(key, k.Version), k)
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
	admitted, ends := a.s.admitted(p, judge, age)
	if !ends.IsZero() && ends.Before(until) {
		until = ends
	}
	return admitted, until, nil
}

// admittedPackage is what was let in of a package.
type admittedPackage struct {
	of    weak.Pointer[catalog.Package]
	value *catalog.Package
	until time.Time // when it may be other versions by itself; zero if it is not
}

// admitted is a package without what is not let in of it, as it was decided at a generation, and
// until when that holds. It is the same value as long as nothing changes, since documents are
// remembered for it.
func (s *Resolving) admitted(p *catalog.Package, judge *safety.Judge, age uint64) (*catalog.Package, time.Time) {
	of := weak.Make(p)
	known, ok := s.admittances.Get(p.Key)
	if ok && known.Generation == age && known.Value.of == of &&
		(known.Value.until.IsZero() || s.Now().Before(known.Value.until)) {
		if known.Value.value == nil {
			return p, known.Value.until
		}
		return known.Value.value, known.Value.until
	}
	made, until := s.without(p, judge)
	remembered := made
	if made == p {
		remembered = nil // which would keep it alive
	}
	s.admittances.Add(p.Key, act.Aged[admittedPackage]{Value: admittedPackage{of, remembered, until}, Generation: age})
	return made, until
}

// without is a package without what is not let in of it: itself, if all is; and until when that
// holds, zero if it does not end by itself. Of a snapshot, every upload counts by itself.
func (s *Resolving) without(p *catalog.Package, judge *safety.Judge) (_ *catalog.Package, until time.Time) {
	judge.Among(p.Versions)
	decide := judge.Of
	if s.byContent(p.Key) {
		decide = func(v *catalog.Version) core.Verdict { return judge.ByName(v.Version, v.Outside) }
	}
	letIn, refused := map[string]bool{}, map[string]core.Verdict{}
	kept := make([]bool, len(p.Versions))
	for i := range p.Versions {
		v := decide(&p.Versions[i])
		if !v.Until.IsZero() && (until.IsZero() || v.Until.Before(until)) {
			until = v.Until
		}
		if kept[i] = !v.Refused; kept[i] {
			letIn[p.Versions[i].Version] = true
		} else {
			refused[p.Versions[i].Version] = v
		}
	}
	if len(refused) == 0 {
		return p, until
	}
	less := *p
	less.KeptOut = slices.Clone(p.KeptOut)
	for version, v := range refused {
		if !letIn[version] {
			less.KeptOut = append(less.KeptOut, judge.KeptOut(version, v))
		}
	}
	less.Versions = make([]catalog.Version, 0, len(p.Versions))
	for i := range p.Versions {
		if kept[i] {
			less.Versions = append(less.Versions, p.Versions[i])
		}
	}
	less.Labels = map[string]string{}
	for label, version := range p.Labels {
		if _, out := refused[version]; !out || letIn[version] {
			less.Labels[label] = version
		}
	}
	return &less, until
}

// keptOut tells why a repository lets a version of a package not in that is there, or the newest,
// if version is "" and it lets none in; nil if that is not so.
func (s *Resolving) keptOut(ctx context.Context, key catalog.PackageKey, version string) *fault.Error {
	p, _, err := s.packageAdmitted(ctx, key, "")
	if err != nil {
		return nil
	}
	var newest *catalog.KeptOut
	for i := range p.KeptOut {
		k := &p.KeptOut[i]
		if k.Version == version {
			return s.refused(key, *k)
		}
		if newest == nil || newer(key.Ecosystem, k.Version, newest.Version) {
			newest = k
		}
	}
	if version != "" || len(p.Versions) > 0 || newest == nil {
		return nil
	}
	return s.refused(key, *newest)
}

// KeptOut tells of each version of a package that a repository keeps out why it does; nothing if
// that cannot be told at the moment.
func (s *Resolving) KeptOut(ctx context.Context, key catalog.PackageKey) map[string]string {
	p, _, err := s.packageAdmitted(ctx, key, "")
	if err != nil {
		return nil
	}
	why := make(map[string]string, len(p.KeptOut))
	for _, k := range p.KeptOut {
		why[k.Version] = k.Why
	}
	return why
}

// newer tells whether a version would rather be taken than another: a release before what is on
// the way to one, then the later one.
func newer(ecosystemName, version, than string) bool {
	if a, b := purl.IsSnapshot(ecosystemName, version), purl.IsSnapshot(ecosystemName, than); a != b {
		return b
	}
	return purl.Compare(ecosystemName, version, than) > 0
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
