package web

import (
	"errors"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"

	"crelvo/internal/core/fault"
)

// TestMetricsOfHeld: figures with names of repositories and stores are an admin's alone.
func TestMetricsOfHeld(t *testing.T) {
	w := newWalker(t)
	w.ensure(t)
	bound := int64(1 << 20)
	if _, err := w.Quotas.SetQuota(t.Context(), w.admin, "foreign", &bound, nil); err != nil {
		t.Fatal(err)
	}
	for name, sees := range map[string]bool{"manages-all": true, "manages": false, "reads": false} {
		r := httptest.NewRequestWithContext(t.Context(), "GET", "/metrics", nil)
		r.Header.Set("Authorization", "Bearer "+w.secrets[name])
		answer := httptest.NewRecorder()
		w.server.Handler().ServeHTTP(answer, r)
		text := answer.Body.String()
		if answer.Code != 200 || !strings.Contains(text, "crelvo_requests_running") {
			t.Errorf("%s: %d", name, answer.Code)
		}
		if strings.Contains(text, "foreign") != sees || strings.Contains(text, "crelvo_store_bytes") != sees {
			t.Errorf("%s sees what is held: %v, want %v", name, !sees, sees)
		}
	}
}

// TestWatchedFigures: what the dashboard and the alert rules look at is there.
func TestWatchedFigures(t *testing.T) {
	w := newWalker(t)
	descs := make(chan *prometheus.Desc)
	go func() {
		w.server.metrics.registry.Describe(descs)
		w.server.metrics.held.Describe(descs)
		close(descs)
	}()
	there := map[string]bool{}
	name := regexp.MustCompile(`fqName: "([a-z_]+)"`)
	for d := range descs {
		there[name.FindStringSubmatch(d.String())[1]] = true
	}
	asked := map[string]bool{}
	for _, file := range []string{"alerts.yaml", "dashboard.json"} {
		text, err := os.ReadFile("../../deploy/monitoring/" + file)
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range regexp.MustCompile(`\bcrelvo_[a-z_]+`).FindAllString(string(text), -1) {
			for _, ending := range []string{"_bucket", "_count", "_sum"} {
				if stem, ok := strings.CutSuffix(found, ending); ok && there[stem] {
					found = stem
				}
			}
			if asked[found] = true; !there[found] {
				t.Errorf("%s asks for %s, which there is not", file, found)
			}
		}
	}
	if len(asked) < 30 {
		t.Errorf("only %d figures are asked for", len(asked))
	}
}

// TestFailureNamed: whoever meets a failure whose reason is in the log is told which request it
// was.
func TestFailureNamed(t *testing.T) {
	f := named(fault.Of(errors.New("inner workings")), "abc-1")
	if p := problemOf(errors.New("inner workings"), "abc-1"); p.Hint != f.Hint || !strings.Contains(p.Hint, "abc-1") {
		t.Errorf("%q, %q", p.Hint, f.Hint)
	}
	if f := named(fault.New(fault.NotFound, "no", "no"), "abc-1"); f.Hint != "" {
		t.Errorf("a refusal has a hint about the log: %s", f.Hint)
	}
}
