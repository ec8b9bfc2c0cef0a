package act

import (
	"context"
	"sync"
)

// Underway is what a room began and that goes on after the call that began it. A room that has one
// in it is an Ender: when the service has ended, nothing of it goes on. The zero value is ready, and
// so is one that has ended.
type Underway struct {
	mu  sync.Mutex
	now *spell
}

// spell is the time between two ends.
type spell struct {
	alive   context.Context
	end     context.CancelFunc
	running sync.WaitGroup
}

func newSpell() *spell {
	s := new(spell)
	s.alive, s.end = context.WithCancel(context.Background())
	return s
}

// Go does something on its own; its context ends with the service.
func (u *Underway) Go(do func(ctx context.Context)) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.now == nil {
		u.now = newSpell()
	}
	alive := u.now.alive
	u.now.running.Go(func() { do(alive) })
}

// End implements Ender.
func (u *Underway) End() {
	u.mu.Lock()
	last := u.now
	u.now = nil
	u.mu.Unlock()
	if last != nil {
		last.end()
		last.running.Wait()
	}
}
