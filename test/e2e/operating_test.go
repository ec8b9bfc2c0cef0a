package e2e

import (
	"compress/gzip"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	"google.golang.org/protobuf/proto"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// spans takes traces as a collector does.
type spans struct {
	mu    sync.Mutex
	names map[string]int
	all   string
	// below is how many spans of others each trace of a request has.
	requests map[string]string // trace by its request's name
	below    map[string]int
}

func (s *spans) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body := io.Reader(r.Body)
	if r.Header.Get("Content-Encoding") == "gzip" {
		unzipped, err := gzip.NewReader(body)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		body = unzipped
	}
	raw, err := io.ReadAll(body)
	var sent collector.ExportTraceServiceRequest
	if err == nil {
		err = proto.Unmarshal(raw, &sent)
	}
	if err != nil || r.URL.Path != "/v1/traces" {
		http.Error(w, r.URL.Path, http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all += sent.String()
	for _, resource := range sent.GetResourceSpans() {
		for _, scope := range resource.GetScopeSpans() {
			for _, span := range scope.GetSpans() {
				s.names[span.GetName()]++
				if len(span.GetParentSpanId()) > 0 {
					s.below[string(span.GetTraceId())]++
				} else {
					s.requests[span.GetName()] = string(span.GetTraceId())
				}
			}
		}
	}
}

// freeAddress is one that nobody listens on.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// TestWatched: figures are answered on an address of their own, traces go where they are
// wanted, and each request is one line of the log, without any secret.
func TestWatched(t *testing.T) {
	t.Parallel()
	got := &spans{names: map[string]int{}, requests: map[string]string{}, below: map[string]int{}}
	at := httptest.NewServer(got)
	t.Cleanup(at.Close)
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	figures := freeAddress(t)
	h, err := house.Start(dir+"/data", "--metrics-listen", figures, "--traces-to", at.URL, "--log-level", "info",
		"--log-format", "json")
	if err != nil {
		t.Fatal(err)
	}
	w := newWorkshop(t)
	curl := func(args ...string) string {
		t.Helper()
		return w.run("", "curl", append([]string{"--silent", "--user", "admin:" + house.Token}, args...)...)
	}
	w.write("new.json", []byte(`{"name":"watched","holds":"both"}`))
	curl("--json", "@new.json", h.Address+"/api/v1/repositories")
	p := madeup.Package{Name: "deck-watched", Version: "1.0.0"}
	w.write("document.json", p.NPMDocument("latest", p.NPM()))
	curl("--upload-file", "document.json", h.Address+"/at/watched/npm/deck-watched")
	curl("--header", "X-Request-Id: asked-for", h.Address+"/at/watched/npm/deck-watched?"+house.Token)
	w.run("", "curl", "--silent", h.Address+"/at/watched/npm/"+house.Token)

	text := w.run("", "curl", "--silent", "--fail", "http://"+figures+"/metrics")
	for _, figure := range []string{
		`crelvo_requests_total{door="npm",method="PUT",route="/at/:repository/npm/*",status="201"} 1`,
		`crelvo_request_seconds_count{door="npm",outcome="done",route="/at/:repository/npm/*"} 2`,
		`crelvo_received_bytes_total{door="npm",route="/at/:repository/npm/*"}`,
		`crelvo_packages{repository="watched"} 1`, `crelvo_versions{repository="watched"} 1`,
		`crelvo_store_operation_seconds_count{operation="keep",outcome="done",store="main"} 1`,
		`crelvo_database_statement_seconds_count{outcome="done"}`, `crelvo_uploads_open 0`, `crelvo_nodes 1`,
		`crelvo_concerns{level="wrong"} `} { // whose disk it is that has little room is not the test's matter
		says(t, text, figure)
	}
	if code := w.run("", "curl", "--silent", "--output", "/dev/null", "--write-out", "%{http_code}",
		"http://"+figures+"/api/v1/repositories"); code != "404" {
		t.Errorf("the address of the figures answers other things: %s", code)
	}
	if err := h.Stop(); err != nil { // what waits is sent and written
		t.Error(err)
	}
	log := h.Log()
	checkRequestLines(t, log)
	got.mu.Lock()
	defer got.mu.Unlock()
	for _, name := range []string{"PUT /at/:repository/npm/*", "GET /at/:repository/npm/*", "POST /api/v1/repositories"} {
		if got.names[name] == 0 {
			t.Errorf("there is no span %s among %v", name, got.names)
		}
	}
	if trace := got.requests["PUT /at/:repository/npm/*"]; got.below[trace] < 3 {
		t.Errorf("the span of a publication has %d statements below it", got.below[trace])
	}
	for what, text := range map[string]string{"log": log, "traces": got.all} {
		if strings.Contains(text, house.Token) || strings.Contains(text, house.Password) {
			t.Errorf("the %s have a secret in them", what)
		}
	}
}

// checkRequestLines looks for what TestWatched asked.
func checkRequestLines(t *testing.T, log string) {
	t.Helper()
	seen := map[string]map[string]any{}
	for line := range strings.Lines(log) {
		of := map[string]any{}
		if err := json.Unmarshal([]byte(line), &of); err != nil {
			t.Errorf("%q is no line of JSON", line)
			continue
		}
		if of["msg"] == "request" {
			method, _ := of["method"].(string)
			path, _ := of["path"].(string)
			seen[method+" "+path] = of
		}
	}
	put, get := seen["PUT /at/watched/npm/deck-watched"], seen["GET /at/watched/npm/deck-watched"]
	if put["who"] != "admin" || put["status"] != 201.0 || put["received"] == nil || put["ms"] == nil ||
		put["from"] == nil {
		t.Errorf("the log says %v of a publication", put)
	}
	if get["id"] != "asked-for" || get["bytes"] == nil || get["level"] != "INFO" {
		t.Errorf("the log says %v of a reading", get)
	}
	if seen["GET /readyz"] != nil {
		t.Error("the log is full of questions after health")
	}
	if _, err := time.Parse(time.RFC3339Nano, get["time"].(string)); err != nil {
		t.Error(err)
	}
}
