package ecosystemtest

import (
	"maps"
	"slices"
	"strings"
	"time"

	"context"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// SignInClient implements ecosystem.Session.
func (d *Desk) SignInClient(_ context.Context, _ access.Caller, client, name, password string) (string, error) {
	if password != "low-tide" {
		return "", fault.New(fault.Unknown, "bad-password", "name or password is wrong")
	}
	return "token-of-" + name + "-for-" + client, nil
}

// SignOutClient implements ecosystem.Session.
func (*Desk) SignOutClient(context.Context, access.Caller) error { return nil }

// Plugins implements ecosystem.PluginLister.
func (d *Desk) Plugins(
	_ context.Context, _ catalog.Repository, _, namespace, packaging string, _ bool,
) (all []ecosystem.Plugin, err error) {
	for key, p := range d.packages {
		for _, v := range p.Versions {
			if key.Namespace == namespace && v.Details.Packaging == packaging {
				all = append(all, ecosystem.Plugin{Name: key.Name, Prefix: v.Details.PluginPrefix, Title: v.Details.Title})
				break
			}
		}
	}
	return all, nil
}

// Whole implements ecosystem.Lister.
func (d *Desk) Whole(
	_ context.Context, r catalog.Repository, ecosystemName string, j ecosystem.Joined,
) (w ecosystem.Whole, err error) {
	var parts []ecosystem.Part
	changed := time.Unix(0, 0)
	for _, key := range slices.SortedFunc(maps.Keys(d.packages), func(a, b catalog.PackageKey) int {
		return strings.Compare(a.Name, b.Name)
	}) {
		if key.Ecosystem != ecosystemName || key.RepositoryID != r.ID {
			continue
		}
		part, err := j.Each(d.packages[key])
		if err != nil {
			return w, err
		}
		parts = append(parts, part)
		if d.packages[key].Changed.After(changed) {
			changed = d.packages[key].Changed
		}
	}
	w.Document = j.Join(parts, changed)
	return w, nil
}

// Hits implements ecosystem.Reader.
func (d *Desk) Hits(
	_ context.Context, _ catalog.Repository, _ string, q ecosystem.Search,
) (hits []ecosystem.Hit, total int, err error) {
	for key, p := range d.packages {
		if len(p.Versions) == 0 || q.Name != "" && key.Name != q.Name ||
			!strings.Contains(key.Namespace+"/"+key.Name, q.Text) {
			continue
		}
		last := p.Versions[len(p.Versions)-1]
		hits = append(hits, ecosystem.Hit{Namespace: key.Namespace, Name: key.Name, Latest: last.Version,
			Versions: ecosystem.VersionNames(p), Details: last.Details,
			PublishedBy: last.PublishedBy, PublishedAt: last.PublishedAt, ChangedAt: p.Changed})
	}
	slices.SortFunc(hits, func(a, b ecosystem.Hit) int { return strings.Compare(a.Name, b.Name) })
	return hits[min(q.Skip, len(hits)):min(q.Skip+q.Limit, len(hits))], len(hits), nil
}
