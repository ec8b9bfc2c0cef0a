package safety

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Affected is a version that is kept and that an advisory is about.
type Affected struct {
	record.UsedOf
	PURL       purl.PURL
	Repository string
	Finding    safety.Finding
	// Refused: its repository does not let it in.
	Refused bool
	// Waiver is what accepts the advisory for it; nil if nothing does.
	Waiver *safety.Waiver
	// Better is a version of the same repository to go to; "" if there is none.
	Better string
	// Inside is what the advisory is about, where the version has that inside; zero if it is about the
	// version itself. Label is one of the version then, or of one that it is part of.
	Inside purl.PURL
	Label  string
	along  []int64 // the ids of the versions that it is part of
}

// title names the version for people.
func (a *Affected) title() string {
	p := a.PURL
	if a.Inside.Name != "" {
		p.Version = cmp.Or(a.Label, purl.ShortVersion(p.Version))
	}
	return p.Typed()
}

// packagesAtOnce is of how many packages it is found out together what is affected.
const packagesAtOnce = 500

// affected lists the versions in a scope that an advisory is about, or any if its id is "":
// by package, and of one package the newest first; uploads of one snapshot once.
func (s *Safety) affected(ctx context.Context, scope record.Scope, advisory string) (all []Affected, err error) {
	standing, err := s.standing(ctx)
	if err != nil {
		return nil, err
	}
	packages, err := s.DB.AdvisedPackages(ctx, scope, advisory)
	if err != nil {
		return nil, err
	}
	for some := range slices.Chunk(packages, packagesAtOnce) {
		ids, keys := make([]int64, len(some)), make([]catalog.PackageKey, len(some))
		for i, p := range some {
			ids[i], keys[i] = p.ID, p.Key()
		}
		known, err := s.DB.AdvisoriesOf(ctx, keys...)
		if err != nil {
			return nil, err
		}
		versions, err := s.DB.VersionsUsed(ctx, ids)
		if err != nil {
			return nil, err
		}
		for _, p := range some {
			if r, ok := s.directory.RepositoryByID(p.RepositoryID); ok {
				j := &Judge{repository: r, of: act.PURLOf(p.Key(), ""), rules: r.Safety, known: known[p.Key()],
					by: safety.Decisions{Waivers: standing.waivers}, now: s.Now()}
				all = append(all, j.affected(versions[p.ID], advisory)...)
			}
		}
	}
	inside, err := s.affectedInside(ctx, scope, advisory)
	return append(all, inside...), err
}

// affectedInside lists the versions in a scope that have something inside, as their bills of materials
// say, that an advisory is about, or any if its id is "". A waiver may name either.
func (s *Safety) affectedInside(ctx context.Context, scope record.Scope, advisory string) (all []Affected, err error) {
	inside, err := s.DB.AdvisedInside(ctx, scope, advisory)
	if err != nil || len(inside) == 0 {
		return nil, err
	}
	standing, err := s.standing(ctx)
	if err != nil {
		return nil, err
	}
	known, err := s.DB.AdvisoriesOf(ctx, entryKeys(inside)...)
	if err != nil {
		return nil, err
	}
	for _, in := range inside {
		r, ok := s.directory.RepositoryByID(in.RepositoryID)
		if !ok {
			continue
		}
		for _, f := range safety.Find(known[in.EntryKey()], in.InVersion) {
			if advisory != "" && f.ID != advisory {
				continue
			}
			a := Affected{UsedOf: in.UsedOf, PURL: act.PURLOf(in.Key(), in.Version), Repository: r.Name, Finding: f,
				Inside: in.Entry(), Label: in.Label}
			for id := range strings.FieldsSeq(in.Along) {
				n, err := strconv.ParseInt(id, 10, 64)
				if err != nil {
					return nil, err
				}
				a.along = append(a.along, n)
			}
			if a.Waiver = standing.waivers.Covering(&f, a.Inside, s.Now()); a.Waiver == nil {
				a.Waiver = standing.waivers.Covering(&f, a.PURL, s.Now())
			}
			all = append(all, a)
			break // the worst of them
		}
	}
	return all, nil
}

// FindingInside is that something that a version has inside is affected.
type FindingInside struct {
	Of      purl.PURL
	Finding safety.Finding
}

// FindingsInside are the findings about what versions have inside, as their bills of materials say, by
// version id; of each the worst first.
func (s *Safety) FindingsInside(ctx context.Context, versionIDs []int64) (map[int64][]FindingInside, error) {
	inside, err := s.DB.InsideOf(ctx, versionIDs)
	if err != nil || len(inside) == 0 {
		return nil, err
	}
	known, err := s.DB.AdvisoriesOf(ctx, entryKeys(inside)...)
	if err != nil {
		return nil, err
	}
	all := map[int64][]FindingInside{}
	for _, in := range inside {
		for _, f := range safety.Find(known[in.EntryKey()], in.InVersion) {
			all[in.ID] = append(all[in.ID], FindingInside{in.Entry(), f})
		}
	}
	for _, some := range all {
		slices.SortStableFunc(some, func(a, b FindingInside) int { return compareFindings(a.Finding, b.Finding) })
	}
	return all, nil
}

func entryKeys(inside []record.Inside) (keys []catalog.PackageKey) {
	seen := map[catalog.PackageKey]bool{}
	for _, in := range inside {
		if key := in.EntryKey(); !seen[key] {
			seen[key] = true
			keys = append(keys, key)
		}
	}
	return keys
}

// affected are those of the versions of a package that advisories are about.
func (j *Judge) affected(versions []record.UsedOf, advisory string) (all []Affected) {
	seen := map[string]int{}
	var clean []string
	for _, v := range versions {
		if at, twice := seen[v.Version]; twice { // another upload of a snapshot
			if at >= 0 {
				all[at].Downloads += v.Downloads
			}
			continue
		}
		seen[v.Version] = -1
		findings := j.Findings(v.Version)
		if len(findings) == 0 {
			clean = append(clean, v.Version)
			continue
		}
		named := j.of
		named.Version = v.Version
		verdict := j.Named(v.Version)
		if advisory != "" {
			findings = slices.DeleteFunc(findings, func(f safety.Finding) bool { return f.ID != advisory })
		}
		if len(findings) == 0 {
			continue
		}
		seen[v.Version] = len(all)
		all = append(all, Affected{UsedOf: v, PURL: named, Repository: j.repository.Name, Finding: findings[0],
			Refused: verdict.Refused, Waiver: j.by.Waivers.Covering(&findings[0], named, j.now)})
	}
	for i := range all {
		all[i].Better = safety.Better(j.of.Ecosystem, clean, all[i].Version)
	}
	slices.SortStableFunc(all, func(a, b Affected) int { return purl.Compare(j.of.Ecosystem, b.Version, a.Version) })
	return all
}

// Affected lists what is kept where the caller may read and advisories are about, the worst
// first, and of when that is.
func (s *Safety) Affected(ctx context.Context, caller access.Caller) ([]Affected, time.Time, error) {
	scope := s.directory.ScopeOf(s.directory.Readable(caller)...)
	return act.Figure(ctx, s.Act, "affected "+scope.Key(), func(ctx context.Context) ([]Affected, error) {
		all, err := s.affected(ctx, scope, "")
		slices.SortStableFunc(all, func(a, b Affected) int { return compareFindings(a.Finding, b.Finding) })
		return all, err
	})
}

func compareFindings(a, b safety.Finding) int {
	switch {
	case safety.Malicious(a.ID) != safety.Malicious(b.ID):
		if safety.Malicious(a.ID) {
			return -1
		}
		return 1
	case a.Rating == b.Rating:
		return strings.Compare(a.ID, b.ID)
	case a.Rating.Or(b.Rating) == a.Rating:
		return -1
	}
	return 1
}

// Advisories lists advisories.
func (s *Safety) Advisories(ctx context.Context, q record.AdvisoryQuestion) ([]record.Advisory, error) {
	return s.DB.Advisories(ctx, q)
}

// Counts tell how much is known.
func (s *Safety) Counts(ctx context.Context) (record.AdvisoryCounts, error) {
	n, _, err := act.Figure(ctx, s.Act, "advisories", s.DB.CountAdvisories)
	return n, err
}

// Concerns tell of what is kept and should not be used, of feeds that fail, and of waivers
// that end soon.
func (s *Safety) Concerns(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	// Every page asks for the status: what takes long to find out is found out meanwhile.
	waiting, cancel := context.WithTimeout(ctx, waitsFor)
	defer cancel()
	all, _, err := s.Affected(waiting, caller)
	if err != nil && (ctx.Err() != nil || waiting.Err() == nil) {
		return nil, err
	}
	malicious, within, bad := []*Affected{}, []*Affected{}, []*Affected{}
	for i := range all {
		switch a := &all[i]; {
		case a.Waiver != nil:
		case safety.Malicious(a.Finding.ID) && a.Inside.Name != "":
			within = append(within, a)
		case safety.Malicious(a.Finding.ID):
			malicious = append(malicious, a)
		case a.Finding.Rating.Severity >= safety.High && !a.Refused && a.UsedAt != nil &&
			s.Now().Sub(*a.UsedAt) < inUseFor:
			bad = append(bad, a)
		}
	}
	if len(malicious) > 0 {
		found = append(found, act.Concern{Level: "wrong", Page: "/safety",
			What: fmt.Sprintf("What is malicious is kept here, and not handed out any more: %s, such as %s",
				act.Plural(int64(len(malicious)), "version"), malicious[0].PURL.Typed()),
			Do: "Find out who had them: crelvo advisory show " + malicious[0].Finding.ID + "."})
	}
	if len(within) > 0 {
		found = append(found, act.Concern{Level: "wrong", Page: "/safety",
			What: fmt.Sprintf("What is malicious is inside %s that are handed out, such as %s inside %s",
				act.Plural(int64(len(within)), "version"), within[0].Inside.Typed(), within[0].title()),
			Do: "Find out who had them, and remove them: crelvo advisory show " + within[0].Finding.ID + "."})
	}
	if len(bad) > 0 {
		found = append(found, act.Concern{Level: "soon", Page: "/safety",
			What: fmt.Sprintf("Advisories that are high or critical are about %s that somebody used in the last %d days, such as %s (%s)",
				act.Plural(int64(len(bad)), "version"), int(inUseFor.Hours()/24), bad[0].title(), bad[0].Finding.ID),
			Do: "crelvo advisory affected lists them, with the version to go to."})
	}
	if s.directory.Allow(caller, access.Manage, act.Everything) != nil {
		return found, nil
	}
	more, err := s.ownConcerns(ctx)
	return append(found, more...), err
}

const (
	// inUseFor is for how long a version counts as used after it was.
	inUseFor = 30 * 24 * time.Hour
	// waitsFor is how long the status waits for what is affected.
	waitsFor = 300 * time.Millisecond
	// endsSoon is how long before its end it is told of a waiver.
	endsSoon = 7 * 24 * time.Hour
)

// ownConcerns tell of feeds, waivers and decisions.
func (s *Safety) ownConcerns(ctx context.Context) (found []act.Concern, err error) {
	feeds, err := s.DB.Feeds(ctx, s.Now())
	if err != nil {
		return nil, err
	}
	for _, f := range feeds {
		if f.Failure != "" {
			found = append(found, act.Concern{Level: "soon", Page: "/safety",
				What: fmt.Sprintf("The feed of advisories %s could not be read: %s", f.Name, f.Failure),
				Do:   "Look at " + f.Location + ", and read it again: crelvo advisory feed run " + f.Name + "."})
		}
	}
	standing, err := s.standing(ctx)
	if err != nil {
		return nil, err
	}
	for _, w := range standing.each() {
		if !w.Until.IsZero() && w.Until.Sub(s.Now()) < endsSoon {
			found = append(found, act.Concern{Level: "soon", Page: "/safety",
				What: fmt.Sprintf("The waiver of %s for %s ends at %s", w.Advisory, w.Pattern, w.Until.UTC().Format(act.TimeForm)),
				Do:   "Go to a version that it is not about, or make another waiver."})
		}
	}
	for _, v := range standing.vettings.Each() {
		if !v.Refused && !v.Until.IsZero() && v.Until.Sub(s.Now()) < endsSoon {
			found = append(found, act.Concern{Level: "soon", Page: "/safety/decisions",
				What: fmt.Sprintf("The decision that accepts %s ends at %s", v.Pattern, v.Until.UTC().Format(act.TimeForm)),
				Do:   "Look at it again, and decide anew."})
		}
	}
	return found, nil
}
