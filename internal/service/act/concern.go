package act

import (
	"maps"
	"slices"
	"sync"
	"time"
)

// Concern is something that is wrong, will be soon, or waits for somebody.
type Concern struct {
	Level string // "wrong", "soon" or "waits"
	What  string
	Do    string // what to do about it
	Page  string // of the console
}

// worries are what went wrong in this process and should be looked at: concerns
// that no record tells of. Those that are alike are one.
type worries struct {
	mu  sync.Mutex
	all map[string]worry
}

type worry struct {
	Concern
	last time.Time
}

const (
	// worryFor is how long something that does not happen again is a concern.
	worryFor   = 24 * time.Hour
	maxworries = 100
)

// Worry notes that something went wrong; key is the same for what is alike.
func (s *Act) Worry(key string, c Concern) {
	w := &s.worries
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[string]worry{}
	}
	if _, ok := w.all[key]; !ok && len(w.all) >= maxworries {
		return
	}
	w.all[key] = worry{c, s.Now()}
}

// Worrying lists what went wrong lately.
func (s *Act) Worrying() (found []Concern) {
	w := &s.worries
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(w.all)) {
		if s.Now().Sub(w.all[key].last) > worryFor {
			delete(w.all, key)
			continue
		}
		found = append(found, w.all[key].Concern)
	}
	return found
}
