package e2e

import (
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/demo"
	"crelvo/test/house"
)

// TestDemo starts the demo twice on one folder, and sees what each of its
// people may see and do.
func TestDemo(t *testing.T) {
	t.Parallel()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	h, err := house.StartDemo(dir + "/data")
	if err != nil {
		t.Fatal(err)
	}
	says(t, h.Output(), "ready on "+h.Address)
	if err := h.Stop(); err != nil {
		t.Fatal(err)
	}
	if err := h.Restart(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := h.Stop(); err != nil {
			t.Error(err)
		}
	}()
	asking := func(who, method, path, body string) house.Answer {
		t.Helper()
		a, err := h.Ask(t.Context(), method, path, who, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	names := func(a house.Answer) string {
		var all []struct{ Name string }
		if err := json.Unmarshal(a.Body, &all); err != nil {
			t.Fatalf("%s: %v", a.Body, err)
		}
		var b strings.Builder
		for _, r := range all {
			b.WriteString(r.Name + " ")
		}
		return b.String()
	}
	t.Run("the pages are accessible", func(t *testing.T) { accessible(t, h) })
	t.Run("the examples of all commands", func(t *testing.T) { examplesRun(t, h) })
	t.Run("the commands of the documents", func(t *testing.T) { documentsRun(t, h) })
	const deckhand = "deckhand/knots-and-splices"
	const most = "mainland-maven platform releases shore-cargo shore-helm shore-maven shore-npm shore-nuget shore-oci " +
		"shore-pypi shore-symbols snapshots staging "
	for who, want := range map[string]string{
		demo.User + "/" + demo.Password: "crew-tools " + most, demo.Token: "crew-tools " + most, deckhand: most,
		"": "releases ",
	} {
		if got := names(asking(who, http.MethodGet, "/api/v1/repositories", "")); got != want {
			t.Errorf("%q sees the repositories %q; want %q", who, got, want)
		}
	}
	for _, c := range []struct {
		who, method, path string
		status            int
		says              string
	}{
		{deckhand, "GET", "/at/crew-tools/maven/", 404, "no repository \"crew-tools\" that you may read"},
		{deckhand, "PUT", "/at/releases/maven/g/a/1.0/a-1.0.jar", 403,
			"deckhand needs the role publisher on releases to publish"},
		{deckhand, "PUT", "/at/platform/maven/g/a/1.0/a-1.0.txt", 403,
			"deckhand needs the role publisher on staging to publish"},
		{deckhand, "PUT", "/at/platform/maven/g/a/1.0-SNAPSHOT/a-1.0-SNAPSHOT.txt", 201, "Received"},
		{deckhand, "PUT", "/at/platform/maven/g/a/maven-metadata.xml", 201, "the deployment is complete"},
		{"purser/tickets-please-all", "PUT", "/at/platform/maven/g/a/1.0-SNAPSHOT/a-1.0-SNAPSHOT.txt", 403,
			"purser needs the role publisher on snapshots to publish"},
		{"", "GET", "/at/platform/maven/", 401, "sign in"},
		{deckhand, "GET", "/at/platform/maven/org/openshore/brine-http/2.1.1/brine-http-2.1.1.pom", 200, "Brine HTTP"},
		{deckhand, "PUT", "/at/shore-maven/maven/g/a/1.0/a-1.0.txt", 403, "deckhand needs the role publisher on shore-maven"},
		{demo.Token, "PUT", "/at/shore-maven/maven/g/a/1.0/a-1.0.txt", 422,
			"shore-maven is a mirror; only house repositories take what is published"},
		{deckhand, "POST", "/api/v1/mirrors/check", 403, "needs the role admin"},
		{deckhand, "POST", "/api/v1/repositories/shore-maven/prefetch", 403, "needs the role admin on shore-maven"},
		{deckhand, "POST", "/api/v1/repositories/shore-maven/forget", 403, "needs the role curator on shore-maven"},
		{deckhand, "POST", "/api/v1/claims", 403, "needs the role admin"},
		{deckhand, "POST", "/api/v1/claims/lift", 403, "needs the role admin"},
		{"", "GET", "/api/v1/claims", 401, "sign in"},
		{"", "GET", "/api/v1/repositories/platform/explain?purl=pkg:maven/g/a", 401, "sign in"},
		{"", "GET", "/api/v1/repositories/shore-maven/mirror", 401, "sign in"},
		{"", "GET", "/api/v1/schedule?schedule=0+5+*+*+*", 401, "sign in"},
		{deckhand, "GET", "/api/v1/events?who=admin", 403, "needs the role admin"},
		{deckhand, "POST", "/api/v1/repositories", 403, "needs the role admin"},
		{deckhand, "DELETE", "/api/v1/repositories/snapshots", 403, "needs the role admin on snapshots"},
		{deckhand, "GET", "/api/v1/tokens?for=purser", 403, "needs the role admin"},
		{deckhand, "GET", "/api/v1/package?purl=pkg:maven/example.skerry.crew/rota-sheet", 404,
			"no repository that you may read holds"},
		{"", "GET", "/at/snapshots/maven/", 401, "sign in"},
		{"", "GET", "/api/v1/status", 401, "sign in"},
		{"", "GET", "/at/releases/maven/example/", 200, "skerry/"},
	} {
		body := ""
		if c.method != "GET" {
			body = map[string]string{"/api/v1/repositories": `{"name":"mine"}`, "/api/v1/mirrors/check": `{}`,
				"/api/v1/repositories/shore-maven/forget": `{"purl":"pkg:maven/g/a"}`}[c.path]
			if strings.HasSuffix(c.path, "/maven-metadata.xml") {
				body = releaseMetadata("a", "1.0-SNAPSHOT")
			}
			if strings.HasPrefix(c.path, "/api/v1/claims") {
				body = `{"pattern":"pkg:maven/g/*","reason":"a test"}`
			}
		}
		if a := asking(c.who, c.method, c.path, body); a.Status != c.status ||
			!strings.Contains(string(a.Body), c.says) && !jsonSays(a, c.says) {
			t.Errorf("%s %s as %q: %d %s; want %d saying %q", c.method, c.path, c.who, a.Status, a.Body, c.status, c.says)
		}
	}
	if found := asking(deckhand, "GET", "/api/v1/packages?q=rota", ""); !strings.Contains(string(found.Body),
		`"packages":[]`) {
		t.Errorf("the search reveals what deckhand may not read: %s", found.Body)
	}
	shown := asking(deckhand, "GET",
		"/api/v1/package?purl=pkg:maven/example.skerry.berth/berth-planner@1.4.0&repository=releases", "")
	if !strings.Contains(string(shown.Body), `"users":3`) {
		t.Errorf("the demo's downloads are not counted: %s", shown.Body)
	}
}

func jsonSays(a house.Answer, want string) bool {
	var p struct{ Detail string }
	return json.Unmarshal(a.Body, &p) == nil && strings.Contains(p.Detail, want)
}

// TestProblems sends the API what it cannot use: each answer is a problem with
// a code, a sentence and a hint.
func TestProblems(t *testing.T) {
	for _, c := range []struct {
		method, path, body string
		status             int
		code               string
	}{
		{"POST", "/api/v1/repositories", "{", 400, "bad-input"},
		{"POST", "/api/v1/repositories", `{"name":"ok-name","holds":"everything"}`, 422, "bad-input"},
		{"POST", "/api/v1/repositories", `{"name":"x","kind":"house"}`, 422, "bad-input"},
		{"POST", "/api/v1/repositories", `{"name":"ok-name","kind":"mirror"}`, 400, "no-upstream"},
		{"POST", "/api/v1/repositories", `{"name":"-x-","kind":"house"}`, 400, "bad-name"},
		{"GET", "/api/v1/package?purl=nonsense", "", 400, "bad-purl"},
		{"GET", "/api/v1/package", "", 422, "bad-input"},
		{"GET", "/api/v1/package?purl=pkg:abacus/x", "", 404, "no-such-ecosystem"},
		{"GET", "/api/v1/packages?limit=100000", "", 422, "bad-input"},
		{"GET", "/api/v1/nonsense", "", 404, "no-such-operation"},
		{"POST", "/api/v1/repositories/nowhere/publish", "", 404, "no-such-repository"},
		{"POST", "/api/v1/tokens", `{"name":"tt","can":["fly"]}`, 400, "bad-action"},
		{"POST", "/api/v1/tokens", `{"name":"tt","seconds":999999999}`, 400, "bad-expiry"},
	} {
		a := ask(t, c.method, c.path, c.body, "Content-Type", "application/json")
		var p struct{ Code, Detail, Hint string }
		if err := json.Unmarshal(a.Body, &p); err != nil || a.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s: %s %s, %v", c.method, c.path, a.Header.Get("Content-Type"), a.Body, err)
			continue
		}
		if a.Status != c.status || p.Code != c.code || p.Detail == "" {
			t.Errorf("%s %s: %d %+v; want %d %s", c.method, c.path, a.Status, p, c.status, c.code)
		}
	}
	metrics := must(t, "GET", "/metrics", "", 200)
	says(t, string(metrics.Body), `crelvo_requests_total{door="api",method="POST",route="/api/v1/repositories",status="422"}`,
		"process_resident_memory_bytes", `crelvo_database_connections{state="idle"}`, `crelvo_store_files{store="main"}`,
		"crelvo_backup_last_seconds", "crelvo_nodes")
	must(t, "GET", "/livez", "", 200)
	must(t, "GET", "/readyz", "", 200)
	document := must(t, "GET", "/api/openapi.json", "", 200)
	says(t, string(document.Body), `"openapi":"3.1.0"`, "/api/v1/repositories/{name}/publish", "text/event-stream")
	if a := ask(t, "GET", "/livez", "", "X-Request-Id", "of-the-client"); a.Header.Get("X-Request-Id") != "of-the-client" {
		t.Errorf("the client's request id is not kept: %v", a.Header)
	}
	// A browser's session does not work for another site.
	signed := ask(t, "POST", "/api/v1/session", `{"name":"admin","password":"`+house.Password+`"}`, "Content-Type",
		"application/json")
	cookie := signed.Header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "crelvo_session="} {
		if !strings.Contains(cookie, want) {
			t.Errorf("the cookie %q lacks %s", cookie, want)
		}
	}
	session, _, _ := strings.Cut(cookie, ";")
	a, err := shared.Ask(t.Context(), "DELETE", "/api/v1/session", "", nil, "Cookie", session, "Sec-Fetch-Site",
		"cross-site")
	if err != nil || a.Status != 403 {
		t.Errorf("another site could sign out: %d, %v", a.Status, err)
	}
	if a, err := shared.Ask(t.Context(), "DELETE", "/api/v1/session", "", nil, "Cookie", session); err != nil ||
		a.Status != 204 {
		t.Errorf("signing out: %d %s, %v", a.Status, a.Body, err)
	}
	if a, err := shared.Ask(t.Context(), "GET", "/api/v1/me", "", nil, "Cookie", session); err != nil ||
		!strings.Contains(string(a.Body), "anonymous") {
		t.Errorf("the ended session: %s, %v", a.Body, err)
	}
}

// reads are the last words of commands that change nothing.
var reads = []string{"list", "show", "names", "compare", "check", "search", "explain", "status", "whoami", "space",
	"usage", "who-uses", "receiving", "events", "runs", "try", "plan", "arrivals"}

// aProject is a folder with a lock file whose packages the demo lets in.
func aProject(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	const lock = `{"lockfileVersion": 3, "packages": {"node_modules/kelp-colors": {"version": "3.1.0"},
		"node_modules/fathom-format": {"version": "1.2.0"}}}`
	const pom = "<project><modelVersion>4.0.0</modelVersion><groupId>example.skerry</groupId>" +
		"<artifactId>log</artifactId><version>0.1.0</version><packaging>pom</packaging></project>"
	const kept = "/.m2/repository/example/skerry/log/0.1.0/"
	if err := os.MkdirAll(dir+kept, 0o700); err != nil {
		t.Fatal(err)
	}
	for path, content := range map[string]string{"/package-lock.json": lock, kept + "log-0.1.0.pom": pom} {
		if err := os.WriteFile(dir+path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// examplesRun runs the examples of all commands that change nothing, on the
// demo's data, and the commands of docs/scripting.md.
func examplesRun(t *testing.T, h *house.House) {
	environment := []string{"HOME=" + t.TempDir(), "CRELVO_SERVER=" + h.Address, "CRELVO_TOKEN=" + demo.Token}
	bundle := t.TempDir() + "/november.tar"
	if _, errs, code := command(t, environment, "", "bundle", "create", "--from", "releases", "--sign-with",
		"ferry-release", "--to", bundle, "--server", h.Address); code != 0 {
		t.Fatal(errs)
	}
	ran := 0
	var walk func(path ...string)
	walk = func(path ...string) {
		help, errs, code := command(t, environment, "", append(path, "--help")...)
		if code != 0 {
			t.Fatalf("%v --help: %d %s", path, code, errs)
		}
		_, below, _ := strings.Cut(help, "Available Commands:")
		if len(path) == 0 {
			_, below, _ = strings.Cut(help, "\n\n")
		}
		for line := range strings.SplitSeq(below, "\n") {
			words := strings.Fields(line)
			if strings.HasPrefix(line, "Flags:") {
				break
			}
			if len(words) > 1 && strings.HasPrefix(line, "  ") && !strings.HasPrefix(line, "   ") && words[0] != "crelvo" &&
				words[0] != "completion" && words[0] != "help" && len(path) < 2 {
				walk(append(slices.Clone(path), words[0])...)
			}
		}
		if len(path) == 0 || !slices.Contains(reads, path[len(path)-1]) {
			return
		}
		_, examples, _ := strings.Cut(help, "Examples:\n")
		examples, _, _ = strings.Cut(examples, "\n\n")
		for line := range strings.SplitSeq(examples, "\n") {
			line, _, _ = strings.Cut(strings.TrimSpace(line), "   #")
			if strings.Contains(line, "openshore.example") || strings.Contains(line, ".txt") ||
				strings.Contains(line, "edited.yaml") {
				continue // of a network, or files, that are not there
			}
			script := exec.CommandContext(t.Context(), "sh", "-c", strings.Replace(line, "crelvo ", house.Program()+" ", 1))
			script.Env, script.Dir = append(environment, "PATH="+os.Getenv("PATH")), aProject(t)
			if err := os.Symlink(bundle, script.Dir+"/november.tar"); err != nil {
				t.Fatal(err)
			}
			out, err := script.CombinedOutput()
			ran++
			if exit := (*exec.ExitError)(nil); err != nil &&
				!(errors.As(err, &exit) && (exit.ExitCode() == 4 && path[0] == "grant" ||
					exit.ExitCode() == 8 && path[0] == "status")) {
				t.Errorf("%s: %v\n%s", line, err, out)
			}
		}
	}
	walk()
	if ran < 40 {
		t.Errorf("only %d examples were run", ran)
	}
}
