package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	bytestore "crelvo/internal/store"
)

// Small files are kept in memory when they were asked for: opening one costs
// more than sending it. Together they take at most SmallSize * smallCount bytes.
const SmallSize, smallCount = 16 << 10, 1024

// memoryFile is a small file's bytes.
type memoryFile struct {
	*bytes.Reader
	content []byte
}

// Content implements ecosystem.InMemory.
func (m memoryFile) Content() []byte { return m.content }

func (memoryFile) Close() error { return nil }

// Open implements ecosystem.Desk.
func (s *Store) Open(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	if f.Digests.Size > SmallSize {
		return s.openStored(ctx, f)
	}
	if content, ok := s.small.Get(f.Digests.SHA256); ok {
		return memoryFile{bytes.NewReader(content), content}, nil
	}
	r, err := s.openStored(ctx, f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	content := make([]byte, f.Digests.Size)
	if _, err := io.ReadFull(r, content); err != nil {
		return nil, s.openFault(f.Name, fmt.Errorf("%w: %w", bytestore.ErrDamaged, err))
	}
	if sha256.Sum256(content) != f.Digests.SHA256 {
		return nil, s.openFault(f.Name, fmt.Errorf("%w: other bytes", bytestore.ErrDamaged))
	}
	s.small.Add(f.Digests.SHA256, content)
	return memoryFile{bytes.NewReader(content), content}, nil
}

func (s *Store) openStored(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	r, err := s.bytes.Open(ctx, f.Digests.SHA256, f.Digests.Size)
	if err != nil {
		return nil, s.openFault(f.Name, err)
	}
	return r, nil
}
