package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// newNPM is a workshop whose npm, pnpm and yarn 1 use a repository.
func newNPM(t *testing.T, repository string) *workshop {
	t.Helper()
	w := newWorkshop(t, "npm_config_update_notifier=false", "npm_config_fund=false", "npm_config_loglevel=warn")
	at := address(repository, "npm")
	w.write("home/.npmrc", []byte("registry="+at+"\n"+strings.TrimPrefix(at, "http:")+":_authToken="+house.Token+"\n"))
	return w
}

// project makes a folder with a package.json that needs something.
func (w *workshop) project(folder string, needs map[string]string) {
	w.t.Helper()
	raw, err := json.Marshal(map[string]any{"name": "ferry", "version": "1.0.0", "dependencies": needs})
	if err != nil {
		w.t.Fatal(err)
	}
	w.write(folder+"/package.json", raw)
}

// source makes a folder from which a package is published.
func (w *workshop) source(folder string, p madeup.Package) {
	w.t.Helper()
	w.write(folder+"/package.json", p.Manifest())
	w.write(folder+"/index.js", []byte("module.exports = '"+p.Version+"'\n"))
	w.write(folder+"/README.md", []byte(p.Readme))
}

func deckUI(version string) madeup.Package {
	return madeup.Package{Name: "@skerry/deck-ui", Version: version, Description: "Buttons for the deck", Licence: "MIT",
		Author: "Deck Hands", Readme: "# deck-ui\n\nButtons.\n"}
}

// TestNPM does with the real npm what people do with it.
func TestNPM(t *testing.T) {
	t.Parallel()
	releases := repository(t, "releases")
	w := newNPM(t, releases)
	w.source("deck", deckUI("1.0.0"))
	w.run("deck", "npm", "publish")
	w.fails([]string{"cannot publish over"}, "deck", "npm", "publish") // npm looks for itself
	w.run("deck", "npm", "publish", "--force")                         // the same bytes again are no mistake
	w.write("deck/index.js", []byte("module.exports = 'other'\n"))
	w.fails([]string{"403", "deck-ui 1.0.0 was published by admin on", "with other bytes",
		"The next free version is 1.0.1"}, "deck", "npm", "publish", "--force")
	w.source("deck", deckUI("1.1.0-dev.1"))
	w.fails([]string{"holds releases, and 1.1.0-dev.1 is a snapshot"}, "deck", "npm", "publish", "--tag", "next")
	w.source("deck", deckUI("1.1.0"))
	w.run("deck", "npm", "publish")

	if out := w.run("", "npm", "whoami"); strings.TrimSpace(out) != "admin" {
		t.Errorf("npm whoami says %q", out)
	}
	w.run("", "npm", "ping")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"view", "@skerry/deck-ui", "versions", "--json"}, `"1.1.0"`},
		{[]string{"view", "@skerry/deck-ui", "readme"}, "Buttons."},
		{[]string{"view", "@skerry/deck-ui@1.0.0", "dist.integrity"}, "sha512-"},
		{[]string{"search", "deck"}, "Buttons for the deck"},
		{[]string{"dist-tag", "add", "@skerry/deck-ui@1.0.0", "calm"}, "+calm"},
		{[]string{"dist-tag", "ls", "@skerry/deck-ui"}, "calm: 1.0.0"},
		{[]string{"view", "@skerry/deck-ui@calm", "version"}, "1.0.0"},
		{[]string{"dist-tag", "rm", "@skerry/deck-ui", "calm"}, "-calm"},
	} {
		if out := w.run("", "npm", c.args...); !strings.Contains(out, c.want) {
			t.Errorf("npm %v does not say %q: %s", c.args, c.want, out)
		}
	}
	w.fails([]string{"latest"}, "", "npm", "dist-tag", "rm", "@skerry/deck-ui", "latest")

	w.project("use", map[string]string{"@skerry/deck-ui": "^1.0.0"})
	w.run("use", "npm", "install")
	if lock := w.read("use/package-lock.json"); !strings.Contains(lock, `"resolved": "`+address(releases, "npm")+
		`@skerry/deck-ui/-/deck-ui-1.1.0.tgz"`) || !strings.Contains(lock, `"integrity": "sha512-`) {
		t.Errorf("the lock file is %s", lock)
	}
	if err := os.RemoveAll(w.dir + "/use/node_modules"); err != nil {
		t.Fatal(err)
	}
	w.environment = append(w.environment, "npm_config_cache="+w.dir+"/another-cache")
	w.run("use", "npm", "ci")
	w.fails([]string{"whether these packages have known vulnerabilities is not known here: nothing was looked up"}, "use",
		"npm", "audit")
	if out := w.run("use", "npm", "install"); strings.Contains(out, "vulnerabilities") {
		t.Errorf("npm tells of vulnerabilities that nobody looked for: %s", out)
	}

	w.run("", "npm", "deprecate", "@skerry/deck-ui@1.0.0", "use 1.1.0")
	if out := w.run("", "npm", "view", "@skerry/deck-ui@1.0.0", "deprecated"); !strings.Contains(out, "use 1.1.0") {
		t.Errorf("it is deprecated with %q", out)
	}
	w.project("old", map[string]string{"@skerry/deck-ui": "1.0.0"})
	if out := w.run("old", "npm", "install"); !strings.Contains(out, "use 1.1.0") {
		t.Errorf("installing what is deprecated says %s", out)
	}
	w.run("", "npm", "deprecate", "@skerry/deck-ui@1.0.0", "")
	if out := w.run("", "npm", "view", "@skerry/deck-ui@1.0.0", "deprecated"); strings.TrimSpace(out) != "" {
		t.Errorf("it is still deprecated with %q", out)
	}

	w.run("", "npm", "unpublish", "@skerry/deck-ui@1.1.0")
	if out := w.run("", "npm", "view", "@skerry/deck-ui", "version"); strings.TrimSpace(out) != "1.0.0" {
		t.Errorf("after 1.1.0 was taken away, the version is %q", out)
	}
	w.write("deck/index.js", []byte("module.exports = 'other'\n"))
	w.fails([]string{"and removed on", "does not come back with other bytes"}, "deck", "npm", "publish")
	w.run("", "npm", "unpublish", "@skerry/deck-ui", "--force")
	w.fails([]string{"404"}, "", "npm", "view", "@skerry/deck-ui")
}

// TestNPMSnapshots publishes a development version twice; a lock file of the
// first upload still installs it.
func TestNPMSnapshots(t *testing.T) {
	t.Parallel()
	snapshots := repository(t, "snapshots")
	w := newNPM(t, snapshots)
	w.source("deck", deckUI("1.1.0-dev.1"))
	w.run("deck", "npm", "publish", "--tag", "next")
	w.project("use", map[string]string{"@skerry/deck-ui": "next"})
	w.run("use", "npm", "install")
	first := w.read("use/package-lock.json")
	w.write("deck/index.js", []byte("module.exports = 'second'\n"))
	w.run("deck", "npm", "publish", "--tag", "next")
	w.run("use", "npm", "ci")
	if got := w.read("use/node_modules/@skerry/deck-ui/index.js"); strings.Contains(got, "second") {
		t.Error("the lock file of the first upload installed the second")
	}
	w.project("new", map[string]string{"@skerry/deck-ui": "next"})
	w.run("new", "npm", "install", "--prefer-online")
	if got := w.read("new/node_modules/@skerry/deck-ui/index.js"); !strings.Contains(got, "second") ||
		w.read("new/package-lock.json") == first {
		t.Errorf("the newest upload is %s", got)
	}
}

// TestNPMSignIn gets a token with a password, uses it, and ends it.
func TestNPMSignIn(t *testing.T) {
	releases := repository(t, "releases")
	publishMade(t, releases, "npm", deckUI("1.0.0"))
	path := "/at/" + releases + "/npm/"
	sign := func(password string) house.Answer {
		a, err := shared.Ask(t.Context(), http.MethodPut, path+"-/user/org.couchdb.user:admin", "",
			strings.NewReader(`{"name":"admin","password":"`+password+`"}`))
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	if a := sign("wrong"); a.Status != 401 || !strings.Contains(string(a.Body), "error") {
		t.Errorf("a wrong password: %d %s", a.Status, a.Body)
	}
	a := sign(house.Password)
	var got struct{ Token string }
	if err := json.Unmarshal(a.Body, &got); err != nil || got.Token == "" {
		t.Fatalf("%d %s, %v", a.Status, a.Body, err)
	}
	as := func(method, at string) int {
		a, err := shared.Ask(t.Context(), method, path+at, got.Token, nil)
		if err != nil {
			t.Fatal(err)
		}
		return a.Status
	}
	if s := as(http.MethodGet, "@skerry%2fdeck-ui"); s != 200 {
		t.Errorf("with the token: %d", s)
	}
	if s := as(http.MethodDelete, "-/user/token/"+got.Token); s != 200 {
		t.Errorf("signing out: %d", s)
	}
	if s := as(http.MethodGet, "@skerry%2fdeck-ui"); s != 401 {
		t.Errorf("with the token after signing out: %d", s)
	}
}

// TestPNPMAndYarn install and publish through a chain with a mirror.
func TestPNPMAndYarn(t *testing.T) {
	t.Parallel()
	_, _, mirror := shelf(t, "npm", madeup.Package{Name: "kelp-colors", Version: "3.0.0", Licence: "MIT"},
		madeup.Package{Name: "kelp-colors", Version: "3.1.0", Licence: "MIT"})
	releases := repository(t, "releases")
	chain := addChain(t, releases, mirror)
	patch(t, chain, map[string]any{"chain": map[string]any{"releasesTo": releases}}, 200)
	w := newNPM(t, chain)
	pnpm, yarn1, yarn4 := fromNPM("pnpm/bin/pnpm.cjs"), fromNPM("yarn/bin/yarn.js"),
		fromNPM("@yarnpkg/cli-dist/bin/yarn.js")
	w.source("deck", deckUI("1.0.0"))
	w.run("deck", "node", pnpm, "publish", "--no-git-checks")
	w.source("deck", deckUI("1.0.1"))
	w.run("deck", "node", yarn1, "publish", "--new-version", "1.0.1", "--non-interactive")
	needs := map[string]string{"@skerry/deck-ui": "^1.0.0", "kelp-colors": "^3.0.0"}
	has := func(folder string) {
		t.Helper()
		for name, version := range map[string]string{"@skerry/deck-ui": "1.0.1", "kelp-colors": "3.1.0"} {
			if got := w.read(folder + "/node_modules/" + name + "/package.json"); !strings.Contains(got, `"`+version+`"`) {
				t.Errorf("%s installed %s as %s", folder, name, got)
			}
		}
	}
	w.project("pnpm", needs)
	w.run("pnpm", "node", pnpm, "install", "--no-frozen-lockfile")
	has("pnpm")
	w.run("pnpm", "node", pnpm, "install", "--frozen-lockfile", "--force")
	w.project("yarn1", needs)
	w.write("yarn1/.npmrc", []byte("always-auth=true\n"))
	w.run("yarn1", "node", yarn1, "install", "--non-interactive")
	has("yarn1")
	w.run("yarn1", "node", yarn1, "install", "--frozen-lockfile", "--check-files")
	w.project("yarn4", needs)
	w.write("yarn4/yarn.lock", nil)
	w.write("yarn4/.yarnrc.yml", []byte("npmRegistryServer: \""+address(chain, "npm")+
		"\"\nunsafeHttpWhitelist: [\"127.0.0.1\"]\nnpmAuthToken: \""+house.Token+"\"\nnpmAlwaysAuth: true\n"+
		"npmMinimalAgeGate: 0\nnodeLinker: node-modules\nenableTelemetry: false\nenableGlobalCache: false\n"))
	w.run("yarn4", "node", yarn4, "install", "--no-immutable")
	has("yarn4")
	w.run("yarn4", "node", yarn4, "install", "--immutable")
}

// TestNPMAsOf installs what there was at a moment, through a chain.
func TestNPMAsOf(t *testing.T) {
	_, content, mirror := shelf(t, "npm", madeup.Package{Name: "kelp-colors", Version: "3.0.0", Licence: "MIT"})
	releases := repository(t, "releases")
	chain := addChain(t, releases, mirror)
	must(t, http.MethodGet, "/at/"+chain+"/npm/kelp-colors", "", 200)
	publishMade(t, releases, "npm", deckUI("1.0.0"))
	then := publishedAt(t, releases, "pkg:npm/%2540skerry/deck-ui@1.0.0").Add(time.Microsecond)
	waitPast(t, then)
	publishMade(t, releases, "npm", deckUI("1.1.0"))
	for path, bytes := range npmShelfOf(madeup.Package{Name: "kelp-colors", Version: "3.0.0", Licence: "MIT"},
		madeup.Package{Name: "kelp-colors", Version: "3.1.0", Licence: "MIT"}) {
		content[path] = bytes
	}
	eventually(t, 10*time.Second, "the mirror has seen the new version", func() bool {
		return strings.Contains(string(must(t, http.MethodGet, "/at/"+chain+"/npm/kelp-colors", "", 200).Body), `"3.1.0"`)
	})
	install := func(repository, folder string) string {
		w := newNPM(t, repository)
		w.project(folder, map[string]string{"@skerry/deck-ui": "*", "kelp-colors": "*"})
		w.run(folder, "npm", "install")
		return w.read(folder+"/node_modules/@skerry/deck-ui/package.json") +
			w.read(folder+"/node_modules/kelp-colors/package.json")
	}
	if now := install(chain, "now"); !strings.Contains(now, `"1.1.0"`) || !strings.Contains(now, `"3.1.0"`) {
		t.Errorf("now: %s", now)
	}
	if old := install(asOf(chain, then), "then"); !strings.Contains(old, `"1.0.0"`) || !strings.Contains(old, `"3.0.0"`) ||
		strings.Contains(old, "1.1.0") {
		t.Errorf("then: %s", old)
	}
	a := ask(t, http.MethodPut, "/at/"+asOf(releases, then)+"/npm/@skerry%2fdeck-ui",
		string(deckUI("2.0.0").NPMDocument("latest", deckUI("2.0.0").NPM())))
	if a.Status != 403 || !strings.Contains(string(a.Body), "it is the past") {
		t.Errorf("publishing to the past: %d %s", a.Status, a.Body)
	}
}

// TestNPMStrangers: signing in tells nobody which repositories there are.
func TestNPMStrangers(t *testing.T) {
	there := repository(t, "releases")
	var answers []string
	for _, name := range []string{there, "no-such-repository"} {
		a, err := shared.Ask(t.Context(), http.MethodPut, "/at/"+name+"/npm/-/user/org.couchdb.user:admin", "",
			strings.NewReader(`{"name":"admin","password":"wrong"}`))
		if err != nil || a.Status != 401 {
			t.Errorf("%s: %d %s, %v", name, a.Status, a.Body, err)
		}
		answers = append(answers, string(a.Body))
	}
	if answers[0] != answers[1] {
		t.Errorf("the answers differ: %q", answers)
	}
}

// TestNPMThroughAChain changes, through a chain, what releases and snapshots hold of
// one package: what is changed is changed where it is.
func TestNPMThroughAChain(t *testing.T) {
	t.Parallel()
	releases, snapshots := repository(t, "releases"), repository(t, "snapshots")
	chain := addChain(t, releases, snapshots)
	patch(t, chain, map[string]any{"chain": map[string]any{"releasesTo": releases, "snapshotsTo": snapshots}}, 200)
	w := newNPM(t, chain)
	yarn1 := fromNPM("yarn/bin/yarn.js")
	for _, c := range [][2]string{{"1.0.0", "latest"}, {"1.1.0", "latest"}, {"1.2.0-dev.1", "next"},
		{"1.2.0-dev.2", "next"}} {
		w.source("deck", deckUI(c[0]))
		w.run("deck", "npm", "publish", "--tag", c[1])
	}
	w.environment = append(w.environment, "npm_config_prefer_online=true")
	view := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", "npm", append([]string{"view"}, args...)...))
	}
	w.run("", "npm", "dist-tag", "add", "@skerry/deck-ui@1.2.0-dev.1", "calm")
	w.run("", "npm", "dist-tag", "add", "@skerry/deck-ui@1.0.0", "calm") // from one house to the other
	w.run("", "node", yarn1, "tag", "add", "@skerry/deck-ui@1.2.0-dev.1", "calm", "--non-interactive")
	if out := w.run("", "npm", "dist-tag", "ls", "@skerry/deck-ui"); !strings.Contains(out, "calm: 1.2.0-dev.1") ||
		!strings.Contains(out, "latest: 1.1.0") {
		t.Errorf("the dist-tags are %s", out)
	}
	w.run("", "npm", "deprecate", "@skerry/deck-ui@*", "leaks")
	w.run("", "npm", "deprecate", "@skerry/deck-ui@1.2.0-dev.1", "sinks")
	for version, want := range map[string]string{"1.0.0": "leaks", "1.2.0-dev.1": "sinks"} {
		if got := view("@skerry/deck-ui@"+version, "deprecated"); got != want {
			t.Errorf("%s is deprecated with %q; want %q", version, got, want)
		}
	}
	w.run("", "npm", "deprecate", "@skerry/deck-ui@1.x", "")
	w.run("", "npm", "unpublish", "@skerry/deck-ui@1.2.0-dev.1", "--force")
	if got := view("@skerry/deck-ui", "versions", "--json"); strings.Contains(got, "1.2.0-dev.1") ||
		!strings.Contains(got, "1.2.0-dev.2") {
		t.Errorf("after the pre-release was taken away there are %s", got)
	}
	w.run("", "npm", "dist-tag", "add", "@skerry/deck-ui@1.2.0-dev.2",
		"latest") // of snapshots: it is not the latest while there is a release
	w.run("", "npm", "unpublish", "@skerry/deck-ui@1.1.0", "--force")
	if got := view("@skerry/deck-ui", "dist-tags.latest"); got != "1.0.0" {
		t.Errorf("after the latest release went, the latest is %s", got)
	}
	w.run("", "npm", "unpublish", "@skerry/deck-ui", "--force")
	w.fails([]string{"404", "was removed from"}, "", "npm", "view", "@skerry/deck-ui")
	for _, r := range []string{releases, snapshots} {
		must(t, http.MethodGet, "/at/"+r+"/npm/@skerry%2fdeck-ui", "", 404)
	}
}

// TestNPMOtherCommands: what is not offered is said, with what to do instead; and
// names have no capitals.
func TestNPMOtherCommands(t *testing.T) {
	t.Parallel()
	releases := repository(t, "releases")
	w := newNPM(t, releases)
	deck := deckUI("1.0.0")
	deck.Keywords = []string{"deck", "buttons"}
	w.source("deck", deck)
	w.run("deck", "npm", "publish")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"star", "@skerry/deck-ui"}, "npm star is not offered by this server"},
		{[]string{"access", "list", "packages", "@skerry"}, "is not offered by this server"},
		{[]string{"access", "get", "status", "@skerry/deck-ui"}, "npm access is not offered by this server"},
		{[]string{"team", "ls", "@skerry"}, "crelvo team"},
		{[]string{"org", "ls", "skerry"}, "crelvo team"},
		{[]string{"token", "list"}, "Make one with crelvo token new"},
		{[]string{"profile", "get"}, "crelvo whoami"},
		{[]string{"owner", "add", "deckhand", "@skerry/deck-ui"}, "crelvo grant add"},
	} {
		w.fails([]string{c.want}, "", "npm", c.args...)
	}
	capital := deckUI("1.0.0")
	capital.Name = "@skerry/Deck-UI"
	if a := ask(t, http.MethodPut, "/at/"+releases+"/npm/@skerry%2fDeck-UI",
		string(capital.NPMDocument("latest", capital.NPM()))); a.Status != 400 ||
		!strings.Contains(string(a.Body), "Name it @skerry/deck-ui") {
		t.Errorf("a name with capitals: %d %s", a.Status, a.Body)
	}
	out := w.run("", "npm", "search", "deck", "--json")
	var found []struct {
		Name, Date string
		Keywords   []string
		Links      map[string]string
	}
	if err := json.Unmarshal([]byte(out), &found); err != nil || len(found) != 1 || len(found[0].Keywords) != 2 ||
		!strings.HasPrefix(found[0].Date, time.Now().UTC().Format("2006-01-02")) {
		t.Errorf("npm search says %s, %v", out, err)
	}
	pnpm := fromNPM("pnpm/bin/pnpm.cjs")
	w.project("use", map[string]string{"@skerry/deck-ui": "1.0.0"})
	w.run("use", "node", pnpm, "install", "--no-frozen-lockfile")
	w.fails([]string{"nothing was looked up"}, "use", "node", pnpm, "audit")
}

// TestReasonsInClients: a name that is ours, one that is denied, and one that was
// removed: every client shows why, where its protocol has a place for words.
func TestReasonsInClients(t *testing.T) {
	t.Parallel()
	_, _, mirror := shelf(t, "npm", madeup.Package{Name: "kelp-colors", Version: "3.0.0", Licence: "MIT"})
	releases := repository(t, "releases")
	chain := addChain(t, releases, mirror)
	post(t, "/api/v1/claims", map[string]string{"pattern": "pkg:npm/left-moor", "reason": "to be ours"}, nil)
	patch(t, mirror, map[string]any{"mirror": map[string]any{"deny": []string{"pkg:npm/kelp-*"}}}, 200)
	w := newNPM(t, chain)
	w.project("use", map[string]string{})
	w.fails([]string{"left-moor", "the name is ours, claimed by"}, "use", "npm", "install", "left-moor")
	w.fails([]string{"denied by pkg:npm/kelp-*"}, "use", "npm", "install", "kelp-colors")
	w.source("deck", deckUI("1.0.0"))
	must(t, http.MethodPut, "/at/"+releases+"/npm/@skerry%2fdeck-ui",
		string(deckUI("1.0.0").NPMDocument("latest", deckUI("1.0.0").NPM())), 201)
	if _, errs, code := crelvoAsAdmin(t, "remove", "pkg:npm/@skerry/deck-ui@1.0.0", "--in", releases, "--yes"); code != 0 {
		t.Fatalf("%d %s", code, errs)
	}
	w.fails([]string{"was removed from " + releases, "comes back with: crelvo sweep undo"}, "use", "npm", "install",
		"@skerry/deck-ui")
	if out, errs, code := crelvoAsAdmin(t, "explain", "pkg:npm/@skerry/deck-ui@1.0.0", "--in",
		chain); !strings.Contains(out, "crelvo sweep undo") {
		t.Errorf("explain: %d %s %s", code, out, errs)
	}
	if _, errs, code := crelvoAsAdmin(t, "show", "pkg:npm/@skerry/deck-ui", "--in", releases); code != 3 ||
		!strings.Contains(errs, "was removed from "+releases) {
		t.Errorf("show: %d %s", code, errs)
	}
	if out, errs, _ := crelvoAsAdmin(t, "search", "deck-ui", "removed:yes", "repo:"+releases); !strings.Contains(out,
		"deck-ui") {
		t.Errorf("search: %s %s", out, errs)
	}
}
