package e2e

import (
	"fmt"
	"maps"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// advisory is a record of the OSV format: versions of a package before a fix are affected.
func advisory(id, ecosystem, name, fixed string) string {
	return fmt.Sprintf(`{"id": %q, "modified": "2026-11-01T08:00:00Z", "summary": "Anybody can read what %s writes",
		"severity": [{"type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}],
		"affected": [{"package": {"ecosystem": %q, "name": %q},
		"ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"},
			{"fixed": %q}]}]}]}`, id, name, ecosystem, name, fixed)
}

// safeHouse is a service whose mirrors have two versions of a package of each ecosystem, a
// newer one of which an advisory is about, and one chain before them.
func safeHouse(t *testing.T) *house.House {
	t.Helper()
	h := ownHouse(t)
	two := func(name string) []madeup.Package {
		return []madeup.Package{{Name: name, Version: "1.0.0", Description: "Packs", Licence: "MIT", Author: "Open Shore"},
			{Name: name, Version: "1.1.0", Description: "Packs", Licence: "MIT", Author: "Open Shore"}}
	}
	content := brine(t, "1.0.0", "1.1.0")
	names := map[string]string{"npm": "kelp-colors", "pypi": "soundings", "nuget": "Openshore.Serial", "cargo": "brine-codec"}
	for ecosystem, name := range names {
		maps.Copy(content, demo.Shelves[ecosystem](ecosystem+"/", two(name)...))
	}
	_, public := shore(t, content)
	members := []string{}
	for _, ecosystem := range []string{"maven", "npm", "pypi", "nuget", "cargo"} {
		members = append(members, "shore-"+ecosystem)
		if err := h.AddMirrorOf(t.Context(), ecosystem, "shore-"+ecosystem, public+demo.ShorePaths[ecosystem],
			quick); err != nil {
			t.Fatal(err)
		}
	}
	if err := h.AddChain(t.Context(), "platform", members...); err != nil {
		t.Fatal(err)
	}
	return h
}

// imports puts advisories on record.
func imports(t *testing.T, h *house.House, records ...string) {
	t.Helper()
	a, err := h.Ask(t.Context(), http.MethodPost, "/api/v1/advisories?name=ours.json", house.Token,
		strings.NewReader("["+strings.Join(records, ",")+"]"), "Content-Type", "application/octet-stream")
	if err != nil || a.Status != 200 {
		t.Fatalf("importing: %d %s, %v", a.Status, a.Body, err)
	}
}

// refuse says how bad advisories must be for a repository to keep out what they are about.
func refuse(t *testing.T, h *house.House, repository, severity string) {
	t.Helper()
	a, err := h.JSON(t.Context(), http.MethodPatch, "/api/v1/repositories/"+repository,
		map[string]string{"refuse": severity}, nil)
	if err != nil || a.Status != 200 {
		t.Fatalf("changing %s: %d %s, %v", repository, a.Status, a.Body, err)
	}
}

// chainClients are clients of npm, pip, NuGet and cargo that know the chain platform and no other
// place, and the index that pip is told.
func chainClients(t *testing.T, h *house.House) (w *workshop, index string) {
	t.Helper()
	at := func(ecosystem string) string { return h.Address + "/at/platform/" + ecosystem + "/" }
	w = newWorkshop(t, append(rust(), "PIP_CONFIG_FILE="+os.DevNull, "PIP_DISABLE_PIP_VERSION_CHECK=1", "PIP_NO_CACHE_DIR=1",
		"PIP_ROOT_USER_ACTION=ignore")...)
	w.write("home/.npmrc", []byte("registry="+at("npm")+"\n"+strings.TrimPrefix(at("npm"),
		"http:")+":_authToken="+house.Token+
		"\nfund=false\nupdate-notifier=false\n"))
	w.write("home/.cargo/config.toml", []byte("[source.crates-io]\nreplace-with = \"platform\"\n[source.platform]\nregistry = \"sparse+"+
		at("cargo")+"\"\n[registry]\nglobal-credential-providers = [\"cargo:token\"]\n[registries.platform]\nindex = \"sparse+"+
		at("cargo")+"\"\n"))
	w.write("home/.cargo/credentials.toml", []byte("[registries.platform]\ntoken = \""+house.Token+"\"\n"))
	config := `<configuration><packageSources><clear/><add key="platform" value="` + at("nuget") +
		`index.json" protocolVersion="3"/></packageSources><packageSourceCredentials><platform><add key="Username" ` +
		`value="admin"/><add key="ClearTextPassword" value="` + house.Token + `"/></platform></packageSourceCredentials></configuration>`
	for _, file := range []string{"home/.nuget/NuGet/NuGet.Config", "home/.config/NuGet/NuGet.Config"} {
		w.write(file, []byte(config))
	}
	return w, strings.Replace(at("pypi"), "http://", "http://admin:"+house.Token+"@", 1) + "simple/"
}

// TestKeptOutInClients: what an advisory is about is not resolved to any more, and whoever
// asks for it by its version is told why, in the client's own words; each client takes the
// next best version by itself.
func TestKeptOutInClients(t *testing.T) {
	t.Parallel()
	h := safeHouse(t)
	w, index := chainClients(t, h)
	m := newMavenAt(t, h.Address, house.Token, "platform")
	pnpm := fromNPM("pnpm/bin/pnpm.cjs")

	w.project("unknown", map[string]string{"kelp-colors": "1.1.0"})
	w.run("unknown", "npm", "install")
	w.fails([]string{"nothing was looked up", "crelvo advisory feed add"}, "unknown", "npm", "audit")

	imports(t, h, advisory("ISLE-1", "npm", "kelp-colors", "9.9.9"), advisory("ISLE-2", "PyPI", "soundings", "9.9.9"),
		advisory("ISLE-3", "NuGet", "Openshore.Serial", "9.9.9"), advisory("ISLE-4", "crates.io", "brine-codec", "9.9.9"),
		advisory("ISLE-5", "Maven", "org.openshore:brine-http", "9.9.9"))
	w.fails([]string{"Severity: critical", "Anybody can read what kelp-colors writes (ISLE-1)"}, "unknown", "npm", "audit")
	w.run("unknown", "node", pnpm, "install", "--no-frozen-lockfile")
	w.fails([]string{"critical", "ISLE-1", "1 vulnerabilities found"}, "unknown", "node", pnpm, "audit")

	// The older version is accepted, so that it is the next best.
	for i, p := range []string{"npm/kelp-colors", "pypi/soundings", "nuget/Openshore.Serial", "cargo/brine-codec",
		"maven/org.openshore/brine-http"} {
		a, err := h.JSON(t.Context(), http.MethodPost, "/api/v1/waivers",
			map[string]string{"advisory": fmt.Sprint("ISLE-", i+1),
				"pattern": "pkg:" + p + "@1.0.0", "reason": "only on our own input"}, nil)
		if err != nil || a.Status != 200 {
			t.Fatalf("a waiver: %d %s, %v", a.Status, a.Body, err)
		}
		refuse(t, h, "shore-"+strings.SplitN(p, "/", 2)[0], "high")
	}
	const why = "critical (9.8): Anybody can read what"

	w.project("pinned", map[string]string{"kelp-colors": "1.1.0"})
	w.fails([]string{"No matching version found for kelp-colors@1.1.0"}, "pinned", "npm", "install")
	w.project("ranged", map[string]string{"kelp-colors": "^1.0.0"})
	w.run("ranged", "npm", "install")
	says(t, w.read("ranged/package-lock.json"), `kelp-colors-1.0.0.tgz`)
	if out := w.run("ranged", "npm", "audit"); !strings.Contains(out, "found 0 vulnerabilities") {
		t.Errorf("what is accepted is told by npm audit: %s", out)
	}
	// A lock file names the file itself.
	if err := os.RemoveAll(w.dir + "/unknown/node_modules"); err != nil {
		t.Fatal(err)
	}
	w.environment = append(w.environment, "npm_config_cache="+w.dir+"/another-cache")
	w.fails([]string{"403", "shore-npm keeps out pkg:npm/kelp-colors@1.1.0: ISLE-1, " + why}, "unknown", "npm", "ci")
	w.project("newest", map[string]string{"kelp-colors": "latest"})
	w.run("newest", "npm", "install")
	says(t, w.read("newest/package-lock.json"), `kelp-colors-1.0.0.tgz`)

	name, args := pip("download", "--no-deps", "--index-url", index, "-d", w.dir+"/wheels", "soundings")
	w.run("", name, args...)
	if _, err := os.Stat(w.dir + "/wheels/soundings-1.0.0-py3-none-any.whl"); err != nil {
		t.Errorf("pip took another version: %v", err)
	}
	name, args = pip("download", "--no-deps", "--index-url", index, "-d", w.dir+"/wheels", "soundings==1.1.0")
	w.fails([]string{"No matching distribution found for soundings==1.1.0"}, "", name, args...)

	name, args = nuget("install", "Openshore.Serial", "-OutputDirectory", w.dir+"/packages", "-NonInteractive")
	says(t, w.run("", name, args...), "Openshore.Serial 1.0.0")
	name, args = nuget("install", "Openshore.Serial", "-Version", "1.1.0", "-OutputDirectory", w.dir+"/more", "-NonInteractive")
	w.fails([]string{"Openshore.Serial 1.1.0", "not found"}, "", name, args...)

	w.crate("crates", "ferry", "0.1.0", "pub fn x() {}\n", `brine-codec = "1"`)
	w.run("crates", "cargo", "generate-lockfile")
	says(t, w.read("crates/Cargo.lock"), "name = \"brine-codec\"\nversion = \"1.0.0\"")
	w.crate("pinned-crate", "ferry", "0.1.0", "pub fn x() {}\n", `brine-codec = "=1.1.0"`)
	w.fails([]string{"brine-codec"}, "pinned-crate", "cargo", "generate-lockfile")

	for version, want := range map[string]string{"1.1.0": "keeps out pkg:maven/org.openshore/brine-http@1.1.0", "1.0.0": ""} {
		dir := m.project("uses-"+strings.ReplaceAll(version, ".", "-"), "1.0", "platform", "platform",
			"class Uses {}", "<dependency><groupId>org.openshore</groupId><artifactId>brine-http</artifactId><version>"+version+
				"</version></dependency>")
		out, err := m.run(dir, "compile")
		if want == "" && err != nil {
			t.Errorf("mvn does not take %s: %s", version, out)
		}
		if want != "" && (err == nil || !strings.Contains(out, want)) {
			t.Errorf("mvn says nothing of why %s is kept out: %v %s", version, err, out)
		}
	}

	imports(t, h, strings.Replace(advisory("MAL-2026-9", "npm", "kelp-colors", "9.9.9"), `"severity"`, `"x"`, 1))
	w.project("evil", map[string]string{"kelp-colors": "^1.0.0"})
	w.fails([]string{"403", "MAL-2026-9, malicious"}, "evil", "npm", "install")
}

// TestConsoleSafety adds a feed that is a folder, sees what it is about, accepts it, and takes
// that back; whoever looks at the page sees it without doing anything.
func TestConsoleSafety(t *testing.T) {
	h := ownHouse(t)
	if err := h.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	kelp := madeup.Package{Name: "kelp-colors", Version: "1.0.0", Licence: "MIT"}
	a, err := h.Ask(t.Context(), http.MethodPut, "/at/releases/npm/kelp-colors", house.Token,
		strings.NewReader(string(kelp.NPMDocument("latest", kelp.NPM()))), "Content-Type", "application/json")
	if err != nil || a.Status != 201 {
		t.Fatalf("publishing: %d %s, %v", a.Status, a.Body, err)
	}
	feed := t.TempDir()
	if err := os.WriteFile(feed+"/one.json", []byte(advisory("ISLE-1", "npm", "kelp-colors", "2.0.0")),
		0o644); err != nil {
		t.Fatal(err)
	}
	tab, do := openConsole(t)
	see, click := browser.ShowsText, browser.ClickText
	page := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(h.Address + path) }
	field := func(name string) string { return "[role=dialog] [name=" + name + "]" }
	submit := chromedp.Evaluate[chromedp.Void](`document.querySelector("[role=dialog] button[type=submit]").click()`)
	if err := browser.SignIn(tab, h.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(page("/safety"), see("No advisories are known here", "says nothing of any package"))
	do(page("/safety/feeds"), see("Nothing brings advisories"), click("New feed"),
		chromedp.WaitVisible(chromedp.CSS(field("name"))), typeInto(field("name"), "ours"),
		typeInto(field("location"), "relative"), submit, see("neither an address nor the whole path"),
		chromedp.Evaluate[chromedp.Void](`document.querySelector("[role=dialog] [name=location]").select()`),
		typeInto(field("location"), feed), submit, see("1 new, 0 changed of 1 record"))
	do(page("/safety"), see("1 version kept here", "ISLE-1", "critical 9.8", "npm/kelp-colors@1.0.0", "handed out"))
	refuse(t, h, "releases", "high")
	do(see("kept out")) // by itself
	do(page("/package/npm/kelp-colors"), see("ISLE-1", "mended in 2.0.0", "releases keeps it out: ISLE-1, critical"))
	do(page("/safety/advisories/ISLE-1"), see("Anybody can read what kelp-colors writes", "< 2.0.0", "Kept here"),
		click("Accept…"), chromedp.WaitVisible(chromedp.CSS(field("reason"))),
		typeInto(field("reason"), "only our own input"), submit, see("only our own input"), see("accepted"))
	do(page("/safety/accepted"), see("ISLE-1", "pkg:npm/kelp-colors@1.0.0", "somebody ends it"), click("End…"),
		see("End the waiver of ISLE-1?"), click("End it"), see("No advisory is accepted for anything"))
	vex := feed + "/ferry.openvex"
	if err := os.WriteFile(vex, []byte(`{"@context": "https://openvex.dev/ns/v0.2.0", "statements": [
		{"vulnerability": {"name": "ISLE-1"}, "products": [{"@id": "pkg:npm/kelp-colors@1.0.0"}], "status": "not_affected",
			"justification": "vulnerable_code_not_in_execute_path", "impact_statement": "it is never called"},
		{"vulnerability": {"name": "ISLE-77"}, "products": [{"@id": "pkg:npm/wrack"}],
			"status": "fixed"}]}`), 0o644); err != nil {
		t.Fatal(err)
	}
	do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{vex}), see("1 waiver made, 0 there already",
		`ISLE-77 passed over: no advisory "ISLE-77" is known`, "it is never called"))
	c := &client.Client{Server: h.Address, Token: house.Token}
	for form, says := range map[string]string{"openvex": "vulnerable_code_not_in_execute_path", "cyclonedx": "code_not_reachable"} {
		if raw, err := c.ExportVEX(t.Context(), form); err != nil || !strings.Contains(string(raw), says) ||
			!strings.Contains(string(raw), "pkg:npm/kelp-colors@1.0.0") {
			t.Errorf("as %s it is %s, %v", form, raw, err)
		}
	}
	if again := done(c.ImportVEX(t.Context(), strings.NewReader(string(done(c.ExportVEX(t.Context(),
		"openvex"))(t)))))(t); again.Already != 1 || len(again.Made) != 0 {
		t.Errorf("what was exported makes %+v", again)
	}
	do(page("/safety/advisories?words=nothing"), see("None fits"), page("/safety/advisories?words=kelp"), see("ISLE-1"))
	do(page("/safety/feeds"), see("ours"), click("Remove…"), see("The advisories that it brought stay"),
		click("Remove it"),
		see("Nothing brings advisories"))
	do(page("/repositories/releases/settings"), see("what has a high or critical advisory, too"))
	do(page("/activity"), see("waiver made", "waiver ended", "feed added", "feed removed", "advisory arrived"))
}

// TestAdvisedIsNotPromoted: a gate stops what advisories are about and no waiver accepts; what
// is malicious goes nowhere, gates or not.
func TestAdvisedIsNotPromoted(t *testing.T) {
	t.Parallel()
	h := ownHouse(t)
	for _, holds := range []string{"snapshots", "releases"} {
		if err := h.AddRepository(t.Context(), holds, holds); err != nil {
			t.Fatal(err)
		}
	}
	deck := madeup.Package{Name: "deck-ui", Version: "1.0.0-dev.1", Licence: "MIT"}
	a, err := h.Ask(t.Context(), http.MethodPut, "/at/snapshots/npm/deck-ui", house.Token,
		strings.NewReader(string(deck.NPMDocument("latest", deck.NPM()))), "Content-Type", "application/json")
	if err != nil || a.Status != 201 {
		t.Fatalf("publishing: %d %s, %v", a.Status, a.Body, err)
	}
	c := &client.Client{Server: h.Address, Token: house.Token, Agent: "crelvo-tests"}
	if err := c.AddTrack(t.Context(), api.Track{Name: "ferry", Stages: []api.Stage{{Repository: "snapshots"},
		{Repository: "releases", Gates: []string{"no-advisories from high"}}}}); err != nil {
		t.Fatal(err)
	}
	// asked is what a dry run says.
	asked := func() string {
		t.Helper()
		p := done(c.Promote(t.Context(), api.NewPromotion{Track: "ferry", PURLs: []string{"pkg:npm/deck-ui@1.0.0-dev.1"},
			DryRun: true}))(t)
		return fmt.Sprint(p.State, p.Answers, p.Problems)
	}
	says(t, asked(), "no advisories are known here")
	imports(t, h, advisory("ISLE-1", "npm", "kelp-colors", "2.0.0"))
	says(t, asked(), "nothing that is known is about deck-ui 1.0.0")
	imports(t, h, advisory("ISLE-2", "npm", "deck-ui", "2.0.0"))
	says(t, asked(), "fail", "deck-ui 1.0.0: ISLE-2, critical (9.8)")
	done(c.MakeWaiver(t.Context(), api.NewWaiver{Advisory: "ISLE-2", Pattern: "pkg:npm/deck-ui", Reason: "only ours"}))(t)
	says(t, asked(), "nothing that is known is about deck-ui 1.0.0")
	imports(t, h, advisory("MAL-2026-7", "npm", "deck-ui", "2.0.0"))
	says(t, asked(), "snapshots keeps out deck-ui 1.0.0-dev.1: MAL-2026-7, malicious")
	if err := c.EditTrack(t.Context(), api.Track{Name: "ferry", Stages: []api.Stage{{Repository: "snapshots"},
		{Repository: "releases"}}}); err != nil {
		t.Fatal(err)
	}
	p := done(c.Promote(t.Context(), api.NewPromotion{Track: "ferry", PURLs: []string{"pkg:npm/deck-ui@1.0.0-dev.1"}}))(t)
	if p.State != "failed" || !strings.Contains(p.Why, "MAL-2026-7") {
		t.Errorf("what is malicious is promoted: %s, %q", p.State, p.Why)
	}
}
