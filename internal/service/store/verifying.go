package store

import (
	"context"
	"errors"
	"io"
	"time"

	"crelvo/internal/record"
	bytestore "crelvo/internal/store"
)

// VerifyIn reads stored bytes in a store, and not from a copy, slowly enough for others; the
// errors are those of stores.
func (s *Store) VerifyIn(ctx context.Context, in record.StoredIn) error {
	o := s.known.Load().byID[in.StoreID]
	if o == nil {
		return nil // it was removed a moment ago, and had nothing
	}
	if o.away != nil {
		return o.away
	}
	return o.bytes.Verify(ctx, [32]byte(in.SHA256), in.Size, func(r io.Reader) io.Reader { return s.Sparingly(ctx, r) })
}

// Mend puts bytes in the place of damaged ones, if they are the right ones; r gives them.
func (s *Store) Mend(ctx context.Context, in record.StoredIn, r io.Reader) error {
	to, err := s.of(in.StoreID)
	if err != nil {
		return err
	}
	digest := [32]byte(in.SHA256)
	staged, err := to.Stage(ctx, r, in.Size)
	if err != nil {
		return s.Fault(err)
	}
	staged.Store = in.StoreID
	defer func() {
		if err := staged.Discard(); err != nil {
			s.Log.Error("a staging file could not be removed", "error", err)
		}
	}()
	if staged.Digests.SHA256 != digest {
		return bytestore.ErrDamaged
	}
	// Only now is there something to put in their place.
	if err := to.Drop(ctx, digest); err != nil {
		return s.Fault(err)
	}
	return s.Fault(to.Keep(ctx, staged))
}

// MendFromOther mends damaged bytes by what another store has, which is read through before;
// from is its name, "" if there is none that has them whole.
func (s *Store) MendFromOther(ctx context.Context, in record.StoredIn) (from string, err error) {
	ids, err := s.DB.StoresOf(ctx, [32]byte(in.SHA256))
	if err != nil {
		return "", err
	}
	for _, id := range ids {
		o := s.known.Load().byID[id]
		other := record.StoredIn{SHA256: in.SHA256, Size: in.Size, StoreID: id}
		if o == nil || id == in.StoreID || s.VerifyIn(ctx, other) != nil {
			continue
		}
		r, err := o.bytes.Open(ctx, [32]byte(in.SHA256), in.Size)
		if err != nil {
			continue
		}
		err = s.Mend(ctx, in, s.Sparingly(ctx, r))
		if err = errors.Join(err, r.Close()); err == nil {
			return o.Name, nil
		}
		s.Log.Warn("damaged bytes could not be mended from another store", "store", o.Name, "error", err)
	}
	return "", nil
}

// unknownAtOnce is of how many files at once it is asked whether a record knows them.
const unknownAtOnce = 500

// Unknown counts the files in all stores that no record knows of, and that were not touched
// for a while; what is unknown is dropped if drop says so.
func (s *Store) Unknown(ctx context.Context, drop bool) (n int64, err error) {
	for _, o := range s.known.Load().all {
		if o.away != nil {
			continue
		}
		var seen [][]byte
		look := func() error {
			unknown, err := s.DB.UnknownIn(ctx, seen, o.ID)
			if seen = seen[:0]; err != nil {
				return err
			}
			for _, sum := range unknown {
				n++
				if !drop {
					continue
				}
				if err := s.dropUnknown(ctx, o.bytes, o.ID, [32]byte(sum)); err != nil {
					return err
				}
			}
			return nil
		}
		err := o.bytes.Walk(ctx, time.Now().Add(-StrayFor), func(sha256 [32]byte, _ int64) error {
			if seen = append(seen, sha256[:]); len(seen) < unknownAtOnce {
				return nil
			}
			return look()
		})
		if err == nil {
			err = look()
		}
		if err != nil {
			return n, s.Fault(err)
		}
	}
	return n, nil
}

// IsAway tells whether what went wrong may go well later.
func IsAway(err error) bool { return isAway(err) }

// Because is an error in words, without what kind of error it is.
func Because(err error) string { return because(err) }

// What says in a word how damaged bytes are damaged.
func What(err error) string {
	switch {
	case errors.Is(err, bytestore.ErrMissing):
		return "missing"
	case errors.Is(err, bytestore.ErrDamaged):
		return because(err)
	}
	return "unreadable: " + because(err)
}
