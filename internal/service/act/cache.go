package act

import (
	"math"
	"sync"
	"sync/atomic"

	lru "github.com/hashicorp/golang-lru/v2"
)

// Budget bounds what all that is remembered weighs together. Where it gets too much, what
// was not asked for longest is dropped, in whichever cache it is.
type Budget struct {
	mu     sync.Mutex
	limit  int64
	total  int64
	caches []bounded
	now    atomic.Int64 // grows with everything that is added
}

// bounded is a cache under a budget.
type bounded interface {
	oldest() (used int64, ok bool)
	dropOldest()
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
		var from bounded
		least := int64(math.MaxInt64)
		for _, c := range b.caches {
			if used, ok := c.oldest(); ok && used < least {
				from, least = c, used
			}
		}
		from.dropOldest()
	}
}

// Weighted is an LRU cache under a budget. A value that weighs more than four fifths of
// that is not kept.
type Weighted[K comparable, V any] struct {
	budget *Budget
	lru    *lru.Cache[K, *weighted[V]]
	weigh  func(V) int64
}

type weighted[V any] struct {
	value  V
	weight int64
	used   atomic.Int64 // by the budget's time
}

// NewWeighted makes a cache of at most so many values.
func NewWeighted[K comparable, V any](budget *Budget, count int, weigh func(V) int64) *Weighted[K, V] {
	w := &Weighted[K, V]{budget: budget, weigh: weigh}
	var err error
	w.lru, err = lru.NewWithEvict(count, func(_ K, v *weighted[V]) { budget.total -= v.weight })
	if err != nil {
		panic(err) // count is not positive
	}
	budget.mu.Lock()
	defer budget.mu.Unlock()
	budget.caches = append(budget.caches, w)
	return w
}

func (w *Weighted[K, V]) oldest() (used int64, ok bool) {
	_, v, ok := w.lru.GetOldest()
	if !ok {
		return 0, false
	}
	return v.used.Load(), true
}

func (w *Weighted[K, V]) dropOldest() { w.lru.RemoveOldest() }

// NewCache makes a cache of at most so many values.
func NewCache[K comparable, V any](count int) *lru.Cache[K, V] {
	c, err := lru.New[K, V](count)
	if err != nil {
		panic(err) // count is not positive
	}
	return c
}

// Get finds a value.
func (w *Weighted[K, V]) Get(k K) (value V, ok bool) {
	v, ok := w.lru.Get(k)
	if !ok {
		return value, false
	}
	if now := w.budget.now.Load(); v.used.Load() != now {
		v.used.Store(now)
	}
	return v.value, true
}

// Add keeps a value, and drops others where it gets too much.
func (w *Weighted[K, V]) Add(k K, value V) {
	v := &weighted[V]{value: value, weight: w.weigh(value)}
	w.budget.mu.Lock()
	defer w.budget.mu.Unlock()
	v.used.Store(w.budget.now.Add(1))
	w.lru.Remove(k)
	if v.weight > w.budget.limit/5*4 {
		return
	}
	w.budget.total += v.weight
	w.lru.Add(k, v)
	w.budget.fit()
}

// Purge drops everything.
func (w *Weighted[K, V]) Purge() {
	w.budget.mu.Lock()
	defer w.budget.mu.Unlock()
	w.lru.Purge()
}
