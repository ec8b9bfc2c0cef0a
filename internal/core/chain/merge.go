package chain

import (
	"time"

	"crelvo/internal/core/catalog"
)

// Part is what one member has of a package.
type Part struct {
	House   bool
	Package *catalog.Package
}

// Merge puts together what the members of a chain have of a package, in their
// order. A release is the first member's that has it, whole. Snapshots are the
// uploads of all house members; those of a mirror count only if no house member
// has the version. It gives nil if nobody has anything.
func Merge(key catalog.PackageKey, parts []Part) *catalog.Package {
	if len(parts) == 0 {
		return nil
	}
	merged := &catalog.Package{Key: key}
	type upload struct{ version, name string }
	from := map[string]int{} // which part a version comes from
	uploads := map[upload]bool{}
	add := func(i int, p *catalog.Package, snapshots, releases bool) {
		for _, v := range p.Versions {
			if v.Snapshot && !snapshots || !v.Snapshot && !releases {
				continue
			}
			first, known := from[v.Version]
			if known && first != i && !(v.Snapshot && parts[i].House && parts[first].House) {
				continue
			}
			if !known {
				from[v.Version] = i
			}
			if u := (upload{v.Version, v.Upload}); v.Snapshot {
				if uploads[u] {
					continue
				}
				uploads[u] = true
			}
			merged.Versions = append(merged.Versions, v)
		}
		if p.Changed.After(merged.Changed) {
			merged.Changed = p.Changed
		}
	}
	// What a member keeps out is not answered by one behind it.
	keptOut := func(i int, p *catalog.Package) {
		for _, k := range p.KeptOut {
			if _, known := from[k.Version]; !known {
				from[k.Version] = i
				merged.KeptOut = append(merged.KeptOut, k)
			}
		}
	}
	for i, p := range parts {
		if p.House {
			add(i, p.Package, true, false)
		}
	}
	for i, p := range parts {
		keptOut(i, p.Package)
		add(i, p.Package, !p.House, true)
		merged.Revision += p.Package.Revision
		merged.Stale = append(merged.Stale, p.Package.Stale...)
	}
	// A label is the first member's that has it, if its version comes from there.
	// Who does not say which version gets the one labelled latest: where a house has
	// released one, that is no snapshot of another.
	released, snapshots := false, map[string]bool{}
	for _, v := range merged.Versions {
		released = released || !v.Snapshot && v.Withdrawn == nil
		snapshots[v.Version] = v.Snapshot
	}
	for i, p := range parts {
		for label, version := range p.Package.Labels {
			if label == "latest" && p.House && released && snapshots[version] {
				continue
			}
			first, known := from[version]
			if _, taken := merged.Labels[label]; taken || !known || first != i && !(p.House && parts[first].House) {
				continue
			}
			if merged.Labels == nil {
				merged.Labels = map[string]string{}
			}
			merged.Labels[label] = version
		}
	}
	return merged
}

// Seen carries on what is known of an upstream's list: when each version was
// first listed, and when it was not listed any more.
func Seen(before, now []catalog.ListedVersion, at time.Time) []catalog.ListedVersion {
	type name struct{ version, upload string }
	known := make(map[name]catalog.ListedVersion, len(before))
	for _, v := range before {
		known[name{v.Version, v.Upload}] = v
	}
	var all []catalog.ListedVersion
	listed := make(map[name]bool, len(now))
	for _, v := range now {
		n := name{v.Version, v.Upload}
		if listed[n] {
			continue
		}
		listed[n] = true
		v.SeenAt, v.GoneAt = at, time.Time{}
		if was, ok := known[n]; ok && was.GoneAt.IsZero() {
			v.SeenAt = was.SeenAt
			if v.UploadedAt.IsZero() { // some lists say it of the newest only
				v.UploadedAt = was.UploadedAt
			}
		}
		all = append(all, v)
	}
	for _, v := range before {
		if listed[name{v.Version, v.Upload}] {
			continue
		}
		if v.GoneAt.IsZero() {
			v.GoneAt = at
		}
		all = append(all, v)
	}
	return all
}
