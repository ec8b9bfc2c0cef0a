package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	bytestore "crelvo/internal/store"
)

const (
	// moveEvery and placeEvery are how often it is looked for what is to be moved.
	moveEvery, placeEvery = 2 * time.Second, time.Second
	// holdFor is how long a node that works on something is let do so without a word of it.
	holdFor = 2 * time.Minute
	// placedAtOnce is how many files one node takes in hand together.
	placedAtOnce = 16
	// placedTogether is how many of them are copied at the same time.
	placedTogether = 4
	// mostWait is how long what could not be copied is left alone at most.
	mostWait = 10 * time.Minute
	// spareBatch is of how many files it is looked at once whether they are needed.
	spareBatch = 500
)

// Move gives repositories another store, and begins to copy what they hold there. What is
// under way for one of them is given up.
func (s *Store) Move(ctx context.Context, caller access.Caller, repositories []string, to string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	o, err := s.named(to)
	if err != nil {
		return err
	}
	var all []catalog.Repository
	for _, name := range repositories {
		r, err := s.directory.Repository(caller, name, access.Manage)
		if err != nil {
			return err
		}
		if r.Gathers() {
			return act.Invalid("holds-nothing", "%s is a chain, and holds nothing itself", r.Name).
				WithHint("Move its members.")
		}
		all = append(all, r)
	}
	if len(all) == 0 {
		return act.Invalid("no-repository", "no repository is named that is to be moved")
	}
	ctx = record.Patiently(ctx)
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.LockRepositories(ctx); err != nil {
			return err
		}
		now := s.Now()
		for _, r := range all {
			if err := tx.SetStoreOf(ctx, r.ID, o.ID, now); err != nil {
				return err
			}
			if err := tx.BeginMove(ctx, r.ID, o.ID, caller.Name, now); err != nil {
				return err
			}
			event := s.Event(caller, record.EventMoveBegun)
			event.Repository = r.Name
			event.Detail = map[string]string{"store": o.Name}
			if err := tx.Append(ctx, event, record.Change{Kind: record.OfRepository, Repository: r.Name},
				record.Change{Kind: record.OfStore}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.directory.Load(ctx)
}

// Moves lists the last moves of repositories to other stores, or all that are under way.
func (s *Store) Moves(ctx context.Context, caller access.Caller, underWay bool) ([]record.StoreMove, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	const most = 100
	return s.DB.StoreMoves(ctx, underWay, most)
}

// move takes a step of a move that no other node works on.
func (s *Store) move(ctx context.Context) error {
	for {
		now := time.Now() // of what is held, and not of what happened
		m, err := s.DB.TakeMove(ctx, now, now.Add(holdFor))
		if errors.Is(err, record.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		before := m
		if m, err = s.step(ctx, m); err != nil {
			return err
		}
		waits := m.State == before.State && string(m.Cursor) == string(before.Cursor)
		if err := s.DB.Within(ctx, func(tx *record.Tx) error { return s.noteMove(ctx, tx, m, waits) }); err != nil {
			return err
		}
	}
}

func (s *Store) noteMove(ctx context.Context, tx *record.Tx, m record.StoreMove, waits bool) error {
	if m.State != record.MoveDone {
		if waits {
			return tx.NoteMove(ctx, m, time.Now().Add(moveEvery))
		}
		if err := tx.NoteMove(ctx, m, time.Now()); err != nil {
			return err
		}
		return tx.Tell(ctx, record.Change{Kind: record.OfStore})
	}
	now := s.Now()
	m.EndedAt = &now
	if err := tx.NoteMove(ctx, m, now); err != nil {
		return err
	}
	event := s.Event(access.Caller{Name: m.By}, record.EventMoveDone)
	event.Repository = m.Repository
	event.Detail = map[string]string{"store": m.Store, "files": fmt.Sprint(m.Files), "bytes": fmt.Sprint(m.Bytes),
		"freed": fmt.Sprint(m.Freed)}
	return tx.Append(ctx, event, record.Change{Kind: record.OfStore})
}

func (s *Store) step(ctx context.Context, m record.StoreMove) (record.StoreMove, error) {
	switch m.State {
	case record.MoveLooking:
		err := s.DB.Within(ctx, func(tx *record.Tx) (err error) {
			m.Files, m.Bytes, err = tx.WantMoved(ctx, m.RepositoryID, m.StoreID)
			return err
		})
		m.State = record.MoveCopying
		return m, err
	case record.MoveCopying:
		left, err := s.DB.Unplaced(ctx, m.StoreID)
		if err == nil && left == 0 {
			m.State, m.Cursor = record.MoveDropping, []byte{}
		}
		return m, err
	}
	freed, last, err := s.dropSpare(ctx, m.Cursor)
	if m.Freed += freed; err == nil {
		if m.Cursor = last; last == nil {
			m.State, m.Cursor = record.MoveDone, []byte{}
		}
	}
	return m, err
}

// dropSpare drops copies that nobody wants where they are; there is another copy of each.
func (s *Store) dropSpare(ctx context.Context, after []byte) (freed int64, last []byte, err error) {
	err = s.DB.Within(ctx, func(tx *record.Tx) (err error) {
		freed = 0
		var spare []record.Spare
		if spare, last, err = tx.HoldSpare(ctx, after, s.known.Load().main.ID, spareBatch); err != nil || len(spare) == 0 {
			return err
		}
		for _, c := range spare {
			if err := s.DropFrom(ctx, [32]byte(c.SHA256), []int16{c.StoreID}); err != nil {
				return err
			}
			s.places.Add([32]byte(c.SHA256), nil)
			freed += c.Size
		}
		return tx.DropCopies(ctx, spare)
	})
	return freed, last, err
}

// place copies some of what is to be in another store.
func (s *Store) place(ctx context.Context) error {
	if !s.known.Load().several() {
		return nil
	}
	var told time.Time
	for ctx.Err() == nil {
		now := time.Now()
		all, err := s.DB.TakePlacings(ctx, now, now.Add(holdFor), placedAtOnce)
		if err != nil || len(all) == 0 {
			return err
		}
		working, workCtx := errgroup.WithContext(ctx)
		working.SetLimit(placedTogether)
		for _, p := range all {
			working.Go(func() error { return s.placed(workCtx, p) })
		}
		if err := working.Wait(); err != nil {
			return err
		}
		if time.Since(told) > time.Second {
			told = time.Now()
			if err := s.DB.Within(ctx, func(tx *record.Tx) error {
				return tx.Tell(ctx, record.Change{Kind: record.OfStore})
			}); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// placed copies one file, or puts it off. The error is one of the records.
func (s *Store) placed(ctx context.Context, p record.Placing) error {
	holding, release := context.WithCancel(ctx)
	defer release()
	go s.Every(holding, act.Chore{Every: holdFor / 4, What: "holding what is copied", Do: func(ctx context.Context) error {
		return s.DB.KeepPlacing(ctx, p, time.Now().Add(holdFor), "")
	}})
	err := s.copyTo(ctx, p)
	release()
	if err == nil || ctx.Err() != nil || record.Unreachable(err) {
		return err
	}
	s.Log.Warn("a file could not be copied to another store yet", "sha256", fmt.Sprintf("%x", p.SHA256), "error", err)
	wait := min(mostWait, 5*time.Second<<min(p.Tries, 8))
	return s.DB.KeepPlacing(ctx, p, time.Now().Add(wait), because(err))
}

// errUnnamed is that nothing names the bytes any more.
var errUnnamed = errors.New("nothing names them any more")

// copyTo copies a file to a store, where it is read again before anybody is led there.
func (s *Store) copyTo(ctx context.Context, p record.Placing) error {
	to, err := s.of(p.StoreID)
	if err != nil {
		return err
	}
	digest := [32]byte(p.SHA256)
	from, err := s.OpenBytes(ctx, digest, p.Size)
	if err != nil {
		return s.openFault(fmt.Sprintf("sha256 %x", digest[:6]), err)
	}
	defer from.Close()
	staged, err := to.Stage(ctx, s.Sparingly(ctx, from), p.Size)
	if err != nil {
		return s.Fault(err)
	}
	staged.Store = p.StoreID
	defer func() {
		if err := staged.Discard(); err != nil {
			s.Log.Error("a staging file could not be removed", "error", err)
		}
	}()
	if staged.Digests.SHA256 != digest {
		return fmt.Errorf("%w: what is stored of it are other bytes", bytestore.ErrDamaged)
	}
	err = s.RecordedBy(ctx, []*bytestore.Staged{staged}, func(ctx context.Context, look func(*record.Tx) error) error {
		if err := to.Verify(ctx, digest, p.Size, func(r io.Reader) io.Reader { return s.Sparingly(ctx, r) }); err != nil {
			return s.Fault(err)
		}
		return s.DB.Within(ctx, func(tx *record.Tx) error {
			there, err := tx.Placed(ctx, p)
			if err == nil && !there {
				err = errUnnamed
			}
			if err != nil {
				return err
			}
			return look(tx)
		})
	})
	if errors.Is(err, errUnnamed) {
		return nil // the record of what is to be copied went with that of the bytes
	}
	return err
}

// Sparingly reads no faster than what nobody waits for may be read.
func (s *Store) Sparingly(ctx context.Context, r io.Reader) io.Reader {
	if s.limit == nil {
		return r
	}
	return act.Slowed(ctx, r, s.limit)
}

// WantIn notes that what a repository is given, without its bytes being sent, is to be in
// its store: files of versions, or bytes.
func (s *Store) WantIn(
	ctx context.Context, tx *record.Tx, r catalog.Repository, versionIDs []int64, sha256 [][]byte,
) error {
	known := s.known.Load()
	if !known.several() {
		return nil
	}
	id := r.StoreID
	if id == 0 {
		id = known.main.ID
	}
	return tx.WantIn(ctx, versionIDs, sha256, id)
}

// IDOf is the id of a store by its name; 0 for "".
func (s *Store) IDOf(name string) (int16, error) {
	if name == "" {
		return 0, nil
	}
	o, err := s.named(name)
	if err != nil {
		return 0, err
	}
	return o.ID, nil
}

// InBucket tells whether what is new in a repository goes to an object store.
func (s *Store) InBucket(r catalog.Repository) bool {
	known := s.known.Load()
	o := known.byID[r.StoreID]
	if o == nil {
		o = known.main
	}
	return o.Kind == record.S3Store
}

// NameFor is the name of the store that what is new in a repository goes to, for those who
// look after everything; "" for others, for a chain, and where there is only one store.
func (s *Store) NameFor(caller access.Caller, r catalog.Repository) string {
	known := s.known.Load()
	if r.Gathers() || !known.several() || s.directory.Allow(caller, access.Manage, act.Everything) != nil {
		return ""
	}
	if o := known.byID[r.StoreID]; o != nil {
		return o.Name
	}
	return known.main.Name
}

// named finds a store by its name.
func (s *Store) named(name string) (*opened, error) {
	for _, o := range s.known.Load().all {
		if o.Name == name {
			return o, nil
		}
	}
	return nil, fault.New(fault.NotFound, "no-such-store", "there is no store %q", name).
		WithHint("crelvo store list shows those that there are.")
}
