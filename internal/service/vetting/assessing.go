package vetting

import (
	"context"
	"errors"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
)

// Assessment is what is known of a version for a decision about it.
type Assessment struct {
	Repository catalog.Repository
	PURL       purl.PURL
	Verdict    core.Verdict
	Version    catalog.Version
	Facts      core.Facts
	Findings   []core.Finding
	Rules      []core.Acceptance
	Tried      [][]core.Condition // of each rule
	Needs      []Need
	// Before is the version that is let in and comes before it; nil if there is none.
	Before *catalog.Version
	// BeforeFacts are the facts of that.
	BeforeFacts core.Facts
}

// Need is a package that a version needs.
type Need struct {
	PURL    purl.PURL // with the version that is looked at: the newest that fits
	Range   string    // as the version says
	Verdict core.Verdict
	Absent  bool   // there is none that fits
	Unknown string // why nothing can be told of it
	By      purl.PURL
}

// Assess tells what is known of a version in a repository, and how it is decided about.
func (s *Vetting) Assess(ctx context.Context, caller access.Caller, name string, p purl.PURL) (Assessment, error) {
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return Assessment{}, err
	}
	key := r.Key(p.Ecosystem, p.Namespace, p.Name)
	if s.Ecosystem(p.Ecosystem) == nil || !s.directory.Shows(key) {
		return Assessment{}, s.absent(r, p)
	}
	return s.assess(ctx, r, p, "")
}

func (s *Vetting) absent(r catalog.Repository, p purl.PURL) error {
	return fault.New(fault.NotFound, "no-such-version", "%s has no %s, and its upstream does not list it", r.At(),
		p.Typed()).
		WithHint("crelvo explain %s --in %s tells who was asked.", p.Typed(), r.Name)
}

// assess is Assess without its rights. Without a version, the newest one is looked at that fits a range, as its
// ecosystem writes it; what is no range that is understood fits all.
func (s *Vetting) assess(ctx context.Context, r catalog.Repository, p purl.PURL, within string) (Assessment, error) {
	a := Assessment{Repository: r, PURL: p, Rules: r.Safety.Accepts}
	key := r.Key(p.Ecosystem, p.Namespace, p.Name)
	judge, err := s.safety.Assessor(ctx, r, key)
	if err != nil {
		return a, err
	}
	if _, byContent := s.Ecosystem(p.Ecosystem).(ecosystem.Maturing); byContent {
		a.Facts.Outside = !r.Own()
		a.Verdict = judge.ByName(p.Version, a.Facts.Outside)
		return a, nil
	}
	there, err := s.resolving.There(ctx, r, key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return a, s.absent(r, p)
	}
	if err != nil {
		return a, err
	}
	judge.Among(there.Versions)
	v := Taken(there, p.Ecosystem, within)
	if p.Version != "" {
		v = nil
		for i := range there.Versions {
			if one := &there.Versions[i]; one.Version == p.Version && (v == nil || one.Newer(*v)) {
				v = one
			}
		}
	}
	if v == nil {
		return s.elsewhere(ctx, r, p, within, there.KeptOut)
	}
	a.PURL.Version, a.Version = v.Version, *v
	s.WithNeeds(p.Ecosystem, &a.Version.Details)
	a.Facts, a.Findings, a.Verdict, a.Tried = judge.Facts(v), judge.Findings(v.Version), judge.Of(v), judge.Try(v)
	for i := range there.Versions {
		one := &there.Versions[i]
		if purl.Compare(p.Ecosystem, one.Version, v.Version) >= 0 || one.Snapshot || judge.Of(one).Refused {
			continue
		}
		if a.Before == nil || purl.Compare(p.Ecosystem, one.Version, a.Before.Version) > 0 {
			a.Before, a.BeforeFacts = one, judge.Facts(one)
		}
	}
	if a.Before != nil {
		before := *a.Before // which is not to be changed where it is remembered
		a.Before = &before
		s.WithNeeds(p.Ecosystem, &before.Details)
	}
	return a, nil
}

// elsewhere is assess by the member of a chain that keeps a version out, or the newest one if none
// is named.
func (s *Vetting) elsewhere(
	ctx context.Context, r catalog.Repository, p purl.PURL, within string, keptOut []catalog.KeptOut,
) (Assessment, error) {
	var newest *catalog.KeptOut
	for i := range keptOut {
		k := &keptOut[i]
		if k.By != r.ID && (k.Version == p.Version || p.Version == "" && fits(p.Ecosystem, within, k.Version) &&
			(newest == nil || better(p.Ecosystem, within, k.Version, newest.Version) > 0)) {
			newest = k
		}
	}
	if newest == nil {
		return Assessment{Repository: r, PURL: p}, s.absent(r, p)
	}
	p.Version = newest.Version
	return s.assess(ctx, s.directory.Known().ByID[newest.By], p, within)
}

// Taken is the version that clients take who want one within a range; nil if there is none.
func Taken(there *catalog.Package, ecosystemName, within string) *catalog.Version {
	v := there.Newest(func(a, b string) int { return better(ecosystemName, within, a, b) },
		func(v catalog.Version) bool {
			return !v.Snapshot && v.Withdrawn == nil && fits(ecosystemName, within, v.Version)
		})
	if v == nil || !fits(ecosystemName, within, v.Version) {
		return nil
	}
	return v
}

// better is positive if clients take a rather than b.
func better(ecosystemName, within, a, b string) int {
	if within != "" && purl.TakesLowest(ecosystemName) {
		a, b = b, a
	}
	return purl.Compare(ecosystemName, a, b)
}

func fits(ecosystemName, within, version string) bool {
	fits, known := purl.Fits(ecosystemName, within, version)
	return within == "" || fits || !known
}

// WithNeeds reads what a version needs where its list has that only as it is written.
func (s *Vetting) WithNeeds(ecosystemName string, d *catalog.Details) {
	if i, ok := s.Ecosystem(ecosystemName).(ecosystem.Installs); ok {
		d.Dependencies = i.NeededBy(d)
	}
}

// mostNeeds is how many packages are looked at that a version needs, in turn, and longestLook how
// long that may take, since upstreams are asked for them.
const (
	mostNeeds   = 100
	longestLook = 8 * time.Second
)

// unneeded are scopes of dependencies that whoever uses a package does not need.
var unneeded = []string{"test", "dev", "provided", "system", "build"}

// Needed tells whether whoever uses a version needs what it depends on.
func Needed(d catalog.Dependency) bool { return !d.Optional && !slices.Contains(unneeded, d.Scope) }

// AddNeeds looks at what a version needs, and what that needs in turn, each in the newest version that fits.
func (s *Vetting) AddNeeds(ctx context.Context, a *Assessment) error {
	looking, end := context.WithTimeout(ctx, longestLook)
	defer end()
	known := map[string]bool{}
	there := map[string]bool{a.PURL.String(): true}
	type asker struct {
		of      purl.PURL
		details catalog.Details
	}
	asking := []asker{{a.PURL, a.Version.Details}}
	for len(asking) > 0 {
		by := asking[0]
		asking = asking[1:]
		for _, d := range by.details.Dependencies {
			p, err := purl.Parse(d.PURL)
			p.Version, p.Qualifiers = "", nil
			wanted := p.String() + " " + d.Version
			if err != nil || !Needed(d) || known[wanted] || len(a.Needs) == mostNeeds {
				continue
			}
			known[wanted] = true
			n := Need{PURL: p, Range: d.Version, By: by.of}
			found, err := s.assess(looking, a.Repository, p, d.Version)
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case fault.Is(err, fault.NotFound):
				n.Absent = true
			case err != nil:
				n.Unknown = fault.Of(err).Message
				if looking.Err() != nil {
					n.Unknown = "it took too long to find out"
				}
			case there[found.PURL.String()]:
				continue // which another one needs, too
			default:
				there[found.PURL.String()] = true
				n.PURL, n.Verdict = found.PURL, found.Verdict
				asking = append(asking, asker{found.PURL, found.Version.Details})
			}
			a.Needs = append(a.Needs, n)
		}
	}
	return nil
}
