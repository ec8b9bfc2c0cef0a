package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"crelvo/internal/blob"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

var _ ecosystem.Desk = (*Service)(nil)

// File implements ecosystem.Desk.
func (s *Service) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	if !s.shows(q.Key) {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	age := s.age(q.Key)
	if known, ok := s.files.Get(q); ok && known.generation == age {
		return known.value, nil
	}
	r, ok := s.known().byID[q.Key.RepositoryID]
	if !ok {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	if r.Kind != catalog.Chain && q.Key.Sight != "" {
		q.Key.Sight = ""
		return s.File(ctx, q)
	}
	r.Sight = q.Key.Sight
	var found ecosystem.Found
	var err error
	switch r.Kind {
	case catalog.House:
		found.File, err = s.db.File(ctx, q)
	case catalog.Mirror:
		found, err = s.mirrorFile(ctx, s.mirrorOf(r.ID), q)
	case catalog.Chain:
		found, err = s.chainFile(ctx, r, q)
	}
	if errors.Is(err, record.ErrNotFound) {
		return found, ecosystem.ErrNoFile
	}
	// Which upload of a mirror's snapshot is the newest is not known for long.
	if err == nil && !q.Open && found.Arriving == nil && (found.Mirror == "" || q.Name != "") {
		s.files.Add(q, aged[ecosystem.Found]{value: found, generation: age})
	}
	return found, err
}

// Package implements ecosystem.Desk.
func (s *Service) Package(ctx context.Context, key catalog.PackageKey) (*catalog.Package, error) {
	return s.packageOf(ctx, key, "")
}

// Uploads implements ecosystem.Desk.
func (s *Service) Uploads(ctx context.Context, key catalog.PackageKey, version string) (*catalog.Package, error) {
	return s.packageOf(ctx, key, version)
}

// packageOf is what a repository of any kind has of a package; of a snapshot
// with its uploads if version is one.
func (s *Service) packageOf(ctx context.Context, key catalog.PackageKey, version string) (*catalog.Package, error) {
	p, _, err := s.packageUntil(ctx, key, version)
	return p, err
}

// packageUntil is packageOf, and until when that holds if nothing changes.
func (s *Service) packageUntil(ctx context.Context, key catalog.PackageKey, version string) (p *catalog.Package, until time.Time, err error) {
	r, ok := s.known().byID[key.RepositoryID]
	if !ok || !s.shows(key) {
		return nil, forever, ecosystem.ErrNoPackage
	}
	if r.Kind != catalog.Chain {
		key.Sight = ""
	}
	r.Sight = key.Sight
	find := func() (*catalog.Package, time.Time, error) { return s.chainPackage(ctx, r, key, version) }
	switch r.Kind {
	case catalog.House:
		p, err = s.housePackage(ctx, key)
		return p, forever, err
	case catalog.Mirror:
		find = func() (*catalog.Package, time.Time, error) {
			return s.mirrorPackage(ctx, s.mirrorOf(r.ID), key, version)
		}
	}
	if version != "" {
		return find()
	}
	return s.remembered(key, find)
}

// Plugins implements ecosystem.Desk. Of a chain it lists those of all members,
// the first member's if several have one.
func (s *Service) Plugins(ctx context.Context, repository catalog.Repository, ecosystemName, namespace, packaging string, near bool) ([]ecosystem.Plugin, error) {
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
	claims := s.known().claims
	if repository.Kind != catalog.Chain {
		claims = nil
	}
	near = near || repository.AsOf != 0 || chain.Ours(claims, purl.PURL{Ecosystem: ecosystemName, Namespace: namespace, Name: "*"}, nil) != ""
	members := s.membersOf(repository)
	scope := s.scopeOf(repository)
	here, err := s.pluginsHere(ctx, repository, scope, ecosystemName, namespace, packaging)
	if err != nil {
		return nil, err
	}
	for _, member := range members {
		add(here[member.ID]...)
		if _, partly := scope.Parts[member.ID]; near || partly || member.Kind != catalog.Mirror || member.Ecosystem != ecosystemName {
			continue
		}
		listed, err := s.mirrorPlugins(ctx, s.mirrorOf(member.ID), namespace)
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
func (s *Service) pluginsHere(ctx context.Context, repository catalog.Repository, scope record.Scope,
	ecosystemName, namespace, packaging string) (map[int64][]ecosystem.Plugin, error) {
	key := repository.Key(ecosystemName, namespace, "")
	age := s.age(key)
	if known, ok := s.plugins.Get(key); ok && known.generation == age {
		return known.value, nil
	}
	rows, err := s.db.Plugins(ctx, scope, repository.AsOf, ecosystemName, namespace, packaging)
	if err != nil {
		return nil, err
	}
	here := map[int64][]ecosystem.Plugin{}
	for _, row := range rows {
		here[row.RepositoryID] = append(here[row.RepositoryID], ecosystem.Plugin{Name: row.Name, Prefix: row.Prefix, Title: row.Title})
	}
	s.plugins.Add(key, aged[map[int64][]ecosystem.Plugin]{value: here, generation: age})
	return here, nil
}

// Below implements ecosystem.Desk. Of a mirror it shows what is kept; of a chain
// what its members do, the first member's if several have a package.
func (s *Service) Below(ctx context.Context, repository catalog.Repository, ecosystemName, namespace, separator string) (
	[]ecosystem.Branch, []ecosystem.PackageLine, error) {
	scope := s.scopeOf(repository)
	rows, err := s.db.Branches(ctx, scope, repository.AsOf, ecosystemName, namespace, separator)
	if err != nil {
		return nil, nil, err
	}
	branches := make([]ecosystem.Branch, len(rows))
	for i, row := range rows {
		branches[i] = ecosystem.Branch(row)
	}
	found, err := s.db.InNamespace(ctx, scope, repository.AsOf, ecosystemName, namespace)
	var packages []ecosystem.PackageLine
	for i, p := range found {
		if i == 0 || p.Name != found[i-1].Name {
			packages = append(packages, ecosystem.PackageLine{Name: p.Name, Bytes: p.Bytes, ChangedAt: p.ChangedAt})
		}
	}
	return branches, packages, err
}

// Small files are kept in memory when they were asked for: opening one costs
// more than sending it. Together they take at most smallSize * smallCount bytes.
const smallSize, smallCount = 16 << 10, 1024

// memoryFile is a small file's bytes.
type memoryFile struct{ *bytes.Reader }

func (memoryFile) Close() error { return nil }

// Open implements ecosystem.Desk.
func (s *Service) Open(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	if f.Digests.Size > smallSize {
		return s.openStored(ctx, f)
	}
	if content, ok := s.small.Get(f.Digests.SHA256); ok {
		return memoryFile{bytes.NewReader(content)}, nil
	}
	r, err := s.openStored(ctx, f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	content := make([]byte, f.Digests.Size)
	if _, err := io.ReadFull(r, content); err != nil {
		return nil, s.openFault(f.Name, fmt.Errorf("%w: %w", blob.ErrDamaged, err))
	}
	if sha256.Sum256(content) != f.Digests.SHA256 {
		return nil, s.openFault(f.Name, fmt.Errorf("%w: other bytes", blob.ErrDamaged))
	}
	s.small.Add(f.Digests.SHA256, content)
	return memoryFile{bytes.NewReader(content)}, nil
}

func (s *Service) openStored(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	r, err := s.blobs.Open(ctx, f.Digests.SHA256, f.Digests.Size)
	if err != nil {
		return nil, s.openFault(f.Name, err)
	}
	return r, nil
}

// Downloaded implements ecosystem.Desk.
func (s *Service) Downloaded(caller access.Caller, f catalog.File, fetched bool) {
	s.counting.Downloaded(f.VersionID, caller)
	if s.mirrorOf(f.RepositoryID) == nil {
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
func (s *Service) Folder(ctx context.Context, repository catalog.Repository, e ecosystem.Ecosystem, path string) (ecosystem.Folder, error) {
	key := folderKey{repository.ID, repository.AsOf, repository.Sight, e.Name(), path}
	generation := s.anyAge()
	if known, ok := s.folders.Get(key); ok && known.generation == generation && s.Now().Before(known.until) {
		return known.value, nil
	}
	folder, err := e.Folder(ctx, s, repository, path)
	if errors.Is(err, ecosystem.ErrNoFolder) {
		return folder, fault.New(fault.NotFound, "no-such-folder", "%s holds nothing at %q", repository.Name, path)
	}
	if err == nil && len(folder.Entries) >= largeFolder {
		s.folders.Add(key, aged[ecosystem.Folder]{value: folder, generation: generation, until: s.Now().Add(folderFor)})
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

func (s *Service) purgeResolving() {
	s.files.Purge()
	s.folders.Purge()
	s.plugins.Purge()
}
