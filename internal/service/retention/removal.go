package retention

import (
	"context"
	"errors"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
)

// Remove implements ecosystem.Desk.
func (s *Retention) Remove(ctx context.Context, caller access.Caller, key catalog.PackageKey, versions []string) error {
	return s.publishing.InHouses(ctx, caller, access.Remove, key, versions,
		func(at catalog.PackageKey, versions []string) error {
			_, err := s.takeOut(ctx, caller, at, versions)
			return err
		})
}

// RemoveVersion takes a version out of use, as a sweep by hand.
func (s *Retention) RemoveVersion(
	ctx context.Context, caller access.Caller, name string, p purl.PURL,
) (SweepView, error) {
	r, err := s.directory.Repository(caller, name, access.Remove)
	if err != nil {
		return SweepView{}, err
	}
	if p, err = s.publishing.Labelled(ctx, r, p); err != nil {
		return SweepView{}, err
	}
	id, err := s.takeOut(ctx, caller, r.Key(p.Ecosystem, p.Namespace, p.Name), []string{p.Version})
	if err != nil {
		return SweepView{}, err
	}
	found, err := s.DB.Sweeps(ctx, record.SweepFilter{ID: id})
	if err == nil && len(found) == 0 {
		err = record.ErrNotFound
	}
	if err != nil {
		return SweepView{}, err
	}
	return SweepView{Sweep: found[0], Repositories: []catalog.Repository{r}, May: true}, nil
}

// TakeRemovals takes those versions out of use that were removed at another place after they came here, and tells what
// is not, and why.
func (s *Retention) TakeRemovals(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, removed []bundle.Removal,
) (refused []string, err error) {
	for _, one := range removed {
		err := s.publishing.InHouses(ctx, caller, access.Remove, key, []string{one.Version},
			func(at catalog.PackageKey, _ []string) error {
				_, p, err := s.publishing.Changing(ctx, caller, access.Remove, at)
				if err != nil || !publishing.HasVersion(p, one.Version) ||
					slices.ContainsFunc(p.Versions, func(v catalog.Version) bool {
						return v.Version == one.Version && v.Arrived.After(one.At)
					}) {
					return err
				}
				_, err = s.takeOut(ctx, caller, at, []string{one.Version})
				return err
			})
		switch f := fault.Of(err); {
		case err == nil || f.Kind == fault.NotFound:
		case f.Kind == fault.Internal || f.Kind == fault.Unavailable:
			return refused, err
		default:
			refused = append(refused, one.Version+": "+f.Message)
		}
	}
	return refused, nil
}

// takeOut takes versions out of use, and names the sweep that they can be brought
// back from; 0 if there was nothing to do.
func (s *Retention) takeOut(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, versions []string,
) (sweepID int64, err error) {
	key.Sight = ""
	r, p, err := s.publishing.Changing(ctx, caller, access.Remove, key)
	if err != nil {
		return 0, err
	}
	for _, version := range versions {
		if !publishing.HasVersion(p, version) {
			return 0, publishing.NoVersion(r, key, version)
		}
	}
	if len(versions) == 0 {
		return 0, nil
	}
	err = s.publishing.ChangePackage(ctx, r, key, versions, func(tx *record.Tx) (record.Event, error) {
		event := s.Event(caller, record.EventVersionsRemoved)
		ids, err := tx.RemoveVersions(ctx, key, versions, retention.DefaultGrace, s.Now())
		if err != nil {
			return event, err
		}
		// The versions are held now: a pin is seen, or comes too late.
		pin, err := tx.PinOf(ctx, ids, s.Now())
		if err == nil {
			err = fault.New(fault.Conflict, "pinned", "%s %s was pinned by %s on %s: %s", key.Name, pin.Version, pin.By,
				pin.At.UTC().Format(act.TimeForm), pin.Reason).
				WithHint("Take the pin away first: crelvo pin %s --in %s --off.", act.PURLOf(key, pin.Version), r.Name)
		}
		if !errors.Is(err, record.ErrNotFound) {
			return event, err
		}
		sweep, err := s.recordRemoval(ctx, tx, caller, r, ids, retention.DefaultGrace)
		sweepID = sweep.ID
		event.Detail = map[string]string{"versions": strings.Join(versions, " "), "sweep": act.Itoa(sweep.ID)}
		return event, err
	})
	return sweepID, err
}
