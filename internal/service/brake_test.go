package service

import (
	"fmt"
	"strconv"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
)

// TestBrake: wrong passwords are slowed down ever more, within bounds, and what
// is right ends that.
func TestBrake(t *testing.T) {
	b := newBrake()
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	for i := range freeAccount {
		if err := b.try("purser", "10.0.0.1", now); err != nil {
			t.Fatalf("attempt %d: %v", i+1, err)
		}
	}
	for _, want := range []time.Duration{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second, 16 * time.Second, longestAccount, longestAccount} {
		err := b.try("purser", "10.0.0.1", now)
		if f := fault.Of(err); f.Kind != fault.TooMany || f.After < want || f.After > want+time.Second {
			t.Errorf("%v, after %s; want about %s", err, f.After, want)
		}
		now = now.Add(want)
		if err := b.try("purser", "10.0.0.1", now); err != nil {
			t.Errorf("after %s: %v", want, err)
		}
	}
	// Whatever happens elsewhere, and however often, keeps nobody out.
	for range 60 {
		if err := b.try("purser", "10.0.0.7", now); err != nil {
			t.Fatalf("from elsewhere: %v", err)
		}
		b.succeeded("purser", "10.0.0.7")
	}
	for i := range 2 * freeAccount {
		err := b.try("purser", fmt.Sprintf("2001:db8::%d", i), now)
		if (err != nil) != (i >= freeAccount) {
			t.Errorf("attempt %d from one network: %v", i+1, err)
		}
	}
	if err := b.try("deckhand", "10.0.0.3", now); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	b.succeeded("purser", "10.0.0.1")
	if err := b.try("purser", "10.0.0.1", now); err != nil {
		t.Errorf("after the right one: %v", err)
	}
	// Many names from one address wait together, wherever the names come from.
	var slowed error
	for i := range freePlace + 1 {
		slowed = b.try(fmt.Sprint("guess-", i), "10.0.0.9", now)
	}
	if !fault.Is(slowed, fault.TooMany) {
		t.Errorf("%d names from one address: %v", freePlace+1, slowed)
	}
	if err := b.try("guess-1", "10.0.0.9", now.Add(forgiveAfter+time.Second)); err != nil {
		t.Errorf("much later: %v", err)
	}
}

// TestRefusalsAreGathered: who asks again and again fills neither the record nor
// the memory, and is on record all the same.
func TestRefusalsAreGathered(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	n.settings.Now = func() time.Time { return now }
	f := fault.New(fault.Denied, "role-missing", "no")
	written := func() (events int, times map[string]int) {
		t.Helper()
		if err := n.noteRefusals(t.Context()); err != nil {
			t.Fatal(err)
		}
		times = map[string]int{}
		if err := n.db.EachEvent(t.Context(), record.EventFilter{Action: "refused"}, func(e record.SealedEvent) error {
			events++
			count, err := strconv.Atoi(e.Detail["times"])
			if err != nil {
				count = 1
			}
			times[e.Who] += count
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return events, times
	}
	loop := access.Caller{ID: 7, Name: "ci-loop", Address: "10.0.0.1"}
	for range 1000 {
		n.Refused(loop, "releases", "GET /x", f)
	}
	n.Refused(access.Caller{ID: 8, Name: "cook"}, "releases", "GET /x", f)
	if events, times := written(); events != 2 || times["ci-loop"] != 1000 || times["cook"] != 1 {
		t.Errorf("%d events of %v", events, times)
	}
	// Within the minute the same is gathered, then written.
	for range 10 {
		n.Refused(loop, "releases", "GET /x", f)
		now = now.Add(time.Second)
		if events, _ := written(); events != 2 {
			t.Fatalf("%d events within a minute", events)
		}
	}
	now = now.Add(refusalPause)
	if events, times := written(); events != 3 || times["ci-loop"] != 1010 {
		t.Errorf("after the minute: %d events of %v", events, times)
	}
	// Names that are made up without end are only counted.
	for i := range 5000 {
		n.Refused(access.Caller{Name: fmt.Sprint("made-up-", i)}, "", "to get in", f)
	}
	if len(n.refusals.all) > maxRefusals {
		t.Errorf("%d kinds are kept apart", len(n.refusals.all))
	}
	events, times := written()
	if events > 3+maxRefusals+1 || times[""] != 5000-maxRefusals {
		t.Errorf("%d events; %d were not told apart", events, times[""])
	}
}
