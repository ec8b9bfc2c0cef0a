package web

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"net/textproto"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"crelvo/internal/record"
	"crelvo/internal/service/rights"
)

// hostile are texts that some place or other might not be ready for.
var hostile = map[string]string{
	"NUL": "a\x00b", "no UTF-8": "\xff\xfe\xc3", "a cut letter": "F\xc3", "a line break": "a\r\nX-Evil: 1",
	"a way up":       "../../../etc/passwd",
	"60,000 letters": strings.Repeat("a", 60_000), "turned direction": "gpj.\u202eexe",
	"markup": `"><script>alert(1)</script>`,
	"quotes": `'";--\`, "a format": "%s%n%00{}", "a pattern": "pkg:*/*@vers:npm/>1|<2", "deep": strings.Repeat("[", 5000),
	"a number":      "99999999999999999999",
	"a wide letter": "𝕏", "slashes": "////", "blank": " ",
}

// hostileWalk asks every route with hostile texts, and looks at every answer.
type hostileWalk struct {
	*walker
	t      *testing.T
	secret string
	asked  int
}

// ask makes a request; what tells the test's reader what was hostile.
func (h *hostileWalk) ask(what, method, address string, header http.Header, body []byte) {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.t.Context(), 20*time.Second)
	defer cancel()
	if strings.Contains(address, "/api/v1/live") {
		ctx, cancel = context.WithTimeout(ctx, 20*time.Millisecond)
		defer cancel()
	}
	parsed, err := url.Parse("http://127.0.0.1" + address)
	if err != nil {
		h.t.Fatal(err)
	}
	r := httptest.NewRequestWithContext(ctx, method, "/", bytes.NewReader(body))
	r.URL, r.Host, r.RequestURI = parsed, parsed.Host, address
	r.Header.Set("Content-Type", "application/json")
	if strings.Contains(address, "token") {
		h.newSecret(h.t, "manages-all") // the last may have ended itself
		h.secret = h.secrets["manages-all"]
	}
	r.Header.Set("Authorization", "Bearer "+h.secret)
	for name, values := range header {
		r.Header[name] = values
	}
	answer := httptest.NewRecorder()
	begun := time.Now()
	h.server.Handler().ServeHTTP(answer, r)
	h.asked++
	took := time.Since(begun)
	if answer.Code == http.StatusUnauthorized && !strings.Contains(answer.Body.String(), "wrong-password") {
		h.t.Fatalf("%s: %s %.200s: %.300s; the walk lost its token", what, method, address, answer.Body)
	}
	if len(address) > 200 {
		address = address[:200] + "…"
	}
	if answer.Code >= 500 && answer.Code != http.StatusServiceUnavailable && answer.Code != http.StatusNotImplemented {
		h.t.Errorf("%s: %s %s: %d %.300s", what, method, address, answer.Code, answer.Body)
	}
	if took > 10*time.Second {
		h.t.Errorf("%s: %s %s took %s", what, method, address, took)
	}
}

func (w *walker) operations() map[string]*huma.Operation {
	all := map[string]*huma.Operation{}
	for path, item := range w.server.api.OpenAPI().Paths {
		for method, op := range map[string]*huma.Operation{"GET": item.Get, "PUT": item.Put, "POST": item.Post,
			"PATCH": item.Patch, "DELETE": item.Delete} {
			if op != nil {
				all[method+" "+routerPath(path)] = op
			}
		}
	}
	return all
}

// sample is a value that a schema allows, with text for every string; field names
// the one string that gets it, or "" for all.
func (w *walker) sample(s *huma.Schema, text string, depth int) any {
	if s.Ref != "" {
		s = w.server.api.OpenAPI().Components.Schemas.SchemaFromRef(s.Ref)
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case depth > 6:
		return nil
	}
	switch s.Type {
	case "object":
		out := map[string]any{}
		for name, property := range s.Properties {
			if name != "$schema" {
				out[name] = w.sample(property, text, depth+1)
			}
		}
		if inner, ok := s.AdditionalProperties.(*huma.Schema); ok {
			out[text] = w.sample(inner, text, depth+1)
		}
		return out
	case "array":
		return []any{w.sample(s.Items, text, depth+1)}
	case "integer", "number":
		return 1
	case "boolean":
		return false
	}
	if s.Format == "date-time" {
		return "2026-11-01T08:00:00Z"
	}
	if s.MaxLength != nil && len(text) > *s.MaxLength && *s.MaxLength > 0 {
		return text[:*s.MaxLength]
	}
	return text
}

// TestHostileText puts hostile text into every parameter, header and body of
// every route. No answer is a failure of ours, none takes long, and what is
// counted and noted on the way can be written.
func TestHostileText(t *testing.T) {
	w := newWalker(t)
	w.ensure(t)
	running, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { w.Run(running); close(ended) }()
	h := &hostileWalk{walker: w, t: t, secret: w.secrets["manages-all"]}
	operations := w.operations()
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	routes := w.server.Routes()
	slices.Sort(routes)
	for _, route := range routes {
		method, path, _ := strings.Cut(route, " ")
		if strings.HasPrefix(route, "echo_") || strings.Contains(path, "/session") && method == "DELETE" {
			continue
		}
		w.ensure(t)
		w.newSecret(t, "manages-all") // the last may have ended itself
		h.secret = w.secrets["manages-all"]
		// One parameter of the path after the other, the others being good.
		parts := strings.Split(path, "/")
		good := func(part string) string {
			switch {
			case part == ":repository", part == ":name" && strings.HasPrefix(path, "/api/v1/repositories/"):
				return "own"
			case strings.HasPrefix(part, ":"):
				return "7"
			case part == "*":
				return "example/skerry/x/1.0/x-1.0.pom"
			}
			return part
		}
		fill := func(bad int, text string) string {
			out := make([]string, len(parts))
			for i, part := range parts {
				out[i] = good(part)
				if i == bad {
					out[i] = url.PathEscape(text)
				}
			}
			return strings.Join(out, "/")
		}
		for i, part := range parts {
			if strings.HasPrefix(part, ":") || part == "*" {
				for what, text := range hostile {
					h.ask(what+" in "+part, method, fill(i, text), nil, []byte("{}"))
				}
			}
		}
		// Every parameter of the query, and one that nobody knows.
		names := []string{"x"}
		op := operations[route]
		if op != nil {
			for _, p := range op.Parameters {
				if p.In == "query" {
					names = append(names, p.Name)
				}
			}
		}
		if strings.HasPrefix(path, "/at/") {
			names = append(names, "q", "text", "size", "from", "skip", "take", "build", "write", "rev")
		}
		if strings.HasPrefix(path, "/v2/") || path == passPath {
			names = append(names, "n", "last", "digest", "mount", "from", "artifactType", "scope", "service")
		}
		for _, name := range names {
			for what, text := range hostile {
				h.ask(what+" as "+name, method, fill(-1, "")+"?"+url.Values{name: {text}}.Encode(), nil, []byte("{}"))
			}
		}
		// Headers of any request.
		if method == "GET" {
			for _, name := range []string{"User-Agent", "Range", "If-None-Match", "If-Modified-Since", "X-Forwarded-For",
				"X-Request-Id", "Cookie", "Accept", "Crelvo-Build"} {
				for what, text := range hostile {
					h.ask(what+" in "+name, method, fill(-1, ""), http.Header{name: {text}}, nil)
				}
			}
		}
		// The body: as JSON of the schema's form, or as a form of files.
		if method == "GET" || method == "HEAD" || method == "DELETE" {
			continue
		}
		for what, text := range hostile {
			var body any = map[string]any{"name": text, "_id": text,
				"versions":     map[string]any{text: map[string]any{"name": text, "version": text, "dist": map[string]any{}}},
				"_attachments": map[string]any{text: map[string]any{"data": "AAAA", "length": 3}}}
			if op != nil && op.RequestBody != nil && op.RequestBody.Content["application/json"] != nil {
				body = w.sample(op.RequestBody.Content["application/json"].Schema, text, 0)
			}
			raw, err := json.Marshal(body)
			if err != nil {
				t.Fatal(err)
			}
			h.ask(what+" in the body", method, fill(-1, ""), nil, raw)
			h.ask(what+" as the body", method, fill(-1, ""), nil, []byte(text))
			var form bytes.Buffer
			m := multipart.NewWriter(&form)
			for _, name := range []string{":action", "name", "version", "filetype", "metadata_version", "sha256_digest"} {
				if err := m.WriteField(name, text); err != nil {
					t.Fatal(err)
				}
			}
			part, err := m.CreatePart(textproto.MIMEHeader{"Content-Disposition": {`form-data; name="file"; filename="` +
				strings.NewReplacer("\r", "", "\n", "").Replace(text) + `.jar"`}})
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprint(part, text)
			if err := m.Close(); err != nil {
				t.Fatal(err)
			}
			h.ask(what+" in a form", method, fill(-1, ""), http.Header{"Content-Type": {m.FormDataContentType()}}, form.Bytes())
		}
	}
	for what, text := range hostile {
		r := httptest.NewRequest("GET", "/api/v1/me", nil)
		r.SetBasicAuth(text, "a-wrong-password")
		answer := httptest.NewRecorder()
		h.server.Handler().ServeHTTP(answer, r)
		if answer.Code != http.StatusUnauthorized && answer.Code != http.StatusTooManyRequests {
			t.Errorf("%s as a name: %d", what, answer.Code)
		}
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	if grown := int64(after.HeapAlloc) - int64(before.HeapAlloc); grown > 64<<20 {
		t.Errorf("%d requests left %d bytes in memory", h.asked, grown)
	}
	stop()
	<-ended // writes what was counted
	concerns, err := w.Status.Concerns(t.Context(), w.admin)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range concerns {
		if strings.Contains(c.What, "dropped") || strings.Contains(c.What, "on record") {
			t.Errorf("after it: %s", c.What)
		}
	}
	if h.asked < 5000 {
		t.Errorf("only %d requests were made", h.asked)
	}
	t.Logf("%d requests", h.asked)
}

// TestPasswordSearchOnRecord: who tries passwords with names that nobody has, of
// any form, is on record all the same.
func TestPasswordSearchOnRecord(t *testing.T) {
	w := newWalker(t)
	running, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { w.Run(running); close(ended) }()
	for i := range 300 {
		r := httptest.NewRequest("GET", "/api/v1/me", nil)
		r.RemoteAddr = "127.0.0.9:1000"
		name := fmt.Sprintf("%s-%d-\x00", strings.Repeat("x", 3000), i)
		if i == 299 {
			name = "purser-who-is-tried" // a plain one comes last, and is not crowded out
			if err := w.Rights.AddPrincipal(t.Context(), w.admin,
				rights.NewPrincipal{Name: name, Password: walkedPassword}); err != nil {
				t.Fatal(err)
			}
		}
		r.SetBasicAuth(name, "wrong")
		w.server.Handler().ServeHTTP(httptest.NewRecorder(), r)
	}
	stop()
	<-ended
	times, named := 0, false
	err := w.Rights.Events(t.Context(), w.admin, record.EventFilter{Action: "refused"}, func(e record.SealedEvent) error {
		times++
		named = named || e.Who == "purser-who-is-tried" || e.Detail["code"] == "slow-down"
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if times == 0 || !named {
		t.Errorf("%d events, of the last attempt: %v", times, named)
	}
}
