package act

import (
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
)

// Budget bounds what all that is remembered weighs together. Where it gets too much, that
// cache which has most drops what was not asked for longest.
type Budget struct {
	mu     sync.Mutex
	limit  int64
	total  int64
	caches []interface {
		weight() int64
		dropOldest()
	}
}

// NewBudget bounds caches to so many bytes.
func NewBudget(limit int64) *Budget { return &Budget{limit: limit} }

// Weight is what all caches weigh together, in bytes.
func (b *Budget) Weight() int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.total
}

// fit drops what is too much.
func (b *Budget) fit() {
	for b.total > b.limit {
		most := b.caches[0]
		for _, c := range b.caches[1:] {
			if c.weight() > most.weight() {
				most = c
			}
		}
		most.dropOldest()
	}
}

// Weighted is an LRU cache under a budget. A value that weighs more than half of that is
// not kept.
type Weighted[K comparable, V any] struct {
	budget *Budget
	lru    *lru.Cache[K, V]
	weigh  func(V) int64
	total  int64
	before map[K]int64 // what is in, by its weight when it was added
}

// NewWeighted makes a cache of at most so many values.
func NewWeighted[K comparable, V any](budget *Budget, count int, weigh func(V) int64) *Weighted[K, V] {
	w := &Weighted[K, V]{budget: budget, weigh: weigh, before: map[K]int64{}}
	var err error
	w.lru, err = lru.NewWithEvict(count, func(k K, _ V) {
		w.grow(-w.before[k])
		delete(w.before, k)
	})
	if err != nil {
		panic(err) // count is not positive
	}
	budget.mu.Lock()
	defer budget.mu.Unlock()
	budget.caches = append(budget.caches, w)
	return w
}

func (w *Weighted[K, V]) grow(by int64) {
	w.total += by
	w.budget.total += by
}

func (w *Weighted[K, V]) weight() int64 { return w.total }
func (w *Weighted[K, V]) dropOldest()   { w.lru.RemoveOldest() }

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
	w.budget.mu.Lock()
	defer w.budget.mu.Unlock()
	if weight > w.budget.limit/2 {
		w.lru.Remove(k)
		return
	}
	w.grow(weight - w.before[k])
	w.before[k] = weight
	w.lru.Add(k, v)
	w.budget.fit()
}

// Remove drops a value.
func (w *Weighted[K, V]) Remove(k K) {
	w.budget.mu.Lock()
	defer w.budget.mu.Unlock()
	w.lru.Remove(k)
}

// Purge drops everything.
func (w *Weighted[K, V]) Purge() {
	w.budget.mu.Lock()
	defer w.budget.mu.Unlock()
	w.lru.Purge()
}
