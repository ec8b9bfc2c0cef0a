package use

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/search"
)

// keepUse is how long downloads are kept day by day.
const keepUse = 2 * 366 * 24 * time.Hour

// forgetUse forgets the downloads of long ago.
func (s *Use) forgetUse(ctx context.Context) error {
	_, err := s.DB.ForgetDownloads(ctx, s.Now().Add(-keepUse))
	return err
}

// Question asks how much something is used.
type Question struct {
	Repository string // "" for all that the caller may read
	Package    string // a package URL, with or without a version; "" for all
	From       time.Time
	Until      time.Time
}

func (s *Use) useOf(caller access.Caller, q Question) (record.UseOf, error) {
	var of record.UseOf
	readable := s.directory.Readable(caller)
	if q.Repository != "" {
		r, err := s.directory.Repository(caller, q.Repository, access.Read)
		if err != nil {
			return of, err
		}
		readable = []catalog.Repository{r}
	}
	of.Scope = s.directory.ScopeOf(readable...)
	if q.Package != "" {
		p, err := purl.Parse(q.Package)
		if err != nil {
			return of, act.Invalid("bad-purl", "%q is no package URL: %v", q.Package, err).
				WithHint("Write it like pkg:npm/%%40skerry/deck-ui@2.1.0.")
		}
		of.Ecosystem, of.Namespace, of.Name, of.Version = p.Ecosystem, p.Namespace, p.Name, p.Version
	}
	of.Until, of.From = q.Until, q.From
	if of.Until.IsZero() {
		of.Until = s.Now().UTC()
	}
	if of.From.IsZero() {
		of.From = of.Until.AddDate(0, 0, -29)
	}
	if of.From.After(of.Until) || of.Until.Sub(of.From) > keepUse {
		return of, act.Invalid("bad-days", "the use from %s to %s is not known", of.From.Format(time.DateOnly),
			of.Until.Format(time.DateOnly)).
			WithHint("Downloads are kept for two years, day by day.")
	}
	return of, nil
}

// UseBy tells how often what the caller may read was downloaded, and by how many,
// by day, client, who, version or repository.
func (s *Use) UseBy(ctx context.Context, caller access.Caller, q Question, by string) ([]record.UsePart, error) {
	of, err := s.useOf(caller, q)
	if err != nil {
		return nil, err
	}
	remembered, _, err := act.Figure(ctx, s.Act, fmt.Sprint("use by ", by, of.Key()),
		func(ctx context.Context) ([]record.UsePart, error) { return s.DB.UseBy(ctx, of, by) })
	parts := slices.Clone(remembered)
	if by == "repository" {
		for i := range parts {
			for _, r := range s.directory.Repositories() {
				if act.Itoa(r.ID) == parts[i].Part {
					parts[i].Part = r.Name
				}
			}
		}
	}
	return parts, err
}

// UsedPackages lists packages by their use: see record.UseOrders.
func (s *Use) UsedPackages(
	ctx context.Context, caller access.Caller, q Question, order string, limit int,
) ([]record.UsedPackage, error) {
	of, err := s.useOf(caller, q)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(record.UseOrders, order) {
		return nil, act.Invalid("bad-order", "%q is no order", order).
			WithHint("Choose from %s.", strings.Join(record.UseOrders, ", "))
	}
	found, _, err := act.Figure(ctx, s.Act, fmt.Sprint("used packages ", order, limit, of.Key()),
		func(ctx context.Context) ([]record.UsedPackage, error) {
			return s.DB.UsedPackages(ctx, of, order, limit)
		})
	return found, err
}

// WhoUses is who still uses versions of a package.
type WhoUses struct {
	Users  []record.VersionUser
	Builds []record.Build
	// Needs are the versions that need it, directly and by way of others.
	Needs []NeededBy
}

// NeededBy is a version that needs another.
type NeededBy struct {
	PURL  purl.PURL
	Wants string // the version or range that it states
	// Via is what it states where that is not what was asked about but something
	// between; "" for a direct dependency.
	Via string
}

const (
	// needingDepth is over how many steps it is looked for what needs something.
	needingDepth = 5
	mostNeeding  = 2000
)

// WhoUses tells who downloaded the versions of a package that a pattern fits, which
// builds used them, and what needs them, as far as the caller may see that. The
// pattern names one package; without a version it is about all.
func (s *Use) WhoUses(ctx context.Context, caller access.Caller, of purl.Pattern, repository string) (WhoUses, error) {
	var w WhoUses
	p, ok := of.Exact()
	if !ok {
		return w, act.Invalid("several-packages", "%s fits several packages", of).
			WithHint("Ask about one: pkg:TYPE/NAME, with @VERSION or @vers:… behind it.")
	}
	holdings, _, err := s.search.HoldingsOf(ctx, caller, p, repository, search.VersionPage{})
	if err != nil {
		return w, err
	}
	var ids []int64
	var versions []string
	for _, h := range holdings {
		labelled := map[string]bool{} // versions that a label stands for which fits
		for label, version := range h.Package.Labels {
			named := p
			named.Version = label
			labelled[version] = labelled[version] || !of.Whole() && of.Match(named)
		}
		for _, v := range h.Package.Versions {
			named := p
			named.Version = v.Version
			if v.ID != 0 && (of.Match(named) || labelled[v.Version] || v.Upload != "" &&
				of.Match(purl.PURL{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name, Version: v.Upload})) {
				ids, versions = append(ids, v.ID), append(versions, v.Version)
			}
		}
	}
	if len(ids) == 0 {
		return w, fault.New(fault.NotFound, "no-such-version", "no repository that you may read holds %s", of)
	}
	if w.Users, err = s.DB.UsersOf(ctx, ids); err != nil {
		return w, err
	}
	if w.Builds, err = s.DB.UsingBuilds(ctx, ids); err != nil {
		return w, err
	}
	if w.Needs, err = s.needing(ctx, caller, p, versions); err != nil {
		return w, err
	}
	upon, err := s.DB.BuiltUpon(ctx, s.directory.ScopeOf(s.directory.Readable(caller)...), ids, mostNeeding)
	for _, b := range upon {
		of := purl.PURL{Ecosystem: b.Ecosystem, Namespace: b.Namespace, Name: b.Name, Version: b.Version}
		if b.Label != "" {
			of.Qualifiers = map[string]string{"tag": b.Label}
		}
		w.Needs = append(w.Needs, NeededBy{PURL: of, Wants: "its layers"})
	}
	return w, err
}

// needing finds what needs versions of a package, step by step.
func (s *Use) needing(
	ctx context.Context, caller access.Caller, p purl.PURL, versions []string,
) (all []NeededBy, err error) {
	scope := s.directory.ScopeOf(s.directory.Readable(caller)...)
	asked := map[string][]string{p.String(): versions} // versions by package
	seen := map[string]bool{}
	for depth := 0; depth < needingDepth && len(asked) > 0 && len(all) < mostNeeding; depth++ {
		found, err := s.DB.Needing(ctx, scope, slices.Sorted(maps.Keys(asked)), mostNeeding)
		if err != nil {
			return nil, err
		}
		next := map[string][]string{}
		for _, n := range found {
			fits := slices.ContainsFunc(asked[n.Of], func(version string) bool {
				fits, known := purl.Fits(p.Ecosystem, n.Wants, version)
				return fits && known
			})
			of := purl.PURL{Ecosystem: n.Ecosystem, Namespace: n.Namespace, Name: n.Name, Version: n.Version}
			if !fits || seen[of.String()] {
				continue
			}
			seen[of.String()] = true
			needed := NeededBy{PURL: of, Wants: n.Wants}
			if depth > 0 {
				needed.Via = n.Of
			}
			all = append(all, needed)
			of.Version = ""
			next[of.String()] = append(next[of.String()], n.Version)
		}
		asked = next
	}
	return all[:min(len(all), mostNeeding)], nil
}

// Space is where storage goes.
type Space struct {
	Now   []record.Space      // by repository and ecosystem
	Days  []record.SpaceDay   // what was held then, by day, repository and ecosystem
	Ages  []record.SpaceMonth // by repository and month of publication
	Files int64               // of the store; 0 if the caller may not know
	Bytes int64
	// Unnamed are the bytes that nothing names; they are freed next.
	Unnamed int64
	Free    int64 // of the default store's disk; 0 if nobody knows
	// AsOf is how old the oldest of these figures is.
	AsOf time.Time
}

// held is what a repository holds of each ecosystem, and since when.
type held struct {
	now  []record.Space
	ages []record.SpaceMonth
}

// Space tells where storage goes, of what the caller may read.
func (s *Use) Space(ctx context.Context, caller access.Caller, since time.Time) (v Space, err error) {
	var readable []catalog.Repository
	for _, r := range s.directory.Readable(caller) {
		if !r.Gathers() {
			readable = append(readable, r)
		}
	}
	scope := s.directory.ScopeOf(readable...)
	has, asOf, err := act.Figure(ctx, s.Act, "held "+scope.Key(), func(ctx context.Context) (h held, err error) {
		if h.now, err = s.DB.Spaces(ctx, scope); err == nil {
			h.ages, err = s.DB.SpaceByAge(ctx, scope)
		}
		return h, err
	})
	if err != nil {
		return v, err
	}
	v.Now, v.Ages, v.AsOf = has.now, has.ages, asOf
	var whole []int64
	for _, r := range s.retention.Wholly(caller, readable) {
		whole = append(whole, r.ID)
	}
	v.Days, asOf, err = act.Figure(ctx, s.Act, fmt.Sprint("held by day ", since.UTC().Format(time.DateOnly), whole),
		func(ctx context.Context) ([]record.SpaceDay, error) { return s.DB.SpaceDays(ctx, whole, since) })
	if err != nil {
		return v, err
	}
	v.AsOf = earlier(v.AsOf, asOf)
	if s.directory.Allow(caller, access.Manage, act.Everything) == nil {
		stored, asOf, err := act.Stored(ctx, s.Act)
		if err != nil {
			return v, err
		}
		v.AsOf = earlier(v.AsOf, asOf)
		v.Files, v.Bytes, v.Unnamed = stored.Files, stored.Bytes, stored.Unnamed
		v.Free, _, err = s.store.Free()
		return v, err
	}
	return v, nil
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func (s *Use) Chores() []act.Chore {
	return []act.Chore{{Every: time.Hour, What: "forgetting downloads of long ago", Do: s.forgetUse}}
}
