package act

import (
	"context"
	"sync"

	"crelvo/internal/record"
)

// Watch tells every change from now on until ctx ends. A watcher that does not
// keep up misses some.
func (s *Act) Watch(ctx context.Context) <-chan record.Change { return s.watchers.add(ctx) }

type watchers struct {
	mu  sync.Mutex
	all map[chan record.Change]bool
}

func (w *watchers) add(ctx context.Context) <-chan record.Change {
	c := make(chan record.Change, 64)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[chan record.Change]bool{}
	}
	w.all[c] = true
	context.AfterFunc(ctx, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.all, c)
		close(c)
	})
	return c
}

func (w *watchers) tell(change record.Change) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.all {
		select {
		case c <- change:
		default:
		}
	}
}
