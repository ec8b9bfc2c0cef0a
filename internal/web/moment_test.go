package web

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
)

// TestMoments: every parameter that is a moment takes the one form that there is.
func TestMoments(t *testing.T) {
	w := newWalker(t)
	w.ensure(t)
	paths := []string{"/api/v1/events?since=%s", "/api/v1/events?until=%s", "/api/v1/events/export?since=%s",
		"/api/v1/promotions?since=%s",
		"/api/v1/repositories/own/arrivals?since=%s", "/api/v1/use?until=%2B2d&from=%s",
		"/api/v1/packages/used?until=%2B2d&from=%s"} // in an hour may be tomorrow
	for _, path := range paths {
		for text, want := range map[string]int{"2026-11-01": 200, "2026-11-01T08:00Z": 200,
			"2026-11-01T08:00:00.5+01:00": 200, "7d": 200, "-2w": 200, "90m": 200, "+1h": 200, "soon": 400, "7": 400,
			"2026-13-01": 400} {
			status, code := w.ask(t, http.MethodGet, strings.Replace(path, "%s", url.QueryEscape(text), 1),
				w.secrets["manages-all"])
			if status != want || want == 400 && code != "bad-moment" {
				t.Errorf("%s with %s: %d %s, want %d", path, text, status, code, want)
			}
		}
	}
}
