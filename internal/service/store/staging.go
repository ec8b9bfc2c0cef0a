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
	let     *letIn
}

// ReadAt implements ecosystem.Staged.
func (s *Staging) ReadAt(p []byte, off int64) (int, error) { return s.File.ReadAt(p, off) }

// Size implements ecosystem.Staged.
func (s *Staging) Size() int64 { return s.File.Digests.Size }

// Digests implements ecosystem.Staged.
func (s *Staging) Digests() catalog.Digests { return s.File.Digests }

// Discard implements ecosystem.Staged.
func (s *Staging) Discard() {
	s.let.end()
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
	let := &letIn{s: s, ctx: ctx, r: r, store: id, from: body}
	if err := let.expect(length); err != nil {
		return nil, err
	}
	staged, err := bytes.Stage(ctx, let, length)
	if err == nil {
		return s.stagingOf(staged, id, let)
	}
	let.end()
	var told *fault.Error
	if errors.Is(err, bytestore.ErrCut) && errors.As(err, &told) {
		return nil, told // the reader knows why
	}
	if errors.Is(err, bytestore.ErrCut) {
		return nil, fault.New(fault.Invalid, "cut-upload", "%s did not arrive whole", name).
			WithHint("Nothing of it was kept; send it again.").WithCause(err)
	}
	return nil, s.Fault(err)
}

// stagingOf is a staging file in a store that holds what arrived.
func (s *Store) stagingOf(arrived *bytestore.Staged, id int16, let *letIn) (*Staging, error) {
	arrived.Store = id
	staging := &Staging{File: arrived, service: s, let: let}
	if err := let.are(arrived.Digests.Size); err != nil {
		staging.Discard()
		return nil, err
	}
	return staging, nil
}

// StagingOpenly is Staging for bytes that others read while they arrive. Its errors are
// those of stores, or why there is no room.
func (s *Store) StagingOpenly(
	ctx context.Context, r catalog.Repository, body io.Reader, length int64, w bytestore.Watcher,
) (*Staging, error) {
	id, bytes, err := s.in(r)
	if err != nil {
		return nil, err
	}
	let := &letIn{s: s, ctx: ctx, r: r, store: id, from: body}
	if err := let.expect(length); err != nil {
		return nil, err
	}
	staged, err := bytes.StageOpenly(ctx, let, length, w)
	if err == nil {
		return s.stagingOf(staged, id, let)
	}
	let.end()
	if let.refused != nil {
		return nil, let.refused
	}
	return nil, err
}

// letIn asks for room for what arrives.
type letIn struct {
	s     *Store
	ctx   context.Context
	r     catalog.Repository
	store int16
	from  io.Reader

	dones   []func()
	room    int64 // that was asked for
	arrived int64
	refused error
}

// letInStep is for how many bytes it is asked at a time, where nobody knows how many will
// come.
const letInStep = 8 << 20

func (l *letIn) take(n int64) error {
	if l.s.fits == nil || n <= 0 {
		return nil
	}
	done, err := l.s.fits(l.ctx, l.r, l.store, n)
	if err != nil {
		l.refused = err
		return err
	}
	l.dones = append(l.dones, done)
	l.room += n
	return nil
}

// expect asks for what will come; a length of -1 is not known.
func (l *letIn) expect(length int64) error {
	if length < 0 {
		length = 1 // where nothing fits, nothing need begin
	}
	return l.take(length)
}

// are tells how many bytes it turned out to be.
func (l *letIn) are(size int64) error { return l.take(size - l.room) }

// Read implements io.Reader.
func (l *letIn) Read(p []byte) (int, error) {
	n, err := l.from.Read(p)
	if l.arrived += int64(n); l.arrived > l.room && l.s.fits != nil {
		more := l.arrived - l.room
		if l.take(max(letInStep, more)) != nil {
			if err := l.take(more); err != nil { // the last of the room, perhaps
				return 0, err
			}
			l.refused = nil
		}
	}
	return n, err
}

// end tells that it came, or that it will not.
func (l *letIn) end() {
	for _, done := range l.dones {
		done()
	}
	l.dones = nil
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
	id, bytes, err := s.having(ctx, r, name)
	if err != nil {
		return 0, err
	}
	// What is begun counts when it is whole: until then it may still be given up.
	let := &letIn{s: s, ctx: ctx, r: r, store: id, from: body}
	defer let.end()
	if err := let.take(at + 1); err != nil {
		return 0, err
	}
	let.arrived = at
	return bytes.Continue(ctx, name, at, let)
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
	return s.stagingOf(staged, id, &letIn{s: s, ctx: ctx, r: r, store: id})
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

// Room asks for room for bytes that a repository is to have and that are stored already;
// done is to be called when they are recorded, or will not be.
func (s *Store) Room(ctx context.Context, r catalog.Repository, bytes int64) (done func(), err error) {
	id, _, err := s.in(r)
	let := &letIn{s: s, ctx: ctx, r: r, store: id}
	if err == nil {
		err = let.take(bytes)
	}
	return let.end, err
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
