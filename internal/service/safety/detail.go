package safety

import (
	"context"
	"errors"
	"slices"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Detail is an advisory with what it means here.
type Detail struct {
	record.Advisory
	Kept    []Affected
	Listed  []Listed
	Users   []record.VersionUser
	Builds  []record.Build
	Waivers []record.Waiver
}

// Listed are the versions that an advisory is about and that the upstream of a mirror lists, of which
// nothing is kept.
type Listed struct {
	Repository string
	Package    purl.PURL
	Versions   []string // the newest first
	KeptOut    bool     // they are not let in because of it
}

// mostListings is of how many lists of upstreams it is told which versions are affected.
const mostListings = 200

// listed are the versions that mirrors list and nobody had.
func (s *Safety) listed(ctx context.Context, caller access.Caller, d *Detail) (all []Listed, err error) {
	var mirrors []int64
	byID := map[int64]catalog.Repository{} // as the caller sees them
	for _, r := range s.directory.Readable(caller) {
		if r.Fetches() {
			mirrors, byID[r.ID] = append(mirrors, r.ID), r
		}
	}
	documents, err := s.DB.ListedAdvised(ctx, mirrors, d.ID, mostListings)
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, k := range d.Kept {
		known[k.Repository+" "+k.PURL.String()] = true
	}
	for _, document := range documents {
		r := byID[document.RepositoryID]
		key := r.Key(document.About.Ecosystem, document.About.Namespace, document.About.Name)
		if !s.directory.Shows(key) {
			continue
		}
		judge, err := s.Judge(ctx, r, key)
		if err != nil {
			return nil, err
		}
		l := Listed{Repository: r.Name, Package: act.PURLOf(key, "")}
		for _, v := range document.Listing.Versions {
			p := act.PURLOf(key, v.Version)
			if name := r.Name + " " + p.String(); v.Then(0) && !known[name] && slices.ContainsFunc(judge.Findings(v.Version),
				func(f safety.Finding) bool { return f.ID == d.ID }) {
				known[name], l.Versions = true, append(l.Versions, v.Version)
			}
		}
		if len(l.Versions) == 0 {
			continue
		}
		slices.SortFunc(l.Versions, func(a, b string) int { return purl.Compare(key.Ecosystem, b, a) })
		l.KeptOut = judge.Named(l.Versions[0]).Refused
		all = append(all, l)
	}
	return all, nil
}

// used are the ids of the versions that builds used and that the advisory is about.
func (s *Safety) used(ctx context.Context, scope record.Scope, advisory string) (ids []int64, err error) {
	all, err := s.DB.UsedAdvised(ctx, scope, advisory)
	if err != nil {
		return nil, err
	}
	for _, v := range all {
		known, err := s.Known(ctx, v.Key())
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(safety.Find(known, v.Version), func(f safety.Finding) bool { return f.ID == advisory }) {
			ids = append(ids, v.ID)
		}
	}
	return ids, nil
}

// Advisory tells of an advisory, by its id or an alias, and of what it means where the caller
// may read.
func (s *Safety) Advisory(ctx context.Context, caller access.Caller, id string) (d Detail, err error) {
	d.Advisory, err = s.DB.Advisory(ctx, id)
	if errors.Is(err, record.ErrNotFound) {
		return d, fault.New(fault.NotFound, "no-such-advisory", "no advisory %q is known", id).
			WithHint("crelvo advisory list shows those that are; crelvo advisory feed list, where they come from.")
	}
	if err != nil {
		return d, err
	}
	var ids []int64
	if d.Withdrawn.IsZero() {
		scope := s.directory.ScopeOf(s.directory.Readable(caller)...)
		if d.Kept, err = s.affected(ctx, scope, d.ID); err != nil {
			return d, err
		}
		if d.Listed, err = s.listed(ctx, caller, &d); err != nil {
			return d, err
		}
		if ids, err = s.used(ctx, scope, d.ID); err != nil {
			return d, err
		}
	}
	for _, a := range d.Kept {
		ids = append(append(ids, a.ID), a.along...)
	}
	if len(ids) > 0 {
		if d.Users, err = s.DB.UsersOf(ctx, ids); err != nil {
			return d, err
		}
		if d.Builds, err = s.DB.UsingBuilds(ctx, ids); err != nil {
			return d, err
		}
	}
	all, err := s.DB.StandingWaivers(ctx, s.Now())
	for _, w := range all {
		if d.Names(w.Advisory) {
			d.Waivers = append(d.Waivers, w)
		}
	}
	return d, err
}
