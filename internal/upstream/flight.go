package upstream

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"sync"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
)

// heldBack is how much of the end of a file is not passed on before all of it
// was verified. A smaller file is passed on only then, so that what goes wrong
// with it can be told.
const heldBack = 64 << 10

// unread is how long a flight goes on that nobody waits for.
const unread = 30 * time.Second

// ErrUnread is why a flight ended that nobody waited for any more.
var ErrUnread = fault.New(fault.Unavailable, "given-up",
	"nobody waited for the file any more, so fetching it was ended").WithHint("Ask for it again.")

// Flight is a file on its way from an upstream into the store, and to all who
// wait for it. It goes on when they go away, but not for long.
type Flight struct {
	mu       sync.Mutex
	changed  chan struct{} // closed with every change
	open     func() (*os.File, error)
	length   int64
	arrived  int64
	verified bool
	done     bool
	file     catalog.File
	err      error
	waiting  int         // how many wait for it, or read it
	alone    *time.Timer // runs while none do
}

// newFlight makes a flight that end ends when it was alone for long.
func newFlight(end func()) *Flight {
	return &Flight{changed: make(chan struct{}), length: -1, alone: time.AfterFunc(unread, end)}
}

// wait notes that somebody waits; call what it gives when they do no more.
func (f *Flight) wait() (over func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.waiting++
	f.alone.Stop()
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.waiting--; f.waiting == 0 && !f.done {
			f.alone.Reset(unread)
		}
	}
}

func (f *Flight) change(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
	close(f.changed)
	f.changed = make(chan struct{})
}

// Expect sets the length in bytes, where the upstream says it.
func (f *Flight) Expect(length int64) { f.change(func() { f.length = length }) }

// Begun and Arrived make a flight the watcher of a staging file.
func (f *Flight) Begun(open func() (*os.File, error)) { f.change(func() { f.open = open }) }

// Arrived tells how many bytes can be read.
func (f *Flight) Arrived(n int64) { f.change(func() { f.arrived = n }) }

// Verified lets the end of the bytes go out. The staging file must still be
// there.
func (f *Flight) Verified(size int64) {
	f.change(func() { f.verified, f.arrived, f.length = true, size, size })
}

// finish ends the flight.
func (f *Flight) finish(file catalog.File, err error) {
	f.change(func() {
		f.done, f.file, f.err = true, file, err
		f.alone.Stop()
	})
}

// until waits for a condition, or for the end of the flight or the context.
func (f *Flight) until(ctx context.Context, holds func() bool) error {
	for {
		f.mu.Lock()
		ok, changed := f.done || holds(), f.changed
		f.mu.Unlock()
		if ok {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// passable is how many bytes may be passed on. Call it with mu held.
func (f *Flight) passable() int64 {
	if f.verified {
		return f.arrived
	}
	return max(0, f.arrived-heldBack)
}

// Ready waits until some of the file can be passed on, or all of it is kept:
// then kept is true, and the file is given. length is -1 if it is not known.
func (f *Flight) Ready(ctx context.Context) (file catalog.File, kept bool, length int64, err error) {
	defer f.wait()()
	if err := f.until(ctx, func() bool { return f.passable() > 0 }); err != nil {
		return catalog.File{}, false, 0, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.done && !(f.verified && f.err != nil) {
		return f.file, f.err == nil, f.length, f.err
	}
	return catalog.File{}, false, f.length, nil
}

// CopyTo passes on the bytes as they arrive, the end of them only after all
// were verified. An error means that not all were passed on. If it is
// fs.ErrNotExist, nothing was, since the file was moved to where it is kept.
func (f *Flight) CopyTo(ctx context.Context, w io.Writer) error {
	defer f.wait()()
	f.mu.Lock()
	open := f.open
	f.mu.Unlock()
	if open == nil {
		return errors.New("nothing has arrived")
	}
	source, err := open()
	if err != nil {
		return err
	}
	defer source.Close()
	for sent := int64(0); ; {
		if err := f.until(ctx, func() bool { return f.passable() > sent || f.verified }); err != nil {
			return err
		}
		f.mu.Lock()
		ready, verified, failure := f.passable(), f.verified, f.err
		f.mu.Unlock()
		if ready > sent {
			n, err := io.CopyN(w, source, ready-sent)
			sent += n
			if err != nil {
				return err
			}
			continue
		}
		if verified {
			return nil
		}
		return failure
	}
}

// File waits until the file is kept, or could not be.
func (f *Flight) File(ctx context.Context) (catalog.File, error) {
	defer f.wait()()
	if err := f.until(ctx, func() bool { return false }); err != nil {
		return catalog.File{}, err
	}
	return f.file, f.err
}

// Flights are the files that are on their way.
type Flights struct {
	// Go does something on its own, in a context that ends with the service.
	Go func(do func(ctx context.Context))

	mu  sync.Mutex
	all map[string]*Flight
}

// Join gives the flight of a key, and begins it if there is none: fetch then
// runs on its own until the file is kept, or its context ends because nobody
// waited for long. begun tells whether this call began it.
func (f *Flights) Join(
	key string, fetch func(context.Context, *Flight) (catalog.File, error),
) (flight *Flight, begun bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if flight, ok := f.all[key]; ok {
		return flight, false
	}
	if f.all == nil {
		f.all = map[string]*Flight{}
	}
	ctx, cancel := context.WithCancelCause(context.Background())
	flight = newFlight(func() { cancel(ErrUnread) })
	f.all[key] = flight
	f.Go(func(alive context.Context) {
		defer context.AfterFunc(alive, func() { cancel(context.Cause(alive)) })()
		file, err := guarded(ctx, flight, fetch)
		if err != nil && ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		cancel(nil)
		f.mu.Lock()
		delete(f.all, key)
		f.mu.Unlock()
		flight.finish(file, err)
	})
	return flight, true
}

// guarded makes an error of a panic: bytes from elsewhere must not end the
// service.
func guarded(
	ctx context.Context, flight *Flight, fetch func(context.Context, *Flight) (catalog.File, error),
) (file catalog.File, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("fetching failed badly: %v\n%s", p, debug.Stack())
		}
	}()
	return fetch(ctx, flight)
}
