package mirrors

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

// said is what an upstream says of a path, with a number that grows.
func said(m *Mirror, path string, number int, tell bool) *noted {
	return &noted{m, record.UpstreamDocument{Path: path, ETag: fmt.Sprint(number)}, tell, 1 << 10}
}

// TestNoting: of each path the last that was said is written, in the end or before, it is
// known until then, and that something is news is not forgotten.
func TestNoting(t *testing.T) {
	n, m := newNoting(), &Mirror{Repository: catalog.Repository{ID: 7}}
	var mu sync.Mutex
	written, told := map[string]string{}, map[string]bool{}
	put := func(all []*noted) error {
		if len(all) > notedAtOnce {
			t.Errorf("%d at once", len(all))
		}
		mu.Lock()
		defer mu.Unlock()
		for _, w := range all {
			written[w.document.Path] = w.document.ETag
			told[w.document.Path] = told[w.document.Path] || w.tell
		}
		return nil
	}
	done := func(w *noted, err error) {
		if err != nil {
			t.Error(err)
		}
	}
	const paths, rounds = 40, 50
	var hands sync.WaitGroup
	for p := range paths {
		path := fmt.Sprint("p", p)
		hands.Go(func() {
			for round := range rounds {
				begin, err := n.add(t.Context(), said(m, path, round, round == 3))
				if err != nil {
					t.Error(err)
				}
				if begin {
					go n.write(put, done)
				}
				if d := n.of(documentKey{7, path}); d != nil && d.ETag != fmt.Sprint(round) {
					t.Errorf("%s: %s waits after %d was said", path, d.ETag, round)
				}
			}
		})
	}
	hands.Wait()
	n.wait(func(*noted) bool { return true })
	for p := range paths {
		if path := fmt.Sprint("p", p); written[path] != fmt.Sprint(rounds-1) || !told[path] {
			t.Errorf("%s: %q is on record, told: %v", path, written[path], told[path])
		}
	}
	if !n.room.TryAcquire(mostNoted) {
		t.Error("some of the room was not given back")
	}
}

// TestNotingFull: who says more than may wait waits, and may leave.
func TestNotingFull(t *testing.T) {
	n, m := newNoting(), &Mirror{Repository: catalog.Repository{ID: 7}}
	large := said(m, "large", 1, true)
	large.weight = 2 * mostNoted // more than ever may wait is as much as may
	if begin, err := n.add(t.Context(), large); !begin || err != nil {
		t.Fatal(begin, err)
	}
	ctx, leave := context.WithCancel(t.Context())
	leave()
	if _, err := n.add(ctx, said(m, "small", 1, true)); !errors.Is(err, context.Canceled) {
		t.Errorf("beside it: %v", err)
	}
	n.done(n.some())
	if begin, err := n.add(t.Context(), said(m, "small", 1, true)); begin || err != nil {
		t.Errorf("after it: %v, %v", begin, err)
	}
	n.wait(func(w *noted) bool { return w.document.Path == "large" })
}

// TestNotingFails: what cannot be written, or is written badly, takes nothing with it.
func TestNotingFails(t *testing.T) {
	n, m := newNoting(), &Mirror{Repository: catalog.Repository{ID: 7}}
	for i := range 2*notedAtOnce + 3 {
		if _, err := n.add(t.Context(), said(m, fmt.Sprint("p", i), i, false)); err != nil {
			t.Fatal(err)
		}
	}
	written, failed := map[string]bool{}, map[string]bool{}
	n.write(func(all []*noted) error {
		for _, w := range all {
			switch w.document.Path {
			case "p3":
				return errors.New("it cannot be")
			case "p20":
				panic("it is too bad")
			}
		}
		for _, w := range all {
			written[w.document.Path] = true
		}
		return nil
	}, func(w *noted, err error) { failed[w.document.Path] = err != nil })
	for i := range 2*notedAtOnce + 3 {
		if path, bad := fmt.Sprint("p", i), i == 3 || i == 20; written[path] == bad || failed[path] != bad {
			t.Errorf("%s: written %v, failed %v", path, written[path], failed[path])
		}
	}
	if !n.room.TryAcquire(mostNoted) {
		t.Error("some of the room was not given back")
	}
}
