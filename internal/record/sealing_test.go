package record_test

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
)

// TestListen hears what other nodes change, and goes on after its connection was cut.
// What a node changes itself it hears at once, and once.
func TestListen(t *testing.T) {
	w := newWorld(t)
	other := recordtest.Open(t, w.url)
	ctx, stop := context.WithCancel(t.Context())
	heard, missed := make(chan record.Change, 1000), make(chan bool, 10)
	var running sync.WaitGroup
	running.Go(func() { w.Listen(ctx, func(c record.Change) { heard <- c }, func() { missed <- true }) })
	for _, db := range []*record.DB{w.DB, other} {
		running.Go(func() { db.KeepSealing(ctx, func(err error) { t.Error(err) }) })
	}
	defer func() { stop(); running.Wait() }()
	await := func(c chan bool, what string) {
		t.Helper()
		select {
		case <-c:
		case <-time.After(20 * time.Second):
			t.Fatal(what)
		}
	}
	tell := func(db *record.DB, name string) {
		t.Helper()
		if err := db.Within(t.Context(), func(tx *record.Tx) error {
			return tx.Tell(t.Context(), record.Change{Kind: record.OfPackage, Name: name})
		}); err != nil {
			t.Fatal(err)
		}
	}
	hear := func(name string) {
		t.Helper()
		select {
		case c := <-heard:
			if c.Name != name {
				t.Fatalf("%s was heard, and not %s", c.Name, name)
			}
		case <-time.After(20 * time.Second):
			t.Fatalf("%s was not heard", name)
		}
	}
	await(missed, "it does not begin to listen")
	tell(other, "first")
	hear("first")
	var own []string
	w.OnChange(func(c record.Change) { own = append(own, c.Name) })
	tell(w.DB, "own")
	if !slices.Equal(own, []string{"own"}) {
		t.Errorf("at once it heard %q", own)
	}
	tell(other, "next")
	hear("next") // and not its own once more
	if _, err := w.ExecContext(t.Context(),
		`select pg_terminate_backend(pid) from pg_stat_activity where query like 'listen %'`); err != nil {
		t.Fatal(err)
	}
	await(missed, "it is not told that changes may have been missed")
	tell(other, "second")
	hear("second")
}

// TestSealing seals what is committed, whoever committed it, while others who have an
// event to add have not ended; and nobody waits for them.
func TestSealing(t *testing.T) {
	w := newWorld(t)
	other := recordtest.Open(t, w.url)
	within := func(db *record.DB, what string, then func()) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		if err := db.Within(ctx, func(tx *record.Tx) error {
			defer then()
			return tx.Append(ctx, record.Event{At: now, Action: what})
		}); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	order := func() (all []string) {
		t.Helper()
		var last []byte
		if err := other.EachEvent(t.Context(), record.EventFilter{OldestFirst: true}, func(e record.SealedEvent) error {
			hash, err := record.Seal(e.Previous, e.Event)
			if !slices.Equal(e.Previous, last) || !slices.Equal(e.Hash, hash) || e.ID != int64(len(all))+1 {
				t.Errorf("event %d, %s, does not follow the one before it", e.ID, e.Action)
			}
			all, last = append(all, e.Action), e.Hash
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return all
	}
	within(w.DB, "slow", func() {
		within(w.DB, "quick", func() {}) // nothing of w seals: as if it were killed
		within(w.DB, "next", func() {})
		if got := order(); !slices.Equal(got, []string{"quick", "next"}) {
			t.Errorf("while one has not ended there is %q", got)
		}
	})
	within(w.DB, "last", func() {})
	if got := order(); !slices.Equal(got, []string{"quick", "next", "slow", "last"}) {
		t.Errorf("in the end there is %q", got)
	}
	var left int
	if err := w.GetContext(t.Context(), &left, `select count(*) from unsealed`); err != nil || left != 0 {
		t.Errorf("%d are not sealed, %v", left, err)
	}
}
