package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	bytestore "crelvo/internal/store"
)

// Small files are kept in memory when they were asked for: opening one costs
// more than sending it. Together they take at most SmallSize * smallCount bytes.
const SmallSize, smallCount = 16 << 10, 1024

// memoryFile is a small file's bytes.
type memoryFile struct {
	*bytes.Reader
	held *ecosystem.Held
}

func openHeld(held *ecosystem.Held) memoryFile {
	return memoryFile{bytes.NewReader(held.Content), held}
}

// Held implements ecosystem.InMemory.
func (m memoryFile) Held() *ecosystem.Held { return m.held }

func (memoryFile) Close() error { return nil }

// Open implements ecosystem.Desk.
func (s *Store) Open(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	if f.Digests.Size > SmallSize {
		return s.openStored(ctx, f)
	}
	if held, ok := s.small.Get(f.Digests.SHA256); ok {
		return openHeld(held), nil
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
	held := ecosystem.Hold(content, f.Digests.SHA256)
	s.small.Add(f.Digests.SHA256, held)
	return openHeld(held), nil
}

// leastLinked is from which size on a file is worth another connection.
const leastLinked = 1 << 20

// Elsewhere implements ecosystem.Desk: an address at which a file can be read from its store
// itself, where its repository says so; "" otherwise, and then it is read here.
func (s *Store) Elsewhere(ctx context.Context, f catalog.File) string {
	r, ok := s.directory.RepositoryByID(f.RepositoryID)
	if !ok || !r.FromStore || f.Digests.Size < leastLinked {
		return ""
	}
	places, _, err := s.placesOf(ctx, f.Digests.SHA256)
	if err != nil {
		return ""
	}
	for _, id := range places {
		o := s.known.Load().byID[id]
		if o == nil || o.away != nil {
			continue
		}
		if at, err := o.bytes.Link(ctx, f.Digests.SHA256, f.Digests.Size); err == nil && at != "" {
			return at
		}
	}
	return ""
}

func (s *Store) openStored(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	r, err := s.OpenBytes(ctx, f.Digests.SHA256, f.Digests.Size)
	if err != nil {
		return nil, s.openFault(f.Name, err)
	}
	return r, nil
}

// OpenBytes gives stored bytes, from whichever store has them whole. Its errors are those of
// stores.
func (s *Store) OpenBytes(ctx context.Context, sha256 [32]byte, size int64) (bytestore.Reader, error) {
	r, remembered, err := s.openAnywhere(ctx, sha256, size)
	if err != nil && remembered { // it may have been moved
		s.places.Add(sha256, nil)
		r, _, err = s.openAnywhere(ctx, sha256, size)
	}
	return r, err
}

func (s *Store) openAnywhere(
	ctx context.Context, sha256 [32]byte, size int64,
) (r bytestore.Reader, remembered bool, err error) {
	places, remembered, err := s.placesOf(ctx, sha256)
	if err != nil {
		return nil, false, err
	}
	err = bytestore.ErrMissing
	for i, id := range places {
		o := s.known.Load().byID[id]
		if o == nil {
			continue
		}
		tried := o.away
		if tried == nil {
			if r, tried = o.bytes.Open(ctx, sha256, size); tried == nil {
				return r, remembered, nil
			}
		}
		// What the first one says is what to tell, unless that it is away hides the truth.
		if i == 0 || isAway(tried) {
			err = tried
		}
	}
	return nil, remembered, err
}

// placesOf tells which stores have bytes, those first that are to be asked first.
func (s *Store) placesOf(ctx context.Context, sha256 [32]byte) (ids []int16, remembered bool, err error) {
	known := s.known.Load()
	if !known.several() {
		return []int16{known.main.ID}, false, nil
	}
	if ids, ok := s.places.Get(sha256); ok && ids != nil {
		return ids, true, nil
	}
	ids, err = s.DB.StoresOf(ctx, sha256)
	if record.Unreachable(err) {
		return known.ids(nil), false, nil // one after the other, then
	}
	if err != nil {
		return nil, false, err
	}
	s.places.Add(sha256, ids)
	return ids, false, nil
}

// HasBytes tells whether a store has bytes that are on record.
func (s *Store) HasBytes(ctx context.Context, sha256 [32]byte) (bool, error) {
	places, _, err := s.placesOf(ctx, sha256)
	if err != nil {
		return false, err
	}
	for _, id := range places {
		bytes, err := s.of(id)
		if err != nil {
			return false, err
		}
		if has, err := bytes.Has(ctx, sha256); err != nil || has {
			return has, s.Fault(err)
		}
	}
	return false, nil
}

// DropFrom drops bytes that no record names from stores.
func (s *Store) DropFrom(ctx context.Context, sha256 [32]byte, ids []int16) error {
	for _, id := range ids {
		bytes, err := s.of(id)
		if err == nil {
			err = s.Fault(bytes.Drop(ctx, sha256))
		}
		if err != nil {
			return err
		}
	}
	return nil
}
