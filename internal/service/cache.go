package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

// How much memory, in bytes, each of what is remembered of packages may take,
// and the rendered documents. What a mirror has of a package is mostly what its
// upstream's list has.
const packageMemory, documentMemory = 96 << 20, 96 << 20

// weighted is an LRU cache whose values together may weigh so much. A value that
// weighs more than half of that is not kept.
type weighted[K comparable, V any] struct {
	mu     sync.Mutex
	lru    *lru.Cache[K, V]
	weigh  func(V) int64
	total  int64
	limit  int64
	before map[K]int64 // what is in, by its weight when it was added
}

// newWeighted makes a cache of at most so many values, which weigh at most limit.
func newWeighted[K comparable, V any](count int, limit int64, weigh func(V) int64) *weighted[K, V] {
	w := &weighted[K, V]{weigh: weigh, limit: limit, before: map[K]int64{}}
	var err error
	w.lru, err = lru.NewWithEvict(count, func(k K, _ V) {
		w.total -= w.before[k]
		delete(w.before, k)
	})
	if err != nil {
		panic(err) // count is not positive
	}
	return w
}

// newCache makes a cache of at most so many values.
func newCache[K comparable, V any](count int) *lru.Cache[K, V] {
	c, err := lru.New[K, V](count)
	if err != nil {
		panic(err) // count is not positive
	}
	return c
}

// Get finds a value.
func (w *weighted[K, V]) Get(k K) (V, bool) { return w.lru.Get(k) }

// Add keeps a value, and drops others where it gets too much.
func (w *weighted[K, V]) Add(k K, v V) {
	weight := w.weigh(v)
	w.mu.Lock()
	defer w.mu.Unlock()
	if weight > w.limit/2 {
		w.lru.Remove(k)
		return
	}
	w.total += weight - w.before[k]
	w.before[k] = weight
	w.lru.Add(k, v)
	for w.total > w.limit {
		w.lru.RemoveOldest()
	}
}

// Purge drops everything.
func (w *weighted[K, V]) Purge() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.lru.Purge()
}

// weightOf is about what a package takes in memory, in bytes.
func weightOf(known aged[record.Known]) int64 {
	p := known.value.Package
	if p == nil {
		return 0
	}
	weight := int64(500)
	for i := range p.Versions {
		v := &p.Versions[i]
		weight += 400 + 400*int64(len(v.Files)) + weightOfDetails(&v.Details)
	}
	return weight
}

func weightOfDetails(d *catalog.Details) int64 {
	weight := 300 + 150*int64(len(d.Dependencies)) + int64(len(d.Description))
	for _, raw := range d.Native {
		weight += int64(len(raw))
	}
	return weight
}

// weightOfListing is about what an upstream's document takes in memory, in bytes.
func weightOfListing(known aged[record.UpstreamDocument]) int64 {
	weight := int64(500)
	for i := range known.value.Listing.Versions {
		v := &known.value.Listing.Versions[i]
		weight += 300 + 500*int64(len(v.Files))
		if v.Details != nil {
			weight += weightOfDetails(v.Details)
		}
	}
	return weight
}

// renderedKey names a document among those that were made.
type renderedKey struct {
	key   catalog.PackageKey
	which string
}

// rendered is a document and the value that it was made of.
type rendered struct {
	of       *catalog.Package
	document ecosystem.Document
}

// Rendered implements ecosystem.Desk.
func (s *Service) Rendered(p *catalog.Package, which string, render func(before ecosystem.Document) (ecosystem.Document, error)) (ecosystem.Document, error) {
	key := renderedKey{p.Key, which}
	if known, ok := s.rendered.Get(key); ok && known.of == p {
		return known.document, nil
	}
	made, err, _ := s.rendering.Do(fmt.Sprintf("%p %s", p, which), func() (any, error) {
		known, _ := s.rendered.Get(key)
		if known.of == p {
			return known.document, nil
		}
		d, err := render(known.document)
		if err != nil {
			return ecosystem.Document{}, err
		}
		s.rendered.Add(key, rendered{p, d})
		return d, nil
	})
	if err != nil {
		return ecosystem.Document{}, err
	}
	return made.(ecosystem.Document), nil
}

// remembered gives a package from memory, or puts it together with find, which
// also tells until when it holds if nothing changes.
func (s *Service) remembered(key catalog.PackageKey, find func() (*catalog.Package, time.Time, error)) (*catalog.Package, time.Time, error) {
	age := s.age(key)
	known, ok := s.composed.Get(key)
	if ok && known.generation == age && s.Now().Before(known.until) {
		return known.value.Package, known.until, nil
	}
	p, until, err := find()
	if err == nil {
		s.composed.Add(key, aged[record.Known]{value: record.Known{Package: p}, generation: age, until: until})
	}
	return p, until, err
}

// housePackage is what is kept of a package in a house or mirror repository.
// What was read of it before is brought up to date.
func (s *Service) housePackage(ctx context.Context, key catalog.PackageKey) (*catalog.Package, error) {
	age := s.age(key)
	known, ok := s.packages.Get(key)
	if ok && known.generation == age {
		return known.value.Package, nil
	}
	now, err := s.db.Package(ctx, key, known.value)
	if errors.Is(err, record.ErrNotFound) {
		return nil, ecosystem.ErrNoPackage
	}
	if err != nil {
		return nil, err
	}
	// Most of what raises a generation is about another repository.
	if was := known.value.Package; was != nil && was.Revision == now.Package.Revision && was.ID == now.Package.ID {
		now.Package = was
	}
	s.packages.Add(key, aged[record.Known]{value: now, generation: age})
	return now.Package, nil
}

func (s *Service) purgeHoldings() {
	s.packages.Purge()
	s.composed.Purge()
}
