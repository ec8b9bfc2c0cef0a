package service

import (
	"maps"
	"slices"
	"sync"
	"time"
)

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
	maxWorries = 100
)

// worry notes that something went wrong; key is the same for what is alike.
func (s *Service) worry(key string, c Concern) {
	w := &s.worries
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[string]worry{}
	}
	if _, ok := w.all[key]; !ok && len(w.all) >= maxWorries {
		return
	}
	w.all[key] = worry{c, s.Now()}
}

// worrying lists what went wrong lately.
func (s *Service) worrying() (found []Concern) {
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
