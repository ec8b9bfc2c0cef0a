package service

import (
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"crelvo/internal/record/recordtest"
)

// TestEnded: what is being fetched when the service ends goes on no more, and leaves nothing in the store.
func TestEnded(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	begun, hung := make(chan struct{}), make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/org/openshore/brine-http/1.0/brine-http-1.0.pom" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Length", "1000000")
		w.(http.Flusher).Flush()
		close(begun)
		<-r.Context().Done()
		close(hung)
	}))
	t.Cleanup(server.Close)
	m := n.mirror(t, "outside", server.URL, nil)
	found, err := n.Mirrors.File(t.Context(), n.Mirrors.Of(m.ID), brineQuestion(m, "brine-http-1.0.pom"))
	if err != nil || found.Arriving == nil {
		t.Fatalf("it is not being fetched: %v", err)
	}
	<-begun
	n.EndAll()
	<-hung // or the test never ends
	arriving, err := filepath.Glob(filepath.Join(n.dir, "staging", "*", "arriving.*"))
	if err != nil || len(arriving) != 0 {
		t.Errorf("in staging: %v, %v", arriving, err)
	}
}
