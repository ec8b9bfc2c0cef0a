package resolving

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// File implements ecosystem.Desk.
func (s *Resolving) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	if !s.directory.Shows(q.Key) {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	// What was asked before needs no source.
	if known, ok := s.files.Get(q); ok && known.Generation == s.Age(q.Key) {
		return known.Value, nil
	}
	source, key, ok := s.sourceOf(q.Key)
	if !ok {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	q.Key = key
	found, err := source.File(ctx, q)
	if errors.Is(err, record.ErrNotFound) {
		err = ecosystem.ErrNoFile
	}
	return found, err
}

// Package implements ecosystem.Desk.
func (s *Resolving) Package(ctx context.Context, key catalog.PackageKey) (*catalog.Package, error) {
	return s.packageOf(ctx, key, "")
}

// Uploads implements ecosystem.Desk.
func (s *Resolving) Uploads(ctx context.Context, key catalog.PackageKey, version string) (*catalog.Package, error) {
	return s.packageOf(ctx, key, version)
}

// Rendered implements ecosystem.Desk.
func (s *Resolving) Rendered(
	p *catalog.Package, which string, render func(before ecosystem.Document) (ecosystem.Document, error),
) (ecosystem.Document, error) {
	return s.holdings.Rendered(p, which, render)
}

// packageOf is what a repository of any kind has of a package; of a snapshot
// with its uploads if version is one.
func (s *Resolving) packageOf(ctx context.Context, key catalog.PackageKey, version string) (*catalog.Package, error) {
	p, _, err := s.packageUntil(ctx, key, version)
	return p, err
}

// Plugins implements ecosystem.Desk. Of a chain it lists those of all members,
// the first member's if several have one.
func (s *Resolving) Plugins(
	ctx context.Context, repository catalog.Repository, ecosystemName, namespace, packaging string, near bool,
) ([]ecosystem.Plugin, error) {
	var plugins []ecosystem.Plugin
	known := map[string]bool{}
	add := func(more ...ecosystem.Plugin) {
		for _, p := range more {
			if !known[p.Name] {
				known[p.Name] = true
				plugins = append(plugins, p)
			}
		}
	}
	// Where all names of the namespace are ours, nobody else is asked: what fits
	// any name fits a * as well.
	claims := s.directory.Known().Claims
	if !repository.Gathers() {
		claims = nil
	}
	near = near || repository.AsOf != 0 || chain.Ours(claims,
		purl.PURL{Ecosystem: ecosystemName, Namespace: namespace, Name: "*"}, nil) != ""
	members := s.directory.MembersOf(repository)
	scope := s.directory.ScopeOf(repository)
	here, err := s.pluginsHere(ctx, repository, scope, ecosystemName, namespace, packaging)
	if err != nil {
		return nil, err
	}
	for _, member := range members {
		add(here[member.ID]...)
		if _, partly := scope.Parts[member.ID]; near || partly || !member.Fetches() ||
			member.Ecosystem != ecosystemName {
			continue
		}
		listed, err := s.mirrors.Plugins(ctx, s.mirrors.Of(member.ID), namespace)
		if err != nil && len(here[member.ID]) == 0 && !member.MaySkip {
			return nil, s.memberFault(repository, member, fmt.Sprintf("the plugins of %s", namespace), err)
		}
		for _, p := range listed {
			if chain.Ours(claims, purl.PURL{Ecosystem: ecosystemName, Namespace: namespace, Name: p.Name}, nil) == "" {
				add(p)
			}
		}
	}
	slices.SortFunc(plugins, func(a, b ecosystem.Plugin) int { return strings.Compare(a.Name, b.Name) })
	return plugins, nil
}

// pluginsHere are the plugins of a namespace that the members of a repository
// keep, by member. Most namespaces have none, which is worth remembering.
func (s *Resolving) pluginsHere(ctx context.Context, repository catalog.Repository, scope record.Scope,
	ecosystemName, namespace, packaging string) (map[int64][]ecosystem.Plugin, error) {
	key := repository.Key(ecosystemName, namespace, "")
	age := s.Age(key)
	if known, ok := s.plugins.Get(key); ok && known.Generation == age {
		return known.Value, nil
	}
	rows, err := s.DB.Plugins(ctx, scope, repository.AsOf, ecosystemName, namespace, packaging)
	if err != nil {
		return nil, err
	}
	here := map[int64][]ecosystem.Plugin{}
	for _, row := range rows {
		here[row.RepositoryID] = append(here[row.RepositoryID],
			ecosystem.Plugin{Name: row.Name, Prefix: row.Prefix, Title: row.Title})
	}
	s.plugins.Add(key, act.Aged[map[int64][]ecosystem.Plugin]{Value: here, Generation: age})
	return here, nil
}

// Below implements ecosystem.Desk. Of a mirror it shows what is kept; of a chain
// what its members do, the first member's if several have a package.
func (s *Resolving) Below(
	ctx context.Context, repository catalog.Repository, ecosystemName, namespace, separator string,
) (
	[]ecosystem.Branch, []ecosystem.PackageLine, error) {
	scope := s.directory.ScopeOf(repository)
	rows, err := s.DB.Branches(ctx, scope, repository.AsOf, ecosystemName, namespace, separator)
	if err != nil {
		return nil, nil, err
	}
	branches := make([]ecosystem.Branch, len(rows))
	for i, row := range rows {
		branches[i] = ecosystem.Branch(row)
	}
	found, err := s.DB.InNamespace(ctx, scope, repository.AsOf, ecosystemName, namespace)
	var packages []ecosystem.PackageLine
	for i, p := range found {
		if i == 0 || p.Name != found[i-1].Name {
			packages = append(packages, ecosystem.PackageLine{Name: p.Name, Bytes: p.Bytes, ChangedAt: p.ChangedAt})
		}
	}
	return branches, packages, err
}

// Downloaded implements ecosystem.Desk.
func (s *Resolving) Downloaded(caller access.Caller, f catalog.File, fetched bool) {
	if f.VersionID != 0 { // a part is of no version
		s.counting.Downloaded(f.VersionID, caller)
	}
	if s.mirrors.Of(f.RepositoryID) == nil {
		return
	}
	s.counting.Mirror(f.RepositoryID, func(h *record.MirrorHour) {
		h.BytesServed += f.Digests.Size
		if !fetched {
			h.Hits++
		}
	})
}

// Folder shows a level of the tree of a repository. What is large is remembered
// for a moment, so that asking again and again costs little.
func (s *Resolving) Folder(
	ctx context.Context, repository catalog.Repository, e ecosystem.Ecosystem, path string,
) (ecosystem.Folder, error) {
	key := folderKey{repository.ID, repository.AsOf, repository.Sight, e.Name(), path}
	generation := s.AnyAge()
	if known, ok := s.folders.Get(key); ok && known.Generation == generation && s.Now().Before(known.Until) {
		return known.Value, nil
	}
	folder, err := e.Folder(ctx, s.shelves, repository, path)
	if errors.Is(err, ecosystem.ErrNoFolder) {
		return folder, fault.New(fault.NotFound, "no-such-folder", "%s holds nothing at %q", repository.Name, path)
	}
	if err == nil && len(folder.Entries) >= largeFolder {
		s.folders.Add(key, act.Aged[ecosystem.Folder]{Value: folder, Generation: generation, Until: s.Now().Add(folderFor)})
	}
	return folder, err
}

type folderKey struct {
	repositoryID    int64
	at              catalog.Moment
	sight           catalog.Sight
	ecosystem, path string
}

const (
	// largeFolder is from how many entries on a folder is remembered, and
	// folderFor for how long at most: it may depend on what is elsewhere.
	largeFolder = 200
	folderFor   = 10 * time.Second
)

// Purge forgets what may be out of date.
func (s *Resolving) Purge() {
	s.admittances.Purge()
	s.files.Purge()
	s.folders.Purge()
	s.plugins.Purge()
	s.wholes.Purge()
}
