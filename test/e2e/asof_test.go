package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/internal/demo"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// publishedAt is when the newest upload of a version came to be seen.
func publishedAt(t *testing.T, repository, purl string) time.Time {
	t.Helper()
	var p api.Package
	a := must(t, http.MethodGet, "/api/v1/package?repository="+repository+"&purl="+purl, "", 200)
	if err := json.Unmarshal(a.Body, &p); err != nil {
		t.Fatal(err)
	}
	return p.Versions[0].Uploads[0].PublishedAt
}

func asOf(repository string, at time.Time) string {
	return repository + "@" + at.UTC().Format(time.RFC3339Nano)
}

// TestAsOf reads a house, a mirror and a chain as they stood at a moment.
func TestAsOf(t *testing.T) {
	content := brine(t, "1.0")
	_, address := shore(t, content)
	releases := repository(t, "releases")
	mirror := addMirror(t, address, map[string]any{"freshSeconds": 0.1})
	chain := addChain(t, releases, mirror)
	// The mirror has seen a version, and keeps nothing of it.
	must(t, http.MethodGet, "/at/"+mirror+"/maven/"+brineList, "", 200)
	publishRelease(t, releases, "fare-engine", "1.0", "one")
	then := publishedAt(t, releases, "pkg:maven/example.skerry.berth/fare-engine@1.0")
	publishRelease(t, releases, "fare-engine", "1.1", "two")
	publishRelease(t, releases, "tide-model", "1.0", "x")
	must(t, http.MethodPut, "/at/"+releases+"/maven/"+groupPath+"/fare-engine/1.0/fare-engine-1.0-sources.jar",
		jar(t, "added later"), 201)
	for path, bytes := range brine(t, "1.0", "2.0") {
		content[path] = bytes
	}
	eventually(t, 10*time.Second, "the mirror has seen the new version", func() bool {
		return strings.Contains(string(must(t, http.MethodGet, "/at/"+mirror+"/maven/"+brineList, "", 200).Body), ">2.0<")
	})
	must(t, http.MethodGet, "/at/"+mirror+"/maven/"+brineFile("2.0", "jar"), "", 200)

	for _, r := range []string{releases, chain} {
		at := "/at/" + asOf(r, then) + "/maven/" + groupPath
		if list := must(t, http.MethodGet, at+"/fare-engine/maven-metadata.xml", "",
			200); !strings.Contains(string(list.Body), "<release>1.0</release>") || strings.Contains(string(list.Body), "1.1") {
			t.Errorf("%s listed %s", r, list.Body)
		}
		if a := must(t, http.MethodGet, at+"/fare-engine/1.0/fare-engine-1.0.jar", "", 200); string(a.Body) != jar(t, "one") {
			t.Errorf("%s gave something else", r)
		}
		for _, later := range []string{"/fare-engine/1.1/fare-engine-1.1.jar", "/fare-engine/1.0/fare-engine-1.0-sources.jar",
			"/tide-model/maven-metadata.xml", "/tide-model/1.0/tide-model-1.0.jar"} {
			must(t, http.MethodGet, at+later, "", 404)
		}
		if page := string(must(t, http.MethodGet, at+"/", "", 200).Body); !strings.Contains(page, "fare-engine") ||
			strings.Contains(page, "tide-model") || !strings.Contains(page, `href="/at/`+r+"@") {
			t.Errorf("the folder of %s is %s", r, page)
		}
		must(t, http.MethodGet, "/at/"+r+"/maven/"+groupPath+"/fare-engine/1.1/fare-engine-1.1.jar", "", 200)
	}
	for _, r := range []string{mirror, chain} {
		at := "/at/" + asOf(r, then) + "/maven/"
		if list := must(t, http.MethodGet, at+brineList, "", 200); !strings.Contains(string(list.Body),
			"<release>1.0</release>") || strings.Contains(string(list.Body), "2.0") {
			t.Errorf("%s listed %s", r, list.Body)
		}
		must(t, http.MethodGet, at+brineFile("2.0", "jar"), "", 404)
		// It was listed then, so it may be fetched now.
		if a := must(t, http.MethodGet, at+brineFile("1.0", "jar"), "",
			200); string(a.Body) != string(content[brineFile("1.0", "jar")]) {
			t.Errorf("%s gave something else", r)
		}
	}
	if e := explain(t, asOf(chain, then), "pkg:maven/org.openshore/brine-http@2.0"); said(e) != "not here, not here" {
		t.Errorf("explained as %s", said(e))
	}

	// The past cannot be changed, and the future is not known.
	past := "/at/" + asOf(releases, then) + "/maven/" + groupPath + "/x/1/x-1.txt"
	if a := must(t, http.MethodPut, past, "x", 422); !strings.Contains(a.Reason, "it is the past") {
		t.Errorf("the reason is %q", a.Reason)
	}
	for name, says := range map[string]string{releases + "@2099-01-01": "in the future", releases +
		"@soon": "is no moment"} {
		if a := must(t, http.MethodGet, "/at/"+name+"/maven/"+groupPath+"/x/1/x-1.txt", "", 400); !strings.Contains(a.Reason,
			says) {
			t.Errorf("%s: the reason is %q", name, a.Reason)
		}
	}
	must(t, http.MethodGet, "/at/"+releases+"@2020-01-01/maven/"+groupPath+"/fare-engine/maven-metadata.xml", "", 404)
	var shown api.Repository
	if _, err := shared.JSON(t.Context(), http.MethodGet, "/api/v1/repositories/"+asOf(releases, then), nil,
		&shown); err != nil ||
		shown.AsOf == nil || !shown.AsOf.Equal(then) || shown.Packages != 1 || shown.Versions != 1 || len(shown.May) != 1 ||
		!strings.Contains(shown.Address, releases+"@") {
		t.Errorf("%+v, %v", shown, err)
	}
	if out, _, code := crelvoAsAdmin(t, "show", "pkg:maven/example.skerry.berth/fare-engine", "--in",
		asOf(releases, then)); code != 0 || strings.Contains(out, "1.1") || !strings.Contains(out, "1.0") {
		t.Errorf("%d %s", code, out)
	}
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/repositories/"+asOf(releases, then)),
		browser.ShowsText("As it stood on", "fare-engine", "1 package, 1 version"))
	if text, err := chromedp.Run(tab, chromedp.Evaluate[string]("document.body.innerText")); err != nil ||
		strings.Contains(text, "tide-model") || strings.Contains(text, "Settings") {
		t.Errorf("the page shows what was not there: %v\n%s", err, text)
	}
	do(browser.ClickText("Back to now"), browser.ShowsText("tide-model", "Settings"))
	dir := t.TempDir()
	if out, stderr, code := crelvoAsAdmin(t, "fetch", "pkg:maven/example.skerry.berth/fare-engine", "--in",
		asOf(releases, then), "--dir", dir); code != 0 || !strings.Contains(out, "fare-engine-1.0.jar") {
		t.Errorf("%d %s %s", code, out, stderr)
	}
}

// TestMavenAsOf builds with the snapshot of an earlier moment.
func TestMavenAsOf(t *testing.T) {
	t.Parallel()
	_, tree := shore(t, demo.Tree(demo.MavenTree))
	snapshots := repository(t, "snapshots")
	chain := addChain(t, snapshots, addMirror(t, tree, nil))
	patch(t, chain, map[string]any{"chain": map[string]any{"snapshotsTo": snapshots}}, 200)
	code := "package skerry;\n" +
		"public class ferry { public static void main(String[] a) { System.out.println(\"height \" + tide_model.height()); " +
		"} }\n"
	deploy := func(height int) {
		m := newMaven(t, house.Token, chain)
		m.mustRun(m.project("tide-model", "1.0.0-SNAPSHOT", chain, chain, fmt.Sprintf(tideModel, height)), "deploy")
	}
	height := func(repository string) string {
		m := newMavenVia(t, repository)
		dir := m.project("ferry", "1.0.0", chain, chain, code, dependency("tide-model", "1.0.0-SNAPSHOT"))
		m.mustRun(dir, "package")
		model := m.dir + "/local/example/skerry/berth/tide-model/1.0.0-SNAPSHOT/tide-model-1.0.0-SNAPSHOT.jar"
		out, err := exec.Command("java", "-cp", dir+"/target/classes:"+model, "skerry.ferry").CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		return strings.TrimSpace(string(out))
	}
	deploy(7)
	if got := height(chain); got != "height 7" { // the mirror now keeps what a build needs
		t.Errorf("the first snapshot says %q", got)
	}
	then := time.Now()
	deploy(9)
	if got := height(chain); got != "height 9" {
		t.Errorf("the newest snapshot says %q", got)
	}
	if got := height(asOf(chain, then)); got != "height 7" {
		t.Errorf("as of the moment between them it says %q", got)
	}
}
