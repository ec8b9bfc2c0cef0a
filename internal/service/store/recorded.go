package store

import (
	"context"
	"sync"
	"time"

	"crelvo/internal/record"
	bytestore "crelvo/internal/store"
)

// keeping counts, per digest, who is between storing bytes and recording them.
type keeping struct {
	mu  sync.Mutex
	who map[[32]byte]int
}

// Recorded stores staged bytes and then runs do in a transaction. If that
// fails, bytes that no record names are dropped again.
func (s *Store) Recorded(ctx context.Context, staged []*bytestore.Staged, do func(tx *record.Tx) error) error {
	return s.RecordedBy(ctx, staged, func(look func() error) error {
		return s.DB.Within(ctx, func(tx *record.Tx) error {
			if err := do(tx); err != nil {
				return err
			}
			return look()
		})
	})
}

// RecordedBy is Recorded for do that runs its transaction itself: it must call look when
// all is recorded, before the transaction ends, and must not end it well if look fails.
func (s *Store) RecordedBy(
	ctx context.Context, staged []*bytestore.Staged, do func(look func() error) error,
) error {
	k := &s.keeping
	k.mu.Lock()
	if k.who == nil {
		k.who = map[[32]byte]int{}
	}
	for _, st := range staged {
		k.who[st.Digests.SHA256]++
	}
	k.mu.Unlock()
	err := s.recordKept(ctx, staged, do)
	// Bytes that nothing named may be reclaimed between the two; then all of it is
	// done again.
	for try := 0; record.BytesGone(err) && try < 3; try++ {
		err = s.recordKept(ctx, staged, do)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, st := range staged {
		digest := st.Digests.SHA256
		if k.who[digest]--; k.who[digest] > 0 {
			continue
		}
		delete(k.who, digest)
		if err == nil {
			continue
		}
		// The commit's answer may have been lost on its way; only records tell.
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		known, knowErr := s.DB.KnowsStored(clean, digest)
		if knowErr == nil && !known {
			knowErr = s.bytes.Drop(clean, digest)
		}
		cancel()
		if knowErr != nil {
			s.Log.Warn("stored bytes of a failed publication stay until the records can be asked", "sha256",
				st.Digests.Hex("sha256"), "error", knowErr)
			s.leave(st)
		}
	}
	return err
}

func (s *Store) recordKept(ctx context.Context, staged []*bytestore.Staged, do func(look func() error) error) error {
	for _, st := range staged {
		if err := s.bytes.Keep(ctx, st); err != nil {
			return s.Fault(err)
		}
	}
	return do(func() error {
		// From here on nobody can reclaim what the records name. Somebody may have
		// done so since it was kept, and may not have come to the end of it.
		for _, st := range staged {
			there, err := s.bytes.Has(ctx, st.Digests.SHA256)
			if err == nil && !there {
				err = s.bytes.Keep(ctx, st)
			}
			if err != nil {
				return s.Fault(err)
			}
		}
		return nil
	})
}
