package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/demo"
	"crelvo/test/house"
)

func patch(t *testing.T, repository string, change map[string]any, status int) house.Answer {
	t.Helper()
	a, err := shared.JSON(t.Context(), http.MethodPatch, "/api/v1/repositories/"+repository, change, nil)
	if err != nil || a.Status != status {
		t.Fatalf("changing %s to %v: %v %d %s; want %d", repository, change, err, a.Status, a.Body, status)
	}
	return a
}

func explain(t *testing.T, in, purl string) (e api.Explanation) {
	t.Helper()
	a := must(t, http.MethodGet, "/api/v1/repositories/"+in+"/explain?purl="+purl, "", 200)
	if err := json.Unmarshal(a.Body, &e); err != nil {
		t.Fatal(err)
	}
	return e
}

// said is an explanation in short: "name:what it said", with * for who answers.
func said(e api.Explanation) string {
	var all []string
	for _, s := range e.Steps {
		mark := ""
		if s.Answers {
			mark = "*"
		}
		all = append(all, mark+s.Said)
	}
	return strings.Join(all, ", ")
}

// TestChainOrder puts houses and mirrors behind one address.
func TestChainOrder(t *testing.T) {
	_, nearAddress := shore(t, brine(t, "1.0", "2.0"))
	farContent := brine(t, "2.0", "3.0")
	farContent[brineFile("2.0", "jar")] = []byte(jar(t, "another 2.0"))
	farContent["org/openshore/brine-http/2.0/brine-http-2.0-sources.jar"] = []byte(jar(t,
		"sources that only the far one has"))
	_, farAddress := shore(t, farContent)
	releases := repository(t, "releases")
	near, far := addMirror(t, nearAddress, nil), addMirror(t, farAddress, nil)
	chain := addChain(t, releases, near, far)
	publishRelease(t, releases, "fare-engine", "1.0", "ours")
	at := "/at/" + chain + "/maven/"
	for path, from := range map[string]string{
		groupPath + "/fare-engine/1.0/fare-engine-1.0.jar": releases,
		brineFile("1.0", "jar"):                            near,
		brineFile("2.0", "pom"):                            near,
		brineFile("2.0", "jar"):                            near,
		brineFile("3.0", "jar"):                            far,
	} {
		for range 2 { // cold and warm
			if a := must(t, http.MethodGet, at+path, "", 200); a.Header.Get("Crelvo-Repository") != from {
				t.Errorf("%s came from %s; want %s", path, a.Header.Get("Crelvo-Repository"), from)
			}
		}
	}
	// A version comes whole from one member.
	must(t, http.MethodGet, at+"org/openshore/brine-http/2.0/brine-http-2.0-sources.jar", "", 404)
	must(t, http.MethodGet, "/at/"+far+"/maven/org/openshore/brine-http/2.0/brine-http-2.0-sources.jar", "", 200)
	must(t, http.MethodGet, at+"org/openshore/brine-http/2.0/brine-http-2.0-sources.jar", "", 404)
	list := string(must(t, http.MethodGet, at+brineList, "", 200).Body)
	for _, v := range []string{"1.0", "2.0", "3.0"} {
		if strings.Count(list, "<version>"+v+"</version>") != 1 {
			t.Errorf("%s is not listed once: %s", v, list)
		}
	}
	// The other order, at once.
	patch(t, chain, map[string]any{"chain": map[string]any{"members": []map[string]any{{"name": far}, {"name": near},
		{"name": releases}}}}, 200)
	if a := must(t, http.MethodGet, at+brineFile("2.0", "jar"), "", 200); a.Header.Get("Crelvo-Repository") != far ||
		bytes.Equal(a.Body, farContent[brineFile("1.0", "jar")]) {
		t.Errorf("after the change it comes from %s", a.Header.Get("Crelvo-Repository"))
	}
	if e := explain(t, chain, "pkg:maven/org.openshore/brine-http@3.0"); said(e) != "*has it, not here, not here" ||
		e.Outcome != "answered" {
		t.Errorf("explained as %s: %s", said(e), e.Sentence)
	}
	if e := explain(t, chain, "pkg:maven/org.openshore/brine-http"); said(e) != "*has it, *has it, not here" {
		t.Errorf("explained as %s: %s", said(e), e.Sentence)
	}
	out, _, code := crelvoAsAdmin(t, "explain", "pkg:maven/org.openshore/brine-http@1.0", "--in", chain)
	if code != 0 || !strings.Contains(out, near+" answers.") || !strings.Contains(out, "its upstream does not have it") {
		t.Errorf("%d %s", code, out)
	}
}

// TestChainSnapshots gives the newest upload over all house members.
func TestChainSnapshots(t *testing.T) {
	one, two := repository(t, "snapshots"), repository(t, "both")
	chain := addChain(t, one, two)
	upload := func(repository, stamp string, n int) string {
		exact := fmt.Sprintf("1.0-%s-%d", stamp, n)
		base := "/at/" + repository + "/maven/" + groupPath + "/tide-model/1.0-SNAPSHOT/"
		must(t, http.MethodPut, base+"tide-model-"+exact+".jar", jar(t, exact), 201)
		must(t, http.MethodPut, base+"tide-model-"+exact+".pom", pom("example.skerry.berth", "tide-model", "1.0-SNAPSHOT"),
			201)
		must(t, http.MethodPut, base+"maven-metadata.xml",
			fmt.Sprintf(
				"<metadata><version>1.0-SNAPSHOT</version><versioning><snapshot><timestamp>%s</timestamp><buildNumber>%d</buildNumber></snapshot></versioning></metadata>", stamp, n), 201)
		return exact
	}
	at := "/at/" + chain + "/maven/" + groupPath + "/tide-model/1.0-SNAPSHOT/"
	newest := func(want string) {
		t.Helper()
		if a := must(t, http.MethodGet, at+"tide-model-1.0-SNAPSHOT.jar", "", 200); string(a.Body) != jar(t, want) {
			t.Errorf("the newest is not %s", want)
		}
		list := string(must(t, http.MethodGet, at+"maven-metadata.xml", "", 200).Body)
		if strings.Count(list, "<value>"+want+"</value>") != 2 {
			t.Errorf("the list does not give %s: %s", want, list)
		}
		must(t, http.MethodGet, at+"tide-model-"+want+".pom", "", 200)
	}
	first := upload(one, "20261101.080000", 1)
	newest(first)
	second := upload(two, "20261102.080000", 1)
	newest(second)
	must(t, http.MethodGet, at+"tide-model-"+first+".jar", "", 200)
	third := upload(one, "20261103.080000", 2)
	newest(third)
	if e := explain(t, chain, "pkg:maven/example.skerry.berth/tide-model@1.0-SNAPSHOT"); said(e) != "*has it, *has it" ||
		!strings.Contains(e.Sentence, "together") {
		t.Errorf("explained as %s: %s", said(e), e.Sentence)
	}
}

// TestMirrorOfSnapshots mirrors the snapshots of another service: the newest
// upload comes, whole, and stays when the other is away.
func TestMirrorOfSnapshots(t *testing.T) {
	source := repository(t, "snapshots")
	publish := func(stamp string, n int) string {
		exact := fmt.Sprintf("1.0-%s-%d", stamp, n)
		base := "/at/" + source + "/maven/" + groupPath + "/tide-model/1.0-SNAPSHOT/"
		must(t, http.MethodPut, base+"tide-model-"+exact+".jar", jar(t, exact), 201)
		must(t, http.MethodPut, base+"tide-model-"+exact+".pom", pom("example.skerry.berth", "tide-model", "1.0-SNAPSHOT"),
			201)
		must(t, http.MethodPut, base+"maven-metadata.xml",
			fmt.Sprintf(
				"<metadata><version>1.0-SNAPSHOT</version><versioning><snapshot><timestamp>%s</timestamp><buildNumber>%d</buildNumber></snapshot></versioning></metadata>", stamp, n), 201)
		return exact
	}
	first := publish("20261101.080000", 1)
	mirror := addMirror(t, shared.Address+"/at/"+source+"/maven/",
		map[string]any{"secret": house.Token, "freshSeconds": 0.1})
	chain := addChain(t, mirror)
	for _, r := range []string{mirror, chain} {
		at := "/at/" + r + "/maven/" + groupPath + "/tide-model/"
		if list := must(t, http.MethodGet, at+"maven-metadata.xml", "", 200); !strings.Contains(string(list.Body),
			"<version>1.0-SNAPSHOT</version>") {
			t.Errorf("%s lists %s", r, list.Body)
		}
		if list := must(t, http.MethodGet, at+"1.0-SNAPSHOT/maven-metadata.xml", "",
			200); !strings.Contains(string(list.Body), "<value>"+first+"</value>") {
			t.Errorf("%s lists %s", r, list.Body)
		}
		if a := must(t, http.MethodGet, at+"1.0-SNAPSHOT/tide-model-1.0-SNAPSHOT.jar", "", 200); string(a.Body) != jar(t,
			first) {
			t.Errorf("%s gives another upload", r)
		}
		if a := must(t, http.MethodGet, at+"1.0-SNAPSHOT/tide-model-"+first+".jar.sha1", "",
			200); string(a.Body) != sha1Hex(jar(t, first)) {
			t.Errorf("%s gives another checksum: %s", r, a.Body)
		}
	}
	second := publish("20261102.080000", 2)
	for _, r := range []string{mirror, chain} {
		eventually(t, 10*time.Second, r+" has the new upload", func() bool {
			a := must(t, http.MethodGet, "/at/"+r+"/maven/"+groupPath+"/tide-model/1.0-SNAPSHOT/tide-model-1.0-SNAPSHOT.jar", "",
				200)
			return string(a.Body) == jar(t, second)
		})
	}
	must(t, http.MethodDelete, "/api/v1/repositories/"+source+"?withContents=true", "", 204)
	must(t, http.MethodGet, "/at/"+chain+"/maven/"+groupPath+"/tide-model/1.0-SNAPSHOT/tide-model-"+first+".jar", "", 200)
	must(t, http.MethodGet, "/at/"+chain+"/maven/"+groupPath+"/tide-model/1.0-SNAPSHOT/tide-model-1.0-SNAPSHOT.jar", "",
		200)
}

// TestChainNamesThatAreOurs is the attack: a public artifact with our name and a
// higher version.
func TestChainNamesThatAreOurs(t *testing.T) {
	const name = "tide-model"
	path := func(version, extension string) string {
		return groupPath + "/" + name + "/" + version + "/" + name + "-" + version + "." + extension
	}
	content := brine(t, "1.0")
	for _, n := range []string{name, "never-published"} {
		at := groupPath + "/" + n + "/99.0.0/" + n + "-99.0.0"
		content[at+".pom"], content[at+".jar"] = []byte(pom("example.skerry.berth", n, "99.0.0")), []byte(jar(t, "evil"))
		content[groupPath+"/"+n+
			"/maven-metadata.xml"] = []byte(
			"<metadata><versioning><versions><version>99.0.0</version></versions></versioning></metadata>")
	}
	u, address := shore(t, content)
	releases, mirror := repository(t, "releases"), addMirror(t, address, nil)
	chain := addChain(t, mirror, releases) // even in the wrong order
	at := "/at/" + chain + "/maven/"
	publishRelease(t, releases, name, "1.0.0", "ours")
	for _, p := range []string{path("99.0.0", "pom"), path("99.0.0", "jar"), path("99.0.0", "jar") + ".sha1"} {
		if a := must(t, http.MethodGet, at+p, "", 404); !strings.Contains(string(a.Body), "the name is ours, published in "+
			releases) {
			t.Errorf("%s: %s", p, a.Body)
		}
	}
	if list := must(t, http.MethodGet, at+groupPath+"/"+name+"/maven-metadata.xml", "",
		200); strings.Contains(string(list.Body), "99") {
		t.Errorf("the list names a stranger's version: %s", list.Body)
	}
	must(t, http.MethodGet, at+path("1.0.0", "jar"), "", 200)
	for p := range u.Requests() {
		if strings.Contains(p, name) {
			t.Errorf("the upstream was asked for our name: %s", p)
		}
	}
	if e := explain(t, chain, "pkg:maven/example.skerry.berth/"+name+
		"@99.0.0"); said(e) != "claimed elsewhere, not here" || e.Outcome != "absent" {
		t.Errorf("explained as %s: %s", said(e), e.Sentence)
	}
	// A new name of our group is ours by pattern, before anything is published.
	other := groupPath + "/never-published/99.0.0/never-published-99.0.0.jar"
	must(t, http.MethodGet, at+other, "", 200)
	pattern := "pkg:maven/example.skerry.berth/never-*"
	if _, stderr, code := crelvoAsAdmin(t, "claim", "add", pattern, "--reason", "our group"); code != 0 {
		t.Fatal(stderr)
	}
	if a := must(t, http.MethodGet, at+other, "", 404); !strings.Contains(string(a.Body), "our group") {
		t.Errorf("it says %s", a.Body)
	}
	if _, stderr, code := crelvoAsAdmin(t, "claim", "lift", pattern, "--reason", "it was a mistake"); code != 0 {
		t.Fatal(stderr)
	}
	must(t, http.MethodGet, at+other, "", 200)
	// A claim by publishing can be lifted for a name, with a reason.
	lifted := "pkg:maven/example.skerry.berth/" + name
	if _, stderr, code := crelvoAsAdmin(t, "claim", "lift", lifted); code != 2 ||
		!strings.Contains(stderr, "--reason is missing") {
		t.Errorf("%d %s", code, stderr)
	}
	if _, stderr, code := crelvoAsAdmin(t, "claim", "lift", lifted, "--reason", "a test"); code != 0 {
		t.Fatal(stderr)
	}
	must(t, http.MethodGet, at+path("99.0.0", "jar"), "", 200)
	out, _, _ := crelvoAsAdmin(t, "claim", "list", "--in", chain)
	for _, want := range []string{lifted, "lifted", "a test", "1 name claimed since published"} {
		if !strings.Contains(out, want) {
			t.Errorf("the list does not say %q: %s", want, out)
		}
	}
	if _, stderr, code := crelvoAsAdmin(t, "claim", "add", lifted, "--reason", "ours again"); code != 0 {
		t.Fatal(stderr)
	}
	must(t, http.MethodGet, at+path("99.0.0", "jar"), "", 404)
	if events := must(t, http.MethodGet, "/api/v1/events?action=claim%20lifted", "",
		200); !strings.Contains(string(events.Body), "a test") {
		t.Errorf("the activity record does not tell: %s", events.Body)
	}
}

// TestChainMemberFails never leaves a silent gap.
func TestChainMemberFails(t *testing.T) {
	good, goodAddress := shore(t, brine(t, "1.0"))
	bad, badAddress := shore(t, brine(t, "1.0"))
	first := addMirror(t, badAddress, map[string]any{"connectSeconds": 1, "absentSeconds": 0.1})
	second := addMirror(t, goodAddress, map[string]any{"absentSeconds": 0.1})
	chain := addChain(t, first, second)
	at := "/at/" + chain + "/maven/"
	// What the first did not have when it was well, the second keeps.
	switchTo(t, bad, demo.Fault{Kind: "absent", Path: "/1.0/"})
	must(t, http.MethodGet, at+brineFile("1.0", "jar"), "", 200)
	must(t, http.MethodGet, at+brineList, "", 200)
	switchTo(t, bad, demo.Fault{Kind: "gone"})
	if a := must(t, http.MethodGet, at+"org/openshore/lodestar/1.0/lodestar-1.0.pom", "", 503); !strings.Contains(a.Reason,
		"since its member "+first+" fails") || a.Header.Get("Retry-After") == "" {
		t.Errorf("the reason is %q", a.Reason)
	}
	must(t, http.MethodGet, at+"org/openshore/lodestar/maven-metadata.xml", "", 503)
	if e := explain(t, chain, "pkg:maven/org.openshore/lodestar@1.0"); said(e) != "failed, not here" ||
		e.Outcome != "failed" || !strings.Contains(e.Sentence, first+" fails") {
		t.Errorf("explained as %s: %s", said(e), e.Sentence)
	}
	// What is kept is served, whatever the first does.
	must(t, http.MethodGet, at+brineFile("1.0", "jar"), "", 200)
	switchTo(t, good, demo.Fault{Kind: "gone"})
	must(t, http.MethodGet, at+brineFile("1.0", "jar"), "", 200)
	must(t, http.MethodGet, at+brineFile("1.0", "pom"), "", 200)
	patch(t, second, map[string]any{"mirror": map[string]any{"freshSeconds": 0.1}}, 200)
	patch(t, first, map[string]any{"mirror": map[string]any{"freshSeconds": 0.1}}, 200)
	eventually(t, 10*time.Second, "the chain's list says that it is stale", func() bool {
		status := strings.Join(must(t, http.MethodGet, at+brineList, "", 200).Header.Values("Cache-Status"), ", ")
		return strings.Contains(status, first+"; hit; ttl=-") && strings.Contains(status, second+"; hit; ttl=-")
	})
	switchTo(t, good)
	// The chain may say that it does without the first.
	patch(t, chain, map[string]any{"chain": map[string]any{"members": []map[string]any{{"name": first, "maySkip": true},
		{"name": second}}}}, 200)
	forgetTrouble(t, second)
	must(t, http.MethodGet, at+"org/openshore/lodestar/1.0/lodestar-1.0.pom", "", 404)
	if e := explain(t, chain, "pkg:maven/org.openshore/lodestar@1.0"); said(e) != "failed, not here" ||
		e.Outcome != "absent" || !e.Steps[0].Skipped {
		t.Errorf("explained as %s: %s", said(e), e.Sentence)
	}
}

// TestChainCircle refuses chains that contain themselves, and removing members.
func TestChainCircle(t *testing.T) {
	releases := repository(t, "releases")
	inner := addChain(t, releases)
	middle := addChain(t, inner)
	outer := addChain(t, middle, releases)
	a := patch(t, inner, map[string]any{"chain": map[string]any{"members": []map[string]any{{"name": releases},
		{"name": outer}}}}, 409)
	if want := fmt.Sprintf("%s → %s → %s → %s", inner, outer, middle, inner); !strings.Contains(string(a.Body), want) {
		t.Errorf("the circle is not named: %s; want %s", a.Body, want)
	}
	patch(t, inner, map[string]any{"chain": map[string]any{"members": []map[string]any{{"name": inner}}}}, 409)
	patch(t, inner, map[string]any{"chain": map[string]any{"members": []map[string]any{{"name": releases},
		{"name": releases}}}}, 400)
	patch(t, inner, map[string]any{"chain": map[string]any{"members": []map[string]any{}}}, 400)
	patch(t, inner, map[string]any{"chain": map[string]any{"releasesTo": inner}}, 400)
	if a := must(t, http.MethodDelete, "/api/v1/repositories/"+releases, "", 409); !strings.Contains(string(a.Body),
		"stands in the chain") {
		t.Errorf("it says %s", a.Body)
	}
	publishRelease(t, releases, "fare-engine", "1.0", "x")
	must(t, http.MethodGet, "/at/"+outer+"/maven/"+groupPath+"/fare-engine/1.0/fare-engine-1.0.jar", "", 200)
	if e := explain(t, outer, "pkg:maven/example.skerry.berth/fare-engine@1.0"); len(e.Steps) != 1 ||
		strings.Join(e.Steps[0].Via, " ") != middle+" "+inner {
		t.Errorf("the steps are %+v", e.Steps)
	}
}

// TestChainChangesAtOnce changes a chain again and again under load: nobody is
// interrupted, and the answers follow.
func TestChainChangesAtOnce(t *testing.T) {
	one, two := repository(t, "releases"), repository(t, "releases")
	publishRelease(t, one, "fare-engine", "1.0", "one")
	publishRelease(t, two, "fare-engine", "1.0", "two")
	chain := addChain(t, one, two)
	path := "/at/" + chain + "/maven/" + groupPath + "/fare-engine/1.0/fare-engine-1.0.jar"
	var stop atomic.Bool
	var asked atomic.Int64
	var clients sync.WaitGroup
	for range 4 {
		clients.Go(func() {
			for !stop.Load() {
				a, err := shared.Ask(t.Context(), http.MethodGet, path, house.Token, nil)
				if err != nil || a.Status != 200 {
					t.Errorf("%v %d %s", err, a.Status, a.Body)
					return
				}
				asked.Add(1)
			}
		})
	}
	for i := range 20 {
		order := []map[string]any{{"name": one}, {"name": two}}
		want := jar(t, "one")
		if i%2 == 0 {
			order[0], order[1] = order[1], order[0]
			want = jar(t, "two")
		}
		patch(t, chain, map[string]any{"chain": map[string]any{"members": order}}, 200)
		if a := must(t, http.MethodGet, path, "", 200); string(a.Body) != want {
			t.Errorf("change %d is not in force", i)
		}
	}
	stop.Store(true)
	clients.Wait()
	if asked.Load() < 20 {
		t.Errorf("only %d requests went on beside the changes", asked.Load())
	}
}

// TestChainPublish sends what is published to the chain to its houses, with the
// real mvn, and resolves it there again.
func TestChainPublish(t *testing.T) {
	t.Parallel()
	_, tree := shore(t, demo.Tree(demo.MavenTree))
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	mirror := addMirror(t, tree, nil)
	chain := addChain(t, releases, snapshots, mirror)
	file := "/at/" + chain + "/maven/" + groupPath + "/fare-engine/1.0/fare-engine-1.0.jar"
	if a := must(t, http.MethodPut, file, jar(t, "x"), 422); !strings.Contains(a.Reason, "does not take releases") {
		t.Errorf("the reason is %q", a.Reason)
	}
	patch(t, chain, map[string]any{"chain": map[string]any{"releasesTo": releases, "snapshotsTo": snapshots}}, 200)
	m := newMaven(t, house.Token, chain)
	for _, version := range []string{"1.0.0-SNAPSHOT", "1.0.0"} {
		dir := m.project("tide-model", version, chain, chain, fmt.Sprintf(tideModel, 7))
		m.mustRun(dir, "deploy")
	}
	for in, version := range map[string]string{snapshots: "1.0.0-SNAPSHOT", releases: "1.0.0"} {
		if list := must(t, http.MethodGet, "/at/"+in+"/maven/"+groupPath+"/tide-model/maven-metadata.xml", "",
			200); !strings.Contains(string(list.Body), "<version>"+version+"</version>") ||
			strings.Count(string(list.Body), "<version>") != 1 {
			t.Errorf("%s: %s", in, list.Body)
		}
	}
	user := newMaven(t, house.Token, chain)
	dir := user.project("berth-planner", "1.0.0", chain, chain,
		"package skerry;\npublic class berth_planner { int h = tide_model.height(); }\n",
		dependency("tide-model", "1.0.0-SNAPSHOT"))
	user.mustRun(dir, "package")
	path := filepath.Join(t.TempDir(), "rota.jar")
	if err := os.WriteFile(path, []byte(jarWithPOM(t, pom("example.skerry.berth", "inside", "3.0"))), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, stderr, code := crelvoAsAdmin(t, "publish", path, "--to", chain); code != 0 ||
		!strings.Contains(out, "in "+releases) {
		t.Errorf("%d %s %s", code, out, stderr)
	}
}

// TestMavenThroughChain builds a project with an empty local repository through
// the chain alone, and again with the upstream switched off.
func TestMavenThroughChain(t *testing.T) {
	t.Parallel()
	u, tree := shore(t, demo.Tree(demo.MavenTree))
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	chain := addChain(t, releases, snapshots, addMirror(t, tree, nil))
	build := func() string {
		m := newMavenVia(t, chain)
		dir := m.project("tide-model", "1.0.0", releases, snapshots, fmt.Sprintf(tideModel, 7))
		begun := time.Now()
		out := m.mustRun(dir, "package")
		t.Logf("the build took %v", time.Since(begun).Round(10*time.Millisecond))
		return out
	}
	build()
	asked := 0
	for path, n := range u.Requests() {
		if n > 1 {
			t.Errorf("the upstream was asked %d times for %s", n, path)
		}
		asked += n
	}
	if asked < 50 {
		t.Errorf("the build made only %d requests to the upstream", asked)
	}
	switchTo(t, u, demo.Fault{Kind: "gone"})
	if out := build(); strings.Contains(out, "WARNING] Checksum") || strings.Contains(out, "Checksum validation failed") {
		t.Errorf("mvn misses checksums:\n%s", out)
	}
}
