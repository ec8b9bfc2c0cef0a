package store

import (
	"context"
	"io"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/record"
	bytestore "crelvo/internal/store"
)

// Recorded stores staged bytes and then runs do in a transaction. If that
// fails, bytes that no record names are dropped again.
func (s *Store) Recorded(ctx context.Context, staged []*bytestore.Staged, do func(tx *record.Tx) error) error {
	return s.RecordedBy(ctx, staged, func(ctx context.Context, look func(*record.Tx) error) error {
		return s.DB.Within(ctx, func(tx *record.Tx) error {
			if err := do(tx); err != nil {
				return err
			}
			return look(tx)
		})
	})
}

// RecordedBy is Recorded for do that runs its transaction itself, with the context that it
// is given: it must call look when all is recorded, before the transaction ends, and must not
// end it well if look fails. A transaction that is not one of Within's is nil to look.
func (s *Store) RecordedBy(
	ctx context.Context, staged []*bytestore.Staged, do func(ctx context.Context, look func(*record.Tx) error) error,
) error {
	staged, discard, err := s.inOne(ctx, staged)
	if err != nil {
		return err
	}
	defer discard()
	if len(staged) > 0 {
		ctx = record.InStore(ctx, staged[0].Store)
	}
	err = s.recordKept(ctx, staged, do)
	// Bytes that nothing named may be reclaimed between the two; then all of it is
	// done again.
	for try := 0; record.BytesGone(err) && try < 3; try++ {
		err = s.recordKept(ctx, staged, do)
	}
	if err == nil {
		return nil
	}
	for _, st := range staged {
		// The commit's answer may have been lost on its way; only records tell.
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		bytes, failed := s.of(st.Store)
		if failed == nil {
			failed = s.dropUnknown(clean, bytes, st.Store, st.Digests.SHA256)
		}
		cancel()
		if failed != nil {
			s.Log.Warn("stored bytes of a failed publication stay until the records can be asked", "sha256",
				st.Digests.Hex("sha256"), "error", failed)
			s.leave(st)
		}
	}
	return err
}

func (s *Store) recordKept(
	ctx context.Context, staged []*bytestore.Staged, do func(ctx context.Context, look func(*record.Tx) error) error,
) error {
	if len(staged) == 0 {
		return do(ctx, func(*record.Tx) error { return nil })
	}
	id := staged[0].Store
	bytes, err := s.of(id)
	if err != nil {
		return err
	}
	if err := keepAll(ctx, bytes, staged); err != nil {
		return s.Fault(err)
	}
	sums := make([][]byte, len(staged))
	for i, st := range staged {
		sums[i] = st.Digests.SHA256[:]
		s.places.Add(st.Digests.SHA256, nil) // it may be in one more store now
	}
	// Somebody may have reclaimed it since it was kept, and may not have come to the end of it.
	there := func() error {
		for _, st := range staged {
			has, err := bytes.Has(ctx, st.Digests.SHA256)
			if err == nil && !has {
				err = bytes.Keep(ctx, st)
			}
			if err != nil {
				return s.Fault(err)
			}
		}
		return nil
	}
	// Bytes that are on record in another store are noted to be in this one too. When what
	// names them has been written, nobody can reclaim them any more.
	also := func(tx *record.Tx) error {
		if err := tx.AlsoIn(ctx, sums, id); err != nil {
			return err
		}
		return there()
	}
	several, noted := s.known.Load().several(), false
	err = do(ctx, func(tx *record.Tx) error {
		if tx == nil || !several {
			return there()
		}
		noted = true
		return also(tx)
	})
	if err == nil && several && !noted {
		// If this fails, they are known to be where they were before, and here are strays.
		if err := s.DB.Within(ctx, also); err != nil {
			s.Log.Warn("that bytes are in one more store could not be noted", "error", err)
		}
	}
	return err
}

// keptAtOnce is how many files of a transaction are made durable at the same time: that is a wait for the disk.
const keptAtOnce = 8

func keepAll(ctx context.Context, bytes bytestore.Store, staged []*bytestore.Staged) error {
	if len(staged) == 1 {
		return bytes.Keep(ctx, staged[0])
	}
	all, keeping := errgroup.WithContext(ctx)
	all.SetLimit(keptAtOnce)
	for _, st := range staged {
		all.Go(func() error { return bytes.Keep(keeping, st) })
	}
	return all.Wait()
}

// inOne takes care that all staged bytes of a transaction are in one store, that of the
// first, where the repository was given another one while they arrived.
func (s *Store) inOne(
	ctx context.Context, staged []*bytestore.Staged,
) (all []*bytestore.Staged, discard func(), err error) {
	var made []*bytestore.Staged
	discard = func() {
		for _, st := range made {
			if err := st.Discard(); err != nil {
				s.Log.Error("a staging file could not be removed", "error", err)
			}
		}
	}
	all = slices.Clone(staged)
	for i, st := range staged {
		if st.Store == staged[0].Store {
			continue
		}
		bytes, err := s.of(staged[0].Store)
		if err == nil {
			all[i], err = bytes.Stage(ctx, io.NewSectionReader(st, 0, st.Digests.Size), st.Digests.Size)
		}
		if err != nil {
			discard()
			return nil, nil, s.Fault(err)
		}
		all[i].Store = staged[0].Store
		made = append(made, all[i])
	}
	return all, discard, nil
}
