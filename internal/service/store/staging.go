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

// Staging takes what arrives for a repository into a staging file, whose digests are then
// known.
func (s *Store) Staging(
	ctx context.Context, r catalog.Repository, body io.Reader, length int64, name string,
) (*Staging, error) {
	id, bytes, err := s.in(r)
	if err != nil {
		return nil, err
	}
	staged, err := bytes.Stage(ctx, body, length)
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
	return s.stagingOf(staged, id), nil
}

// stagingOf is a staging file in a store that holds what arrived.
func (s *Store) stagingOf(arrived *bytestore.Staged, id int16) *Staging {
	arrived.Store = id
	return &Staging{File: arrived, service: s}
}

// StagingOpenly is Staging for bytes that others read while they arrive. Its errors are
// those of stores.
func (s *Store) StagingOpenly(
	ctx context.Context, r catalog.Repository, body io.Reader, length int64, w bytestore.Watcher,
) (*Staging, error) {
	id, bytes, err := s.in(r)
	if err != nil {
		return nil, err
	}
	staged, err := bytes.StageOpenly(ctx, body, length, w)
	if err != nil {
		return nil, err
	}
	return s.stagingOf(staged, id), nil
}

// What is begun may be in any store: that of its repository may have been changed since.

// AllBegun lists begun files whose names begin so.
func (s *Store) AllBegun(ctx context.Context, prefix string) (all []bytestore.Begun, err error) {
	for _, o := range s.known.Load().all {
		if o.away != nil {
			return nil, s.Fault(o.away)
		}
		there, err := o.bytes.AllBegun(ctx, prefix)
		if err != nil {
			return nil, s.Fault(err)
		}
		all = append(all, there...)
	}
	return all, nil
}

// having is the store that has a begun file, or that of a repository if none has.
func (s *Store) having(ctx context.Context, r catalog.Repository, name string) (int16, bytestore.Store, error) {
	known := s.known.Load()
	if known.several() {
		for _, o := range known.all {
			if o.away != nil {
				continue
			}
			if there, err := o.bytes.AllBegun(ctx, name); err == nil && len(there) > 0 {
				return o.ID, o.bytes, nil
			}
		}
	}
	return s.in(r)
}

// Continue is bytestore.Store's, for a repository. Its errors are those of stores.
func (s *Store) Continue(
	ctx context.Context, r catalog.Repository, name string, at int64, body io.Reader,
) (int64, error) {
	_, bytes, err := s.having(ctx, r, name)
	if err != nil {
		return 0, err
	}
	return bytes.Continue(ctx, name, at, body)
}

// StagingBegun is bytestore.Store's StageBegun. Its errors are those of stores.
func (s *Store) StagingBegun(ctx context.Context, r catalog.Repository, name string) (*Staging, error) {
	id, bytes, err := s.having(ctx, r, name)
	if err != nil {
		return nil, err
	}
	staged, err := bytes.StageBegun(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.stagingOf(staged, id), nil
}

// DropBegun drops a begun file, in whichever store it is.
func (s *Store) DropBegun(ctx context.Context, name string) error {
	for _, o := range s.known.Load().all {
		if o.away == nil {
			if err := o.bytes.DropBegun(ctx, name); err != nil {
				return s.Fault(err)
			}
		}
	}
	return nil
}

// Stage implements ecosystem.Desk.
func (s *Store) Stage(
	ctx context.Context, r catalog.Repository, body io.Reader, length int64, name string,
) (ecosystem.Staged, error) {
	staged, err := s.Staging(ctx, r, body, length, name)
	if err != nil {
		return nil, err // not a nil pointer in an interface
	}
	return staged, nil
}
