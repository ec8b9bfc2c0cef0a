package e2e

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/junit"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// admits changes what a repository lets in.
func admits(t *testing.T, h *house.House, repository string, change api.AdmissionChange) {
	t.Helper()
	a, err := h.JSON(t.Context(), http.MethodPatch, "/api/v1/repositories/"+repository,
		api.RepositoryChange{Admission: &change}, nil)
	if err != nil || a.Status != 200 {
		t.Fatalf("changing %s: %d %s, %v", repository, a.Status, a.Body, err)
	}
}

// TestVettedInClients: what awaits a decision is not resolved to, and whoever asks for it by its
// version is told so in their client, and is on record; what is accepted is there at once. Each
// client takes the next best version by itself.
func TestVettedInClients(t *testing.T) {
	t.Parallel()
	h := safeHouse(t)
	w, index := chainClients(t, h)
	m := newMavenAt(t, h.Address, house.Token, "platform")
	c := &client.Client{Server: h.Address, Token: house.Token}
	yes := true
	for _, ecosystem := range []string{"npm", "pypi", "nuget", "cargo", "maven"} {
		admits(t, h, "shore-"+ecosystem, api.AdmissionChange{Vetted: &yes})
	}
	w.project("unseen", map[string]string{"kelp-colors": "^1.0.0"})
	w.fails([]string{"403", "shore-npm keeps out pkg:npm/kelp-colors@1.1.0: nobody has decided about it yet",
		"It was put before admin"}, "unseen", "npm", "install")

	older := []string{"pkg:npm/kelp-colors@1.0.0", "pkg:pypi/soundings@1.0.0", "pkg:nuget/Openshore.Serial@1.0.0",
		"pkg:cargo/brine-codec@1.0.0", "pkg:maven/org.openshore/brine-http@1.0.0"}
	if _, err := c.Vet(t.Context(), api.NewVetting{Decision: "accepted", Patterns: older,
		Reason: "read through"}); err != nil {
		t.Fatal(err)
	}
	w.run("unseen", "npm", "install")
	says(t, w.read("unseen/package-lock.json"), `kelp-colors-1.0.0.tgz`)
	w.project("newest", map[string]string{"kelp-colors": "latest"})
	w.run("newest", "npm", "install")
	says(t, w.read("newest/package-lock.json"), `kelp-colors-1.0.0.tgz`)

	name, args := pip("download", "--no-deps", "--index-url", index, "-d", w.dir+"/wheels", "soundings")
	w.run("", name, args...)
	if _, err := os.Stat(w.dir + "/wheels/soundings-1.0.0-py3-none-any.whl"); err != nil {
		t.Errorf("pip took another version: %v", err)
	}
	name, args = nuget("install", "Openshore.Serial", "-OutputDirectory", w.dir+"/packages", "-NonInteractive")
	says(t, w.run("", name, args...), "Openshore.Serial 1.0.0")
	w.crate("crates", "ferry", "0.1.0", "pub fn x() {}\n", `brine-codec = "1"`)
	w.run("crates", "cargo", "generate-lockfile")
	says(t, w.read("crates/Cargo.lock"), "name = \"brine-codec\"\nversion = \"1.0.0\"")

	uses := func(version string) (string, error) {
		dir := m.project("uses-"+strings.ReplaceAll(version, ".", "-"), "1.0", "platform", "platform",
			"class Uses {}", "<dependency><groupId>org.openshore</groupId><artifactId>brine-http</artifactId><version>"+version+
				"</version></dependency>")
		return m.run(dir, "compile")
	}
	if out, err := uses("1.0.0"); err != nil {
		t.Errorf("mvn does not take 1.0.0: %s", out)
	}
	const why = "shore-maven keeps out pkg:maven/org.openshore/brine-http@1.1.0: nobody has decided about it yet"
	if out, err := uses("1.1.0"); err == nil || !strings.Contains(out, why) {
		t.Errorf("mvn says nothing of why 1.1.0 is kept out: %v %s", err, out)
	}
	queue, err := c.Awaiting(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	var waiting []string
	for _, n := range queue.Waiting {
		waiting = append(waiting, fmt.Sprint(n.PURL, " in ", n.Repository, " for ", n.WantedBy))
	}
	says(t, strings.Join(waiting, "\n"), "pkg:npm/kelp-colors@1.1.0 in shore-npm for [admin]",
		"pkg:maven/org.openshore/brine-http@1.1.0 in shore-maven for [admin]")

	// What is refused counts more, also of what is kept and accepted.
	if _, err := c.Vet(t.Context(), api.NewVetting{Decision: "refused", Patterns: []string{"pkg:npm/kelp-colors@1.0.0"},
		Reason: "its colours run"}); err != nil {
		t.Fatal(err)
	}
	w.environment = append(w.environment, "npm_config_cache="+w.dir+"/another-cache")
	if err := os.RemoveAll(w.dir + "/newest/node_modules"); err != nil {
		t.Fatal(err)
	}
	w.fails([]string{"403", "platform keeps out pkg:npm/kelp-colors@1.0.0: admin refused it: its colours run",
		"Take another version"}, "newest", "npm", "ci")
	if _, err := c.Vet(t.Context(), api.NewVetting{Decision: "accepted", Patterns: []string{
		"pkg:npm/kelp-colors@1.1.0", "pkg:maven/org.openshore/brine-http@1.1.0"}, Reason: "read through"}); err != nil {
		t.Fatal(err)
	}
	w.project("accepted", map[string]string{"kelp-colors": "*"})
	w.run("accepted", "npm", "install")
	says(t, w.read("accepted/package-lock.json"), `kelp-colors-1.1.0.tgz`)
}

// TestLicencesInClients: a licence that is refused keeps a version out, in the client's words.
func TestLicencesInClients(t *testing.T) {
	t.Parallel()
	h := safeHouse(t)
	w, _ := chainClients(t, h)
	allow := []string{"Apache-2.0"}
	admits(t, h, "platform", api.AdmissionChange{RefuseLicences: &[]string{"MIT"}, AllowLicences: &allow})
	w.project("uses", map[string]string{"kelp-colors": "^1.0.0"})
	w.fails([]string{"403", "platform keeps out pkg:npm/kelp-colors@1.1.0: its licence is MIT, which is refused",
		"admin can let it in"}, "uses", "npm", "install")
	admits(t, h, "platform", api.AdmissionChange{RefuseLicences: &[]string{}})
	w.fails([]string{"its licence is MIT, which nobody has allowed or refused"}, "uses", "npm", "install")
	allow = append(allow, "MIT")
	admits(t, h, "platform", api.AdmissionChange{AllowLicences: &allow})
	w.run("uses", "npm", "install")
	// What its upstream says of licences is known before it is fetched; not of all kinds of packages.
	w.crate("crates", "ferry", "0.1.0", "pub fn x() {}\n", `brine-codec = "1"`)
	w.run("crates", "cargo", "generate-lockfile")
}

// TestOnlyVettedIsPromoted: a gate stops what was built with something that nobody decided about.
func TestOnlyVettedIsPromoted(t *testing.T) {
	t.Parallel()
	h := safeHouse(t)
	for _, holds := range []string{"snapshots", "releases"} {
		if err := h.AddRepository(t.Context(), holds, holds); err != nil {
			t.Fatal(err)
		}
	}
	c := &client.Client{Server: h.Address, Token: house.Token, Agent: "crelvo-tests"}
	deck := madeup.Package{Name: "deck-ui", Version: "1.0.0-dev.1", Licence: "MIT"}
	for _, ask := range []struct{ method, path, body string }{
		{http.MethodPut, "/at/snapshots/npm/deck-ui", string(deck.NPMDocument("latest", deck.NPM()))},
		{http.MethodGet, "/at/platform/npm/kelp-colors/-/kelp-colors-1.0.0.tgz", ""}} {
		a, err := h.Ask(t.Context(), ask.method, ask.path, house.Token, strings.NewReader(ask.body), "Content-Type",
			"application/json")
		if err != nil || a.Status > 201 {
			t.Fatalf("%s: %d %s, %v", ask.path, a.Status, a.Body, err)
		}
	}
	if err := c.AddTrack(t.Context(), api.Track{Name: "ferry", Stages: []api.Stage{{Repository: "snapshots"},
		{Repository: "releases", Gates: []string{"vetted"}}}}); err != nil {
		t.Fatal(err)
	}
	asked := func() string {
		t.Helper()
		p := done(c.Promote(t.Context(), api.NewPromotion{Track: "ferry", PURLs: []string{"pkg:npm/deck-ui@1.0.0-dev.1"},
			DryRun: true}))(t)
		return fmt.Sprint(p.State, p.Answers, p.Problems)
	}
	says(t, asked(), "no build of deck-ui 1.0.0 is known")
	begun := time.Now().Add(-time.Hour) // so that what was downloaded with the token is what it used
	done(c.RecordBuild(t.Context(), api.BuildReport{Name: "deck", Number: "1", StartedAt: &begun,
		Made: []string{"pkg:npm/deck-ui@1.0.0-dev.1"}}))(t)
	says(t, asked(), "deck#1, which made deck-ui 1.0.0, used pkg:npm/kelp-colors@1.0.0, which nobody vetted")
	if b := done(c.Build(t.Context(), "deck#1"))(t); len(b.Used) != 1 || fmt.Sprint(b.Used[0].Licences,
		b.MadeIt[0].Licences) !=
		"[MIT] [MIT]" {
		t.Errorf("what was used and made has the licences %+v", b)
	}
	made := done(c.Vet(t.Context(), api.NewVetting{Decision: "accepted", Patterns: []string{"pkg:npm/kelp-colors@1.*"},
		Reason: "read through"}))(t)
	says(t, asked(), "what deck#1 used from outside was vetted")
	if err := c.EndVetting(t.Context(), made[0].ID); err != nil {
		t.Fatal(err)
	}
	yes := true
	admits(t, h, "shore-npm", api.AdmissionChange{Vetted: &yes, Accepts: &[]string{"licences MIT"}})
	says(t, asked(), "what deck#1 used from outside was vetted")
	admits(t, h, "releases", api.AdmissionChange{RefuseLicences: &[]string{"MIT"}})
	says(t, asked(), "releases keeps out deck-ui 1.0.0: its licence is MIT, which is refused")
}

// TestCheck tells of lock files what would be refused, as people and as CI systems read it.
func TestCheck(t *testing.T) {
	t.Parallel()
	h := safeHouse(t)
	c := &client.Client{Server: h.Address, Token: house.Token}
	yes := true
	admits(t, h, "shore-npm", api.AdmissionChange{Vetted: &yes})
	done(c.Vet(t.Context(), api.NewVetting{Decision: "accepted", Patterns: []string{"pkg:npm/kelp-colors@1.0.0"},
		Reason: "read through"}))(t)
	imports(t, h, strings.Replace(advisory("MAL-2026-9", "PyPI", "soundings", "1.1.0"), `"severity"`, `"x"`, 1))
	w := newWorkshop(t, "CRELVO_SERVER="+h.Address, "CRELVO_TOKEN="+house.Token)
	w.write("app/package-lock.json", []byte(`{"lockfileVersion": 3, "packages": {
"node_modules/kelp-colors": {"version": "1.1.0"},
"node_modules/old/node_modules/kelp-colors": {"version": "1.0.0"}}}`))
	w.write("app/service/requirements.txt", []byte("soundings==1.0.0\nsoundings-more==1.0.0\n"))
	w.write("app/service/node_modules/x/yarn.lock", []byte("what was installed is not read"))
	w.write("empty/notes.md", []byte("nothing"))
	w.write("good/Cargo.lock", []byte("[[package]]\nname = \"brine-codec\"\nversion = \"1.1.0\"\nsource = \"sparse+x\"\n"))

	crelvo := house.Program()
	out, _ := w.try("", crelvo, "check", "app", "--in", "platform")
	w.fails([]string{"package-lock.json (npm's lock file): of 2 packages, platform would refuse 1",
		"pkg:npm/kelp-colors@1.1.0", "awaiting", "nobody has decided about it yet",
		"requirements.txt (pip's requirements): of 2 packages, platform would refuse 2", "MAL-2026-9, malicious",
		"pkg:pypi/soundings-more@1.0.0", "not there"}, "", crelvo, "check", "app", "--in", "platform")
	if strings.Contains(out, "kelp-colors@1.0.0") {
		t.Errorf("what is let in is listed: %s", out)
	}
	says(t, w.run("", crelvo, "check", "good", "--in", "platform"), "platform lets in all of 1 package")
	w.fails([]string{"has none of the files that are known"}, "", crelvo, "check", "empty", "--in", "shore-npm")
	w.fails([]string{`"uri": "app/package-lock.json"`, `"startLine": 2`, `"ruleId": "awaiting"`, `"version": "2.1.0"`}, "",
		crelvo, "check", "app", "--in", "platform", "--report", "sarif")
	w.fails([]string{"would refuse 1"}, "", crelvo, "check", "app", "--in", "platform", "--report", "junit", "--to", "checked.xml")
	summary, err := junit.Read(strings.NewReader(w.read("checked.xml")))
	if err != nil || summary.Tests != 4 || summary.Failed != 3 {
		t.Errorf("the report is %+v, %v: %s", summary, err, w.read("checked.xml"))
	}

	tab, do := openConsole(t)
	if err := browser.SignIn(tab, h.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(h.Address+"/safety/check"), browser.ShowsText("Choose a lock file", "platform"),
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{w.dir + "/app/package-lock.json"}),
		browser.ShowsText("1 of 2 packages would be refused", "npm/kelp-colors@1.1.0", "nobody has decided about it yet"),
		browser.ClickText("Ask for it…"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] [name=purpose]")),
		typeInto("[role=dialog] [name=purpose]", "the tide table"), chromedp.Evaluate[chromedp.Void](
			`document.querySelector("[role=dialog] button[type=submit]").click()`), chromedp.WaitNotPresent(
			chromedp.CSS("[role=dialog]")),
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{w.dir + "/good/Cargo.lock"}),
		browser.ShowsText("nothing of 1 package would be refused"),
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{w.dir + "/app/service/node_modules/x/yarn.lock"}),
		browser.ShowsText("it says neither which form it has"))
	queue := done(c.Awaiting(t.Context(), "shore-npm"))(t)
	if len(queue.Waiting) != 1 || queue.Waiting[0].Purpose != "the tide table" {
		t.Errorf("the queue of the mirror behind the chain is %+v", queue)
	}
}

// TestConsoleVetting decides about what somebody wants, takes that back, and sees who did.
func TestConsoleVetting(t *testing.T) {
	h := safeHouse(t)
	c := &client.Client{Server: h.Address, Token: house.Token}
	yes := true
	admits(t, h, "shore-npm", api.AdmissionChange{Vetted: &yes, Accepts: &[]string{"older-than 3650d, licences MIT"}})
	if _, err := c.AskForVetting(t.Context(), api.VettingWish{Repository: "shore-npm", PURL: "pkg:npm/kelp-colors@1.1.0",
		Purpose: "the tide table"}); err != nil {
		t.Fatal(err)
	}
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, h.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	see, click := browser.ShowsText, browser.ClickText
	submit := chromedp.Evaluate[chromedp.Void](`document.querySelector("[role=dialog] button[type=submit]").click()`)
	do(chromedp.Navigate(h.Address+"/safety/vetting"), see("npm/kelp-colors@1.1.0", "nobody has decided about it yet",
		"for the tide table"), click("Decide…"), see("It is kept out", "older-than 3650d", "its licence is MIT"),
		typeInto("[role=dialog] [name=reason]", "read through"), submit,
		see("Nothing awaits a decision"))
	do(click("Decisions"), see("accepted", "npm/kelp-colors@1.1.0", "shore-npm", "read through"), click("End…"),
		see("End the decision about npm/kelp-colors@1.1.0?"), click("End it"), see("Nobody has decided about anything"))
	// Who looks at it sees without doing anything what somebody decides elsewhere.
	if _, err := c.Vet(t.Context(), api.NewVetting{Decision: "refused", Patterns: []string{"pkg:npm/wrack-*"},
		Reason: "too much wrack"}); err != nil {
		t.Fatal(err)
	}
	do(see("pkg:npm/wrack-*", "refused", "all repositories", "too much wrack"))
	do(chromedp.Navigate(h.Address+"/activity"), see("vetted", "vetting ended", "vetting wanted"))
}

// TestVettedInPNPMAndYarn: pnpm, Yarn 1 and Yarn 4 take the best version that is let in; what a lock
// file names and is kept out is refused, in the words of each; and what pnpm and Yarn 4 audit tells of
// an advisory. (Yarn 1 asks nobody but its own registry.)
func TestVettedInPNPMAndYarn(t *testing.T) {
	t.Parallel()
	h := safeHouse(t)
	w, _ := chainClients(t, h)
	c := &client.Client{Server: h.Address, Token: house.Token}
	yes := true
	admits(t, h, "shore-npm", api.AdmissionChange{Vetted: &yes})
	decide := func(decision string, patterns ...string) {
		t.Helper()
		if _, err := c.Vet(t.Context(), api.NewVetting{Decision: decision, Patterns: patterns,
			Reason: "read through"}); err != nil {
			t.Fatal(err)
		}
	}
	clients := []struct {
		name, program   string
		install, frozen []string
	}{
		{"pnpm", fromNPM("pnpm/bin/pnpm.cjs"), []string{"install", "--no-frozen-lockfile"},
			[]string{"install", "--frozen-lockfile", "--force"}},
		{"yarn1", fromNPM("yarn/bin/yarn.js"), []string{"install", "--non-interactive"},
			[]string{"install", "--frozen-lockfile", "--check-files", "--non-interactive"}},
		{"yarn4", fromNPM("@yarnpkg/cli-dist/bin/yarn.js"), []string{"install", "--no-immutable"},
			[]string{"install", "--immutable"}},
	}
	project := func(folder string, needs map[string]string) {
		w.project(folder, needs)
		if strings.HasPrefix(folder, "yarn4") {
			w.write(folder+"/yarn.lock", nil)
			w.write(folder+"/.yarnrc.yml", []byte("npmRegistryServer: \""+h.Address+"/at/platform/npm/"+
				"\"\nunsafeHttpWhitelist: [\"127.0.0.1\"]\nnpmAuthToken: \""+house.Token+"\"\nnpmAlwaysAuth: true\n"+
				"npmMinimalAgeGate: 0\nnodeLinker: node-modules\nenableTelemetry: false\nenableGlobalCache: false\n"))
		} else {
			w.write(folder+"/.npmrc", []byte("always-auth=true\n"))
		}
	}
	has := func(folder, version string) {
		t.Helper()
		says(t, w.read(folder+"/node_modules/kelp-colors/package.json"), `"`+version+`"`)
	}
	decide("accepted", "pkg:npm/kelp-colors@1.0.0")
	for _, one := range clients {
		project(one.name+"-range", map[string]string{"kelp-colors": "^1.0.0"})
		w.run(one.name+"-range", "node", append([]string{one.program}, one.install...)...)
		has(one.name+"-range", "1.0.0")
	}
	decide("accepted", "pkg:npm/kelp-colors@1.1.0")
	for _, one := range clients {
		project(one.name+"-locked", map[string]string{"kelp-colors": "1.1.0"})
		w.run(one.name+"-locked", "node", append([]string{one.program}, one.install...)...)
		has(one.name+"-locked", "1.1.0")
	}
	imports(t, h, advisory("ISLE-1", "npm", "kelp-colors", "2.0.0"))
	w.fails([]string{"critical", "ISLE-1"}, "pnpm-locked", "node", clients[0].program, "audit")
	out, err := w.try("yarn4-locked", "node", clients[2].program, "npm", "audit")
	if err == nil || !strings.Contains(out, "Anybody can read what kelp-colors writes") {
		t.Errorf("yarn npm audit ends with %v: %s", err, out)
	}
	decide("refused", "pkg:npm/kelp-colors@1.1.0")
	for _, one := range clients {
		for _, left := range []string{"/node_modules", "/.yarn"} {
			if err := os.RemoveAll(w.dir + "/" + one.name + "-locked" + left); err != nil {
				t.Fatal(err)
			}
		}
		w.environment = append(w.environment, "YARN_CACHE_FOLDER="+w.dir+"/new-"+one.name, "XDG_DATA_HOME="+w.dir+"/new-data",
			"XDG_CACHE_HOME="+w.dir+"/new-cache", "npm_config_store_dir="+w.dir+"/new-store")
		why := []string{"403", "platform keeps out pkg:npm/kelp-colors@1.1.0: admin refused it: read through"}
		if one.name == "yarn1" {
			why = why[:1] // it shows neither the body nor the words of the status line
		}
		w.fails(why, one.name+"-locked", "node", append([]string{one.program}, one.frozen...)...)
	}
}
