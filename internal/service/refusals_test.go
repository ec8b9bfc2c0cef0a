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
	"crelvo/internal/service/rights"
)

// TestRefusalsAreGathered: who asks again and again fills neither the record nor
// the memory, and is on record all the same.
func TestRefusalsAreGathered(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	n.Settings.Now = func() time.Time { return now }
	f := fault.New(fault.Denied, "role-missing", "no")
	written := func() (events int, times map[string]int) {
		t.Helper()
		if err := n.chore(t.Context(), "noting refusals"); err != nil {
			t.Fatal(err)
		}
		times = map[string]int{}
		if err := n.DB.EachEvent(t.Context(), record.EventFilter{Action: "refused"}, func(e record.SealedEvent) error {
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
		n.Rights.Refused(loop, "releases", "GET /x", f)
	}
	n.Rights.Refused(access.Caller{ID: 8, Name: "cook"}, "releases", "GET /x", f)
	if events, times := written(); events != 2 || times["ci-loop"] != 1000 || times["cook"] != 1 {
		t.Errorf("%d events of %v", events, times)
	}
	// Within the minute the same is gathered, then written.
	for range 10 {
		n.Rights.Refused(loop, "releases", "GET /x", f)
		now = now.Add(time.Second)
		if events, _ := written(); events != 2 {
			t.Fatalf("%d events within a minute", events)
		}
	}
	now = now.Add(rights.RefusalPause)
	if events, times := written(); events != 3 || times["ci-loop"] != 1010 {
		t.Errorf("after the minute: %d events of %v", events, times)
	}
	// Names that are made up without end are only counted.
	for i := range 5000 {
		n.Rights.Refused(access.Caller{Name: fmt.Sprint("made-up-", i)}, "", "to get in", f)
	}
	events, times := written()
	if events > 3+rights.MaxRefusals+1 || times[""] != 5000-rights.MaxRefusals {
		t.Errorf("%d events; %d were not told apart", events, times[""])
	}
}
