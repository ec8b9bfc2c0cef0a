package vetting

import (
	"context"
	"errors"
	"runtime/debug"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/makeup"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/core/spdx"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/mirrors"
)

// Inside is what a version has inside, and how that differs from the version before it that is let in.
type Inside struct {
	PURL    purl.PURL
	Archive Archive
	// Before is nil if there is none before it; WhyNot is why that could not be looked into.
	Before      *Archive
	BeforePURL  purl.PURL
	WhyNot      string
	Differences []makeup.FileDifference
}

// Archive is what one archive has inside.
type Archive struct {
	Name  string
	Files makeup.Tree
	Bytes int64    // of its files
	Code  []string // the files that a processor runs as they are
}

const (
	// looksAtOnce is how many archives are looked into at the same time, and longestInside how long one
	// look may take.
	looksAtOnce   = 2
	longestInside = 30 * time.Second
)

// unpacked is what may come out of the archives of one look.
var unpacked = budget.Limits{Bytes: 2 << 30, Held: 64 << 20, Elements: 300_000}

// LookInside looks into a version that a repository has or its upstream lists, for somebody who may
// decide about it. What is fetched for that is not kept.
func (s *Vetting) LookInside(ctx context.Context, caller access.Caller, name string, p purl.PURL) (Inside, error) {
	a, err := s.Assess(ctx, caller, name, p)
	if err != nil {
		return Inside{}, err
	}
	if err := s.directory.Allow(caller, access.Manage, access.Of(a.Repository)); err != nil {
		return Inside{}, err
	}
	ctx, end := context.WithTimeout(ctx, longestInside)
	defer end()
	select {
	case s.looking <- struct{}{}:
		defer func() { <-s.looking }()
	case <-ctx.Done():
		return Inside{}, fault.New(fault.TooMany, "busy", "others are looking into packages; try again in a moment")
	}
	return s.lookInside(ctx, a)
}

// lookInside is LookInside for who has a place.
func (s *Vetting) lookInside(ctx context.Context, a Assessment) (in Inside, err error) {
	ctx = budget.Afresh(ctx, unpacked)
	in = Inside{PURL: a.PURL}
	if in.Archive, err = s.archive(ctx, a.Repository, a.PURL, &a.Version); err != nil || a.Before == nil {
		return in, err
	}
	in.BeforePURL = a.PURL
	in.BeforePURL.Version = a.Before.Version
	before, err := s.archive(ctx, a.Repository, in.BeforePURL, a.Before)
	if err != nil {
		if ctx.Err() == nil {
			in.WhyNot, err = fault.Of(err).Message, nil
		}
		return in, err
	}
	in.Before, in.Differences = &before, makeup.Differences(before.Files, in.Archive.Files)
	return in, nil
}

// archive looks into the archive of a version, and notes what is there for the rules that ask for it.
func (s *Vetting) archive(
	ctx context.Context, r catalog.Repository, p purl.PURL, v *catalog.Version,
) (a Archive, err error) {
	key := r.Key(p.Ecosystem, p.Namespace, p.Name)
	look := record.Look{Version: v.Version, At: s.Now()}
	take := func(l mirrors.Looked) (err error) {
		look.File, look.Digests = l.Name, l.Digests
		for _, licence := range l.Details.Licences {
			look.Licences = append(look.Licences, spdx.Identifier(licence.Name))
		}
		if a.Files, err = ecosystem.Contents(ctx, l.Name, l.File); err != nil && ctx.Err() == nil {
			err = fault.New(fault.Conflict, "unreadable-archive", "%s cannot be looked into: %v", l.Name, err)
		}
		return err
	}
	err = ecosystem.ErrNoFile
	for _, m := range s.from(r, key, v) {
		at := m.Key(key.Ecosystem, key.Namespace, key.Name)
		if err = s.mirrors.Look(ctx, m, at, v, take); err == nil {
			look.Bundles, err = s.mirrors.Attestations(ctx, m, at, v, look.File)
		}
		if !errors.Is(err, ecosystem.ErrNoFile) {
			break
		}
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		err = fault.New(fault.NotFound, "no-archive", "no mirror has the archive of %s from its upstream", p.Typed())
	}
	if err != nil {
		return a, err
	}
	for path, f := range a.Files {
		a.Bytes += f.Size
		if f.Code != "" {
			a.Code = append(a.Code, path)
		}
	}
	slices.Sort(a.Code)
	a.Name, look.Code = look.File, a.Code[:min(len(a.Code), mostCode)]
	return a, s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.SetLook(ctx, key, look); err != nil {
			return err
		}
		return tx.Tell(ctx, record.Change{Kind: record.OfPackage, RepositoryID: r.ID, Repository: r.Name,
			Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name, Version: v.Version})
	})
}

// from are the mirrors from which a version may come: a repository itself, or those behind a chain, the
// one first that is known to list its files.
func (s *Vetting) from(r catalog.Repository, key catalog.PackageKey, v *catalog.Version) (all []*mirrors.Mirror) {
	for _, member := range s.directory.MembersFor(r, key) {
		if m := s.mirrors.Of(member.ID); m != nil && m.Ecosystem == key.Ecosystem {
			all = append(all, m)
		}
	}
	lists := func(m *mirrors.Mirror) int {
		if slices.ContainsFunc(v.Files, func(f catalog.File) bool { return f.RepositoryID == m.ID }) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(all, func(a, b *mirrors.Mirror) int { return lists(a) - lists(b) })
	return all
}

// mostCode is how many files of a version are noted that a processor runs as they are.
const mostCode = 100

// lookFor looks into a version that somebody wants, where something asks what is inside, under which
// licence it is, or where it was built, and nobody has looked yet: if it is let in by that, they get it when
// they ask again.
func (s *Vetting) lookFor(r catalog.Repository, p purl.PURL) {
	if r.Safety.Licences.IsZero() && !slices.ContainsFunc(r.Safety.Accepts, func(a core.Acceptance) bool {
		return a.NoBinaries || a.Licences != nil || a.BuiltFrom != ""
	}) {
		return
	}
	select {
	case s.looking <- struct{}{}:
	default:
		return // whoever asks again has it looked at then
	}
	s.Go(func(ctx context.Context) {
		ctx, end := context.WithTimeout(ctx, longestInside)
		defer func() {
			if bad := recover(); bad != nil { // what comes from elsewhere must not end the service
				s.Log.Error("looking into what is wanted failed badly", "package", p.String(), "error", bad,
					"stack", string(debug.Stack()))
			}
			end()
			<-s.looking
		}()
		a, err := s.assess(ctx, r, p, "")
		if err == nil && !a.Facts.Looked {
			_, err = s.archive(budget.Afresh(ctx, unpacked), a.Repository, a.PURL, &a.Version)
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Info("what is wanted could not be looked into", "package", p.String(), "error", err)
		}
	})
}
