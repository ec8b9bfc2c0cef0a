package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

// TestChanges: whoever follows a repository misses nothing, whatever is published while it begins and by whichever
// node; who may see a part of it is told of that part; what nobody follows is not kept.
func TestChanges(t *testing.T) {
	url := recordtest.URL(t)
	n, other := newNode(t, url), newNode(t, url)
	ctx := t.Context()
	r := n.both(t, "releases-here")
	n.relaying(t)
	other.relaying(t)
	published := make(chan string, 100)
	go func() {
		defer close(published)
		for i := range 40 {
			at, name := n, fmt.Sprintf("kelp-%02d", i)
			if i%2 == 1 {
				at = other
			}
			at.npm(t, at.admin, r, madeup.Package{Name: name, Version: "1.0.0", Licence: "MIT"})
			published <- name
		}
	}()
	ask := func(by access.Caller, after int64) repositories.Changes {
		t.Helper()
		c, err := n.Repositories.Changes(ctx, by, r.Name, "npm", after, 7)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	for range 5 { // some come before anybody asks
		<-published
	}
	c := ask(n.admin, 0)
	if c.Complete || len(c.Some) > 0 || c.Number == 0 {
		t.Fatalf("who begins is told %+v", c)
	}
	began := c.Number
	wanted := map[string]bool{}
	for name := range published {
		wanted[name] = true
	}
	delete(wanted, "kelp-05") // which may have been seen before it began
	for end := time.Now().Add(60 * time.Second); len(wanted) > 0; time.Sleep(10 * time.Millisecond) {
		before := c.Number
		c = ask(n.admin, before)
		if !c.Complete || c.Number < before || time.Now().After(end) {
			t.Fatalf("%+v, and %v were not told", c, wanted)
		}
		for _, one := range c.Some {
			delete(wanted, one.Name)
		}
	}
	g, err := rights.NewGrant{Holder: "other", Role: "reader", Repositories: r.Name,
		Packages: "pkg:npm/kelp-1*"}.Parse()
	if err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddPrincipal(ctx, n.admin,
		rights.NewPrincipal{Name: "other", Grants: []access.Grant{g}}); err != nil {
		t.Fatal(err)
	}
	part, err := n.Rights.CallerNamed(ctx, "other")
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for c := (repositories.Changes{Number: began}); ; {
		before := c.Number
		if c = ask(part, before); c.Number == before {
			break
		}
		if c.Left != len(c.Some) {
			t.Errorf("it is told of %d, and that there are %d", len(c.Some), c.Left)
		}
		for _, one := range c.Some {
			if seen++; !strings.HasPrefix(one.Name, "kelp-1") {
				t.Errorf("it is told of %s", one.Name)
			}
		}
	}
	if seen != 10 {
		t.Errorf("it was told of %d changes", seen)
	}
	// The records were put back to an older state.
	if c := ask(n.admin, 1_000_000); c.Complete || c.Number >= 1_000_000 {
		t.Errorf("after what never was, it is told %+v", c)
	}
	// A week later nobody follows any more.
	now := n.Settings.Now
	n.Settings.Now = func() time.Time { return now().Add(8 * 24 * time.Hour) }
	if err := n.chore(ctx, "forgetting changes that nobody follows"); err != nil {
		t.Fatal(err)
	}
	if c := ask(n.admin, began); c.Complete {
		t.Errorf("who was away for long is told %+v", c)
	}
}

// TestFollowedWrong: an upstream that tells nonsense of its changes, or nothing, is told, does no harm, and is gone
// on with once it makes sense.
func TestFollowedWrong(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	var says atomic.Value
	says.Store(`{"complete": false, "number": 5, "changes": []}`)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/api/v1/repositories/releases/changes" || says.Load() == "" {
			http.NotFound(w, r)
			return
		}
		if got := r.URL.Query().Get("ecosystem"); got != "npm" {
			t.Errorf("it is asked for %s", got)
		}
		_, _ = w.Write([]byte(says.Load().(string)))
	}))
	t.Cleanup(server.Close)
	add := func(name, upstream string) (catalog.Repository, error) {
		return n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
			Repository: catalog.Repository{Name: name, Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
				Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: upstream}},
					Prefetch: catalog.Prefetch{Follow: true}}}})
	}
	for _, address := range []string{server.URL, server.URL + "/at/releases/pypi/", server.URL + "/at/releases@2026-11-01/npm/",
		server.URL + "/at//npm/"} {
		if _, err := add("wrong", address); err == nil || !strings.Contains(err.Error(), "no repository of a Crelvo") {
			t.Errorf("%s can be followed: %v", address, err)
		}
	}
	m, err := add("far", server.URL+"/at/releases/npm/")
	if err != nil {
		t.Fatal(err)
	}
	var ahead atomic.Int64
	now := n.Settings.Now
	n.Settings.Now = func() time.Time { return now().Add(time.Duration(ahead.Load())) }
	until := func(what string, number int64, failure string) {
		t.Helper()
		for end := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			ahead.Add(int64(10 * time.Second))
			if err := n.chore(ctx, "asking upstreams what changed"); err != nil {
				t.Fatal(err)
			}
			f, err := n.DB.Following(ctx, m.ID)
			if err == nil && f.Number == number && strings.Contains(f.Failure, failure) && (failure != "" || f.Failure == "") {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%s: %+v, %v", what, f, err)
			}
		}
	}
	until("it never tells what changed", 5, "does not tell what changed")
	says.Store(`{"complete": true, "number": 5, "changes": []}`)
	until("it began", 5, "")
	change := func(number int64, of string) string {
		raw, err := json.Marshal(map[string]any{"number": number, "purl": of, "at": time.Now()})
		if err != nil {
			t.Fatal(err)
		}
		return string(raw)
	}
	says.Store(`no JSON at all`)
	until("no JSON", 5, "something else than changes")
	says.Store(`{"complete": true, "number": 9, "changes": [` + change(7, "pkg:npm/kelp") + "," + change(7, "pkg:npm/wrack") + `]}`)
	until("no order", 5, "in no order")
	says.Store(`{"complete": true, "number": 6, "changes": [` + change(6, "pkg:pypi/kelp") + `]}`)
	until("another ecosystem", 5, "no package here")
	says.Store("")
	until("nothing", 5, "does not tell of changes")
	says.Store(`{"complete": true, "number": 8, "left": 1, "changes": [` + change(8, purl.PURL{Ecosystem: "npm",
		Name: "kelp"}.String()) + `]}`)
	until("a package that is not there", 8, "in no order") // which it tells of again and again
}

// TestFollowedAway: an upstream that goes away in the middle of what it told loses nothing: it is gone on with where
// it was; a package alone that cannot be had holds up no other.
func TestFollowedAway(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	const inStep, told, gone, back = 0, 1, 2, 3
	var stage, wracks atomic.Int64
	cut := func(w http.ResponseWriter) {
		stage.Store(gone)
		conn, _, err := http.NewResponseController(w).Hijack()
		if err == nil {
			err = conn.Close()
		}
		if err != nil {
			t.Error(err)
		}
	}
	const kelp, wrack = `{"number": 6, "purl": "pkg:npm/kelp"}`, `{"number": 7, "purl": "pkg:npm/wrack"}`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		now := stage.Load()
		switch {
		case now == gone || now == told && r.URL.Path == "/at/releases/npm/kelp":
			cut(w)
		case r.URL.Path == "/at/releases/npm/kelp":
			http.Error(w, "not this one", http.StatusInternalServerError)
		case r.URL.Path == "/at/releases/npm/wrack":
			wracks.Add(1)
			_, _ = w.Write([]byte(`{"name": "wrack", "versions": {}}`))
		case r.URL.Path != "/api/v1/repositories/releases/changes":
			http.NotFound(w, r)
		case r.URL.Query().Get("after") == "0":
			_, _ = w.Write([]byte(`{"complete": false, "number": 5, "changes": []}`))
		default:
			after, list := r.URL.Query().Get("after"), []string{}
			if now != inStep && after == "5" {
				list = append(list, kelp)
			}
			if now != inStep && after < "7" {
				list = append(list, wrack)
			}
			_, _ = fmt.Fprintf(w, `{"complete": true, "number": %s, "changes": [%s]}`, after, strings.Join(list, ","))
		}
	}))
	t.Cleanup(server.Close)
	m, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "far", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: server.URL + "/at/releases/npm/"}},
				Prefetch: catalog.Prefetch{Follow: true, Patterns: []string{"pkg:npm/kelp", "pkg:npm/wrack"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	var ahead atomic.Int64
	now := n.Settings.Now
	n.Settings.Now = func() time.Time { return now().Add(time.Duration(ahead.Load())) }
	until := func(what string, is func(f record.Following) bool) {
		t.Helper()
		for end := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			ahead.Add(int64(time.Minute))
			if err := n.chore(ctx, "asking upstreams what changed"); err != nil {
				t.Fatal(err)
			}
			f, err := n.DB.Following(ctx, m.ID)
			if err == nil && f.Number > 5 && stage.Load() != back {
				t.Fatalf("what was not taken over counts as done: %+v", f)
			}
			if err == nil && is(f) {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%s: %+v, %v, %d", what, f, err, wracks.Load())
			}
		}
	}
	until("it begins", func(f record.Following) bool { return f.Number == 5 && f.Failure == "" && f.DoneAt != nil })
	stage.Store(told)
	until("it goes away", func(f record.Following) bool { return stage.Load() == gone && f.Failure != "" })
	was := wracks.Load()
	stage.Store(back)
	until("it is there again", func(f record.Following) bool { return f.Number == 7 && wracks.Load() > was })
}
