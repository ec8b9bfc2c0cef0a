package builds

import (
	"context"
	"errors"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
)

// TakeOver puts builds on record that were recorded by another Crelvo, where they made what comes from there, and
// gives their ids by name#number. One of a name that is somebody else's here, or of which another one is on record
// here, is left out: nobody speaks for others.
func (s *Builds) TakeOver(ctx context.Context, caller access.Caller, told []bundle.Build) (map[string]int64, error) {
	ids := map[string]int64{}
	for _, b := range told {
		title := b.Name + "#" + b.Number
		if _, _, err := SplitBuild(title); err != nil || b.StartedAt.IsZero() || b.StartedAt.After(s.Now()) {
			continue
		}
		known, err := s.DB.Build(ctx, record.BuildFilter{Name: b.Name, Number: b.Number})
		if err == nil {
			if known.StartedAt.Equal(b.StartedAt) && known.Revision == b.Revision {
				ids[title] = known.ID
			}
			continue
		}
		if !errors.Is(err, record.ErrNotFound) {
			return nil, err
		}
		owner, err := s.DB.BuildName(ctx, b.Name)
		if err != nil && !errors.Is(err, record.ErrNotFound) {
			return nil, err
		}
		if err == nil && owner.OwnerID != caller.ID {
			continue
		}
		ended := b.StartedAt
		if b.EndedAt != nil {
			ended = *b.EndedAt
		}
		line := func(said string) string { return text.Clean(said, false, text.MaxText) }
		of := record.Build{Name: b.Name, Number: b.Number, Revision: line(b.Revision), Branch: line(b.Branch),
			Link: line(b.Link), Agent: line(b.Agent), Owner: line(b.By), StartedAt: b.StartedAt, EndedAt: &ended,
			Notes: map[string]string{}, Tests: b.Tests}
		for name, said := range b.Notes {
			of.Notes[line(name)] = line(said)
		}
		err = s.changeBuilds(ctx, func(tx *record.Tx) error {
			id, fresh, err := tx.BeginBuild(ctx, of)
			if err != nil || !fresh {
				return err // somebody began one of this name just now
			}
			ids[title], of.ID = id, id
			if err := tx.SetBuild(ctx, of); err != nil {
				return err
			}
			return tx.Tell(ctx, record.Change{Kind: record.OfBuild, Name: title})
		})
		if err != nil {
			return nil, err
		}
	}
	return ids, nil
}
