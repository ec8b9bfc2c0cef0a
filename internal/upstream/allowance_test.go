package upstream

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
)

func TestAllowance(t *testing.T) {
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	for headers, want := range map[string]Allowance{
		"ratelimit-limit: 100;w=21600|ratelimit-remaining: 76;w=21600": {Most: 100, Left: 76, Window: 6 * time.Hour},
		"RateLimit-Remaining: 0|RateLimit-Reset: 30":                   {Again: now.Add(30 * time.Second)},
		"RateLimit: limit=10, remaining=4, reset=5":                    {Most: 10, Left: 4, Again: now.Add(5 * time.Second)},
		`RateLimit: "pulls";r=50;t=30`:                                 {Left: 50, Again: now.Add(30 * time.Second)},
		"RateLimit-Limit: many|RateLimit-Remaining: 5;w=never":         {Left: 5},
		"RateLimit-Remaining: 5;w=99999999999999|RateLimit-Reset: -1":  {Left: 5},
	} {
		h := http.Header{}
		for _, header := range strings.Split(headers, "|") {
			name, value, _ := strings.Cut(header, ": ")
			h.Set(name, value)
		}
		want.At = now
		if got, ok := allowanceIn(h, now); !ok || got != want {
			t.Errorf("%s: %+v, want %+v", headers, got, want)
		}
	}
	for _, text := range []string{"", "soon", "-1", "1e9", "99999999999999999999"} {
		if a, ok := allowanceIn(http.Header{"Ratelimit-Remaining": {text}}, now); ok {
			t.Errorf("%q: %+v", text, a)
		}
	}
	if got := (Allowance{Left: 3, Most: 100, Window: 6 * time.Hour}).String(); got != "3 of 100 within 6h0m0s" {
		t.Error(got)
	}
}

// TestObeys: an upstream that lets us ask nothing more is asked nothing but what it does not
// count, until there is more again.
func TestObeys(t *testing.T) {
	var mu sync.Mutex
	var asked []string
	left := 1
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		asked = append(asked, r.Method)
		if r.Method == http.MethodGet {
			left--
		}
		w.Header().Set("RateLimit-Limit", "2;w=3600")
		w.Header().Set("RateLimit-Remaining", fmt.Sprint(left))
		w.Header().Set("RateLimit-Reset", "60")
		fmt.Fprint(w, "content")
	}))
	defer server.Close()
	s := source(t, func(*catalog.MirrorSettings) {}, catalog.Upstream{URL: server.URL + "/", Private: true})
	now := time.Now()
	s.now = func() time.Time { return now }
	if text, err := read(s, "one"); err != nil || text != "content" {
		t.Fatalf("%q, %v", text, err)
	}
	var f *Failure
	if _, err := read(s, "two"); !errors.As(err, &f) || !strings.Contains(f.What, "nothing more until") ||
		!f.RetryAt.Equal(now.Add(time.Minute)) {
		t.Errorf("it is asked on: %v", err)
	}
	head, err := s.Get(t.Context(), Request{Path: "three", Head: true})
	if err != nil {
		t.Fatalf("what is not counted: %v", err)
	}
	if err := head.Body.Close(); err != nil {
		t.Error(err)
	}
	now, left = now.Add(61*time.Second), 2
	if _, err := read(s, "four"); err != nil {
		t.Errorf("when there is more: %v", err)
	}
	if got := strings.Join(asked, " "); got != "GET HEAD GET" {
		t.Errorf("it was asked %s", got)
	}
}
