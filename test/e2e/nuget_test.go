package e2e

import (
	"fmt"
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// newNuGet is a workshop whose NuGet client uses repositories.
func newNuGet(t *testing.T, repositories ...string) *workshop {
	t.Helper()
	if _, err := exec.LookPath("mono"); err != nil {
		t.Fatal("mono is missing; make test installs it")
	}
	w := newWorkshop(t)
	var sources, secrets strings.Builder
	for _, r := range repositories {
		name, _, _ := strings.Cut(r, "@")
		sources.WriteString(`<add key="` + name + `" value="` + address(r, "nuget") + `index.json" protocolVersion="3"/>`)
		secrets.WriteString("<" + name + `><add key="Username" value="admin"/><add key="ClearTextPassword" value="` +
			house.Token + `"/></` + name + ">")
	}
	config := "<configuration><packageSources><clear/>" + sources.String() +
		"</packageSources><packageSourceCredentials>" + secrets.String() + "</packageSourceCredentials></configuration>"
	for _, at := range []string{"home/.nuget/NuGet/NuGet.Config", "home/.config/NuGet/NuGet.Config"} {
		w.write(at, []byte(config))
	}
	return w
}

func nuget(args ...string) (string, []string) {
	return "mono", append([]string{fromNPM("nuget-exe/nuget-5.8.0.exe")}, args...)
}

func (w *workshop) nuget(args ...string) string {
	w.t.Helper()
	name, args := nuget(append(args, "-NonInteractive")...)
	return w.run("", name, args...)
}

func turnstile(version string) madeup.Package {
	return madeup.Package{Name: "Skerry.TurnstileLink", Version: version, Description: "Talks to turnstiles",
		Licence: "MIT", Author: "Deck Hands"}
}

// TestNuGet does with the real client what people do with it.
func TestNuGet(t *testing.T) {
	t.Parallel()
	_, _, mirror := shelf(t, "nuget", madeup.Package{Name: "Openshore.Serial", Version: "2.0.0", Licence: "MIT",
		Author: "x"}, madeup.Package{Name: "Openshore.Serial", Version: "2.1.0", Licence: "MIT", Author: "x"})
	releases := repository(t, "releases")
	chain := addChain(t, releases, mirror)
	w := newNuGet(t, releases, chain)
	first := turnstile("1.4.0")
	first.Needs = map[string]string{"Openshore.Serial": "2.0"}
	w.write("a.nupkg", first.NuGet())
	withSymbols := first
	withSymbols.PackageType = "SymbolsPackage"
	w.write("a.snupkg", withSymbols.NuGet())
	push := func(file string) (string, []string) {
		return nuget("push", w.dir+"/"+file, "-Source", releases, "-ApiKey", house.Token, "-NonInteractive")
	}
	name, args := push("a.nupkg")
	w.run("", name, args...)
	w.run("", name, args...) // the same bytes again are no mistake
	other := turnstile("1.4.0")
	other.Description = "Another"
	w.write("other.nupkg", other.NuGet())
	name, args = push("other.nupkg")
	w.fails([]string{"409", "1.4.0 was published by admin on", "The next free version is 1.4.1"}, "", name, args...)
	w.write("dev.nupkg", turnstile("1.5.0-dev.7").NuGet())
	name, args = push("dev.nupkg")
	w.fails([]string{"holds releases, and 1.5.0-dev.7 is a snapshot"}, "", name, args...)
	name, args = push("dev.nupkg")
	w.fails([]string{"422"}, "", name, append(args, "-SkipDuplicate")...) // it is not there already
	name, args = push("other.nupkg")
	w.run("", name, append(args, "-SkipDuplicate")...)
	a, err := shared.Ask(t.Context(), http.MethodPut, "/at/"+releases+"/nuget/symbols", "",
		strings.NewReader(string(withSymbols.NuGet())), "X-NuGet-ApiKey", house.Token)
	if err != nil || a.Status != 201 {
		t.Errorf("pushing symbols: %d %s, %v", a.Status, a.Reason, err)
	}
	must(t, http.MethodGet, "/at/"+releases+"/nuget/flat/skerry.turnstilelink/1.4/skerry.turnstilelink.1.4.snupkg", "",
		200)

	if out := w.nuget("search", "turnstile", "-Source", releases); !strings.Contains(out, "Skerry.TurnstileLink | 1.4.0") {
		t.Errorf("search says %s", out)
	}
	if out := w.nuget("install", "Skerry.TurnstileLink", "-Source", chain, "-OutputDirectory", "packages",
		"-DependencyVersion", "Highest"); !strings.Contains(out, "Successfully installed 'Skerry.TurnstileLink 1.4.0'") {
		t.Errorf("install says %s", out)
	}
	w.read("packages/Openshore.Serial.2.1.0/lib/net45/Openshore.Serial.txt")
	w.write("packages.config",
		[]byte(`<packages><package id="Skerry.TurnstileLink" version="1.4.0" targetFramework="net45"/><package id="Openshore.Serial" version="2.0.0" targetFramework="net45"/></packages>`))
	w.nuget("restore", "packages.config", "-PackagesDirectory", "restored", "-Source", chain, "-NoCache")
	w.read("restored/Openshore.Serial.2.0.0/lib/net45/Openshore.Serial.txt")

	// Deleted is unlisted: not found, and still restored.
	w.nuget("delete", "Skerry.TurnstileLink", "1.4.0", "-Source", releases, "-ApiKey", house.Token)
	if out := w.nuget("search", "turnstile", "-Source", releases); strings.Contains(out, "Skerry.TurnstileLink") {
		t.Errorf("unlisted, it is still found: %s", out)
	}
	w.nuget("restore", "packages.config", "-PackagesDirectory", "again", "-Source", chain, "-NoCache")
	must(t, http.MethodPost, "/at/"+releases+"/nuget/package/Skerry.TurnstileLink/1.4.0", "", 200)
	if out := w.nuget("search", "turnstile", "-Source", releases); !strings.Contains(out, "Skerry.TurnstileLink | 1.4.0") {
		t.Errorf("listed again, it is not found: %s", out)
	}
	if list := must(t, http.MethodGet, "/at/"+releases+"/nuget/autocomplete?q=skerry", "",
		200); !strings.Contains(string(list.Body), `"Skerry.TurnstileLink"`) {
		t.Errorf("%s", list.Body)
	}
	if list := must(t, http.MethodGet, "/at/"+chain+"/nuget/flat/openshore.serial/index.json", "",
		200); !strings.Contains(string(list.Body), `["2.0.0","2.1.0"]`) {
		t.Errorf("%s", list.Body)
	}
}

// TestNuGetAsOf installs what there was at a moment.
func TestNuGetAsOf(t *testing.T) {
	releases := repository(t, "both")
	publishMade(t, releases, "nuget", turnstile("1.4.0"))
	then := publishedAt(t, releases, "pkg:nuget/Skerry.TurnstileLink@1.4.0").Add(time.Microsecond)
	waitPast(t, then)
	publishMade(t, releases, "nuget", turnstile("1.5.0"))
	old := asOf(releases, then)
	w := newNuGet(t, old)
	if out := w.nuget("install", "Skerry.TurnstileLink", "-Source", releases, "-OutputDirectory",
		"packages"); !strings.Contains(out, "Skerry.TurnstileLink 1.4.0") {
		t.Errorf("install says %s", out)
	}
}

// TestTheAttack: a name of the house, with a higher version upstream, is not
// answered by the mirror, in any ecosystem, though the mirror stands first.
func TestTheAttack(t *testing.T) {
	for ecosystem, c := range map[string]struct {
		ours          madeup.Package
		purl          string
		list, file    string // of the strange version
		claimed       string // a pattern for the name
		listedVersion string
	}{
		"npm": {deckUI("1.0.0"), "pkg:npm/%2540skerry/deck-ui", "@skerry/deck-ui", "@skerry/deck-ui/-/deck-ui-99.0.0.tgz",
			"pkg:npm/@skerry/*", "1.0.0"},
		"pypi": {tidecast("1.0.0"), "pkg:pypi/tidecast", "simple/tidecast/", "files/tidecast/99.0.0/" +
			tidecast("99.0.0").WheelName(), "pkg:pypi/Tide_cast*", "1.0.0"},
		"nuget": {turnstile("1.0.0"), "pkg:nuget/Skerry.TurnstileLink", "registration/skerry.turnstilelink/index.json",
			"flat/skerry.turnstilelink/99.0.0/skerry.turnstilelink.99.0.0.nupkg", "pkg:nuget/Skerry.*", "1.0.0"},
	} {
		t.Run(ecosystem, func(t *testing.T) {
			strange := c.ours
			strange.Version = "99.0.0"
			u, _, mirror := shelf(t, ecosystem, strange)
			releases := repository(t, "releases")
			chain := addChain(t, mirror, releases)
			publishMade(t, releases, ecosystem, c.ours)
			before := len(u.Requests())
			at := "/at/" + chain + "/" + ecosystem + "/"
			list := string(must(t, http.MethodGet, at+c.list, "", 200).Body)
			if strings.Contains(list, "99.0.0") || !strings.Contains(list, c.listedVersion) {
				t.Errorf("the list is %s", list)
			}
			must(t, http.MethodGet, at+c.file, "", 404)
			if after := len(u.Requests()); after != before {
				t.Errorf("the upstream was asked: %v", u.Requests())
			}
			if got := said(explain(t, chain, c.purl+"@99.0.0")); got != "claimed elsewhere, not here" {
				t.Errorf("explain says %s", got)
			}
			// Without our own, the mirror answers: what is claimed is the name, not the file.
			must(t, http.MethodGet, "/at/"+mirror+"/"+ecosystem+"/"+c.file, "", 200)
		})
	}
	// By a pattern alone, in another spelling, before anything was published.
	_, _, mirror := shelf(t, "nuget", madeup.Package{Name: "Skerry.Unheard", Version: "1.0.0", Author: "x"})
	chain := addChain(t, mirror)
	a, err := shared.JSON(t.Context(), http.MethodPost, "/api/v1/claims",
		map[string]any{"pattern": "pkg:nuget/SKERRY.Unheard*", "reason": "ours"}, nil)
	if err != nil || a.Status >= 300 {
		t.Fatalf("%d %s %v", a.Status, a.Body, err)
	}
	must(t, http.MethodGet, "/at/"+chain+"/nuget/registration/skerry.unheard/index.json", "", 404)
}

// TestBadCopies: what is not what the upstream's list says is not kept and not
// served, in any ecosystem.
func TestBadCopies(t *testing.T) {
	for ecosystem, c := range map[string]struct {
		p           madeup.Package
		path, asked string
	}{
		"npm": {madeup.Package{Name: "kelp-colors", Version: "3.0.0"}, "kelp-colors/-/kelp-colors-3.0.0.tgz",
			"kelp-colors-3.0.0.tgz"},
		"pypi": {madeup.Package{Name: "soundings", Version: "2.4.0"},
			"files/soundings/2.4.0/soundings-2.4.0-py3-none-any.whl", "none-any.whl"},
		"nuget": {madeup.Package{Name: "Openshore.Serial", Version: "2.1.0", Author: "x"},
			"flat/openshore.serial/2.1.0/openshore.serial.2.1.0.nupkg", "2.1.0.nupkg"},
	} {
		t.Run(ecosystem, func(t *testing.T) {
			u, _, mirror := shelf(t, ecosystem, c.p)
			at := "/at/" + mirror + "/" + ecosystem + "/" + c.path
			for _, kind := range []string{"wrong-bytes", "cut", "page", "error"} {
				switchTo(t, u, demo.Fault{Kind: kind, Path: c.asked})
				if a := ask(t, http.MethodGet, at, ""); a.Status != 503 {
					t.Errorf("%s: %d %s", kind, a.Status, a.Body)
				}
				switchTo(t, u)
				eventually(t, 15*time.Second, "the mirror tries again", func() bool {
					return mirrorState(t, mirror).Contacts[0].RetryAt == nil
				})
			}
			must(t, http.MethodGet, at, "", 200)
			// Kept, it does not need its upstream any more.
			switchTo(t, u, demo.Fault{Kind: "gone"})
			must(t, http.MethodGet, at, "", 200)
		})
	}
}

// TestLateSymbols: the symbols of a development version stand beside its package,
// however late they come.
func TestLateSymbols(t *testing.T) {
	snapshots := repository(t, "snapshots")
	p := turnstile("1.5.0-dev.7")
	publishMade(t, snapshots, "nuget", p)
	published := publishedAt(t, snapshots, "pkg:nuget/Skerry.TurnstileLink@1.5.0-dev.7")
	eventually(t, 10*time.Second, "the quiet period is over", func() bool { return time.Since(published) > 4*time.Second })
	symbols := p
	symbols.PackageType = "SymbolsPackage"
	must(t, http.MethodPut, "/at/"+snapshots+"/nuget/symbols", string(symbols.NuGet()), 201)
	const at = "/nuget/flat/skerry.turnstilelink/1.5.0-dev.7/skerry.turnstilelink.1.5.0-dev.7."
	for _, extension := range []string{"nupkg", "snupkg"} {
		must(t, http.MethodGet, "/at/"+snapshots+at+extension, "", 200)
	}
	if index := must(t, http.MethodGet, "/at/"+snapshots+"/nuget/registration/skerry.turnstilelink/index.json", "",
		200); !strings.Contains(string(index.Body), ".nupkg") {
		t.Errorf("the newest upload has no package: %s", index.Body)
	}
}

// TestNuGetOlder lists, finds, fetches, pushes and deletes by the v2 protocol, with
// the real client where it speaks it.
func TestNuGetOlder(t *testing.T) {
	t.Parallel()
	r := repository(t, "both")
	for _, version := range []string{"1.3.0", "1.4.0", "1.5.0-dev.7"} {
		p := turnstile(version)
		p.Needs = map[string]string{"Openshore.Serial": "2.0"}
		publishMade(t, r, "nuget", p)
	}
	gate := madeup.Package{Name: "Skerry.Gate", Version: "2.0.0", Description: "Opens &amp; closes", Licence: "MIT",
		Author: "Gate Hands", PackageType: "DotnetTool", Icon: "images/gate.png", Readme: "# Gate",
		Files: []madeup.Entry{{Name: "images/gate.png", Content: "\x89PNG\r\n\x1a\n made up"}}}
	publishMade(t, r, "nuget", gate)
	w := newNuGet(t, r)
	if out := w.nuget("list", "-Source", r); !strings.Contains(out, "Skerry.TurnstileLink 1.4.0") ||
		!strings.Contains(out, "Skerry.Gate 2.0.0") || strings.Contains(out, "1.5.0") {
		t.Errorf("list says %s", out)
	}
	if out := w.nuget("list", "turnstile", "-Source", r, "-Prerelease"); !strings.Contains(out,
		"Skerry.TurnstileLink 1.5.0-dev.7") || strings.Contains(out, "Gate") {
		t.Errorf("list -Prerelease says %s", out)
	}
	if out := w.nuget("list", "turnstile", "-Source", r, "-AllVersions"); !strings.Contains(out, "1.3.0") ||
		!strings.Contains(out, "1.4.0") {
		t.Errorf("list -AllVersions says %s", out)
	}
	v2 := address(r, "nuget") + "v2/"
	w.write("new.nupkg", turnstile("1.6.0").NuGet())
	name, args := nuget("push", w.dir+"/new.nupkg", "-Source", v2, "-ApiKey", house.Token, "-NonInteractive")
	w.run("", name, args...)
	name, args = nuget("delete", "Skerry.TurnstileLink", "1.3.0", "-Source", v2, "-ApiKey", house.Token, "-NonInteractive")
	w.run("", name, args...)
	at := "/at/" + r + "/nuget/"
	for _, c := range []struct{ path, want, wantNot string }{
		{"v2/$metadata", `<FunctionImport Name="Search"`, ""},
		{"v2/FindPackagesById()?id='skerry.turnstilelink'", "<d:Version>1.3.0</d:Version>", "Skerry.Gate"},
		{"v2/FindPackagesById()?id='Skerry.TurnstileLink'&$orderby=Version%20desc&$top=1", "<d:Version>1.6.0</d:Version>",
			"1.4.0</d:Version>"},
		{"v2/Packages(Id='Skerry.TurnstileLink',Version='1.4.0')", "Openshore.Serial:[2.0.0, ):net45", ""},
		{"v2/Packages()?$filter=tolower(Id)%20eq%20'skerry.gate'", "Opens &amp; closes", "Turnstile"},
		{"v2/Packages()?$filter=IsLatestVersion%20and%20substringof('gate',tolower(Id))&$inlinecount=allpages",
			"<m:count>1</m:count>", "Turnstile"},
		{"v2/Packages()/$count", "4", ""},
		{"v2/Search()?searchTerm='turn'&includePrerelease=false&$filter=IsLatestVersion", "1.6.0", "1.4.0</d:Version>"},
		{"search?q=packageid:SKERRY.GATE", `"id":"Skerry.Gate"`, "Turnstile"},
		{"search?q=author:gate*", `"totalHits":0`, ""},
		{"search?q=author:%22gate%22%20opens", `"totalHits":0`, ""},
		{"search?q=tags:made", `"totalHits":2`, ""},
		{"search?packageType=dotnettool", `"id":"Skerry.Gate"`, "Turnstile"},
		{"search?packageType=Dependency", "Turnstile", "Gate"},
		{"registration/skerry.gate/index.json", "/flat/skerry.gate/2.0.0/icon", ""},
		{"flat/skerry.gate/2.0.0/readme", "# Gate", ""},
		{"flat/skerry.gate/2.0.0/icon", "PNG", ""},
	} {
		if a := must(t, http.MethodGet, at+c.path, "", 200); !strings.Contains(string(a.Body), c.want) ||
			c.wantNot != "" && strings.Contains(string(a.Body), c.wantNot) {
			t.Errorf("%s: %s; want %q and not %q", c.path, a.Body, c.want, c.wantNot)
		}
	}
	for path, want := range map[string]string{"v2/Packages()?$filter=Colour%20eq%201": "there is no property Colour",
		"v2/FindPackagesById()?id='x'&$filter=((": "ends too early"} {
		if a := must(t, http.MethodGet, at+path, "", 400); !strings.Contains(a.Reason, want) {
			t.Errorf("%s: %s", path, a.Reason)
		}
	}
	if a := must(t, http.MethodGet, at+"v2/package/Skerry.TurnstileLink/1.4.0", "", 302); a.Status != 302 {
		t.Errorf("%d", a.Status)
	}
	// Each at its door, and at no other address.
	for door, content := range map[string][]byte{"symbols": turnstile("1.7.0").NuGet(), "package": func() []byte {
		s := turnstile("1.7.0")
		s.PackageType = "SymbolsPackage"
		return s.NuGet()
	}()} {
		if a := ask(t, http.MethodPut, at+door, string(content)); a.Status != 400 ||
			!strings.Contains(a.Reason, "is not pushed here. Push it to") {
			t.Errorf("%s: %d %s", door, a.Status, a.Reason)
		}
	}
	for _, path := range []string{at, strings.TrimSuffix(at, "/"), at + "index.json"} {
		if a := ask(t, http.MethodPut, path, "x"); a.Status != 404 || !strings.Contains(a.Reason, "/nuget/") {
			t.Errorf("%s: %d %s", path, a.Status, a.Reason)
		}
	}
	for _, path := range []string{"/at/" + r + "/pypi", "/at/" + r + "/pypi/legacy/"} {
		if a := ask(t, http.MethodPost, path, "x"); a.Status != 404 || !strings.Contains(a.Reason, "/at/"+r+"/pypi/") {
			t.Errorf("%s: %d %s", path, a.Status, a.Reason)
		}
	}
	a, err := shared.Ask(t.Context(), http.MethodGet, at+"index.json", "", nil, "Authorization", "Basic Og==")
	if err != nil || a.Status != 401 || strings.Contains(string(a.Body), "wrong") {
		t.Errorf("an empty name and password: %d %s, %v", a.Status, a.Body, err)
	}
}

// TestNuGetOlderUpstream mirrors a server of the older protocol: the lists, the files,
// what is withdrawn, and what the check of the connection says.
func TestNuGetOlderUpstream(t *testing.T) {
	t.Parallel()
	from := repository(t, "releases")
	patch(t, from, map[string]any{"anonymousRead": true}, 200)
	for _, version := range []string{"1.4.0", "1.5.0", "1.6.0"} {
		p := turnstile(version)
		p.Needs = map[string]string{"Openshore.Serial": "2.0"}
		publishMade(t, from, "nuget", p)
	}
	must(t, http.MethodDelete, "/at/"+from+"/nuget/package/Skerry.TurnstileLink/1.6.0", "", 200, 204)
	older := address(from, "nuget") + "v2/"
	says(t, func() string {
		out, errs, _ := crelvoAsAdmin(t, "mirror", "check", "--ecosystem", "nuget", "--upstream", older)
		return out + errs
	}(), "it answers, in the older protocol")
	mirror := fmt.Sprintf("mirror-%d", made.Add(1))
	if err := shared.AddMirrorOf(t.Context(), "nuget", mirror, older, quick); err != nil {
		t.Fatal(err)
	}
	if list := must(t, http.MethodGet, "/at/"+mirror+"/nuget/flat/skerry.turnstilelink/index.json", "",
		200); !strings.Contains(string(list.Body), `["1.4.0","1.5.0","1.6.0"]`) {
		t.Errorf("the mirror lists %s", list.Body)
	}
	if page := string(must(t, http.MethodGet, "/at/"+mirror+"/nuget/registration/skerry.turnstilelink/index.json", "",
		200).Body); !strings.Contains(page, `"Openshore.Serial"`) || !strings.Contains(page, `"listed":false`) {
		t.Errorf("the mirror tells of it: %.1000s", page)
	}
	w := newNuGet(t, mirror)
	if out := w.nuget("install", "Skerry.TurnstileLink", "-Version", "1.5.0", "-Source", mirror, "-OutputDirectory",
		"packages", "-DependencyVersion", "Ignore"); !strings.Contains(out,
		"Successfully installed 'Skerry.TurnstileLink 1.5.0'") {
		t.Errorf("%s", out)
	}
	must(t, http.MethodGet, "/at/"+mirror+"/nuget/flat/no.such.package/index.json", "", 404)
}
