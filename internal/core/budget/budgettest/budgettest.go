// Package budgettest measures what reading something costs against its length.
package budgettest

import (
	"runtime"
	"testing"
	"time"
)

// Measures is said by tests of what something may cost, and nothing else: under the
// race detector, which takes memory and time of its own, they are passed over.
func Measures(t *testing.T) {
	t.Helper()
	if raced {
		t.Skip("memory and time are not what they are without the race detector")
	}
}

// cost is what a call needed.
type cost struct {
	bytes int64 // of memory, also such as was given back
	took  time.Duration
}

func measure(do func()) cost {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	begun := time.Now()
	do()
	took := time.Since(begun)
	runtime.ReadMemStats(&after)
	return cost{int64(after.TotalAlloc - before.TotalAlloc), took}
}

const (
	// times is how much longer the longer input is.
	times = 8
	// slack is what a call may need whatever its input: other tests run beside it.
	slackBytes, slackTime = 1 << 20, 100 * time.Millisecond
	// retries is how often what took too long is read again; the shortest time counts.
	retries = 3
)

// Linear fails where reading an input that is several times as long costs far
// more than as many times: make gives an input of about so many bytes, made of
// the same piece again and again.
func Linear(t testing.TB, what string, bytes int, make func(bytes int) []byte, read func(raw []byte)) {
	t.Helper()
	short, long := make(bytes), make(times*bytes)
	read(short) // what is set up once does not count
	if raced {
		return // see Measures
	}
	a, b := measure(func() { read(short) }), measure(func() { read(long) })
	factor := 2 * int64(times) * max(1, int64(len(long))/int64(max(1, times*len(short))))
	if b.bytes > factor*a.bytes+slackBytes {
		t.Errorf("%s: %d bytes need %d bytes of memory, %d bytes need %d", what, len(short), a.bytes, len(long), b.bytes)
	}
	// What another process takes from it once, it is not made to pay for.
	for range retries {
		if b.took <= time.Duration(factor)*a.took+slackTime {
			return
		}
		b.took = min(b.took, measure(func() { read(long) }).took)
	}
	if b.took > time.Duration(factor)*a.took+slackTime {
		t.Errorf("%s: %d bytes take %s, %d bytes take %s", what, len(short), a.took, len(long), b.took)
	}
}

// Repeat makes inputs of a head, a piece that is repeated, and a tail.
func Repeat(head, piece, tail string) func(bytes int) []byte {
	return func(bytes int) []byte {
		raw := make([]byte, 0, bytes+len(head)+len(piece)+len(tail))
		raw = append(raw, head...)
		for len(raw) < bytes && piece != "" {
			raw = append(raw, piece...)
		}
		return append(raw, tail...)
	}
}

// Fuzzed checks what a fuzz target was given: the same again and again, between
// head and tail.
func Fuzzed(t testing.TB, head, piece, tail string, read func(raw []byte)) {
	t.Helper()
	if len(piece) == 0 || len(piece) > 200 {
		return
	}
	Linear(t, "a piece of a fuzzed input", 4<<10, Repeat(head, piece, tail), read)
}
