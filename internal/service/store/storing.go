package store

import (
	"context"
	"errors"
	"io/fs"
	"sync"
	"syscall"
	"time"

	"crelvo/internal/core/fault"
	"crelvo/internal/service/act"
	bytestore "crelvo/internal/store"
)

// Fault makes a fault of a failure of the store, in its own words, and a
// concern of what somebody must look at. Nothing else is changed.
func (s *Store) Fault(err error) error {
	worry := func(what, do string) {
		s.Worry("store", act.Concern{Level: "wrong", What: what + ", last at " + s.Now().UTC().Format(act.TimeForm), Do: do,
			Page: "/retention/space"})
	}
	of := func(kind fault.Kind, code, message, hint string) error {
		return fault.New(kind, code, "%s", message).WithHint("%s", hint).WithCause(err)
	}
	switch {
	case errors.Is(err, bytestore.ErrAway), errors.Is(err, bytestore.ErrRefused):
		// Concerns tells of it.
		return of(fault.Unavailable, "store-away", "the server cannot reach the object store that the bytes are in",
			"Try again in a minute; whoever runs the server is told.")
	case errors.Is(err, bytestore.ErrReserved):
		return of(fault.Full, "disk-full", "the server has no room left for this file",
			"Nothing was stored. Whoever runs the server must make room; what the database needs to do so is kept free.")
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		worry("The disk of the store is full", "Sweep what nobody needs and reclaim its bytes, or give it a larger disk.")
		return of(fault.Full, "disk-full", "the server has no room left for this file",
			"Nothing was stored. Whoever runs the server must make room.")
	case errors.Is(err, syscall.EROFS), errors.Is(err, fs.ErrPermission):
		worry("The store cannot be written to",
			"Make its folder writable for the account that the service runs as. What is stored is served meanwhile.")
		return of(fault.Internal, "store-read-only", "the server cannot write to its store",
			"Nothing was stored. Whoever runs the server must make its folder writable.")
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		worry("The service has as many files open as it may", "Raise the limit of open files (ulimit -n) for the service.")
		return of(fault.Unavailable, "too-many-files-open", "the server has too many files open at the moment",
			"Try again in a few seconds.")
	case errors.Is(err, syscall.EIO):
		worry("The disk of the store fails", "Look at the disk, and at the log of the machine.")
		return of(fault.Internal, "store-failing", "the disk of the server's store fails",
			"Whoever runs the server must look at its disk.")
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR), errors.Is(err, syscall.ESTALE):
		worry("The folder of the store is not where it was", "Bring it back to where it was, and restart the service.")
		return of(fault.Internal, "store-gone", "the server's store is not where it was",
			"Whoever runs the server must bring its folder back.")
	}
	return err
}

// openFault makes a fault of stored bytes that cannot be given.
func (s *Store) openFault(name string, err error) error {
	code, what := "", ""
	switch {
	case err == nil:
		return nil
	case errors.Is(err, bytestore.ErrMissing):
		code, what = "bytes-missing", "are gone from the server's store"
	case errors.Is(err, bytestore.ErrDamaged):
		code, what = "bytes-damaged", "are not whole in the server's store"
	default:
		return s.Fault(err)
	}
	s.Worry("bytes/"+name, act.Concern{Level: "wrong", What: "The bytes of " + name + " " + what, Page: "/retention/space",
		Do: "Bring the file back from a backup, or publish the very same bytes again, which puts it right."})
	return fault.New(fault.Internal, code, "the bytes of %s %s", name, what).
		WithHint("Whoever runs the server should bring back the file from a backup; publishing the same bytes again mends " +
			"it too.").WithCause(err)
}

// unasked are stored bytes of which it is not known yet whether a record names
// them, since the records could not be asked.
type unasked struct {
	mu  sync.Mutex
	all []left
}

// left is a note in a store.
type left struct {
	bytestore.Leftover
	store int16
}

// leave keeps the note of stored bytes until the records can be asked.
func (s *Store) leave(st *bytestore.Staged) {
	l, err := st.Leave()
	if err != nil {
		s.Log.Error("the note of stored bytes could not be kept", "sha256", st.Digests.Hex("sha256"), "error", err)
	}
	s.unasked.mu.Lock()
	defer s.unasked.mu.Unlock()
	s.unasked.all = append(s.unasked.all, left{l, st.Store})
}

// askAboutLeft drops stored bytes that no record names, once the records can be
// asked.
func (s *Store) askAboutLeft(ctx context.Context) error {
	s.unasked.mu.Lock()
	all := s.unasked.all
	s.unasked.all = nil
	s.unasked.mu.Unlock()
	for i, l := range all {
		bytes, err := s.of(l.store)
		if err == nil {
			err = s.dropUnknown(ctx, bytes, l.store, l.SHA256)
		}
		if err != nil {
			s.unasked.mu.Lock()
			s.unasked.all = append(s.unasked.all, all[i:]...)
			s.unasked.mu.Unlock()
			return err
		}
		if err := bytes.Forget(l.Leftover); err != nil {
			return err
		}
	}
	return nil
}

// dropUnknown drops bytes that no record says to be in a store, and nobody, at any node, is
// about to.
func (s *Store) dropUnknown(ctx context.Context, bytes bytestore.Store, id int16, sha256 [32]byte) error {
	return s.DB.WhileUnknown(ctx, sha256, id, func() error { return bytes.Drop(ctx, sha256) })
}

const (
	// WalkedEvery is how often the store is walked for bytes that nothing knows of.
	WalkedEvery = 7 * 24 * time.Hour
	// StrayFor is how long bytes must have lain untouched to be taken for strays.
	StrayFor = 24 * time.Hour
)

// DropStrays walks the stores, now and then, and drops what no record knows of.
func (s *Store) DropStrays(ctx context.Context) error {
	for _, o := range s.known.Load().all {
		if o.away != nil {
			continue
		}
		now := s.Now()
		last, err := s.DB.StoreWalked(ctx, o.ID)
		if err != nil {
			return err
		}
		if now.Sub(last) < WalkedEvery {
			continue
		}
		if err := o.bytes.Walk(ctx, now.Add(-StrayFor), func(sha256 [32]byte, _ int64) error {
			return s.dropUnknown(ctx, o.bytes, o.ID, sha256)
		}); err != nil {
			return s.Fault(err)
		}
		if err := o.bytes.Tidy(ctx, now.Add(-StrayFor)); err != nil {
			return s.Fault(err)
		}
		if err := s.DB.NoteStoreWalked(ctx, o.ID, now); err != nil {
			return err
		}
	}
	return nil
}

const (
	// askEvery is how often what could not be asked is asked again.
	askEvery = 5 * time.Second
	// lookEvery is how often it is asked for a store that nobody may have asked for lately.
	lookEvery = 20 * time.Second
	// tidyEvery is how often it is looked after what processes left that have ended.
	tidyEvery = time.Minute
)

// Tidy looks after what a process that was killed left behind: bytes without a record are
// dropped and, if this is the first node that is there, versions that were being received do
// not become visible by themselves.
func (s *Store) Tidy(ctx context.Context, first bool) error {
	if err := s.tidyAll(ctx); err != nil || !first {
		return err
	}
	return s.DB.MarkInterrupted(ctx)
}

func (s *Store) tidyAll(ctx context.Context) error {
	for _, o := range s.known.Load().all {
		if o.away != nil {
			continue
		}
		leftovers, err := o.bytes.Leftovers(ctx)
		if err != nil {
			return s.Fault(err)
		}
		for _, l := range leftovers {
			if err := s.dropUnknown(ctx, o.bytes, o.ID, l.SHA256); err != nil {
				return err
			}
			if err := o.bytes.Forget(l); err != nil {
				return s.Fault(err)
			}
		}
	}
	return nil
}
