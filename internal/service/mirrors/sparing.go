package mirrors

import (
	"runtime/debug"
	"sync"
)

// sparing counts who is at work that makes much more garbage than it keeps.
var sparing struct {
	mu     sync.Mutex
	count  int
	before int
}

// spare has the garbage collector run more often until the function that it
// gives is called: reading a document of many megabytes piece by piece keeps
// little, but would let the heap grow to a multiple of it before it is swept.
func spare() (done func()) {
	const percent = 20
	sparing.mu.Lock()
	defer sparing.mu.Unlock()
	if sparing.count++; sparing.count == 1 {
		sparing.before = debug.SetGCPercent(percent)
	}
	return func() {
		sparing.mu.Lock()
		defer sparing.mu.Unlock()
		if sparing.count--; sparing.count == 0 {
			debug.SetGCPercent(sparing.before)
		}
	}
}
