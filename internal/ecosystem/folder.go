package ecosystem

import (
	"context"
	"errors"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// TreeFolder is the Folder of an ecosystem whose packages stand under their
// namespace, if they have one, with a folder for each version.
func TreeFolder(
	ctx context.Context, desk Shelves, repository catalog.Repository, ecosystem, path string,
) (Folder, error) {
	path = strings.Trim(path, "/")
	f := Folder{Path: path}
	var segments []string
	if path != "" {
		segments = strings.Split(path, "/")
	}
	namespace := ""
	if len(segments) > 0 && strings.HasPrefix(segments[0], "@") {
		namespace, segments = segments[0], segments[1:]
	}
	switch len(segments) {
	case 0:
		branches, packages, err := desk.Below(ctx, repository, ecosystem, namespace, "/")
		if err != nil {
			return f, err
		}
		for _, b := range branches {
			f.Entries = append(f.Entries, Entry{Name: b.Segment, Folder: true, Size: b.Bytes, ChangedAt: b.ChangedAt})
		}
		for _, p := range packages {
			f.Entries = append(f.Entries, Entry{Name: p.Name, Folder: true, Size: p.Bytes, ChangedAt: p.ChangedAt,
				PURL: purl.PURL{Ecosystem: ecosystem, Namespace: namespace, Name: p.Name}})
		}
		if len(f.Entries) == 0 && path != "" {
			return f, ErrNoFolder
		}
		return f, nil
	case 1, 2:
		p, err := desk.Package(ctx, repository.Key(ecosystem, namespace, purl.NormalName(ecosystem, segments[0])))
		if errors.Is(err, ErrNoPackage) {
			return f, ErrNoFolder
		}
		if err != nil {
			return f, err
		}
		if len(segments) == 1 {
			f.Entries = VersionEntries(p)
		} else {
			f.Entries = FileEntries(p, segments[1])
		}
		if len(f.Entries) > 0 {
			return f, nil
		}
	}
	return f, ErrNoFolder
}

// inOrder are the versions of a package, the oldest first.
func inOrder(p *catalog.Package) []*catalog.Version {
	all := make([]*catalog.Version, len(p.Versions))
	for i := range all {
		all[i] = &p.Versions[i]
	}
	slices.SortFunc(all, func(a, b *catalog.Version) int {
		if c := purl.Compare(p.Key.Ecosystem, a.Version, b.Version); c != 0 {
			return c
		}
		return strings.Compare(a.Version, b.Version)
	})
	return all
}

// VersionNames are the distinct versions of a package, the oldest first.
func VersionNames(p *catalog.Package) []string {
	names := make([]string, len(p.Versions))
	for i, v := range inOrder(p) {
		names[i] = v.Version
	}
	return slices.Compact(names)
}

// Newest gives the newest upload of each version, in no order.
func Newest(p *catalog.Package) []*catalog.Version {
	at := make(map[string]int, len(p.Versions))
	newest := make([]*catalog.Version, 0, len(p.Versions))
	for i := range p.Versions {
		v := &p.Versions[i]
		if j, ok := at[v.Version]; !ok {
			at[v.Version] = len(newest)
			newest = append(newest, v)
		} else if v.Newer(*newest[j]) {
			newest[j] = v
		}
	}
	return newest
}

// VersionEntries are the folders of a package's versions, the newest first.
func VersionEntries(p *catalog.Package) []Entry {
	entries := make([]Entry, 0, len(p.Versions))
	address := purl.PURL{Ecosystem: p.Key.Ecosystem, Namespace: p.Key.Namespace, Name: p.Key.Name}
	for _, v := range slices.Backward(inOrder(p)) {
		if n := len(entries); n == 0 || entries[n-1].Name != v.Version {
			address.Version = v.Version
			entries = append(entries, Entry{Name: v.Version, Folder: true, PURL: address})
		}
		e := &entries[len(entries)-1]
		e.Size += v.Size()
		if v.PublishedAt.After(e.ChangedAt) {
			e.ChangedAt = v.PublishedAt
		}
	}
	return entries
}

// FileEntries are the files of one version that are kept, the newest upload
// first.
func FileEntries(p *catalog.Package, version string) []Entry {
	var of []catalog.Version
	for _, v := range p.Versions {
		if v.Version == version {
			of = append(of, v)
		}
	}
	slices.SortFunc(of, func(a, b catalog.Version) int {
		if a.Newer(b) {
			return -1
		}
		return 1
	})
	var entries []Entry
	for _, v := range of {
		for _, f := range v.Files {
			if f.Kept() {
				digests := f.Digests
				entries = append(entries, Entry{Name: f.Name, Size: digests.Size, ChangedAt: f.AddedAt, Digests: &digests})
			}
		}
	}
	return entries
}
