package mirrors

import (
	"io"
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

// sparingReader spares as soon as a document has turned out to be large: how large it is
// is not said of one that comes compressed.
type sparingReader struct {
	from io.Reader
	read int64
	done func()
}

// Read implements io.Reader.
func (r *sparingReader) Read(p []byte) (int, error) {
	n, err := r.from.Read(p)
	if r.read += int64(n); r.read > largeListing && r.done == nil {
		r.done = spare()
	}
	return n, err
}

// end ends the sparing, if it was begun.
func (r *sparingReader) end() {
	if r.done != nil {
		r.done()
	}
}
