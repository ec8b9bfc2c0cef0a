package act

import (
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
)

// PackageMemory is how much memory, in bytes, each of what is remembered of packages may
// take, and the rendered documents. What a mirror has of a package is mostly what its
// upstream's list has.
const PackageMemory = 96 << 20

// Weighted is an LRU cache whose values together may weigh so much. A value that
// weighs more than half of that is not kept.
type Weighted[K comparable, V any] struct {
	mu     sync.Mutex
	lru    *lru.Cache[K, V]
	weigh  func(V) int64
	total  int64
	limit  int64
	before map[K]int64 // what is in, by its weight when it was added
}

// NewWeighted makes a cache of at most so many values, which weigh at most limit.
func NewWeighted[K comparable, V any](count int, limit int64, weigh func(V) int64) *Weighted[K, V] {
	w := &Weighted[K, V]{weigh: weigh, limit: limit, before: map[K]int64{}}
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

// NewCache makes a cache of at most so many values.
func NewCache[K comparable, V any](count int) *lru.Cache[K, V] {
	c, err := lru.New[K, V](count)
	if err != nil {
		panic(err) // count is not positive
	}
	return c
}

// Get finds a value.
func (w *Weighted[K, V]) Get(k K) (V, bool) { return w.lru.Get(k) }

// Add keeps a value, and drops others where it gets too much.
func (w *Weighted[K, V]) Add(k K, v V) {
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
func (w *Weighted[K, V]) Purge() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.lru.Purge()
}
