package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// attacker asks the real program with a token of theirs, or none.
type attacker struct {
	t     *testing.T
	token string
}

func (a attacker) ask(method, path, body string, headers ...string) house.Answer {
	a.t.Helper()
	ctx, cancel := context.WithTimeout(a.t.Context(), 10*time.Second)
	defer cancel()
	answer, err := shared.Ask(ctx, method, path, a.token, strings.NewReader(body), headers...)
	if err != nil {
		a.t.Fatalf("%s %.200s: %v", method, path, err)
	}
	if answer.Status >= 500 {
		a.t.Errorf("%s %.200s: %d %s", method, path, answer.Status, answer.Body)
	}
	return answer
}

// TestSightOfOne: who may read one package of a repository is not told of another: not
// its bytes, digests, lists, versions, builds or promotions.
func TestSightOfOne(t *testing.T) {
	releases := repository(t, "releases")
	n := made.Add(1)
	for _, name := range []string{"shown", "hidden"} {
		publishRelease(t, releases, name, "1.0", name)
		publishMade(t, releases, "npm", madeup.Package{Name: "@skerry/" + name, Version: "1.0.0", Licence: "MIT"})
	}
	reader := person(t, fmt.Sprintf("lookout-%d", n), "robot",
		api.NewGrant{Role: "reader", Repositories: releases, Packages: "pkg:*/*shown"})
	a := attacker{t, reader.Token}
	maven := "/at/" + releases + "/maven/example/skerry/berth/"
	for _, path := range []string{maven + "%s/1.0/%[1]s-1.0.jar", maven + "%s/1.0/%[1]s-1.0.jar.sha1", maven +
		"%s/maven-metadata.xml", maven + "%s/maven-metadata.xml.md5",
		"/at/" + releases + "/npm/@skerry%%2f%s", "/at/" + releases + "/npm/@skerry/%s/1.0.0", "/at/" + releases +
			"/npm/@skerry/%s/-/%[1]s-1.0.0.tgz"} {
		if got := a.ask(http.MethodGet, fmt.Sprintf(path, "shown"), ""); got.Status != 200 {
			t.Errorf("what may be read: %s: %d %s", path, got.Status, got.Body)
		}
		if got := a.ask(http.MethodGet, fmt.Sprintf(path, "hidden"), ""); got.Status != 404 && got.Status != 403 {
			t.Errorf("what is hidden: %s: %d %s", path, got.Status, got.Body)
		}
	}
	for _, path := range []string{"/at/" + releases + "/npm/-/v1/search?text=skerry", "/api/v1/packages?q=repo:" +
		releases, "/at/" + releases + "/maven/example/skerry/berth/"} {
		if got := a.ask(http.MethodGet, path, ""); bytes.Contains(got.Body, []byte("hidden")) ||
			!bytes.Contains(got.Body, []byte("shown")) {
			t.Errorf("%s: %d %s", path, got.Status, got.Body)
		}
	}
	// Nothing can be changed with a right to read.
	for _, c := range [][2]string{{http.MethodPut, maven + "shown/2.0/shown-2.0.jar"},
		{http.MethodDelete, "/api/v1/package?repository=" + releases + "&purl=" +
			url.QueryEscape("pkg:npm/@skerry/shown@1.0.0")},
		{http.MethodPut, "/at/" + releases + "/npm/@skerry%2fshown"}, {http.MethodPost, "/at/" + releases + "/pypi/"},
		{http.MethodPut, "/at/" + releases + "/nuget/package"}, {http.MethodPost, "/api/v1/reclaim"},
		{http.MethodPost, "/api/v1/grants"}} {
		if got := a.ask(c[0], c[1], "{}"); got.Status < 400 {
			t.Errorf("%s %s: %d %s", c[0], c[1], got.Status, got.Body)
		}
	}
}

// TestHostileRequests: what is no text, leads out of a folder or never ends is
// refused as such, at every ecosystem's door.
func TestHostileRequests(t *testing.T) {
	releases := repository(t, "releases")
	a := attacker{t, house.Token}
	for _, below := range []string{"maven/example/x/1.0/x-1.0.jar", "npm/x", "pypi/simple/x/", "nuget/flat/x/index.json"} {
		for what, evil := range map[string]string{"a way up": "..%2f..%2f..%2fetc%2fpasswd", "NUL": "a%00b",
			"no UTF-8": "%ff%fe", "a line break": "a%0d%0aX-Evil:%201", "long": strings.Repeat("a", 7000),
			"turned": "gpj.%e2%80%aeexe"} {
			kind, _, _ := strings.Cut(below, "/")
			for _, path := range []string{"/at/" + releases + "/" + kind + "/" + evil, "/at/" + releases + "/" + below + "/" +
				evil, "/at/" + evil + "/" + below} {
				got := a.ask(http.MethodGet, path, "")
				if got.Status < 300 && bytes.Contains(got.Body, []byte("root:")) || got.Header.Get("X-Evil") != "" {
					t.Errorf("%s: %s was answered %d %s", what, path, got.Status, got.Body)
				}
			}
		}
	}
	for what, body := range map[string]string{"deep": strings.Repeat("[", 200_000), "no end": `{"name":"` +
		strings.Repeat("x", 1<<20), "NUL": `{"name":"a\u0000b"}`, "another type": `{"name":{}}`} {
		for _, path := range []string{"/api/v1/repositories", "/api/v1/users", "/api/v1/grants", "/at/" + releases +
			"/npm/x"} {
			method := http.MethodPost
			if strings.HasPrefix(path, "/at/") {
				method = http.MethodPut
			}
			if got := a.ask(method, path, body, "Content-Type", "application/json"); got.Status < 400 {
				t.Errorf("%s to %s: %d %s", what, path, got.Status, got.Body)
			}
		}
	}
}

// TestHostilePackages: a package that says one thing here and another there, and
// one whose readme wants to run, do no harm to who looks at them.
func TestHostilePackages(t *testing.T) {
	releases := repository(t, "releases")
	a := attacker{t, house.Token}
	p := madeup.Package{Name: "salt", Version: "1.0.0", Licence: "MIT",
		Readme: "# Salt\n<script>alert(1)</script>\n<img src=x onerror=alert(1)>\n[x](javascript:alert(1))\n"}
	var document map[string]any
	if err := json.Unmarshal(p.NPMDocument("latest", p.NPM()), &document); err != nil {
		t.Fatal(err)
	}
	document["versions"].(map[string]any)["1.0.0"].(map[string]any)["dependencies"] = map[string]string{"evil": "1.0.0"}
	contradicts, err := json.Marshal(document)
	if err != nil {
		t.Fatal(err)
	}
	if got := a.ask(http.MethodPut, "/at/"+releases+"/npm/salt", string(contradicts)); got.Status < 400 ||
		!bytes.Contains(got.Body, []byte("dependencies")) {
		t.Errorf("a document that says something else than its tarball: %d %s", got.Status, got.Body)
	}
	publishMade(t, releases, "npm", p)
	shown := must(t, http.MethodGet, "/api/v1/readme?repository="+releases+"&purl="+url.QueryEscape("pkg:npm/salt@1.0.0"),
		"", 200)
	for _, evil := range []string{"<script", "onerror=", `href="javascript`} {
		if !bytes.Contains(shown.Body, []byte("Salt")) || bytes.Contains(shown.Body, []byte(evil)) {
			t.Errorf("the readme is shown with %s: %s", evil, shown.Body)
		}
	}
	// A jar's folders are in nobody's way, and cut bytes are not kept.
	for what, body := range map[string]string{"no archive": "salt", "cut": jar(t, "salt")[:60]} {
		if got := a.ask(http.MethodPut, "/at/"+releases+"/nuget/package", body); got.Status < 400 {
			t.Errorf("%s: %d %s", what, got.Status, got.Body)
		}
		form, contentType := demo.UploadForm(p, "salt-1.0.0-py3-none-any.whl", []byte(body))
		if got := a.ask(http.MethodPost, "/at/"+releases+"/pypi/", string(form), "Content-Type",
			contentType); got.Status < 400 {
			t.Errorf("%s as a wheel: %d %s", what, got.Status, got.Body)
		}
	}
}

// TestOtherSites: what a page elsewhere makes a browser ask is not done with the
// session of who looks at it.
func TestOtherSites(t *testing.T) {
	n := made.Add(1)
	name := fmt.Sprintf("watch-%d", n)
	admin := desk(house.Token)
	added := done(admin.AddUser(t.Context(), api.NewUser{Name: name}))(t)
	a := attacker{t, ""}
	signIn := func(password string) house.Answer {
		body, err := json.Marshal(map[string]string{"name": name, "password": password})
		if err != nil {
			t.Fatal(err)
		}
		return a.ask(http.MethodPost, "/api/v1/session", string(body), "Content-Type", "application/json")
	}
	answer := signIn(added.Password)
	cookie, _, _ := strings.Cut(answer.Header.Get("Set-Cookie"), ";")
	if answer.Status != 200 || cookie == "" || !strings.Contains(answer.Header.Get("Set-Cookie"), "SameSite") ||
		!strings.Contains(answer.Header.Get("Set-Cookie"), "HttpOnly") {
		t.Fatalf("%d %s %s", answer.Status, answer.Header.Get("Set-Cookie"), answer.Body)
	}
	if got := a.ask(http.MethodPost, "/api/v1/tokens", `{"name":"evil"}`, "Cookie", cookie, "Origin",
		"https://evil.example", "Sec-Fetch-Site", "cross-site", "Content-Type", "application/json"); got.Status < 400 {
		t.Errorf("another site made a token: %d %s", got.Status, got.Body)
	}
	if wrong, nobody := signIn("wrong"), a.ask(http.MethodPost, "/api/v1/session",
		`{"name":"nobody-at-all","password":"wrong"}`, "Content-Type", "application/json"); wrong.Status != nobody.Status ||
		!bytes.Equal(withoutNames(wrong.Body, name), withoutNames(nobody.Body, "nobody-at-all")) {
		t.Errorf("whether somebody exists is told: %s and %s", wrong.Body, nobody.Body)
	}
}

func withoutNames(text []byte, name string) []byte { return bytes.ReplaceAll(text, []byte(name), nil) }

// TestCounted: a download by a range from its first byte counts, one of the rest
// does not; one that breaks off is on the log with its request and its reason.
func TestCounted(t *testing.T) {
	releases := repository(t, "releases")
	publishRelease(t, releases, "brine", "1.0", strings.Repeat("salt", 1000))
	file := "/at/" + releases + "/maven/example/skerry/berth/brine/1.0/brine-1.0.jar"
	downloads := func() int {
		var found struct {
			Packages []struct{} `json:"packages"`
		}
		a := must(t, http.MethodGet, "/api/v1/packages?q="+url.QueryEscape("repo:"+releases+" downloads:1"), "", 200)
		if err := json.Unmarshal(a.Body, &found); err != nil {
			t.Fatalf("%v: %s", err, a.Body)
		}
		return len(found.Packages)
	}
	if a := ask(t, http.MethodGet, file, "", "Range", "bytes=10-20"); a.Status != 206 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	if a := ask(t, http.MethodGet, file, "", "Range", "bytes=0-"); a.Status != 206 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	eventually(t, 15*time.Second, "the range from the first byte is counted, once", func() bool {
		return downloads() == 1
	})
	must(t, http.MethodPost, "/at/"+releases+"/npm/-/npm/v1/security/advisories/bulk", `{"salt":["1.0.0"]}`, 404)
}

// TestBrokenOff: a download whose client goes away is told of in the log.
func TestBrokenOff(t *testing.T) {
	releases := repository(t, "releases")
	publishRelease(t, releases, "brine", "1.0", noise(24<<20))
	path := "/at/" + releases + "/maven/example/skerry/berth/brine/1.0/brine-1.0.jar"
	at, err := url.Parse(shared.Address)
	if err != nil {
		t.Fatal(err)
	}
	connection, err := net.Dial("tcp", at.Host)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(connection,
		"GET %s HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nX-Request-Id: broken-off-by-us\r\n\r\n", path, at.Host,
		house.Token)
	if _, err := io.CopyN(io.Discard, bufio.NewReader(connection), 1<<20); err != nil {
		t.Fatal(err)
	}
	if err := connection.(*net.TCPConn).SetLinger(0); err != nil {
		t.Fatal(err)
	}
	if err := connection.Close(); err != nil {
		t.Fatal(err)
	}
	eventually(t, 15*time.Second, "the log tells of it", func() bool {
		for _, line := range strings.Split(shared.Log(), "\n") {
			if strings.Contains(line, "broken-off-by-us") && strings.Contains(line, "code=broken-off") &&
				strings.Contains(line, "cause=") {
				return true
			}
		}
		return false
	})
}
