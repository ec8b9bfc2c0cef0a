package publishing

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Changing finds the house repository and package that somebody wants to change.
func (s *Publishing) Changing(
	ctx context.Context, caller access.Caller, action access.Action, key catalog.PackageKey,
) (catalog.Repository, *catalog.Package, error) {
	r, ok := s.directory.Known().ByID[key.RepositoryID]
	if !ok {
		return r, nil, ecosystem.ErrNoPackage
	}
	if key.AsOf != 0 {
		return r, nil, fault.New(fault.Conflict, "the-past", "%s as of %s cannot be changed: it is the past", r.Name,
			key.AsOf)
	}
	if !r.Own() {
		return r, nil, fault.New(fault.Conflict, "not-a-house",
			"%s is a %s; only what house repositories hold can be changed", r.Name, r.Kind).
			WithHint("Name the house repository that holds %s.", key.Name)
	}
	if err := s.directory.Allow(caller, action, access.Object{Repository: r, Package: act.PURLOf(key, "")}); err != nil {
		return r, nil, err
	}
	p, err := s.resolving.Package(ctx, key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return r, nil, fault.New(fault.NotFound, "no-such-package", "%s holds no %s", r.Name, act.PURLOf(key, ""))
	}
	return r, p, err
}

// Find is the version, or upload of a snapshot, that a package has; nil if it has none such.
func Find(p *catalog.Package, version, upload string) *catalog.Version {
	if p == nil {
		return nil
	}
	i := slices.IndexFunc(p.Versions, func(v catalog.Version) bool { return v.Version == version && v.Upload == upload })
	if i < 0 {
		return nil
	}
	return &p.Versions[i]
}

// Differs tells how what is there is not what would come; "" if all of that is there.
func Differs(files []catalog.File, there *catalog.Version) string {
	for _, f := range files {
		i := slices.IndexFunc(there.Files, func(o catalog.File) bool { return o.Name == f.Name })
		switch {
		case i < 0:
			return "lacks " + f.Name
		case there.Files[i].Digests.Contradicts(f.Digests):
			return "has other bytes in " + f.Name
		}
	}
	return ""
}

// HasVersion tells whether a package has a version.
func HasVersion(p *catalog.Package, version string) bool {
	return slices.ContainsFunc(p.Versions, func(v catalog.Version) bool { return v.Version == version })
}

func NoVersion(r catalog.Repository, key catalog.PackageKey, version string) error {
	return fault.New(fault.NotFound, "no-such-version", "%s holds no version %s of %s", r.Name, version, key.Name)
}

// houses finds the packages of a name that a change through a repository is about:
// its own or, behind a chain, those of all house repositories that the caller sees.
// Nothing is changed anywhere if the caller may not change one of those that has what
// is to be changed.
func (s *Publishing) houses(
	ctx context.Context, caller access.Caller, action access.Action, key catalog.PackageKey,
	has func(*catalog.Package) bool,
) ([]catalog.PackageKey, error) {
	r, ok := s.directory.Known().ByID[key.RepositoryID]
	if !ok || !r.Gathers() || key.AsOf != 0 {
		key.Sight = ""
		return []catalog.PackageKey{key}, nil
	}
	r.Sight = key.Sight
	var all []catalog.PackageKey
	found := false
	for _, m := range s.directory.MembersFor(r, key) {
		if !m.Own() {
			continue
		}
		at := m.Key(key.Ecosystem, key.Namespace, key.Name)
		at.Sight = ""
		p, err := s.holdings.Package(ctx, at)
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
		if err := s.directory.Allow(caller, action, access.Object{Repository: m.Repository,
			Package: act.PURLOf(key, "")}); err != nil {
			return nil, err
		}
		all = append(all, at)
	}
	switch {
	case !found:
		return nil, fault.New(fault.NotFound, "no-such-package",
			"no house repository of %s holds %s, and nothing else can be changed", r.Name, act.PURLOf(key, ""))
	case all == nil:
		return nil, fault.New(fault.NotFound, "no-such-version", "no house repository of %s holds that version of %s", r.Name,
			key.Name)
	}
	return all, nil
}

// SetLabel implements ecosystem.Desk. Behind a chain, the label is at the houses
// that have the version, and at no other.
func (s *Publishing) SetLabel(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, label, version string,
) error {
	concerns := func(p *catalog.Package) bool { return p.Labels[label] != "" || version != "" && HasVersion(p, version) }
	houses, err := s.houses(ctx, caller, access.Publish, key, concerns)
	if err != nil {
		return err
	}
	if len(houses) == 1 {
		return s.setLabelIn(ctx, caller, houses[0], label, version)
	}
	set := version == ""
	var elsewhere []catalog.PackageKey
	for _, at := range houses {
		p, err := s.holdings.Package(ctx, at)
		if err != nil {
			return err
		}
		if version == "" || !HasVersion(p, version) {
			elsewhere = append(elsewhere, at)
			continue
		}
		set = true
		if err := s.setLabelIn(ctx, caller, at, label, version); err != nil {
			return err
		}
	}
	if !set {
		r := s.directory.Known().ByID[key.RepositoryID]
		return NoVersion(r, key, version)
	}
	for _, at := range elsewhere {
		if err := s.setLabelIn(ctx, caller, at, label, ""); err != nil {
			return err
		}
	}
	return nil
}

// setLabelIn is SetLabel in a house repository.
func (s *Publishing) setLabelIn(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, label, version string,
) error {
	r, p, err := s.Changing(ctx, caller, access.Publish, key)
	if err != nil {
		return err
	}
	if version != "" && !HasVersion(p, version) {
		return NoVersion(r, key, version)
	}
	if p.Labels[label] == version && version != "" {
		return nil
	}
	maturing, byLabels := s.Ecosystem(key.Ecosystem).(ecosystem.Maturing)
	if byLabels {
		if err := s.mayLabel(caller, r, key, maturing, label, version); err != nil {
			return err
		}
	}
	return s.ChangePackage(ctx, r, key, []string{version}, func(tx *record.Tx) (record.Event, error) {
		event := s.Event(caller, record.EventLabelMoved)
		event.Detail = map[string]string{"label": label, "before": p.Labels[label], "after": version}
		if version != "" {
			if byLabels {
				if _, err := s.Moved(ctx, tx, maturing, r, key, []string{label}, version); err != nil {
					return event, err
				}
			}
			return event, tx.SetLabel(ctx, key, label, version, caller.Name, s.Now())
		}
		done, err := tx.DropLabel(ctx, key, label, s.Now())
		if err == nil && !done {
			err = fault.New(fault.NotFound, "no-such-label", "%s has no label %q", key.Name, label)
		}
		return event, err
	})
}

// mayLabel checks that a label which may give a version its maturity belongs in a
// repository. To take away one that makes a release is to remove that.
func (s *Publishing) mayLabel(
	caller access.Caller, r catalog.Repository, key catalog.PackageKey, m ecosystem.Maturing, label, version string,
) error {
	if version != "" {
		return s.MaturityByLabels(m, r, []string{label})
	}
	if release, _ := m.LabelMaturity(r, label); release {
		return s.directory.Allow(caller, access.Remove, access.Object{Repository: r, Package: act.PURLOf(key, "")})
	}
	return nil
}

// ChangePackage changes what is visible of some versions of a package.
func (s *Publishing) ChangePackage(ctx context.Context, r catalog.Repository, key catalog.PackageKey, versions []string,
	do func(tx *record.Tx) (record.Event, error)) error {
	version := "" // several
	if len(versions) == 1 {
		version = versions[0]
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		event, err := do(tx)
		if err != nil {
			return err
		}
		event.Repository, event.Subject = r.Name, act.PURLOf(key, version).String()
		return s.Announce(ctx, tx, r, key.Ecosystem, key.Namespace, key.Name, version, event)
	})
}

// Withdraw implements ecosystem.Desk.
func (s *Publishing) Withdraw(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, reasons map[string]*string,
) error {
	return s.InHouses(ctx, caller, access.Publish, key, slices.Collect(maps.Keys(reasons)),
		func(at catalog.PackageKey, versions []string) error {
			here := map[string]*string{}
			for _, version := range versions {
				here[version] = reasons[version]
			}
			return s.withdrawIn(ctx, caller, at, here)
		})
}

// InHouses does something to versions of a package in each house repository that a
// change through a repository is about, with those of them that it has. Behind a
// chain, somebody must have each of them.
func (s *Publishing) InHouses(ctx context.Context, caller access.Caller, action access.Action, key catalog.PackageKey,
	versions []string,
	do func(at catalog.PackageKey, versions []string) error) error {
	of := func(p *catalog.Package) []string {
		return slices.DeleteFunc(slices.Clone(versions), func(v string) bool { return !HasVersion(p, v) })
	}
	houses, err := s.houses(ctx, caller, action, key, func(p *catalog.Package) bool {
		return len(of(p)) > 0 || len(versions) == 0
	})
	if err != nil {
		return err
	}
	if houses[0].RepositoryID == key.RepositoryID {
		return do(houses[0], versions)
	}
	here, known := make([][]string, len(houses)), map[string]bool{}
	for i, at := range houses {
		p, err := s.holdings.Package(ctx, at)
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
			return NoVersion(s.directory.Known().ByID[key.RepositoryID], key, v)
		}
	}
	for i, at := range houses {
		if err := do(at, here[i]); err != nil {
			return err
		}
	}
	return nil
}

// withdrawIn is Withdraw in a house repository.
func (s *Publishing) withdrawIn(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, reasons map[string]*string,
) error {
	r, p, err := s.Changing(ctx, caller, access.Publish, key)
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
			return NoVersion(r, key, version)
		case (was == nil) == (reason == nil) && (was == nil || was.Reason == *reason):
		case reason == nil:
			restored = append(restored, version)
		default:
			withdrawn, why = append(withdrawn, version), append(why, *reason)
		}
	}
	if withdrawn != nil {
		err = s.ChangePackage(ctx, r, key, withdrawn, func(tx *record.Tx) (record.Event, error) {
			event := s.Event(caller, record.EventVersionsWithdrawn)
			event.Detail = map[string]string{"versions": strings.Join(withdrawn, " "),
				"reason": strings.Join(slices.Compact(slices.Clone(why)), "; ")}
			return event, tx.Withdraw(ctx, key, withdrawn, why, caller.Name, s.Now())
		})
	}
	if restored != nil && err == nil {
		err = s.ChangePackage(ctx, r, key, restored, func(tx *record.Tx) (record.Event, error) {
			event := s.Event(caller, record.EventWithdrawalEnded)
			event.Detail = map[string]string{"versions": strings.Join(restored, " ")}
			return event, tx.Restore(ctx, key, restored, s.Now())
		})
	}
	return err
}

// Readme implements ecosystem.Desk.
func (s *Publishing) Readme(ctx context.Context, v catalog.Version) (*catalog.Readme, error) {
	if v.ID == 0 {
		return v.Details.Readme, nil
	}
	r, err := s.DB.Readme(ctx, v.ID)
	if errors.Is(err, record.ErrNotFound) {
		return nil, nil
	}
	return &r, err
}

// Labelled is a package URL with the version that it means in a repository, where it names
// a label in its place, and labels say what versions are.
func (s *Publishing) Labelled(ctx context.Context, r catalog.Repository, p purl.PURL) (purl.PURL, error) {
	label := cmp.Or(p.Version, p.Qualifiers["tag"])
	if _, ok := s.Ecosystem(p.Ecosystem).(ecosystem.Maturing); !ok || label == "" ||
		purl.IsVersion(p.Ecosystem, p.Version) {
		return p, nil
	}
	found, err := s.DB.Labelled(ctx, []int64{r.ID}, r.Key(p.Ecosystem, p.Namespace, p.Name), label)
	if len(found) == 1 {
		p.Version, p.Qualifiers = found[0], nil
	}
	return p, err
}

// WithdrawVersion marks a version as not to be used any more, or takes the mark
// away.
func (s *Publishing) WithdrawVersion(
	ctx context.Context, caller access.Caller, name string, p purl.PURL, reason string, undo bool,
) error {
	r, err := s.directory.Repository(caller, name, access.Publish)
	if err != nil {
		return err
	}
	if p, err = s.Labelled(ctx, r, p); err != nil {
		return err
	}
	if p.Version == "" {
		return act.Invalid("no-version", "%s does not say which version", p).WithHint("Write it as %s@VERSION.", p)
	}
	reasons := map[string]*string{p.Version: &reason}
	if undo {
		reasons[p.Version] = nil
	}
	return s.Withdraw(ctx, caller, r.Key(p.Ecosystem, p.Namespace, p.Name), reasons)
}
