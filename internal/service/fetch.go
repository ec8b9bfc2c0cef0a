package service

import (
	"bytes"
	"context"
	"errors"
	"io"

	"crelvo/internal/blob"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

var _ ecosystem.Desk = (*Service)(nil)

// File implements ecosystem.Desk.
func (s *Service) File(ctx context.Context, q catalog.FileQuestion) (catalog.File, error) {
	generation := s.generation(q.Key).Load()
	if known, ok := s.files.Get(q); ok && known.generation == generation {
		return known.value, nil
	}
	f, err := s.db.File(ctx, q)
	if errors.Is(err, record.ErrNotFound) {
		return f, ecosystem.ErrNoFile
	}
	if err == nil && !q.Open {
		s.files.Add(q, aged[catalog.File]{f, generation})
	}
	return f, err
}

// Package implements ecosystem.Desk.
func (s *Service) Package(ctx context.Context, key catalog.PackageKey) (*catalog.Package, error) {
	generation := s.generation(key).Load()
	if known, ok := s.packages.Get(key); ok && known.generation == generation {
		return known.value, nil
	}
	p, err := s.db.Package(ctx, key)
	if errors.Is(err, record.ErrNotFound) {
		return nil, ecosystem.ErrNoPackage
	}
	if err == nil {
		s.packages.Add(key, aged[*catalog.Package]{p, generation})
	}
	return p, err
}

// Plugins implements ecosystem.Desk.
func (s *Service) Plugins(ctx context.Context, repository catalog.Repository, ecosystemName, namespace, packaging string) ([]ecosystem.Plugin, error) {
	rows, err := s.db.Plugins(ctx, repository.ID, ecosystemName, namespace, packaging)
	plugins := make([]ecosystem.Plugin, len(rows))
	for i, row := range rows {
		plugins[i] = ecosystem.Plugin{Name: row.Name, Prefix: row.Prefix, Title: row.Title}
	}
	return plugins, err
}

// Below implements ecosystem.Desk.
func (s *Service) Below(ctx context.Context, repository catalog.Repository, ecosystemName, namespace, separator string) (
	[]ecosystem.Branch, []ecosystem.PackageLine, error) {
	rows, err := s.db.Branches(ctx, repository.ID, ecosystemName, namespace, separator)
	if err != nil {
		return nil, nil, err
	}
	branches := make([]ecosystem.Branch, len(rows))
	for i, row := range rows {
		branches[i] = ecosystem.Branch(row)
	}
	found, err := s.db.InNamespace(ctx, repository.ID, ecosystemName, namespace)
	packages := make([]ecosystem.PackageLine, len(found))
	for i, p := range found {
		packages[i] = ecosystem.PackageLine{Name: p.Name, Bytes: p.Bytes, ChangedAt: p.ChangedAt}
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
		return nil, fault.New(fault.Internal, "bytes-damaged", "the bytes of %s are not whole in the server's store", f.Name).
			WithHint("Whoever runs the server should bring back the file from a backup.").WithCause(err)
	}
	s.small.Add(f.Digests.SHA256, content)
	return memoryFile{bytes.NewReader(content)}, nil
}

func (s *Service) openStored(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	r, err := s.blobs.Open(ctx, f.Digests.SHA256)
	if errors.Is(err, blob.ErrMissing) {
		return nil, fault.New(fault.Internal, "bytes-missing", "the bytes of %s are gone from the server's store", f.Name).
			WithHint("Whoever runs the server should bring back the file from a backup.").WithCause(err)
	}
	return r, err
}

// Downloaded implements ecosystem.Desk.
func (s *Service) Downloaded(caller access.Caller, f catalog.File) {
	s.downloads.add(f.VersionID, caller.ID, s.Now())
}

// Folder is a level of a repository's tree in one ecosystem.
func (s *Service) Folder(ctx context.Context, repository catalog.Repository, e ecosystem.Ecosystem, path string) (ecosystem.Folder, error) {
	folder, err := e.Folder(ctx, s, repository, path)
	if errors.Is(err, ecosystem.ErrNoFolder) {
		return folder, fault.New(fault.NotFound, "no-such-folder", "%s holds nothing at %q", repository.Name, path)
	}
	return folder, err
}
