package transfers

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/safety"
)

// plannedAtOnce is how many packages are looked at before their versions are added to the plan.
const plannedAtOnce = 200

// plan finds out what becomes of each version.
func (m *moving) plan(ctx context.Context) error {
	if err := m.s.DB.PlanTransfer(ctx, m.ID); err != nil {
		return err
	}
	n := 0
	if told, err := m.planHeld(ctx, &n); told || err != nil {
		return err
	}
	packages, err := m.packages(ctx)
	if err != nil {
		return err
	}
	for some := range slices.Chunk(packages, plannedAtOnce) {
		has, err := m.ahead(ctx, some)
		if err != nil {
			return err
		}
		items, err := m.planSome(ctx, some, has)
		if err != nil {
			return err
		}
		if err := m.add(ctx, &n, len(some), items); err != nil {
			return err
		}
	}
	return nil
}

// add adds versions of some packages to the plan, which has n until then.
func (m *moving) add(ctx context.Context, n *int, packages int, items []record.TransferItem) error {
	for i := range items {
		*n++
		items[i].N = *n
	}
	return m.s.DB.AddItems(ctx, m.ID, packages, items)
}

// packages are those that are wanted, of what the caller sees.
func (m *moving) packages(ctx context.Context) (keys []catalog.PackageKey, err error) {
	wants := func(p purl.PURL) bool { return m.wanted.Admits(p).Allowed }
	if at := m.s.mirrors.Of(m.from.ID); at != nil {
		all, err := m.s.mirrors.Packages(ctx, at, m.Patterns, wants)
		if err != nil {
			return nil, err
		}
		for _, p := range all {
			keys = append(keys, m.from.Key(p.Ecosystem, p.Namespace, p.Name))
		}
	} else {
		all, err := m.s.DB.PackagesOf(ctx, m.from.ID)
		if err != nil {
			return nil, err
		}
		for _, key := range all {
			if wants(act.PURLOf(key, "")) {
				keys = append(keys, m.from.Key(key.Ecosystem, key.Namespace, key.Name))
			}
		}
	}
	keys = slices.DeleteFunc(keys, func(key catalog.PackageKey) bool { return !m.s.directory.Shows(key) })
	slices.SortFunc(keys, func(a, b catalog.PackageKey) int {
		return cmp.Or(strings.Compare(a.Ecosystem, b.Ecosystem), strings.Compare(a.Namespace, b.Namespace),
			strings.Compare(a.Name, b.Name))
	})
	return keys, nil
}

// target is the key of a package where it goes to.
func (m *moving) target(key catalog.PackageKey) catalog.PackageKey {
	return catalog.PackageKey{RepositoryID: m.to.ID, Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name}
}

// ahead reads many packages at both ends by few questions, and gives those that are where they go to, by where they
// come from.
func (m *moving) ahead(
	ctx context.Context, keys []catalog.PackageKey,
) (map[catalog.PackageKey]*catalog.Package, error) {
	has := map[catalog.PackageKey]*catalog.Package{}
	for len(keys) > 0 {
		n := 1
		for n < len(keys) && keys[n].Ecosystem == keys[0].Ecosystem {
			n++
		}
		there := make([]catalog.PackageKey, n)
		for i, key := range keys[:n] {
			there[i] = m.target(key)
		}
		of, err := m.s.holdings.Several(ctx, there)
		if err != nil {
			return nil, err
		}
		for i, key := range keys[:n] {
			has[key] = of[there[i]]
		}
		if m.from.Own() {
			for i := range there {
				there[i].RepositoryID = m.from.ID
			}
			if err := m.s.holdings.Ahead(ctx, there); err != nil {
				return nil, err
			}
		}
		if err := m.s.safety.Ahead(ctx, there); err != nil {
			return nil, err
		}
		keys = keys[n:]
	}
	return has, nil
}

// has is what a repository of our own has of a package; nil if it has nothing of it.
func (m *moving) has(ctx context.Context, key catalog.PackageKey) (*catalog.Package, error) {
	p, err := m.s.holdings.Package(ctx, key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil, nil
	}
	return p, err
}

// planSome finds out what becomes of the versions of some packages.
func (m *moving) planSome(
	ctx context.Context, keys []catalog.PackageKey, has map[catalog.PackageKey]*catalog.Package,
) (items []record.TransferItem, err error) {
	there := make([]*catalog.Package, len(keys))
	why := make([]string, len(keys)) // what is in a package could not be found out
	for i, key := range keys {
		there[i], err = m.s.resolving.There(ctx, m.from, key)
		switch {
		case errors.Is(err, ecosystem.ErrNoPackage):
		case err != nil && (ctx.Err() != nil || fault.Of(err).Kind == fault.Internal):
			return nil, err
		case err != nil:
			why[i] = fault.Of(err).Message
		}
	}
	return m.become(ctx, keys, there, has, why)
}

// become tells what becomes of the versions of some packages, or why that could not be found out of one.
func (m *moving) become(
	ctx context.Context, keys []catalog.PackageKey, there []*catalog.Package,
	has map[catalog.PackageKey]*catalog.Package, why []string,
) (items []record.TransferItem, err error) {
	var named []record.NamedVersion
	for i, key := range keys {
		for k := 0; there[i] != nil && k < len(there[i].Versions); k++ {
			if v := there[i].Versions[k]; !v.Snapshot {
				named = append(named, record.NamedVersion{Key: key, Version: v.Version})
			}
		}
	}
	files, err := m.s.DB.GoneFiles(ctx, m.to.ID, named)
	if err != nil {
		return nil, err
	}
	gone := map[string][]record.GoneFile{}
	for _, g := range files {
		at := catalog.PackageKey{Ecosystem: g.Ecosystem, Namespace: g.Namespace, Name: g.Name}
		gone[act.PURLOf(at, g.Version).String()] = append(gone[act.PURLOf(at, g.Version).String()], g)
	}
	for i, key := range keys {
		var of []record.TransferItem
		if why[i] != "" {
			of = []record.TransferItem{{State: record.ItemRefused, Why: why[i]}}
		} else if there[i] != nil {
			if of, err = m.planPackage(ctx, key, there[i], has[key], gone); err != nil {
				return nil, err
			}
		}
		for _, item := range of {
			item.Ecosystem, item.Namespace, item.Name = key.Ecosystem, key.Namespace, key.Name
			items = append(items, item)
		}
	}
	return items, nil
}

// planPackage finds out what becomes of the versions of a package, the oldest first.
func (m *moving) planPackage(
	ctx context.Context, key catalog.PackageKey, there, has *catalog.Package, gone map[string][]record.GoneFile,
) (items []record.TransferItem, err error) {
	rules, err := m.rules(ctx, key, there, gone)
	if err != nil {
		return nil, err
	}
	for _, v := range m.versions(key, there) {
		item := record.TransferItem{Version: v.Version, Upload: v.Upload, Files: len(v.Files), State: record.ItemNew}
		for _, f := range v.Files {
			item.Bytes += f.Digests.Size
			if !f.Kept() {
				item.Travels += f.Digests.Size
			}
		}
		if same := publishing.Find(has, v.Version, v.Upload); same != nil {
			item.State = record.ItemThere
			if why := publishing.Differs(v.Files, same); why != "" {
				item.State, item.Why = record.ItemRefused, m.to.Name+" has it already, and "+why
			}
		} else if why := rules.refuses(v); why != "" {
			item.State, item.Why = record.ItemRefused, why
		}
		items = append(items, item)
	}
	return items, nil
}

// versions are those of a package that are wanted, in the order in which they came.
func (m *moving) versions(key catalog.PackageKey, there *catalog.Package) (all []*catalog.Version) {
	for i := range there.Versions {
		v := &there.Versions[i]
		if !m.wanted.Admits(act.PURLOf(key, v.Version)).Allowed || m.Since != nil && published(v).Before(*m.Since) {
			continue
		}
		all = append(all, v)
	}
	if m.held { // it is told in the order in which it came there
		return all
	}
	slices.SortStableFunc(all, func(a, b *catalog.Version) int {
		if m.from.Own() {
			return cmp.Or(a.Arrived.Compare(b.Arrived), cmp.Compare(a.ID, b.ID))
		}
		return cmp.Or(purl.Compare(key.Ecosystem, a.Version, b.Version), a.UploadedAt.Compare(b.UploadedAt))
	})
	return all
}

// published is when a version was published where it comes from.
func published(v *catalog.Version) time.Time {
	if v.Outside {
		return v.Dated
	}
	return v.PublishedAt
}

// rules tell what does not come of a package, and why.
type rules struct {
	m        *moving
	key      catalog.PackageKey
	byName   bool // its versions are named by their content
	from, to *safety.Judge
	gone     map[string][]record.GoneFile // by package URL
}

// rules are about the versions of a package; gone are the files of releases that were where they go to.
func (m *moving) rules(
	ctx context.Context, key catalog.PackageKey, there *catalog.Package, gone map[string][]record.GoneFile,
) (r rules, err error) {
	r = rules{m: m, key: key, gone: gone}
	_, r.byName = m.s.Ecosystem(key.Ecosystem).(ecosystem.Maturing)
	if r.from, err = m.s.safety.Judge(ctx, m.from, key); err != nil {
		return r, err
	}
	r.from.Among(there.Versions)
	r.to, err = m.s.safety.Judge(ctx, m.to, m.target(key))
	return r, err
}

// refuses tells why a version does not come; "" if nothing speaks against it.
func (r rules) refuses(v *catalog.Version) string {
	m := r.m
	o := access.Object{Repository: m.to, Package: act.PURLOf(r.key, v.Version)}
	if err := m.s.directory.Allow(m.caller, access.Publish, o); err != nil {
		return fault.Of(err).Message
	}
	if err := m.s.publishing.Insists(m.caller, m.to); err != nil {
		return fault.Of(err).Message
	}
	if at := m.s.mirrors.Of(m.from.ID); at != nil {
		if err := at.Admits(o.Package); err != nil {
			return fault.Of(err).Message
		}
		if !r.byName && !m.from.Holds.Takes(v.Snapshot) {
			return m.from.Name + " holds " + string(m.from.Holds) + " alone"
		}
	}
	if verdict := r.from.Of(v); verdict.Refused {
		return m.from.Name + " keeps it out: " + verdict.Why
	}
	switch kept := m.held || v.ID != 0 && !v.Listed; {
	case r.byName && m.to.Holds != catalog.Both && m.to.Holds != m.from.Holds:
		return m.to.Name + " holds " + string(m.to.Holds) + " alone: what an image is, its labels say, and they change by promotion"
	case r.byName && !kept:
		return m.from.Name + " does not keep it: have it fetched ahead, or pull it once"
	case v.Snapshot && !kept:
		return m.from.Name + " does not keep this snapshot"
	}
	if err := m.s.publishing.Takes(m.to, v.Snapshot); err != nil && !r.byName {
		return fault.Of(err).Message
	}
	here := *v
	here.Outside, here.Listed = false, false
	if verdict := r.to.Of(&here); verdict.Refused {
		return m.to.Name + " keeps it out: " + verdict.Why
	}
	return r.files(v)
}

// files is refuses for the files of a version.
func (r rules) files(v *catalog.Version) string {
	most, takes := r.m.s.publishing.LargestFile(r.m.to), r.m.to.Name
	if at := r.m.s.mirrors.Of(r.m.from.ID); at != nil && at.Mirror.Largest < most {
		most, takes = at.Mirror.Largest, at.Name
	}
	for _, f := range v.Files {
		if f.Digests.Size > most {
			return f.Name + " has " + api.Bytes(f.Digests.Size) + "; " + takes + " takes files of up to " + api.Bytes(most)
		}
		for _, g := range r.gone[act.PURLOf(r.key, v.Version).String()] {
			if f.Digests.Has("sha256") && g.Other(f.Name, f.Digests.SHA256) {
				return "it was in " + r.m.to.Name + " before, with other bytes in " + f.Name +
					", and removed; a release does not come back as something else"
			}
		}
	}
	return ""
}

// asWanted is which patterns a transfer is about.
func asWanted(patterns []string) chain.Filter {
	return chain.NewFilter(&catalog.MirrorSettings{Allow: patterns})
}
