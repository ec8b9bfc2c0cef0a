package bundles

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
)

const (
	// placedAtOnce is how many versions are looked into before they are put on record, all of them in one
	// transaction, and inspectedAtOnce how many at the same time.
	placedAtOnce    = 200
	inspectedAtOnce = 4
)

// errRefused undoes what was begun.
var errRefused = errors.New("something cannot come")

// place makes all versions visible, with their labels and withdrawals.
func (l *Loading) place(ctx context.Context, withDecisions bool) error {
	err := l.s.store.Recorded(ctx, nil, func(tx *record.Tx) error {
		l.Refused = nil // this may be done again
		var changes []record.Change
		if err := l.look(ctx); err != nil {
			return err
		}
		for some := range slices.Chunk(l.fresh, placedAtOnce) {
			if err := l.placeSome(ctx, tx, some); err != nil {
				return err
			}
		}
		if l.Refused != nil {
			return errRefused
		}
		var labels []record.LabelSetting
		for i := range l.Packages {
			p := &l.Packages[i]
			some, err := l.mark(ctx, tx, p)
			if err != nil {
				return err
			}
			labels = append(labels, some...)
			to := l.to[p.Repository]
			changes = append(changes, record.Change{Kind: record.OfPackage, RepositoryID: to.ID, Repository: to.Name,
				Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name})
		}
		if err := tx.SetLabels(ctx, labels, l.caller.Name, l.s.Now()); err != nil {
			return err
		}
		for id, sums := range l.needed {
			if err := tx.TakeLanded(ctx, id, sums); err != nil {
				return err
			}
		}
		if withDecisions {
			more, err := l.decide(ctx, tx)
			if err != nil {
				return err
			}
			changes = append(changes, more...)
		}
		return l.note(ctx, tx, changes)
	})
	if errors.Is(err, errRefused) {
		return refusal(l.Refused)
	}
	return err
}

// look reads what the repositories have now of the packages in it.
func (l *Loading) look(ctx context.Context) error {
	l.has = map[catalog.PackageKey]*catalog.Package{}
	for some := range slices.Chunk(l.Packages, lookedAtOnce) {
		for _, keys := range l.shelves(some) {
			of, err := l.s.holdings.Several(ctx, keys)
			if err != nil {
				return err
			}
			maps.Copy(l.has, of)
			if err := l.s.safety.Ahead(ctx, keys); err != nil {
				return err
			}
		}
	}
	return nil
}

// placeSome looks into versions and makes them visible. What cannot come is noted.
func (l *Loading) placeSome(ctx context.Context, tx *record.Tx, some []arriving) error {
	var sums [][]byte
	for _, a := range some {
		for _, f := range a.Files {
			sums = append(sums, f.SHA256[:])
		}
	}
	known, err := l.s.DB.DigestsOf(ctx, sums)
	if err != nil {
		return err
	}
	placed, why := make([]record.PlacedVersion, len(some)), make([]string, len(some))
	looking, in := errgroup.WithContext(ctx)
	looking.SetLimit(inspectedAtOnce)
	for i, a := range some {
		looking.Go(func() (err error) {
			placed[i], why[i], err = l.s.landing.Look(in, a.to, a.Version, known)
			return err
		})
	}
	if err := looking.Wait(); err != nil {
		return err
	}
	bytes := map[int64]int64{}
	for i, a := range some {
		if why[i] != "" {
			l.refuse(a.purl(), why[i])
		}
		bytes[a.to.ID] += a.Bytes()
	}
	if l.Refused != nil {
		return nil // the rest is looked into, so that everything can be told
	}
	ids, collisions, err := tx.Place(ctx, placed, l.caller.ID, l.caller.Name, l.s.Now())
	if err != nil {
		return err
	}
	for _, c := range collisions {
		for _, a := range some {
			if a.Key == c.Key && a.of.Version == c.Version {
				l.refuse(a.purl(), a.to.Name+" has it, or had it, with other bytes, since a moment ago")
				break
			}
		}
	}
	if collisions != nil {
		return nil
	}
	origins := make([]*bundle.Origin, len(some))
	for i, a := range some {
		origins[i] = &bundle.Origin{From: a.from + " in bundle " + l.ID, Promotions: a.of.Promotions}
	}
	if err := tx.SetOrigins(ctx, ids, origins); err != nil {
		return err
	}
	byTarget := map[int64][]int64{}
	for i, a := range some {
		byTarget[a.to.ID] = append(byTarget[a.to.ID], ids[i])
	}
	for _, to := range l.to {
		if of := byTarget[to.ID]; of != nil {
			delete(byTarget, to.ID) // several may go to one
			if err := l.s.store.WantIn(ctx, tx, to, of, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// mark marks what was withdrawn, as far as that is here, and gives the labels that are to lead where they led.
func (l *Loading) mark(
	ctx context.Context, tx *record.Tx, p *bundle.Package,
) (labels []record.LabelSetting, err error) {
	to := l.to[p.Repository]
	key := to.Key(p.Ecosystem, p.Namespace, p.Name)
	has := l.has[key]
	here := func(version string) bool {
		return has != nil && publishing.HasVersion(has, version) ||
			slices.ContainsFunc(p.Versions, func(v bundle.Version) bool { return v.Version == version })
	}
	for _, label := range slices.Sorted(maps.Keys(p.Labels)) {
		version := p.Labels[label]
		if !here(version) || has != nil && has.Labels[label] == version {
			continue
		}
		names := []string{label}
		if m, ok := l.s.Ecosystem(p.Ecosystem).(ecosystem.Maturing); ok {
			if names, err = l.s.publishing.Moved(ctx, tx, m, to, key, names, version); err != nil {
				return nil, err
			}
		}
		for _, name := range names {
			labels = append(labels, record.LabelSetting{Key: key, Name: name, Version: version})
		}
	}
	var versions, reasons []string
	for _, version := range slices.Sorted(maps.Keys(p.Withdrawn)) {
		if !here(version) || has != nil && slices.ContainsFunc(has.Versions, func(v catalog.Version) bool {
			return v.Version == version && v.Withdrawn != nil
		}) {
			continue
		}
		versions, reasons = append(versions, version), append(reasons, p.Withdrawn[version])
	}
	if versions == nil {
		return labels, nil
	}
	return labels, tx.Withdraw(ctx, key, versions, reasons, l.caller.Name, l.s.Now())
}

// note puts on record that it was loaded.
func (l *Loading) note(ctx context.Context, tx *record.Tx, changes []record.Change) error {
	row := record.Bundle{Loaded: true, Name: l.ID, MadeAt: l.MadeAt, MadeBy: l.MadeBy, Origin: map[string]string{},
		Key: strings.Join(l.Keys, ", "), Came: l.New, At: l.s.Now(), ByName: l.caller.Name}
	row.Versions, row.Bytes = l.Totals()
	if l.Since != nil {
		row.Since = l.Since.ID
	}
	var into []string
	for _, from := range slices.Sorted(maps.Keys(l.to)) {
		row.Origin[from] = l.to[from].Name
		into = append(into, l.to[from].Name)
	}
	slices.Sort(into)
	into = slices.Compact(into)
	event := l.s.Event(l.caller, record.EventBundleLoaded)
	event.Subject, event.Detail = "bundle "+l.ID, map[string]string{"into": strings.Join(into, ", "), "key": row.Key,
		"versions": act.Itoa(int64(row.Versions)), "new": act.Itoa(int64(row.Came))}
	if len(into) == 1 {
		event.Repository = into[0]
	}
	if err := tx.AddBundle(ctx, row); err != nil {
		return err
	}
	return tx.Append(ctx, event, append(changes, record.Change{Kind: record.OfBundle})...)
}

// decide takes over the decisions, but for those that stand here already.
func (l *Loading) decide(ctx context.Context, tx *record.Tx) (changes []record.Change, err error) {
	vettings, err := tx.StandingVettings(ctx, l.s.Now())
	if err != nil {
		return nil, err
	}
	waivers, err := tx.StandingWaivers(ctx, l.s.Now())
	if err != nil {
		return nil, err
	}
	event := l.s.Event(l.caller, record.EventVetted)
	for _, v := range l.Vettings {
		if slices.ContainsFunc(vettings, func(o record.Vetting) bool {
			return o.Pattern == v.Pattern && o.Refused == v.Refused && slices.Equal(o.Repositories, v.Repositories)
		}) {
			continue
		}
		made := record.Vetting{Refused: v.Refused, Pattern: v.Pattern, Repositories: v.Repositories,
			Reason: l.reason(v.Reason), By: l.caller.Name, MadeAt: l.s.Now(), Until: v.Until}
		if _, err := tx.AddVetting(ctx, made); err != nil {
			return nil, err
		}
		event.Subject, event.Detail = v.Pattern, map[string]string{"decision": "accepted", "reason": made.Reason}
		if v.Refused {
			event.Detail["decision"] = "refused"
		}
		if err := tx.Append(ctx, event); err != nil {
			return nil, err
		}
		changes = []record.Change{{Kind: record.OfVetting}}
	}
	event = l.s.Event(l.caller, record.EventWaiverMade)
	waived := false
	for _, w := range l.Waivers {
		if slices.ContainsFunc(waivers, func(o record.Waiver) bool {
			return o.Pattern == w.Pattern && o.Advisory == w.Advisory
		}) {
			continue
		}
		made := record.Waiver{Advisory: w.Advisory, Pattern: w.Pattern, Justification: w.Justification,
			Reason: l.reason(w.Reason), By: l.caller.Name, MadeAt: l.s.Now(), Until: w.Until}
		if _, err := tx.AddWaiver(ctx, made); err != nil {
			return nil, err
		}
		event.Subject, event.Detail = w.Advisory, map[string]string{"pattern": w.Pattern, "reason": made.Reason}
		if err := tx.Append(ctx, event); err != nil {
			return nil, err
		}
		waived = true
	}
	if waived {
		changes = append(changes, record.Change{Kind: record.OfWaiver})
	}
	return changes, nil
}

// reason is why something was decided, and where that was.
func (l *Loading) reason(given string) string {
	return text.Clean(given, false, text.MaxText) + " (bundle " + l.ID + ")"
}
