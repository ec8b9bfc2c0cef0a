package web

import (
	"net/http/httptest"
	"strings"
	"testing"
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
