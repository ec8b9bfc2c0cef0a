package act

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// TestFigures asks what is quick whenever somebody wants to know, and what takes long
// behind those who want to know.
func TestFigures(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(nil, nil, Settings{})
		ctx, stop := context.WithCancel(t.Context())
		var running sync.WaitGroup
		running.Go(func() { s.keepFigures(ctx) })
		defer func() { stop(); running.Wait() }()
		var asked atomic.Int64
		answer := func(key string, takes time.Duration) (n int64, waited time.Duration) {
			begun := time.Now()
			n, _, err := Figure(ctx, s, key, func(context.Context) (int64, error) {
				time.Sleep(takes)
				return asked.Add(1), nil
			})
			if err != nil {
				t.Error(err)
			}
			return n, time.Since(begun)
		}
		quick := 10 * time.Millisecond
		if n, _ := answer("quick", quick); n != 1 {
			t.Errorf("the first answer is %d", n)
		}
		if n, waited := answer("quick", quick); n != 1 || waited != 0 {
			t.Errorf("at once, with nothing changed, it is %d after %v", n, waited)
		}
		s.SettingsChanged()
		if n, waited := answer("quick", quick); n != 2 || waited != quick {
			t.Errorf("after a change it is %d after %v", n, waited)
		}
		time.Sleep(time.Hour)
		if n, _ := answer("quick", quick); n != 3 {
			t.Errorf("after an hour it is %d: what is quick is not made anew behind", n)
		}

		asked.Store(0)
		long := 2 * time.Second
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				if n, waited := answer("long", long); n != 1 || waited > long {
					t.Errorf("one of eight gets %d after %v", n, waited)
				}
			})
		}
		all.Wait()
		s.SettingsChanged()
		if n, waited := answer("long", long); n != 1 || waited != 0 {
			t.Errorf("what takes long is %d after %v", n, waited)
		}
		time.Sleep(figureRest*long + long + 2*time.Second)
		if n, waited := answer("long", long); n != 2 || waited != 0 {
			t.Errorf("when it is over it is %d after %v", n, waited)
		}
		time.Sleep(2 * figureWanted)
		made := asked.Load()
		time.Sleep(time.Hour)
		if asked.Load() != made {
			t.Error("it is made anew although nobody wants to know any more")
		}
		if n, waited := answer("long", long); n != made+1 || waited != long {
			t.Errorf("who asks again gets %d after %v", n, waited)
		}
	})
}

// TestFiguresFail gives errors on, and does not remember them.
func TestFiguresFail(t *testing.T) {
	s, broken := New(nil, nil, Settings{}), errors.New("broken")
	fails := true
	ask := func(context.Context) (string, error) {
		if fails {
			return "", broken
		}
		return "mended", nil
	}
	if _, _, err := Figure(t.Context(), s, "x", ask); !errors.Is(err, broken) {
		t.Errorf("it says %v", err)
	}
	fails = false
	if got, at, err := Figure(t.Context(), s, "x", ask); got != "mended" || at.IsZero() || err != nil {
		t.Errorf("then it says %q of %v, %v", got, at, err)
	}
	ended, stop := context.WithCancel(t.Context())
	stop()
	hung := make(chan struct{})
	defer close(hung)
	if _, _, err := Figure(ended, s, "y", func(context.Context) (string, error) {
		<-hung
		return "", nil
	}); !errors.Is(err, context.Canceled) {
		t.Errorf("who has gone still waits: %v", err)
	}
}
