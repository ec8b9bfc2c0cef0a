package store

import (
	"context"
	"errors"
	"io"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	bytestore "crelvo/internal/store"
)

// Staging is a file that has arrived and is not recorded yet.
type Staging struct {
	File    *bytestore.Staged
	service *Store
}

// ReadAt implements ecosystem.Staged.
func (s *Staging) ReadAt(p []byte, off int64) (int, error) { return s.File.ReadAt(p, off) }

// Size implements ecosystem.Staged.
func (s *Staging) Size() int64 { return s.File.Digests.Size }

// Digests implements ecosystem.Staged.
func (s *Staging) Digests() catalog.Digests { return s.File.Digests }

// Discard implements ecosystem.Staged.
func (s *Staging) Discard() {
	if err := s.File.Discard(); err != nil {
		s.service.Log.Error("a staging file could not be removed", "error", err)
	}
}

// Staging takes what arrives into a staging file, whose digests are then known.
func (s *Store) Staging(ctx context.Context, body io.Reader, length int64, name string) (*Staging, error) {
	staged, err := s.bytes.Stage(ctx, body, length)
	var told *fault.Error
	if errors.Is(err, bytestore.ErrCut) && errors.As(err, &told) {
		return nil, told // the reader knows why
	}
	if errors.Is(err, bytestore.ErrCut) {
		return nil, fault.New(fault.Invalid, "cut-upload", "%s did not arrive whole", name).
			WithHint("Nothing of it was kept; send it again.").WithCause(err)
	}
	if err != nil {
		return nil, s.Fault(err)
	}
	return s.StagingOf(staged), nil
}

// StagingOf is a staging file that holds what arrived.
func (s *Store) StagingOf(arrived *bytestore.Staged) *Staging {
	return &Staging{File: arrived, service: s}
}

// Stage implements ecosystem.Desk.
func (s *Store) Stage(ctx context.Context, body io.Reader, length int64, name string) (ecosystem.Staged, error) {
	staged, err := s.Staging(ctx, body, length, name)
	if err != nil {
		return nil, err // not a nil pointer in an interface
	}
	return staged, nil
}
