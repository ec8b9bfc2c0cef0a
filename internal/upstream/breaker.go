package upstream

import (
	"sync"
	"time"
)

const (
	// firstPause is how long an upstream is left alone after it failed first;
	// the pause doubles with every further failure, up to longestPause.
	firstPause   = time.Second
	longestPause = 5 * time.Minute
	// longestAsked is the longest pause that an upstream may ask for itself.
	longestAsked = time.Hour
	// patience is how many failing answers in a row are put up with; an
	// upstream that cannot be reached at all is left alone at once.
	patience = 3
)

// breaker leaves a failing upstream alone for a growing while, and then lets
// one request try it. As soon as that one is answered, all others may go too: a
// file and its checksum are one question.
type breaker struct {
	mu       sync.Mutex
	failures int // in a row
	pauses   int // in a row
	until    time.Time
	since    time.Time // of the first failure in the row
	last     string    // what the last failure was, in words
	// trying is closed when the one request that tries the upstream has an answer,
	// or none; nil if none tries.
	trying chan struct{}
	// answers: it answers again. Whether it sends what it should has yet to be seen,
	// but whoever asks meanwhile is let through.
	answers bool
	// epoch is raised with every failure that counts: requests that were under
	// way together fail together, and count once.
	epoch int
}

// pass is a permission to make a request.
type pass struct {
	epoch int
	trial bool
}

// enter asks for a permission. If the upstream is left alone, ok is false, last
// is what went wrong, and it will be tried again at retry. trying is not nil if
// another request tries it right now, and closed when that one is answered: then
// it is worth asking again.
func (b *breaker) enter(now time.Time) (p pass, last string, retry time.Time, trying <-chan struct{}, ok bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if now.Before(b.until) || b.trying != nil {
		return pass{}, b.last, b.until, b.trying, false
	}
	if b.pauses > 0 && !b.answers {
		b.trying = make(chan struct{})
		return pass{b.epoch, true}, "", time.Time{}, nil, true
	}
	return pass{epoch: b.epoch}, "", time.Time{}, nil, true
}

// tried ends a trial. Call it with mu held.
func (b *breaker) tried(p pass) {
	if p.trial && b.trying != nil {
		close(b.trying)
		b.trying = nil
	}
}

// answered notes that the upstream began to send what was asked for.
func (b *breaker) answered(p pass) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if p.trial {
		b.answers = true
		b.tried(p)
	}
}

// leave gives a permission back without a result.
func (b *breaker) leave(p pass) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.tried(p)
}

// succeeded notes that the upstream answered as it should.
func (b *breaker) succeeded(p pass) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.tried(p)
	b.failures, b.pauses, b.until, b.since, b.answers = 0, 0, time.Time{}, time.Time{}, false
}

// failed notes a failure, in words. hard is one to connect; asked is a pause
// that the upstream asked for, or 0.
func (b *breaker) failed(p pass, now time.Time, what string, hard bool, asked time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.tried(p)
	if p.epoch != b.epoch {
		return
	}
	b.epoch++
	b.answers = false
	b.last = what
	b.failures++
	if b.since.IsZero() {
		b.since = now
	}
	if asked > 0 {
		b.pauses++
		b.until = now.Add(min(asked, longestAsked))
		return
	}
	if !hard && b.pauses == 0 && b.failures < patience {
		return
	}
	b.until = now.Add(min(firstPause<<min(b.pauses, 20), longestPause))
	b.pauses++
}

// state tells since when the upstream fails, and when it is tried again; zero
// times if it does not.
func (b *breaker) state() (since, retry time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.since, b.until
}
