package counting

import (
	"sync"
	"time"

	"crelvo/internal/record"
	"crelvo/internal/upstream"
)

// mirrorCounter counts what mirrors do, in memory, until it is written.
type mirrorCounter struct {
	mu       sync.Mutex
	hours    map[mirrorHour]*record.MirrorHour
	contacts map[contact]*record.UpstreamContact
	since    map[int64]*record.MirrorHour // the service began
	asked    map[contact]*Asked
}

// Asked is how an upstream of a mirror answered since the service began.
type Asked struct {
	Mirror           int64
	URL              string
	Answered, Failed uint64
	FirstByte        time.Duration // of all answers together
}

// Mirrors tells what mirrors did since the service began, their Hour being zero, and how
// their upstreams answered.
func (c *Counting) Mirrors() (all []record.MirrorHour, upstreams []Asked) {
	m := &c.mirrors
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, h := range m.since {
		all = append(all, *h)
	}
	for _, a := range m.asked {
		upstreams = append(upstreams, *a)
	}
	return all, upstreams
}

type mirrorHour struct {
	mirror int64
	hour   time.Time
}

type contact struct {
	mirror int64
	url    string
}

func (c *mirrorCounter) add(mirror int64, at time.Time, count func(h *record.MirrorHour)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.count(mirror, at, count)
}

// count counts in an hour of a mirror, and in all its time. Call it with mu held.
func (c *mirrorCounter) count(mirror int64, at time.Time, count func(h *record.MirrorHour)) {
	count(c.hour(mirror, at))
	if c.since == nil {
		c.since = map[int64]*record.MirrorHour{}
	}
	if c.since[mirror] == nil {
		c.since[mirror] = &record.MirrorHour{RepositoryID: mirror}
	}
	count(c.since[mirror])
}

// upstream is how an upstream answered. Call it with mu held.
func (c *mirrorCounter) upstream(mirror int64, url string) *Asked {
	key := contact{mirror, url}
	if c.asked == nil {
		c.asked = map[contact]*Asked{}
	}
	if c.asked[key] == nil {
		c.asked[key] = &Asked{Mirror: mirror, URL: url}
	}
	return c.asked[key]
}

// hour is the count of a mirror's hour. Call it with mu held.
func (c *mirrorCounter) hour(mirror int64, at time.Time) *record.MirrorHour {
	key := mirrorHour{mirror, at.UTC().Truncate(time.Hour)}
	if c.hours == nil {
		c.hours = map[mirrorHour]*record.MirrorHour{}
	}
	h := c.hours[key]
	if h == nil {
		h = &record.MirrorHour{RepositoryID: mirror, Hour: key.hour}
		c.hours[key] = h
	}
	return h
}

// contact is the note of an upstream. Call it with mu held.
func (c *mirrorCounter) contact(mirror int64, url string) *record.UpstreamContact {
	key := contact{mirror, url}
	if c.contacts == nil {
		c.contacts = map[contact]*record.UpstreamContact{}
	}
	n := c.contacts[key]
	if n == nil {
		n = &record.UpstreamContact{RepositoryID: mirror, URL: url}
		c.contacts[key] = n
	}
	return n
}

func (c *mirrorCounter) take() (hours []record.MirrorHour, contacts []record.UpstreamContact) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, h := range c.hours {
		hours = append(hours, *h)
	}
	for _, n := range c.contacts {
		contacts = append(contacts, *n)
	}
	c.hours, c.contacts = nil, nil
	return hours, contacts
}

// giveBack keeps what could not be written for the next time.
func (c *mirrorCounter) giveBack(hours []record.MirrorHour, contacts []record.UpstreamContact) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, was := range hours {
		h := c.hour(was.RepositoryID, was.Hour)
		h.Hits, h.Misses, h.Stale, h.Failures = h.Hits+was.Hits, h.Misses+was.Misses, h.Stale+was.Stale, h.Failures+
			was.Failures
		h.Requests, h.BytesServed, h.BytesFetched = h.Requests+was.Requests, h.BytesServed+was.BytesServed, h.BytesFetched+
			was.BytesFetched
		h.FirstByteUS += was.FirstByteUS
	}
	for _, was := range contacts {
		n := c.contact(was.RepositoryID, was.URL)
		if n.ContactAt == nil && n.FailedAt == nil { // nothing newer is known
			*n = was
			continue
		}
		if n.ContactAt == nil {
			n.ContactAt, n.LatencyUS = was.ContactAt, was.LatencyUS
		}
		if n.FailedAt == nil {
			n.FailedAt, n.Failure = was.FailedAt, was.Failure
		}
		if n.AllowedAt == nil {
			n.AllowedAt, n.AllowedLeft, n.AllowedMost = was.AllowedAt, was.AllowedLeft, was.AllowedMost
			n.AllowedWindow, n.AllowedAgain = was.AllowedWindow, was.AllowedAgain
		}
	}
}

// mirrorObserver notes what the upstreams of one mirror do.
type mirrorObserver struct {
	of *Counting
	id int64
}

// Answered implements upstream.Observer.
func (o *mirrorObserver) Answered(url string, at time.Time, firstByte time.Duration) {
	c := &o.of.mirrors
	c.mu.Lock()
	defer c.mu.Unlock()
	c.count(o.id, at, func(h *record.MirrorHour) {
		h.Requests++
		h.FirstByteUS += firstByte.Microseconds()
	})
	asked := c.upstream(o.id, url)
	asked.Answered++
	asked.FirstByte += firstByte
	n := c.contact(o.id, url)
	n.ContactAt, n.LatencyUS = &at, firstByte.Microseconds()
	n.FailingSince, n.RetryAt = nil, nil
}

// Failed implements upstream.Observer.
func (o *mirrorObserver) Failed(f *upstream.Failure, at, since time.Time) {
	c := &o.of.mirrors
	c.mu.Lock()
	defer c.mu.Unlock()
	c.upstream(o.id, f.Upstream).Failed++
	n := c.contact(o.id, f.Upstream)
	n.FailedAt, n.Failure = &at, f.What
	n.FailingSince, n.RetryAt = timeOrNil(since), timeOrNil(f.RetryAt)
}

// Allowed implements upstream.Observer.
func (o *mirrorObserver) Allowed(url string, a upstream.Allowance) {
	c := &o.of.mirrors
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.contact(o.id, url)
	n.AllowedAt, n.AllowedLeft, n.AllowedMost, n.AllowedWindow = &a.At, a.Left, a.Most, int64(a.Window/time.Second)
	n.AllowedAgain = timeOrNil(a.Again)
}

// Fetched implements upstream.Observer.
func (o *mirrorObserver) Fetched(n int64) {
	o.of.Mirror(o.id, func(h *record.MirrorHour) { h.BytesFetched += n })
}

func timeOrNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
