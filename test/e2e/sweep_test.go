package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// sweepNow sweeps by a policy to its end, and gives what came of it.
func sweepNow(t *testing.T, policy string) api.Sweep {
	t.Helper()
	admin := desk(house.Token)
	x := done(admin.RunSweep(t.Context(), api.RunSweep{Policy: policy}))(t)
	eventually(t, 30*time.Second, "the sweep is done", func() bool {
		x = done(admin.Sweep(t.Context(), x.ID, url.Values{"limit": {"1"}}))(t).Sweep
		return x.State != "underway"
	})
	return x
}

func keepIn(t *testing.T, repository string, reasons ...string) (policy string) {
	t.Helper()
	policy = fmt.Sprintf("policy-%d", made.Add(1))
	done(desk(house.Token).SetPolicy(t.Context(),
		api.SetPolicy{Rules: &api.Rules{Name: policy, Description: "a test's", Repositories: []string{repository},
			Keep: reasons, Grace: "2d"}}))(t)
	return policy
}

// TestSweepEveryEcosystem sweeps packages of each, and brings them back: what
// clients read tells at every moment of what is there, and of nothing else.
func TestSweepEveryEcosystem(t *testing.T) {
	r := repository(t, "releases")
	versions := []string{"1.0.0", "1.1.0", "2.0.0"}
	packages := map[string]madeup.Package{"npm": {Name: "@skerry/deck-ui", Author: "x"}, "pypi": {Name: "tidecast"},
		"nuget": {Name: "Skerry.TurnstileLink", Author: "x", Description: "x"}, "cargo": {Name: "hull-sensor"}}
	documents := map[string]string{"npm": "npm/@skerry%2fdeck-ui", "pypi": "pypi/simple/tidecast/",
		"nuget": "nuget/flat/skerry.turnstilelink/index.json", "cargo": "cargo/hu/ll/hull-sensor"}
	files := map[string]string{"npm": "npm/@skerry/deck-ui/-/deck-ui-%s.tgz",
		"pypi":  "pypi/files/tidecast/%[1]s/tidecast-%[1]s-py3-none-any.whl",
		"nuget": "nuget/flat/skerry.turnstilelink/%[1]s/skerry.turnstilelink.%[1]s.nupkg",
		"cargo": "cargo/files/hull-sensor/%[1]s/hull-sensor-%[1]s.crate"}
	for ecosystem, p := range packages {
		for _, version := range versions {
			p.Version, p.Readme = version, "The "+version+"\n"
			publishMade(t, r, ecosystem, p)
		}
	}
	bytes := map[string]string{}
	has := func(when string, there ...string) {
		t.Helper()
		for ecosystem := range packages {
			list := string(must(t, http.MethodGet, "/at/"+r+"/"+documents[ecosystem], "", 200).Body)
			for _, version := range versions {
				wanted := strings.Contains(strings.Join(there, " "), version)
				if strings.Contains(list, version) != wanted {
					t.Errorf("%s: the list of %s has %s: %t\n%s", when, ecosystem, version, !wanted, list)
				}
				path := "/at/" + r + "/" + fmt.Sprintf(files[ecosystem], version)
				status := map[bool]int{true: 200, false: 404}[wanted]
				a := must(t, http.MethodGet, path, "", status)
				if before, ok := bytes[path]; wanted && ok && before != string(a.Body) {
					t.Errorf("%s: %s is another file", when, path)
				}
				if wanted {
					bytes[path] = string(a.Body)
				}
			}
		}
	}
	tag := func() string {
		var document struct {
			Tags map[string]string `json:"dist-tags"`
		}
		if err := json.Unmarshal(must(t, http.MethodGet, "/at/"+r+"/npm/@skerry%2fdeck-ui", "", 200).Body,
			&document); err != nil {
			t.Fatal(err)
		}
		return document.Tags["latest"]
	}
	has("at first", versions...)
	policy := keepIn(t, r, "newest 1 of each major")
	x := sweepNow(t, policy)
	if x.Done != 4 || x.State != "done" || x.Grace != "2d" {
		t.Fatalf("%+v", x)
	}
	has("swept", "1.1.0", "2.0.0")
	if tag() != "2.0.0" {
		t.Errorf("latest is %s", tag())
	}
	undone := done(desk(house.Token).UndoSweep(t.Context(), x.ID, []string{"pkg:npm/*", "pkg:pypi/tidecast@1.0.0"}))(t)
	if undone.Back != 2 || len(undone.Not) != 0 {
		t.Errorf("%+v", undone)
	}
	if undone = done(desk(house.Token).UndoSweep(t.Context(), x.ID, nil))(t); undone.Back != 2 {
		t.Errorf("%+v", undone)
	}
	has("brought back", versions...)
	// The newest goes by hand, with its label; that comes back with it.
	gone := done(desk(house.Token).RemoveVersion(t.Context(), r, "pkg:npm/%40skerry/deck-ui@2.0.0"))(t)
	if tag() == "2.0.0" {
		t.Errorf("latest is what is not there")
	}
	done(desk(house.Token).UndoSweep(t.Context(), gone.ID, nil))(t)
	if tag() != "2.0.0" {
		t.Errorf("latest is %s and not what it was", tag())
	}
	if _, err := desk(house.Token).RemoveVersion(t.Context(), r, "pkg:npm/%40skerry/deck-ui@9.0.0"); err == nil ||
		!strings.Contains(err.Error(), "holds no version 9.0.0") {
		t.Errorf("%v", err)
	}
}

// TestSweepMirror drops copies from a mirror: who asks again gets them from the
// upstream again, and what was used last stays as far as there is room.
func TestSweepMirror(t *testing.T) {
	u, upstream := shore(t, brine(t, "2.0.0", "2.1.0"))
	mirror := addMirror(t, upstream, quick)
	file := func(version string) string { return "/at/" + mirror + "/maven/" + brineFile(version, "jar") }
	first := string(must(t, http.MethodGet, file("2.0.0"), "", 200).Body)
	must(t, http.MethodGet, file("2.1.0"), "", 200)
	eventually(t, 10*time.Second, "the use is noted", func() bool {
		out, _, _ := crelvoAsAdmin(t, "usage", "--in", mirror)
		return strings.Contains(out, "brine-http")
	})
	asked := u.Requests()[brineFile("2.0.0", "jar")]
	if asked == 0 {
		asked = u.Requests()["/"+brineFile("2.0.0", "jar")]
	}
	if x := sweepNow(t, keepIn(t, mirror, "last used up to 100MiB")); x.Done != 0 {
		t.Errorf("with room enough: %+v", x)
	}
	tight := keepIn(t, mirror, "last used up to 1KiB")
	// Both policies count, so the roomy one goes first.
	if x := sweepNow(t, tight); x.Done != 0 {
		t.Errorf("what another policy keeps: %+v", x)
	}
	for _, p := range done(desk(house.Token).Policies(t.Context()))(t) {
		if len(p.About) == 1 && p.About[0] == mirror && p.Name != tight {
			if err := desk(house.Token).RemovePolicy(t.Context(), p.Name); err != nil {
				t.Fatal(err)
			}
		}
	}
	if x := sweepNow(t, tight); x.Done != 2 {
		t.Errorf("with hardly any room: %+v", x)
	}
	if again := string(must(t, http.MethodGet, file("2.0.0"), "", 200).Body); again != first {
		t.Error("it came back as something else")
	}
	total := 0
	for path, n := range u.Requests() {
		if strings.HasSuffix(path, brineFile("2.0.0", "jar")) {
			total += n
		}
	}
	if total <= asked {
		t.Errorf("the upstream was asked %d times, %d before", total, asked)
	}
}

// TestSweepBeside sweeps again and again, and reclaims, while others publish and
// download: what the policy keeps is there all along.
func TestSweepBeside(t *testing.T) {
	r := repository(t, "releases")
	policy := keepIn(t, r, "newest 3 of each package")
	const publishers, each = 4, 12
	var clients sync.WaitGroup
	for c := range publishers {
		clients.Go(func() {
			name := fmt.Sprintf("module-%d", c)
			for i := range each {
				version := fmt.Sprintf("1.%d.0", i)
				publishRelease(t, r, name, version, fmt.Sprint("shared by all ", i))
				path := fmt.Sprintf("/at/%s/maven/%s/%s/%s/%s-%s.jar", r, groupPath, name, version, name, version)
				if a := ask(t, http.MethodGet, path, ""); a.Status != 200 {
					t.Errorf("%s, which is the newest: %d %s", path, a.Status, a.Reason)
				}
			}
		})
	}
	ended := make(chan struct{})
	go func() {
		clients.Wait()
		close(ended)
	}()
	sweeps := 0
	for running := true; running; sweeps++ {
		select {
		case <-ended:
			running = false
		default:
		}
		if x := sweepNow(t, policy); x.State != "done" {
			t.Errorf("%+v", x)
		}
		if _, err := desk(house.Token).Reclaim(t.Context(), true); err != nil && !strings.Contains(err.Error(), "already") {
			t.Error(err)
		}
	}
	for c := range publishers {
		name := fmt.Sprintf("module-%d", c)
		list := string(must(t, http.MethodGet, fmt.Sprintf("/at/%s/maven/%s/%s/maven-metadata.xml", r, groupPath, name), "",
			200).Body)
		for i := range each {
			version, status := fmt.Sprintf("1.%d.0", i), 404
			if i >= each-3 {
				status = 200
			}
			must(t, http.MethodGet, fmt.Sprintf("/at/%s/maven/%s/%s/%s/%s-%s.jar", r, groupPath, name, version, name, version),
				"", status)
			if strings.Contains(list, "<version>"+version+"</version>") != (status == 200) {
				t.Errorf("%s %s in its list:\n%s", name, version, list)
			}
		}
	}
	if sweeps < 2 {
		t.Errorf("it was swept %d times", sweeps)
	}
}

// TestPlanRequests: what cannot be planned is told in words, and lines come in the
// forms that are asked for.
func TestPlanRequests(t *testing.T) {
	r := repository(t, "releases")
	publishRelease(t, r, "tide-model", "1.0.0", "tides")
	policy := keepIn(t, r, "newest 1")
	for body, want := range map[string]string{
		`{"policy":"` + policy + `","limit":5}`:                        `"found":1`,
		`{"policy":"` + policy + `","limit":5,"match":"NO-SUCH"}`:      `"found":0`,
		`{"policy":"` + policy + `","skip":1,"limit":5}`:               `"lines":[]`,
		`{"text":"name: a\nrepositories: [` + r + `]\nkeep: [all]\n"}`: `line 3: \"all\" is no reason to stay`,
		`{"policy":"` + policy + `","asOf":"2100-01-01T00:00:00Z"}`:    `is too far away`,
		`{"policy":"nobody-set-it"}`:                                   `there is no policy nobody-set-it`,
		`{"policy":1}`:                                                 `expected string`,
		`{"text":"` + strings.Repeat("x", 70<<10) + `"}`:               `expected length`,
	} {
		if a := ask(t, http.MethodPost, "/api/v1/sweeps/plans", body, "Content-Type",
			"application/json"); !strings.Contains(string(a.Body), want) {
			t.Errorf("%.80s: %d %.300s; want %s", body, a.Status, a.Body, want)
		}
	}
	lines := func(body string, headers ...string) house.Answer {
		return ask(t, http.MethodPost, "/api/v1/sweeps/plans/lines", body, headers...)
	}
	if a := lines(`{"policy":"` + policy + `"}`); a.Status != 200 ||
		a.Header.Get("Content-Type") != "application/x-ndjson" || strings.Count(string(a.Body), "\n") != 1 {
		t.Errorf("%d %s %s", a.Status, a.Header.Get("Content-Type"), a.Body)
	}
	if a := lines(`{"policy":"`+policy+`"}`, "Accept", "text/csv"); !strings.HasPrefix(string(a.Body),
		"repository,purl,") || strings.Count(string(a.Body), "\n") != 2 {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	if a := lines(`{"policy":"` + policy + `","fate":"swept"}`); a.Status != 200 || len(a.Body) != 0 {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	if a := lines(`{"policy":`); a.Status != 400 || !strings.Contains(string(a.Body), "cannot be read") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	for body, want := range map[string]string{
		`{"text":"name: a","rules":{"name":"a","repositories":["x"],"keep":["needed"]}}`: "not as both",
		`{"rules":{"name":"a","repositories":["nowhere-at-all"],"keep":["needed"]}}`:     "no repository",
		`{"rules":{"name":"a","repositories":["` + r +
			`"],"keep":["oldest 1"]}}`: "is no reason to stay",
		`{"rules":{"name":"a","repositories":["` + r +
			`"],"keep":["needed"],"packages":["x"]}}`: "is not a pattern",
		`{"rules":{"name":"a","repositories":["` + r +
			`"],"keep":["needed"],"grace":"long"}}`: "no length of time",
		`{"rules":{"name":"a","repositories":["` + r +
			`"],"keep":["needed"],"schedule":"soon","zone":"UTC"}}`: "is no schedule",
		`{"rules":{"name":"Not A Name","repositories":["` + r +
			`"],"keep":["needed"]}}`: "is no name",
		`{"rules":{"name":"` + policy + `-2","repositories":["` + r +
			`"],"keep":["needed"],"where":"colour:red"}}`: "there is no such condition",
	} {
		if a := ask(t, http.MethodPut, "/api/v1/policies", body, "Content-Type", "application/json"); a.Status < 400 ||
			!strings.Contains(string(a.Body), want) {
			t.Errorf("%s: %d %s; want %q", body, a.Status, a.Body, want)
		}
	}
	for path, want := range map[string]string{
		"/api/v1/use?from=soon":                               "is no moment",
		"/api/v1/use?from=2026-02-01&until=2026-01-01":        "is not known",
		"/api/v1/use?purl=nothing":                            "no package URL",
		"/api/v1/use?by=colour":                               "expected value to be one of",
		"/api/v1/packages/users?purl=pkg:maven/a/b":           "no repository that you may read",
		"/api/v1/packages/users?purl=pkg:maven/a/b@1":         "no repository that you may read",
		"/api/v1/sweeps/999999":                               "there is no sweep 999999",
		"/api/v1/packages/used?repository=nowhere-to-be-seen": `no repository \"nowhere-to-be-seen\"`,
	} {
		if a := ask(t, http.MethodGet, path, ""); a.Status < 400 || !strings.Contains(string(a.Body), want) {
			t.Errorf("%s: %d %s; want %q", path, a.Status, a.Body, want)
		}
	}
	for body, want := range map[string]string{
		`{"purl":"pkg:maven/example.skerry.berth/tide-model","repository":"` + r +
			`","reason":"x"}`: "with a version",
		`{"purl":"pkg:maven/example.skerry.berth/tide-model@1.0.0","repository":"` + r +
			`"}`: "a pin has a reason",
		`{"purl":"pkg:maven/example.skerry.berth/tide-model@7","repository":"` + r +
			`","reason":"x"}`: "holds no version 7",
		`{"purl":"pkg:maven/example.skerry.berth/tide-model@1.0.0","repository":"` + r +
			`","off":true}`: "is not pinned",
		`{"purl":"pkg:maven/example.skerry.berth/tide-model@1.0.0","repository":"` + r +
			`","reason":"x","until":"2020-01-01T00:00:00Z"}`: "is past",
	} {
		if a := ask(t, http.MethodPut, "/api/v1/pins", body, "Content-Type", "application/json"); a.Status < 400 ||
			!strings.Contains(string(a.Body), want) {
			t.Errorf("%s: %d %s; want %q", body, a.Status, a.Body, want)
		}
	}
}
