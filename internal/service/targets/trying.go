package targets

import (
	"errors"
	"net/http"
	"time"

	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
)

const (
	// Lease is how long one attempt may take until another node takes it over.
	Lease = 10 * time.Minute
	// lastAttempt is after how many attempts something counts as failed: some fifteen hours.
	lastAttempt = 24
	// LongestAway is after how long it is tried again at the latest where nobody was there; shorter than a lease,
	// so that what is underway is told from what waits.
	LongestAway = 5 * time.Minute
	// lineWorks is for how long after something got through the line to a target is taken to work.
	lineWorks = 10 * time.Minute
)

// Outcome is what comes of an attempt to send something to a target.
type Outcome struct {
	Sent, Failed bool      // neither is that it is tried again
	Next         time.Time // when
	Attempts     int       // that count
	Said         string    // what went wrong, in words of another server perhaps
	Back         bool      // somebody is there again: what waits for another attempt may be tried now
}

// line is how it is between here and a target.
type line struct {
	through time.Time // something got through last
	away    bool      // nobody was there since
}

// After tells what comes of an attempt that ended with err. That nobody is there is not because of what was to be
// sent, unless other things got through lately.
func (s *Targets) After(target string, attempts int, err error) Outcome {
	now, away := s.Now(), isAway(err)
	o := Outcome{Sent: err == nil, Attempts: attempts}
	s.mu.Lock()
	l := s.lines[target]
	if err == nil {
		o.Back, l.through, l.away = l.away, now, false
	}
	l.away = l.away || away
	s.lines[target] = l
	s.mu.Unlock()
	if err == nil {
		return o
	}
	o.Said = text.Clean(err.Error(), false, longestSaid)
	longest := time.Hour
	if away {
		longest = LongestAway
		if now.Sub(l.through) >= lineWorks {
			o.Attempts = min(o.Attempts, lastAttempt/3)
		}
	}
	var no *ecosystem.Rejection
	o.Failed = errors.As(err, &no) && no.Final || o.Attempts >= lastAttempt
	o.Next = now.Add(min(longest, 5*time.Second<<o.Attempts))
	return o
}

// isAway tells whether nobody who could judge a version answered: the line is cut, or whoever stands before the
// other server says that it is not there.
func isAway(err error) bool {
	var no *ecosystem.Rejection
	if errors.As(err, &no) {
		return no.Status == http.StatusBadGateway || no.Status == http.StatusServiceUnavailable ||
			no.Status == http.StatusGatewayTimeout
	}
	return err != nil
}
