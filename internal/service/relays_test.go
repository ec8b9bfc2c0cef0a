package service

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/relays"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/targets"
)

// farSite takes npm packages, as a registry does, and notes in which order.
type farSite struct {
	*httptest.Server
	mu    sync.Mutex
	took  []string
	fails map[string]int // how often it does not take a version
	cut   atomic.Bool    // the line to it
	tried atomic.Int64   // how often somebody came while it was cut
}

func newFarSite(t *testing.T) *farSite {
	t.Helper()
	f := &farSite{fails: map[string]int{}}
	f.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if f.cut.Load() {
			f.tried.Add(1)
			panic(http.ErrAbortHandler)
		}
		if r.Method != http.MethodPut {
			http.NotFound(w, r)
			return
		}
		var d struct {
			Versions map[string]struct {
				Name string `json:"name"`
			} `json:"versions"`
		}
		raw, err := io.ReadAll(r.Body)
		if err != nil || json.Unmarshal(raw, &d) != nil {
			http.Error(w, "unreadable", http.StatusBadRequest)
			return
		}
		f.mu.Lock()
		defer f.mu.Unlock()
		for version, of := range d.Versions {
			if name := of.Name + " " + version; f.fails[name] > 0 {
				f.fails[name]--
				http.Error(w, "come back later", http.StatusServiceUnavailable)
			} else {
				f.took = append(f.took, name)
			}
		}
	}))
	t.Cleanup(f.Close)
	return f
}

func (f *farSite) all() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.took)
}

// relaying has the relays of a node work until the test ends.
func (n *node) relaying(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { n.Run(ctx) })
	t.Cleanup(func() { stop(); running.Wait() })
}

// TestRelayNet: what was missed is found by who looks for it; two nodes send nothing twice; versions of a
// package go in their order, whatever fails in between; what is kept out is not spread.
func TestRelayNet(t *testing.T) {
	url := recordtest.URL(t)
	n, other := newNode(t, url), newNode(t, url)
	ctx := t.Context()
	from := n.both(t, "releases-here")
	site := newFarSite(t)
	if err := n.Targets.SetTarget(ctx, n.admin, targets.NewTarget{Name: "mainland", Ecosystem: "npm",
		URL: site.URL}); err != nil {
		t.Fatal(err)
	}
	// Nobody listens while these come.
	for i := range 5 {
		for _, name := range []string{"kelp", "wrack"} {
			n.npm(t, n.admin, from, madeup.Package{Name: name, Version: fmt.Sprintf("1.%d.0", i), Licence: "MIT"})
		}
	}
	n.npm(t, n.admin, from, madeup.Package{Name: "bell", Version: "1.0.0", Licence: "MIT"})
	n.imports(t, osvRecord("MAL-1", "npm", "bell", "2.0.0", "2026-11-01T08:00:00Z", ""))
	site.fails["kelp 1.1.0"] = 1
	if _, err := n.Relays.Add(ctx, n.admin, relays.Settings{Name: "far", Repository: from.Name, Target: "mainland",
		Holds: catalog.Both}, false); err != nil {
		t.Fatal(err)
	}
	n.relaying(t)
	other.relaying(t)
	state := func() relays.View {
		t.Helper()
		v, err := n.Relays.Relay(ctx, n.admin, "far")
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	settled := func(sent, waiting int) {
		t.Helper()
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			if v := state(); v.State.Sent == sent && v.State.Waiting == waiting {
				return
			} else if time.Now().After(end) {
				t.Fatalf("it does not settle: %+v, %v", v.State, site.all())
			}
		}
	}
	settled(10, 1) // what is kept out is waited for; what failed once, and came behind it in its package, went
	if v := state(); v.State.Oldest == nil || v.State.Bytes == 0 || v.State.Said == "" {
		t.Errorf("it says %+v", v.State)
	}
	if _, err := n.Safety.Waive(ctx, n.admin, safety.NewWaiver{Advisory: "MAL-1", Pattern: "pkg:npm/bell@1.0.0",
		Reason: "it is ours"}); err != nil {
		t.Fatal(err)
	}
	n.Safety.Purge()
	other.Safety.Purge()
	if _, err := n.Relays.Start(ctx, n.admin, "far"); err != nil {
		t.Fatal(err)
	}
	settled(11, 0)
	took := site.all()
	for _, name := range []string{"kelp ", "wrack "} {
		of := slices.DeleteFunc(slices.Clone(took), func(s string) bool { return !strings.HasPrefix(s, name) })
		if !slices.IsSorted(of) || len(of) != 5 {
			t.Errorf("%s went as %v", name, of)
		}
	}
	// From then on at once.
	n.npm(t, n.admin, from, madeup.Package{Name: "kelp", Version: "2.0.0", Licence: "MIT"})
	settled(12, 0)
	if now := site.all(); len(now) != 12 {
		t.Errorf("it was sent as %v", now)
	}
	// What is not there any more is forgotten in time, and what is there is not sent again.
	if err := n.Retention.Remove(ctx, n.admin, from.Key("npm", "", "kelp"), []string{"1.0.0"}); err != nil {
		t.Fatal(err)
	}
	n.later(31 * 24 * time.Hour)
	if err := n.chore(ctx, "forgetting what was relayed long ago"); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Relays.Start(ctx, n.admin, "far"); err != nil {
		t.Fatal(err)
	}
	settled(11, 0)
	if now := site.all(); len(now) != 12 {
		t.Errorf("it was sent again: %v", now)
	}
}

// TestRelayHours: out of its hours a relay sends nothing.
func TestRelayHours(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	from := n.both(t, "releases-here")
	site := newFarSite(t)
	if err := n.Targets.SetTarget(ctx, n.admin, targets.NewTarget{Name: "mainland", Ecosystem: "npm",
		URL: site.URL}); err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC()
	hours := func(from, to time.Duration) string {
		return now.Add(from).Format("15:04") + "-" + now.Add(to).Format("15:04")
	}
	v, err := n.Relays.Add(ctx, n.admin, relays.Settings{Name: "night", Repository: from.Name, Target: "mainland",
		Holds: catalog.Both, Hours: hours(3*time.Hour, 5*time.Hour)}, false)
	if err != nil || v.Open {
		t.Fatalf("%+v, %v", v, err)
	}
	n.npm(t, n.admin, from, madeup.Package{Name: "kelp", Version: "1.0.0", Licence: "MIT"})
	n.relaying(t)
	for end := time.Now().Add(30 * time.Second); v.State.Waiting == 0; time.Sleep(20 * time.Millisecond) {
		if v, err = n.Relays.Relay(ctx, n.admin, "night"); err != nil || time.Now().After(end) {
			t.Fatal(err, v)
		}
	}
	if all := site.all(); all != nil {
		t.Errorf("out of its hours it sent %v", all)
	}
	open := hours(-time.Hour, 2*time.Hour)
	if v, err = n.Relays.Edit(ctx, n.admin, "night", relays.Change{Hours: &open}, false); err != nil || !v.Open {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); len(site.all()) == 0; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("in its hours it sends nothing")
		}
	}
	for _, bad := range []string{"8:00-9:00", "20:00", "24:30-01:00", "10:00-10:00", "20:00-06:00 ", "aa:bb-cc:dd"} {
		if _, err := n.Relays.Edit(ctx, n.admin, "night", relays.Change{Hours: &bad}, false); fault.Of(err).Code != "bad-hours" {
			t.Errorf("%q are taken as hours: %v", bad, err)
		}
	}
}

// TestRelayCutOff: a site that is cut off for days is in step again without anybody's help once it is there; that
// is nobody's fault, and nothing fails for it.
func TestRelayCutOff(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	from := n.both(t, "releases-here")
	site := newFarSite(t)
	site.cut.Store(true)
	if err := n.Targets.SetTarget(ctx, n.admin, targets.NewTarget{Name: "mainland", Ecosystem: "npm",
		URL: site.URL}); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Relays.Add(ctx, n.admin, relays.Settings{Name: "far", Repository: from.Name, Target: "mainland",
		Holds: catalog.Both}, true); err != nil {
		t.Fatal(err)
	}
	var ahead atomic.Int64 // of the clock, which a test that goes on may not set otherwise
	now := n.Settings.Now
	n.Settings.Now = func() time.Time { return now().Add(time.Duration(ahead.Load())) }
	n.relaying(t)
	for _, name := range []string{"kelp", "wrack"} {
		for _, version := range []string{"1.0.0", "1.1.0"} {
			n.npm(t, n.admin, from, madeup.Package{Name: name, Version: version, Licence: "MIT"})
		}
	}
	until := func(what string, is func() bool) {
		t.Helper()
		for end := time.Now().Add(60 * time.Second); !is(); time.Sleep(10 * time.Millisecond) {
			if time.Now().After(end) {
				v, err := n.Relays.Relay(ctx, n.admin, "far")
				t.Fatalf("%s: %+v, %v", what, v.State, err)
			}
		}
	}
	for range 40 { // hours
		was := site.tried.Load()
		ahead.Add(int64(time.Hour))
		until("nobody tries", func() bool { return site.tried.Load() > was })
	}
	site.cut.Store(false)
	ahead.Add(int64(5 * time.Minute))
	until("it is not in step", func() bool {
		v, err := n.Relays.Relay(ctx, n.admin, "far")
		if err != nil {
			t.Fatal(err)
		}
		return v.State.Sent == 4 && v.State.Waiting == 0
	})
	if v, err := n.Relays.Relay(ctx, n.admin, "far"); err != nil || v.State.Failed != 0 {
		t.Errorf("%+v, %v", v.State, err)
	}
}
