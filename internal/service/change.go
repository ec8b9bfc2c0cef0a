package service

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/retention"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

// changing finds the house repository and package that somebody wants to change.
func (s *Service) changing(ctx context.Context, caller access.Caller, action access.Action, key catalog.PackageKey) (catalog.Repository, *catalog.Package, error) {
	r, ok := s.known().byID[key.RepositoryID]
	if !ok {
		return r, nil, ecosystem.ErrNoPackage
	}
	if key.AsOf != 0 {
		return r, nil, fault.New(fault.Conflict, "the-past", "%s as of %s cannot be changed: it is the past", r.Name, key.AsOf)
	}
	if r.Kind != catalog.House {
		return r, nil, fault.New(fault.Conflict, "not-a-house", "%s is a %s; only what house repositories hold can be changed", r.Name, r.Kind).
			WithHint("Name the house repository that holds %s.", key.Name)
	}
	if err := s.Allow(caller, action, access.Object{Repository: r, Package: purlOf(key, "")}); err != nil {
		return r, nil, err
	}
	p, err := s.Package(ctx, key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return r, nil, fault.New(fault.NotFound, "no-such-package", "%s holds no %s", r.Name, purlOf(key, ""))
	}
	return r, p, err
}

func hasVersion(p *catalog.Package, version string) bool {
	return slices.ContainsFunc(p.Versions, func(v catalog.Version) bool { return v.Version == version })
}

func noVersion(r catalog.Repository, key catalog.PackageKey, version string) error {
	return fault.New(fault.NotFound, "no-such-version", "%s holds no version %s of %s", r.Name, version, key.Name)
}

// houses finds the packages of a name that a change through a repository is about:
// its own or, behind a chain, those of all house repositories that the caller sees.
// Nothing is changed anywhere if the caller may not change one of those that has what
// is to be changed.
func (s *Service) houses(ctx context.Context, caller access.Caller, action access.Action, key catalog.PackageKey, has func(*catalog.Package) bool) ([]catalog.PackageKey, error) {
	r, ok := s.known().byID[key.RepositoryID]
	if !ok || r.Kind != catalog.Chain || key.AsOf != 0 {
		key.Sight = ""
		return []catalog.PackageKey{key}, nil
	}
	r.Sight = key.Sight
	var all []catalog.PackageKey
	found := false
	for _, m := range s.membersFor(r, key) {
		if m.Kind != catalog.House {
			continue
		}
		at := m.Key(key.Ecosystem, key.Namespace, key.Name)
		at.Sight = ""
		p, err := s.housePackage(ctx, at)
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return nil, err
		}
		found = true
		if !has(p) {
			continue
		}
		if err := s.Allow(caller, action, access.Object{Repository: m.Repository, Package: purlOf(key, "")}); err != nil {
			return nil, err
		}
		all = append(all, at)
	}
	switch {
	case !found:
		return nil, fault.New(fault.NotFound, "no-such-package", "no house repository of %s holds %s, and nothing else can be changed", r.Name, purlOf(key, ""))
	case all == nil:
		return nil, fault.New(fault.NotFound, "no-such-version", "no house repository of %s holds that version of %s", r.Name, key.Name)
	}
	return all, nil
}

// SetLabel implements ecosystem.Desk. Behind a chain, the label is at the houses
// that have the version, and at no other.
func (s *Service) SetLabel(ctx context.Context, caller access.Caller, key catalog.PackageKey, label, version string) error {
	concerns := func(p *catalog.Package) bool { return p.Labels[label] != "" || version != "" && hasVersion(p, version) }
	houses, err := s.houses(ctx, caller, access.Publish, key, concerns)
	if err != nil {
		return err
	}
	if len(houses) == 1 {
		return s.setLabel(ctx, caller, houses[0], label, version)
	}
	set := version == ""
	var elsewhere []catalog.PackageKey
	for _, at := range houses {
		p, err := s.housePackage(ctx, at)
		if err != nil {
			return err
		}
		if version == "" || !hasVersion(p, version) {
			elsewhere = append(elsewhere, at)
			continue
		}
		set = true
		if err := s.setLabel(ctx, caller, at, label, version); err != nil {
			return err
		}
	}
	if !set {
		r := s.known().byID[key.RepositoryID]
		return noVersion(r, key, version)
	}
	for _, at := range elsewhere {
		if err := s.setLabel(ctx, caller, at, label, ""); err != nil {
			return err
		}
	}
	return nil
}

// setLabel is SetLabel in a house repository.
func (s *Service) setLabel(ctx context.Context, caller access.Caller, key catalog.PackageKey, label, version string) error {
	r, p, err := s.changing(ctx, caller, access.Publish, key)
	if err != nil {
		return err
	}
	if version != "" && !hasVersion(p, version) {
		return noVersion(r, key, version)
	}
	if p.Labels[label] == version && version != "" {
		return nil
	}
	return s.changePackage(ctx, r, key, []string{version}, func(tx *record.Tx) (record.Event, error) {
		event := s.event(caller, "label moved")
		event.Detail = map[string]string{"label": label, "before": p.Labels[label], "after": version}
		if version != "" {
			return event, tx.SetLabel(ctx, key, label, version, caller.Name, s.Now())
		}
		done, err := tx.DropLabel(ctx, key, label, s.Now())
		if err == nil && !done {
			err = fault.New(fault.NotFound, "no-such-label", "%s has no label %q", key.Name, label)
		}
		return event, err
	})
}

// changePackage changes what is visible of some versions of a package.
func (s *Service) changePackage(ctx context.Context, r catalog.Repository, key catalog.PackageKey, versions []string,
	do func(tx *record.Tx) (record.Event, error)) error {
	version := "" // several
	if len(versions) == 1 {
		version = versions[0]
	}
	err := s.db.Within(ctx, func(tx *record.Tx) error {
		event, err := do(tx)
		if err != nil {
			return err
		}
		event.Repository, event.Subject = r.Name, purlOf(key, version).String()
		return s.announce(ctx, tx, r, key.Ecosystem, key.Namespace, key.Name, version, event)
	})
	s.changed(key)
	return err
}

// Withdraw implements ecosystem.Desk.
func (s *Service) Withdraw(ctx context.Context, caller access.Caller, key catalog.PackageKey, reasons map[string]*string) error {
	return s.inHouses(ctx, caller, access.Publish, key, slices.Collect(maps.Keys(reasons)), func(at catalog.PackageKey, versions []string) error {
		here := map[string]*string{}
		for _, version := range versions {
			here[version] = reasons[version]
		}
		return s.withdraw(ctx, caller, at, here)
	})
}

// inHouses does something to versions of a package in each house repository that a
// change through a repository is about, with those of them that it has. Behind a
// chain, somebody must have each of them.
func (s *Service) inHouses(ctx context.Context, caller access.Caller, action access.Action, key catalog.PackageKey, versions []string,
	do func(at catalog.PackageKey, versions []string) error) error {
	of := func(p *catalog.Package) []string {
		return slices.DeleteFunc(slices.Clone(versions), func(v string) bool { return !hasVersion(p, v) })
	}
	houses, err := s.houses(ctx, caller, action, key, func(p *catalog.Package) bool { return len(of(p)) > 0 || len(versions) == 0 })
	if err != nil {
		return err
	}
	if houses[0].RepositoryID == key.RepositoryID {
		return do(houses[0], versions)
	}
	here, known := make([][]string, len(houses)), map[string]bool{}
	for i, at := range houses {
		p, err := s.housePackage(ctx, at)
		if err != nil {
			return err
		}
		here[i] = of(p)
		for _, v := range here[i] {
			known[v] = true
		}
	}
	for _, v := range versions {
		if !known[v] {
			return noVersion(s.known().byID[key.RepositoryID], key, v)
		}
	}
	for i, at := range houses {
		if err := do(at, here[i]); err != nil {
			return err
		}
	}
	return nil
}

// withdraw is Withdraw in a house repository.
func (s *Service) withdraw(ctx context.Context, caller access.Caller, key catalog.PackageKey, reasons map[string]*string) error {
	r, p, err := s.changing(ctx, caller, access.Publish, key)
	if err != nil {
		return err
	}
	now := map[string]*catalog.Withdrawal{}
	for _, v := range p.Versions {
		now[v.Version] = v.Withdrawn
	}
	var withdrawn, why, restored []string
	for _, version := range slices.Sorted(maps.Keys(reasons)) {
		reason := reasons[version]
		was, ok := now[version]
		switch {
		case !ok:
			return noVersion(r, key, version)
		case (was == nil) == (reason == nil) && (was == nil || was.Reason == *reason):
		case reason == nil:
			restored = append(restored, version)
		default:
			withdrawn, why = append(withdrawn, version), append(why, *reason)
		}
	}
	if withdrawn != nil {
		err = s.changePackage(ctx, r, key, withdrawn, func(tx *record.Tx) (record.Event, error) {
			event := s.event(caller, "versions withdrawn")
			event.Detail = map[string]string{"versions": strings.Join(withdrawn, " "), "reason": strings.Join(slices.Compact(slices.Clone(why)), "; ")}
			return event, tx.Withdraw(ctx, key, withdrawn, why, caller.Name, s.Now())
		})
	}
	if restored != nil && err == nil {
		err = s.changePackage(ctx, r, key, restored, func(tx *record.Tx) (record.Event, error) {
			event := s.event(caller, "withdrawal ended")
			event.Detail = map[string]string{"versions": strings.Join(restored, " ")}
			return event, tx.Restore(ctx, key, restored, s.Now())
		})
	}
	return err
}

// Remove implements ecosystem.Desk.
func (s *Service) Remove(ctx context.Context, caller access.Caller, key catalog.PackageKey, versions []string) error {
	return s.inHouses(ctx, caller, access.Remove, key, versions, func(at catalog.PackageKey, versions []string) error {
		_, err := s.remove(ctx, caller, at, versions)
		return err
	})
}

// RemoveVersion takes a version out of use, as a sweep by hand.
func (s *Service) RemoveVersion(ctx context.Context, caller access.Caller, name string, p purl.PURL) (SweepView, error) {
	r, err := s.Repository(caller, name, access.Remove)
	if err != nil {
		return SweepView{}, err
	}
	id, err := s.remove(ctx, caller, r.Key(p.Ecosystem, p.Namespace, p.Name), []string{p.Version})
	if err != nil {
		return SweepView{}, err
	}
	found, err := s.db.Sweeps(ctx, record.SweepFilter{ID: id})
	if err == nil && len(found) == 0 {
		err = record.ErrNotFound
	}
	if err != nil {
		return SweepView{}, err
	}
	return SweepView{Sweep: found[0], Repositories: []catalog.Repository{r}, May: true}, nil
}

// remove takes versions out of use, and names the sweep that they can be brought
// back from; 0 if there was nothing to do.
func (s *Service) remove(ctx context.Context, caller access.Caller, key catalog.PackageKey, versions []string) (sweepID int64, err error) {
	key.Sight = ""
	r, p, err := s.changing(ctx, caller, access.Remove, key)
	if err != nil {
		return 0, err
	}
	for _, version := range versions {
		if !hasVersion(p, version) {
			return 0, noVersion(r, key, version)
		}
	}
	if len(versions) == 0 {
		return 0, nil
	}
	err = s.changePackage(ctx, r, key, versions, func(tx *record.Tx) (record.Event, error) {
		event := s.event(caller, "versions removed")
		ids, err := tx.RemoveVersions(ctx, key, versions, retention.DefaultGrace, s.Now())
		if err != nil {
			return event, err
		}
		// The versions are held now: a pin is seen, or comes too late.
		pin, err := tx.PinOf(ctx, ids, s.Now())
		if err == nil {
			err = fault.New(fault.Conflict, "pinned", "%s %s was pinned by %s on %s: %s", key.Name, pin.Version, pin.By, pin.At.UTC().Format(timeForm), pin.Reason).
				WithHint("Take the pin away first: crelvo pin %s --in %s --off.", purlOf(key, pin.Version), r.Name)
		}
		if !errors.Is(err, record.ErrNotFound) {
			return event, err
		}
		sweep, err := s.recordRemoval(ctx, tx, caller, r, ids, retention.DefaultGrace)
		sweepID = sweep.ID
		event.Detail = map[string]string{"versions": strings.Join(versions, " "), "sweep": itoa(sweep.ID)}
		return event, err
	})
	return sweepID, err
}

// Readme implements ecosystem.Desk.
func (s *Service) Readme(ctx context.Context, v catalog.Version) (*catalog.Readme, error) {
	if v.ID == 0 {
		return v.Details.Readme, nil
	}
	r, err := s.db.Readme(ctx, v.ID)
	if errors.Is(err, record.ErrNotFound) {
		return nil, nil
	}
	return &r, err
}

// WithdrawVersion marks a version as not to be used any more, or takes the mark
// away.
func (s *Service) WithdrawVersion(ctx context.Context, caller access.Caller, name string, p purl.PURL, reason string, undo bool) error {
	r, err := s.Repository(caller, name, access.Publish)
	if err != nil {
		return err
	}
	if p.Version == "" {
		return bad("no-version", "%s does not say which version", p).WithHint("Write it as %s@VERSION.", p)
	}
	reasons := map[string]*string{p.Version: &reason}
	if undo {
		reasons[p.Version] = nil
	}
	return s.Withdraw(ctx, caller, r.Key(p.Ecosystem, p.Namespace, p.Name), reasons)
}

// ReadmeOf is the text about a version, or about the newest one, that the caller
// may read, and which version that is.
func (s *Service) ReadmeOf(ctx context.Context, caller access.Caller, p purl.PURL, repository string) (catalog.Readme, string, error) {
	holdings, _, err := s.holdingsOf(ctx, caller, p, repository, VersionPage{Limit: 1})
	if err != nil {
		return catalog.Readme{}, "", err
	}
	var newest *catalog.Version
	for _, h := range holdings {
		for i, v := range h.Package.Versions {
			if newest == nil || purl.Compare(p.Ecosystem, v.Version, newest.Version) > 0 || v.Version == newest.Version && v.Newer(*newest) {
				newest = &h.Package.Versions[i]
			}
		}
	}
	readme, err := s.Readme(ctx, *newest)
	if err == nil && readme == nil {
		err = fault.New(fault.NotFound, "no-readme", "%s has no README", p)
	}
	if err != nil {
		return catalog.Readme{}, "", err
	}
	return *readme, newest.Version, nil
}
