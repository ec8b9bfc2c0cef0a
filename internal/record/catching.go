package record

import (
	"context"
	"sync"
	"time"
)

// rounds are done one after the other, for all who wait. Whoever waits, waits for one that
// begins afterwards.
type rounds struct {
	mu      sync.Mutex
	waiting []chan struct{} // for the next one to begin, and end
	running bool
}

// next is closed when the next round that begins has ended.
func (r *rounds) next() <-chan struct{} {
	r.mu.Lock()
	defer r.mu.Unlock()
	ended := make(chan struct{})
	r.waiting = append(r.waiting, ended)
	return ended
}

// begin begins a round, which end ends; nil if nobody waits for one.
func (r *rounds) begin() (end func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	waiting := r.waiting
	r.waiting = nil
	if len(waiting) == 0 {
		r.running = false
		return nil
	}
	return func() {
		for _, ended := range waiting {
			close(ended)
		}
	}
}

// run does rounds as long as somebody waits for one, unless that is being done.
func (r *rounds) run(do func()) {
	r.mu.Lock()
	running := r.running
	r.running = true
	r.mu.Unlock()
	if running {
		return
	}
	go func() {
		for end := r.begin(); end != nil; end = r.begin() {
			do()
			end()
		}
	}()
}

// heardOf is up to which round of sealing this node has heard what the others changed.
type heardOf struct {
	mu      sync.Mutex
	upTo    int64
	changed chan struct{}
}

func (h *heardOf) note(round int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if round > h.upTo {
		h.upTo = round
		if h.changed != nil {
			close(h.changed)
			h.changed = nil
		}
	}
}

// until waits until a round was heard of, or ctx ends.
func (h *heardOf) until(ctx context.Context, round int64) {
	for {
		h.mu.Lock()
		if h.upTo >= round {
			h.mu.Unlock()
			return
		}
		if h.changed == nil {
			h.changed = make(chan struct{})
		}
		changed := h.changed
		h.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// catchWithin is how long a request waits at most for what other nodes did before it: if the
// database does not answer, what is known is what can be answered with.
const catchWithin = 300 * time.Millisecond

// CatchUp waits until this node knows of everything that other nodes did, and answered that
// they did, before now. Those who ask at the same time ask together.
func (db *DB) CatchUp(ctx context.Context) {
	if !db.Several.Load() {
		return
	}
	caught := db.catching.next()
	db.catching.run(func() {
		asking, cancel := context.WithTimeout(context.Background(), catchWithin)
		defer cancel()
		var round int64
		if err := db.GetContext(asking, &round, lastRound); err == nil {
			db.heardRounds.until(asking, round)
		}
	})
	select {
	case <-caught:
	case <-ctx.Done():
	case <-time.After(2 * catchWithin):
	}
}

const lastRound = `select case when is_called then last_value else 0 end from seal_round`
