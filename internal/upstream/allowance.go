package upstream

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Allowance is how much more an upstream lets us ask, by its own word.
type Allowance struct {
	Most   int64         // within Window; 0 if it does not say it
	Left   int64         // of these
	Window time.Duration // 0 if it does not say it
	Again  time.Time     // when there is more; zero if it does not say it
	At     time.Time     // when it said so
}

// allowanceIn reads what an answer says of it: RateLimit-Limit, -Remaining and -Reset, with
// the window after a semicolon as image registries have it; or RateLimit in one header
// (draft-ietf-httpapi-ratelimit-headers, of version 7 and later). ok is false if it says
// nothing.
func allowanceIn(h http.Header, now time.Time) (a Allowance, ok bool) {
	a.At = now
	fields := map[string]string{"l": h.Get("RateLimit-Limit"), "r": h.Get("RateLimit-Remaining"),
		"t": h.Get("RateLimit-Reset")}
	for _, part := range strings.FieldsFunc(h.Get("RateLimit"), func(r rune) bool { return r == ',' || r == ';' }) {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		short := map[string]string{"limit": "l", "remaining": "r", "reset": "t", "r": "r", "t": "t"}[name]
		if short != "" && fields[short] == "" {
			fields[short] = value
		}
	}
	number := func(text string) (int64, bool) {
		n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		return n, err == nil && n >= 0 && n <= 1<<40
	}
	left, windowed, _ := strings.Cut(fields["r"], ";")
	if a.Left, ok = number(left); !ok {
		return a, false
	}
	most, more, _ := strings.Cut(fields["l"], ";")
	a.Most, _ = number(most)
	for _, text := range []string{more, windowed} {
		if seconds, ok := strings.CutPrefix(strings.TrimSpace(text), "w="); ok && a.Window == 0 {
			if n, ok := number(seconds); ok && n < int64(maxWindow/time.Second) {
				a.Window = time.Duration(n) * time.Second
			}
		}
	}
	if n, ok := number(fields["t"]); ok && n > 0 && n < int64(maxWindow/time.Second) {
		a.Again = now.Add(time.Duration(n) * time.Second)
	}
	return a, true
}

// maxWindow is the longest time that an allowance may be for.
const maxWindow = 366 * 24 * time.Hour

// String tells people of it: 3 of 100 within 6h0m0s.
func (a Allowance) String() string {
	text := strconv.FormatInt(a.Left, 10)
	if a.Most > 0 {
		text += fmt.Sprintf(" of %d", a.Most)
	}
	if a.Window > 0 {
		text += " within " + a.Window.String()
	}
	return text
}

// resting is until when an upstream is not asked, since it let us ask nothing more.
type resting struct {
	mu    sync.Mutex
	until time.Time
}

// said notes what an upstream allows.
func (r *resting) said(a Allowance) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if a.Left == 0 && !a.Again.IsZero() {
		r.until = a.Again
		if most := a.At.Add(longestAsked); r.until.After(most) {
			r.until = most
		}
		return
	}
	r.until = time.Time{}
}

// rests tells whether it is not to be asked, and until when.
func (r *resting) rests(now time.Time) (until time.Time, rests bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.until, now.Before(r.until)
}
