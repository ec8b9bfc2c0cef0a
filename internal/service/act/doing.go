package act

import (
	"slices"
	"sync"
	"time"
)

// doing is what goes on in the background, for whoever looks.
type doing struct {
	mu  sync.Mutex
	all map[*work]bool
}

type work struct {
	what  string
	begun time.Time
}

// Do notes that something goes on in the background until done is called.
func (s *Act) Do(what string) (done func()) {
	w := &work{what, time.Now()}
	d := &s.doing
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.all == nil {
		d.all = map[*work]bool{}
	}
	d.all[w] = true
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		delete(d.all, w)
	}
}

// worthTelling is how long something must have gone on to be told of.
const worthTelling = time.Second

// Doing lists what has gone on in the background for a while, each once.
func (s *Act) Doing() (all []string) {
	d := &s.doing
	d.mu.Lock()
	defer d.mu.Unlock()
	for w := range d.all {
		if time.Since(w.begun) > worthTelling {
			all = append(all, w.what)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
