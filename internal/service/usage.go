package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
)

// keepUse is how long downloads are kept day by day.
const keepUse = 2 * 366 * 24 * time.Hour

// forgetUse forgets the downloads of long ago.
func (s *Service) forgetUse(ctx context.Context) error {
	_, err := s.db.ForgetDownloads(ctx, s.Now().Add(-keepUse))
	return err
}

// UseQuestion asks how much something is used.
type UseQuestion struct {
	Repository string // "" for all that the caller may read
	Package    string // a package URL, with or without a version; "" for all
	From       time.Time
	Until      time.Time
}

func (s *Service) useOf(caller access.Caller, q UseQuestion) (record.UseOf, error) {
	var of record.UseOf
	readable := s.Readable(caller)
	if q.Repository != "" {
		r, err := s.Repository(caller, q.Repository, access.Read)
		if err != nil {
			return of, err
		}
		readable = []catalog.Repository{r}
	}
	of.Scope = s.scopeOf(readable...)
	if q.Package != "" {
		p, err := purl.Parse(q.Package)
		if err != nil {
			return of, bad("bad-purl", "%q is no package URL: %v", q.Package, err).WithHint("Write it like pkg:npm/%%40skerry/deck-ui@2.1.0.")
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
		return of, bad("bad-days", "from %s to %s is no time of which the use is known", of.From.Format(time.DateOnly), of.Until.Format(time.DateOnly)).
			WithHint("Downloads are kept for two years, day by day.")
	}
	return of, nil
}

// UseBy tells how often what the caller may read was downloaded, and by how many,
// by day, client, who, version or repository.
func (s *Service) UseBy(ctx context.Context, caller access.Caller, q UseQuestion, by string) ([]record.UsePart, error) {
	of, err := s.useOf(caller, q)
	if err != nil {
		return nil, err
	}
	parts, err := s.db.UseBy(record.Patiently(ctx), of, by)
	if by == "repository" {
		for i := range parts {
			for _, r := range s.Repositories() {
				if itoa(r.ID) == parts[i].Part {
					parts[i].Part = r.Name
				}
			}
		}
	}
	return parts, err
}

// UsedPackages lists packages by their use: see record.UseOrders.
func (s *Service) UsedPackages(ctx context.Context, caller access.Caller, q UseQuestion, order string, limit int) ([]record.UsedPackage, error) {
	of, err := s.useOf(caller, q)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(record.UseOrders, order) {
		return nil, bad("bad-order", "%q is no order", order).WithHint("Choose from %s.", strings.Join(record.UseOrders, ", "))
	}
	return s.db.UsedPackages(record.Patiently(ctx), of, order, limit)
}

// WhoUses is who still uses a version.
type WhoUses struct {
	Users  []record.VersionUser
	Builds []record.Build
	// Needs are the versions that state it as a dependency: their names.
	Needs []string
}

// WhoUses tells who downloaded a version, which builds used it, and what needs it,
// as far as the caller may see that.
func (s *Service) WhoUses(ctx context.Context, caller access.Caller, p purl.PURL, repository string) (WhoUses, error) {
	var w WhoUses
	if p.Version == "" {
		return w, bad("no-version", "%s does not say which version", p).WithHint("Write it as %s@VERSION.", p)
	}
	holdings, _, err := s.holdingsOf(ctx, caller, p, repository, VersionPage{})
	if err != nil {
		return w, err
	}
	var ids []int64
	for _, h := range holdings {
		for _, v := range h.Package.Versions {
			if v.ID != 0 && (v.Version == p.Version || v.Upload == p.Version) {
				ids = append(ids, v.ID)
			}
		}
	}
	if len(ids) == 0 {
		return w, fault.New(fault.NotFound, "no-such-version", "no repository that you may read holds %s", p)
	}
	if w.Users, err = s.db.UsersOf(ctx, ids); err != nil {
		return w, err
	}
	if w.Builds, err = s.db.UsingBuilds(ctx, ids); err != nil {
		return w, err
	}
	name := p
	name.Version = ""
	needing, err := s.db.Needing(ctx, s.scopeOf(s.Readable(caller)...), name.String(), 2000)
	for _, n := range needing {
		if fits, known := purl.Fits(p.Ecosystem, n.Wants, p.Version); fits && known {
			w.Needs = append(w.Needs, fmt.Sprintf("%s (%s)", n.PURL(), n.Wants))
		}
	}
	slices.Sort(w.Needs)
	w.Needs = slices.Compact(w.Needs)
	return w, err
}

// SpaceView is where storage goes.
type SpaceView struct {
	Now   []record.Space // by repository and ecosystem
	Days  []record.Space // what was held then, by day, repository and ecosystem
	Ages  []record.Space // by repository and month of publication
	Files int64          // of the store; 0 if the caller may not know
	Bytes int64
	// Unnamed are the bytes that nothing names; they are freed next.
	Unnamed int64
	Free    int64 // of the store's disk
}

// Space tells where storage goes, of what the caller may read.
func (s *Service) Space(ctx context.Context, caller access.Caller, since time.Time) (v SpaceView, err error) {
	ctx = record.Patiently(ctx)
	var readable []catalog.Repository
	for _, r := range s.Readable(caller) {
		if r.Kind != catalog.Chain {
			readable = append(readable, r)
		}
	}
	scope := s.scopeOf(readable...)
	if v.Now, err = s.db.Spaces(ctx, scope); err != nil {
		return v, err
	}
	var whole []int64
	for _, r := range s.wholly(caller, readable) {
		whole = append(whole, r.ID)
	}
	if v.Days, err = s.db.SpaceDays(ctx, whole, since); err != nil {
		return v, err
	}
	if v.Ages, err = s.db.SpaceByAge(ctx, scope); err != nil {
		return v, err
	}
	if s.Allow(caller, access.Manage, everything) == nil {
		stored, err := s.db.Stored(ctx)
		if err != nil {
			return v, err
		}
		v.Files, v.Bytes, v.Unnamed = stored.Files, stored.Bytes, stored.Unnamed
		v.Free, err = s.blobs.Free()
		return v, err
	}
	return v, nil
}
