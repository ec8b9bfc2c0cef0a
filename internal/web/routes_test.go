package web

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service"
	"crelvo/internal/service/act"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
	"crelvo/internal/store"
)

// walker asks every route as everybody.
type walker struct {
	*service.Service
	server  *Server
	admin   access.Caller
	secrets map[string]string
	made    int // tokens
}

const walkedPassword = "a-password-for-tests"

// visitors are those who walk, by the role that they have on the repository own.
var visitors = []struct {
	name   string
	grants []access.Grant
	can    []access.Action // what the token is limited to
}{
	{name: "nobody-special"},
	{name: "reads", grants: []access.Grant{{Role: access.Reader, Repositories: "own"}}},
	{name: "publishes", grants: []access.Grant{{Role: access.Publisher, Repositories: "own"}}},
	{name: "promotes", grants: []access.Grant{{Role: access.Promoter, Repositories: "own"}}},
	{name: "curates", grants: []access.Grant{{Role: access.Curator, Repositories: "own"}}},
	{name: "manages", grants: []access.Grant{{Role: access.Admin, Repositories: "own"}}},
	{name: "manages-all", grants: []access.Grant{{Role: access.Admin, Repositories: "*"}}},
	{name: "only-reads", grants: []access.Grant{{Role: access.Admin, Repositories: "*"}},
		can: []access.Action{access.Read}},
	{name: "only-publishes", grants: []access.Grant{{Role: access.Admin, Repositories: "*"}},
		can: []access.Action{access.Publish}},
}

// may says by hand, and not by the code that is tested, which actions each of
// them may do on own, on foreign, and where no repository is named.
var may = map[string]struct{ own, foreign, elsewhere string }{
	"":               {"anyone", "anyone", "anyone"},
	"nobody-special": {"anyone", "anyone", "anyone signedin"},
	"reads":          {"anyone signedin read", "anyone", "anyone signedin"},
	"publishes":      {"anyone signedin read publish", "anyone", "anyone signedin"},
	"promotes":       {"anyone signedin read publish promote", "anyone", "anyone signedin"},
	"curates":        {"anyone signedin read publish promote remove", "anyone", "anyone signedin"},
	"manages":        {"anyone signedin read publish promote remove manage", "anyone", "anyone signedin manage-some"},
	"manages-all": {"anyone signedin read publish promote remove manage",
		"anyone signedin read publish promote remove manage", "anyone signedin manage-some manage"},
	"only-reads":     {"anyone signedin read", "anyone signedin read", "anyone signedin"},
	"only-publishes": {"anyone signedin read publish", "anyone signedin read publish", "anyone signedin"},
}

func newWalker(t *testing.T) *walker {
	t.Helper()
	folder, err := store.OpenFolder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	quiet := slog.New(slog.DiscardHandler)
	s, err := service.New(t.Context(), recordtest.Open(t, recordtest.URL(t)), folder, act.Settings{Log: quiet})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Rights.Bootstrap(t.Context(), walkedPassword, ""); err != nil {
		t.Fatal(err)
	}
	w := &walker{Service: s, server: New(s, Settings{Log: quiet,
		Console: fstest.MapFS{"index.html": {Data: []byte("<html></html>")}}}), secrets: map[string]string{}}
	if w.admin, err = s.Rights.CallerNamed(t.Context(), "admin"); err != nil {
		t.Fatal(err)
	}
	for _, v := range visitors {
		if err := s.Rights.AddPrincipal(t.Context(), w.admin,
			rights.NewPrincipal{Name: v.name, Grants: v.grants}); err != nil {
			t.Fatal(err)
		}
		w.newSecret(t, v.name)
	}
	return w
}

func (w *walker) newSecret(t *testing.T, name string) {
	t.Helper()
	w.made++
	i := slices.IndexFunc(visitors, func(v struct {
		name   string
		grants []access.Grant
		can    []access.Action
	}) bool {
		return v.name == name
	})
	secret, _, err := w.Rights.AddToken(t.Context(), w.admin,
		rights.NewToken{For: name, Name: fmt.Sprint("walk-", w.made), Can: visitors[i].can})
	if err != nil {
		t.Fatal(err)
	}
	w.secrets[name] = secret
}

// ensure makes the repositories again that a walk removed.
func (w *walker) ensure(t *testing.T) {
	t.Helper()
	for _, name := range []string{"own", "foreign"} {
		if _, err := w.Directory.Repository(w.admin, name, access.Read); err == nil {
			continue
		}
		if _, err := w.Repositories.AddRepository(t.Context(), w.admin,
			repositories.NewRepository{Repository: catalog.Repository{Name: name, Kind: catalog.House,
				Holds: catalog.Both}}); err != nil {
			t.Fatal(err)
		}
	}
}

// ask makes a request, and gives the status and the code of a refusal.
func (w *walker) ask(t *testing.T, method, path, secret string) (int, string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	if strings.HasSuffix(path, "/live") {
		ctx, cancel = context.WithTimeout(t.Context(), 20*time.Millisecond) // it would not end
	}
	defer cancel()
	r := httptest.NewRequestWithContext(ctx, method, path, strings.NewReader("{}"))
	r.Header.Set("Content-Type", "application/json")
	if secret != "" {
		r.Header.Set("Authorization", "Bearer "+secret)
	}
	answer := httptest.NewRecorder()
	w.server.Handler().ServeHTTP(answer, r)
	code := answer.Header().Get(api.CodeHeader)
	if code == "" {
		var problem api.Problem
		if json.Unmarshal(answer.Body.Bytes(), &problem) == nil {
			code = problem.Code
		}
	}
	return answer.Code, code
}

// TestRoutes walks every route as everybody, on a repository of theirs and on
// one that is not, and compares who is let in with what the route says it needs.
// A route that does not say what it needs fails.
func TestRoutes(t *testing.T) {
	w := newWalker(t)
	needs := w.server.Needs()
	fill := func(path, repository string) string {
		about := strings.HasPrefix(path, "/api/v1/repositories/")
		parts := strings.Split(path, "/")
		for i, part := range parts {
			switch {
			case part == ":repository", part == ":name" && about:
				parts[i] = repository
			case part == ":about": // a repository would be asked for as such
				parts[i] = "team:999999"
			case strings.HasPrefix(part, ":"):
				parts[i] = "999999"
			case part == "*":
				parts[i] = "a/b/c/1.0/x"
			}
		}
		return strings.Join(parts, "/")
	}
	walked := 0
	for _, route := range w.server.Routes() {
		need, ok := needs[route]
		if !ok {
			if !strings.HasPrefix(route, "echo_route_not_found") && route != "GET /api/openapi.json" &&
				!strings.HasPrefix(route, "GET /api/openapi") {
				t.Errorf("%s does not say what it needs", route)
			}
			continue
		}
		method, path, _ := strings.Cut(route, " ")
		where := []string{""}
		if need.Repository {
			where = []string{"own", "foreign", "nowhere"}
		}
		for _, repository := range where {
			for name, allowed := range may {
				w.ensure(t)
				if name != "" && strings.Contains(path, "token") {
					w.newSecret(t, name) // the last may have ended itself
				}
				list := map[string]string{"own": allowed.own, "foreign": allowed.foreign, "nowhere": "anyone",
					"": allowed.elsewhere}[repository]
				want := slices.Contains(strings.Fields(list), string(need.Action))
				if repository == "" && need.Action == access.SignedIn && name != "" {
					want = true
				}
				status, code := w.ask(t, method, fill(path, repository), w.secrets[name])
				walked++
				in := status != http.StatusUnauthorized && status != http.StatusForbidden && code != "no-such-repository"
				// Tokens and passwords are not for limited tokens, though their owners may.
				in = in || need.Action == access.SignedIn && code == "token-too-narrow" && strings.HasPrefix(name, "only-")
				// Whoever is signed in may begin builds; whose they are the use case decides.
				in = in || strings.HasPrefix(path, "/api/v1/builds/") && need.Action == access.SignedIn &&
					(code == "others-build-name" || code == "role-missing")
				if need.Action == access.Anyone || need.Action == access.SignedIn && repository != "" {
					continue
				}
				if status >= 500 && status != http.StatusServiceUnavailable {
					t.Errorf("%s %s as %q: %d %s", method, fill(path, repository), name, status, code)
				}
				if in != want {
					t.Errorf("%s %s as %q: %d %s; to be let in: %v", method, fill(path, repository), name, status, code, want)
				}
				if !want && name == "" && status != http.StatusUnauthorized {
					t.Errorf("%s %s: %d %s; nobody is asked to sign in", method, fill(path, repository), status, code)
				}
			}
		}
	}
	if walked < 1000 {
		t.Errorf("only %d requests were made", walked)
	}
	t.Logf("%d requests over %d routes", walked, len(needs))
}

// TestPartialRights: a grant on some packages lets in at the door, and no
// further.
func TestPartialRights(t *testing.T) {
	w := newWalker(t)
	w.ensure(t)
	pattern, err := purl.ParsePattern("pkg:npm/@skerry/*")
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Rights.AddPrincipal(t.Context(), w.admin, rights.NewPrincipal{Name: "ci-deck", Robot: true,
		Grants: []access.Grant{{Role: access.Publisher, Repositories: "own", Packages: pattern}}}); err != nil {
		t.Fatal(err)
	}
	secret, _, err := w.Rights.AddToken(t.Context(), w.admin, rights.NewToken{For: "ci-deck", Name: "walk"})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		method, path string
		status       int
		code         string
	}{
		{"GET", "/at/own/npm/@skerry%2fdeck-ui", 404, "no-such-package"},
		{"GET", "/at/own/npm/kelp-colors", 404, "no-such-package"},
		{"PUT", "/at/own/maven/example/skerry/x/1.0/x-1.0.pom", 403, "role-missing"},
		{"DELETE", "/at/own/npm/@skerry%2fdeck-ui/-rev/1", 403, "role-missing"},
		{"GET", "/at/foreign/npm/@skerry%2fdeck-ui", 404, "no-such-repository"},
		{"PATCH", "/api/v1/repositories/own", 403, "role-missing"},
	} {
		if status, code := w.ask(t, c.method, c.path, secret); status != c.status || code != c.code {
			t.Errorf("%s %s: %d %s; want %d %s", c.method, c.path, status, code, c.status, c.code)
		}
	}
}

func TestMain(m *testing.M) { recordtest.Main(m) }
