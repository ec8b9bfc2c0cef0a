package act

import (
	"strings"
	"sync"
	"testing"
)

// TestBudget bounds several caches together: what was not asked for longest goes, and
// nothing is counted that has gone.
func TestBudget(t *testing.T) {
	b := NewBudget(100)
	weigh := func(s string) int64 { return int64(len(s)) }
	left, right := NewWeighted[string](b, 10, weigh), NewWeighted[string](b, 3, weigh)
	of := func(n int) string { return strings.Repeat("x", n) }
	has := func(w *Weighted[string, string], want string) {
		t.Helper()
		got := ""
		for _, k := range strings.Split("a b c d e", " ") {
			if w.lru.Contains(k) {
				got += k
			}
		}
		if got != want {
			t.Errorf("there is %q; want %q", got, want)
		}
	}
	left.Add("a", of(30))
	right.Add("a", of(30))
	left.Add("b", of(30))
	if _, ok := left.Get("a"); !ok || b.Weight() != 90 {
		t.Errorf("it weighs %d", b.Weight())
	}
	right.Add("b", of(30)) // the right a is what nobody asked for longest
	has(left, "ab")
	has(right, "b")
	left.Add("a", of(10)) // in place of what was there
	if b.Weight() != 70 {
		t.Errorf("after a smaller one it weighs %d", b.Weight())
	}
	left.Add("b", of(81)) // too much: and what was there is out of date
	has(left, "a")
	for _, k := range []string{"c", "d", "e"} {
		right.Add(k, of(1)) // more than it may have by number
	}
	has(right, "cde")
	if b.Weight() != 13 {
		t.Errorf("in the end it weighs %d", b.Weight())
	}
	right.Purge()
	left.Purge()
	if b.Weight() != 0 {
		t.Errorf("empty it weighs %d", b.Weight())
	}
}

// TestBudgetAtOnce uses caches from many sides.
func TestBudgetAtOnce(t *testing.T) {
	b := NewBudget(1000)
	weigh := func(n int) int64 { return int64(n) }
	caches := []*Weighted[int, int]{NewWeighted[int](b, 50, weigh), NewWeighted[int](b, 50, weigh)}
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for i := range 2000 {
				c := caches[(n+i)%2]
				c.Add(i%100, i%90)
				if v, ok := c.Get(i % 70); ok && v >= 90 {
					t.Error("somebody else's value")
				}
				if i%500 == 0 {
					c.Purge()
				}
			}
		})
	}
	all.Wait()
	if w := b.Weight(); w < 0 || w > 1000 {
		t.Errorf("it weighs %d", w)
	}
	for _, c := range caches {
		c.Purge()
	}
	if b.Weight() != 0 {
		t.Errorf("empty it weighs %d", b.Weight())
	}
}
