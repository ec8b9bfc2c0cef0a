package builds

import (
	"context"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/junit"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
)

// TakeOver puts builds on record that were recorded by another Crelvo, where they made what comes from there, and
// gives their ids by name#number. One of a name that is somebody else's here, or of which another one is on record
// here, is left out: nobody speaks for others.
func (s *Builds) TakeOver(ctx context.Context, caller access.Caller, told []bundle.Build) (map[string]int64, error) {
	ids := map[string]int64{}
	var titles, names []string
	for _, b := range told {
		titles, names = append(titles, b.Title()), append(names, b.Name)
	}
	if titles == nil {
		return ids, nil
	}
	here, err := s.DB.Builds(ctx, record.BuildFilter{Titles: titles})
	if err != nil {
		return nil, err
	}
	known := map[string]record.Build{}
	for _, b := range here {
		known[b.Title()] = b
	}
	owners, err := s.DB.BuildOwners(ctx, names)
	if err != nil {
		return nil, err
	}
	var fresh []record.Build
	for _, b := range told {
		is, there := known[b.Title()]
		owner, owned := owners[b.Name]
		_, _, bad := SplitBuild(b.Title())
		switch {
		case there && is.StartedAt.Equal(b.StartedAt) && is.Revision == line(b.Revision):
			ids[b.Title()] = is.ID
		case there, owned && owner != caller.ID, bad != nil, b.StartedAt.IsZero(), b.StartedAt.After(s.Now()):
		default:
			fresh = append(fresh, asTold(b))
		}
	}
	if fresh == nil {
		return ids, nil
	}
	return ids, s.changeBuilds(ctx, func(tx *record.Tx) error {
		for _, b := range fresh {
			id, made, err := tx.BeginBuild(ctx, b)
			if err != nil {
				return err
			}
			if !made { // somebody began one of this name just now
				continue
			}
			if b.ID = id; b.EndedAt == nil {
				b.EndedAt = &b.StartedAt
			}
			if err := tx.SetBuild(ctx, b); err != nil {
				return err
			}
			if err := tx.Tell(ctx, record.Change{Kind: record.OfBuild, Name: b.Title()}); err != nil {
				return err
			}
			ids[b.Title()] = id
		}
		return nil
	})
}

// line is what another Crelvo says, as far as it can be shown in a line.
func line(said string) string { return text.Clean(said, false, 1000) }

// mostTold is how many notes of a build are taken over, and names of tests.
const mostTold = 100

// asTold is a build as another Crelvo tells of it.
func asTold(b bundle.Build) record.Build {
	of := record.Build{Name: b.Name, Number: b.Number, Revision: line(b.Revision), Branch: line(b.Branch),
		Link: line(b.Link), Agent: line(b.Agent), Owner: line(b.By), StartedAt: b.StartedAt, EndedAt: b.EndedAt,
		Notes: map[string]string{}}
	for name, said := range b.Notes {
		if len(of.Notes) < mostTold {
			of.Notes[line(name)] = line(said)
		}
	}
	if t := b.Tests; t != nil {
		of.Tests = &junit.Summary{Tests: max(t.Tests, 0), Failed: max(t.Failed, 0), Errors: max(t.Errors, 0),
			Skipped: max(t.Skipped, 0)}
		for _, name := range t.Names[:min(len(t.Names), mostTold)] {
			of.Tests.Names = append(of.Tests.Names, line(name))
		}
	}
	return of
}
