package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// desk is a client of the shared service with a token.
func desk(token string) *client.Client {
	return &client.Client{Server: shared.Address, Token: token, Agent: "crelvo-tests"}
}

// done is for what must go well, and gives its value.
func done[T any](value T, err error) func(t *testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return value
	}
}

// track makes a track through new repositories, and gives the names of all.
func track(t *testing.T, c *client.Client, gates ...string) (name, snapshots, releases string) {
	t.Helper()
	snapshots, releases = repository(t, "snapshots"), repository(t, "releases")
	name = fmt.Sprintf("track-%d", made.Add(1))
	if err := c.AddTrack(t.Context(), api.Track{Name: name,
		Stages: []api.Stage{{Repository: snapshots}, {Repository: releases, Gates: gates}}}); err != nil {
		t.Fatal(err)
	}
	return name, snapshots, releases
}

// reactor writes a build of two modules with a parent.
func (m *maven) reactor(version, snapshots, releases string) string {
	dir := m.project("berth", version, snapshots, releases, "package skerry;\npublic class unused {}\n")
	raw, err := os.ReadFile(filepath.Join(dir, "pom.xml"))
	if err != nil {
		m.t.Fatal(err)
	}
	m.write(filepath.Join(dir, "pom.xml"), strings.Replace(string(raw), "<name>",
		"<packaging>pom</packaging><modules><module>tide-model</module><module>berth-planner</module></modules><name>", 1))
	module := func(name, version, more string) {
		m.write(filepath.Join(dir, name, "pom.xml"),
			fmt.Sprintf(
				"<project><modelVersion>4.0.0</modelVersion>\r\n"+
					"<parent><groupId>example.skerry.berth</groupId><artifactId>berth</artifactId><version>%s</version></parent>\r\n"+
					"<artifactId>%s</artifactId>%s</project>\r\n", version, name, more))
	}
	module("tide-model", version, "")
	module("berth-planner", version, "<properties><tides>"+version+"</tides></properties><dependencies>"+
		dependency("tide-model", "${tides}")+"</dependencies>")
	m.write(dir+"/tide-model/src/main/java/skerry/tide_model.java", fmt.Sprintf(tideModel, 5))
	m.write(dir+"/tide-model/src/main/resources/tides.properties", "version = "+version+"\nmoon=full\n")
	m.write(dir+"/berth-planner/src/main/java/skerry/berth_planner.java",
		"package skerry;\npublic class berth_planner { public static int berth() { return tide_model.height(); } }\n")
	return dir
}

// TestPromoteBuild takes one build of four ecosystems, made by their real clients,
// from snapshots to releases in one act, and lets the real clients verify what
// came of it.
func TestPromoteBuild(t *testing.T) {
	admin := desk(house.Token)
	name, snapshots, releases := track(t, admin, "recorded-build", "tests-passed", "no-snapshots")
	build := fmt.Sprintf("berth-%d#7", made.Add(1))
	if out, errs, code := crelvoAsAdmin(t, "build", "begin", build); code != 0 ||
		!strings.Contains(out, build+" began at") {
		t.Fatalf("%d %s %s", code, out, errs)
	}
	m := newMaven(t, house.Token, snapshots, releases)
	dir := m.reactor("6.0.0-SNAPSHOT", snapshots, releases)
	m.mustRun(dir, "deploy")
	node := newNPM(t, snapshots)
	node.source("deck", deckUI("2.2.0-dev.61"))
	node.write("deck/index.js", []byte("module.exports = 'deck'\n"))
	node.run("deck", "npm", "publish", "--tag", "next")
	widgets := deckUI("1.1.0-dev.3")
	widgets.Name, widgets.Needs = "@skerry/ticket-widgets", map[string]string{"@skerry/deck-ui": "2.2.0-dev.61"}
	node.source("widgets", widgets)
	node.write("widgets/index.js", []byte("module.exports = require('@skerry/deck-ui')\n"))
	node.run("widgets", "npm", "publish", "--tag", "next")
	python := newPython(t)
	cast := tidecast("0.7.0.dev83")
	cast.Files = []madeup.Entry{{Name: "tidecast-0.7.0.dev83/setup.py",
		Content: "from setuptools import setup\nsetup(name='tidecast', version='0.7.0.dev83', packages=['tidecast'])\n"}}
	wheel := tidecast("0.7.0.dev83")
	if out, err := python.twine(snapshots, python.write("dist/"+wheel.WheelName(), wheel.Wheel()),
		python.write("dist/"+cast.SdistName(), cast.Sdist())); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	mono := newNuGet(t, snapshots, releases)
	mono.write("link.nupkg", turnstile("4.1.0-dev.71").NuGet())
	client, args := nuget("push", mono.dir+"/link.nupkg", "-Source", snapshots, "-ApiKey", house.Token, "-NonInteractive")
	mono.run("", client, args...)
	report := filepath.Join(t.TempDir(), "TEST-berth.xml")
	if err := os.WriteFile(report, []byte(`<testsuite><testcase classname="skerry.berth" name="fits"/></testsuite>`),
		0o600); err != nil {
		t.Fatal(err)
	}
	title, number, _ := strings.Cut(build, "#")
	if out, errs, code := command(t, []string{"HOME=" + t.TempDir(), "CRELVO_TOKEN=" + house.Token, "BUILD_NUMBER=" +
		number, "GIT_COMMIT=4be1c0f"}, "", "build", "record", "--name", title, "--junit", report); code != 0 ||
		!strings.Contains(out, "which made 7 versions") {
		t.Fatalf("%d %s %s", code, out, errs)
	}

	out, errs, code := crelvoAsAdmin(t, "promote", "--build", build, "--along", name, "--to", releases, "--dry-run")
	for _, want := range []string{"would be done at once", "berth-planner-6.0.0.jar",
		"META-INF/maven/example.skerry.berth/tide-model/pom.properties: version", "property tides", "- 6.0.0-SNAPSHOT",
		"+ 6.0.0",
		"dependency on @skerry/deck-ui", "tidecast-0.7.0.dev83.dist-info/RECORD", "skerry.turnstilelink.4.1.0.nupkg",
		"1 tests, none failed"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Fatalf("the dry run (%d) does not say %q: %s %s", code, want, out, errs)
		}
	}
	if list := must(t, http.MethodGet, "/api/v1/packages?repository="+releases, "",
		200); !strings.Contains(string(list.Body), `"packages":[]`) {
		t.Errorf("the dry run did something: %s", list.Body)
	}
	if out, errs, code := crelvoAsAdmin(t, "promote", "--build", build, "--along", name, "--to", releases, "--notes",
		"Sees in the fog."); code != 0 || !strings.Contains(out, "Go on with") ||
		!strings.Contains(out, "berth-planner@6.1.0-SNAPSHOT") {
		t.Fatalf("%d %s %s", code, out, errs)
	}

	t.Run("mvn resolves the releases, and nothing names a snapshot", func(t *testing.T) {
		fresh := newMaven(t, house.Token, releases)
		user := fresh.project("ferry", "1.0.0", snapshots, releases,
			"package skerry;\n"+
				"public class ferry { public static void main(String[] a) { System.out.println(berth_planner.berth()); } }\n",
			dependency("berth-planner", "6.0.0"))
		fresh.mustRun(user, "package")
		local := fresh.dir + "/local/example/skerry/berth"
		out, err := exec.Command("java", "-cp", user+"/target/classes:"+local+"/tide-model/6.0.0/tide-model-6.0.0.jar:"+local+
			"/berth-planner/6.0.0/berth-planner-6.0.0.jar", "skerry.ferry").CombinedOutput()
		if err != nil || strings.TrimSpace(string(out)) != "5" {
			t.Errorf("the program says %q, %v", out, err)
		}
		for _, file := range []string{"berth/6.0.0/berth-6.0.0.pom", "tide-model/6.0.0/tide-model-6.0.0.pom",
			"tide-model/6.0.0/tide-model-6.0.0.jar", "berth-planner/6.0.0/berth-planner-6.0.0.pom",
			"berth-planner/6.0.0/berth-planner-6.0.0.jar"} {
			noSnapshot(t, filepath.Join(local, file))
		}
	})
	t.Run("npm installs with integrity", func(t *testing.T) {
		w := newNPM(t, releases)
		w.project("use", map[string]string{"@skerry/ticket-widgets": "^1.1.0"})
		w.run("use", "npm", "install")
		w.environment = append(w.environment, "npm_config_cache="+w.dir+"/another-cache")
		w.run("use", "npm", "ci")
		for _, file := range []string{"use/package-lock.json", "use/node_modules/@skerry/ticket-widgets/package.json",
			"use/node_modules/@skerry/deck-ui/package.json"} {
			if text := w.read(file); strings.Contains(text, "-dev.") {
				t.Errorf("%s still names a snapshot: %s", file, text)
			}
		}
		if out := w.run("", "npm", "view", "@skerry/ticket-widgets", "dist-tags.latest"); strings.TrimSpace(out) != "1.1.0" {
			t.Errorf("latest is %s", out)
		}
	})
	t.Run("pip installs the wheel and builds the source, with hashes", func(t *testing.T) {
		w := newPython(t)
		index := withToken(address(releases, "pypi")) + "simple/"
		w.pip("install", "--target", w.dir+"/site", "-i", index, "--only-binary", ":all:", "tidecast==0.7.0")
		if got := w.read("site/tidecast/__init__.py"); !strings.Contains(got, `"0.7.0"`) {
			t.Errorf("it installed %s", got)
		}
		page := ask(t, http.MethodGet, "/at/"+releases+"/pypi/simple/tidecast/", "", "Accept",
			"application/vnd.pypi.simple.v1+json")
		var list struct {
			Files []struct {
				Filename string
				Hashes   map[string]string
			}
		}
		if err := json.Unmarshal(page.Body, &list); err != nil || len(list.Files) != 2 {
			t.Fatalf("%s, %v", page.Body, err)
		}
		for _, f := range list.Files {
			form := "--only-binary"
			if strings.HasSuffix(f.Filename, ".tar.gz") {
				form = "--no-binary"
			}
			w.write("hashed.txt", []byte("tidecast==0.7.0 --hash=sha256:"+f.Hashes["sha256"]+"\n"))
			w.run("", "/usr/bin/python3", "-m", "pip", "install", "--target", w.dir+"/"+form, "--no-build-isolation", form,
				":all:", "--require-hashes", "-i", index, "-r", w.dir+"/hashed.txt")
			if found, err := filepath.Glob(w.dir + "/" + form + "/tidecast-0.7.0*-info"); err != nil || len(found) == 0 {
				t.Errorf("%s did not install 0.7.0", f.Filename)
			}
		}
	})
	t.Run("NuGet restores", func(t *testing.T) {
		w := newNuGet(t, releases)
		w.write("packages.config",
			[]byte(`<packages><package id="Skerry.TurnstileLink" version="4.1.0" targetFramework="net45"/></packages>`))
		w.nuget("restore", "packages.config", "-PackagesDirectory", "restored", "-Source", releases, "-NoCache")
		noSnapshot(t, w.dir+"/restored/Skerry.TurnstileLink.4.1.0/Skerry.TurnstileLink.4.1.0.nupkg")
	})
	t.Run("the record", func(t *testing.T) {
		page := done(admin.Build(t.Context(), build))(t)
		if len(page.MadeIt) != 14 || len(page.Promotions) != 1 || page.Revision != "4be1c0f" ||
			page.Promotions[0].Notes != "Sees in the fog." {
			t.Errorf("%d versions, %d promotions, %+v", len(page.MadeIt), len(page.Promotions), page.Build)
		}
		p := done(admin.Package(t.Context(), "pkg:npm/@skerry/deck-ui@2.2.0", releases))(t)
		u := p.Versions[0].Uploads[0]
		if u.Build != build || len(u.Promotions) != 1 || len(u.Files[0].MadeFrom) != 64 {
			t.Errorf("%+v", u)
		}
		if out, errs, code := crelvoAsAdmin(t, "repo", "arrivals", releases, "--since", "1h"); code != 0 ||
			strings.Count(out, fmt.Sprintf("promotion %d", u.Promotions[0])) != 7 {
			t.Errorf("%d %s %s", code, out, errs)
		}
	})
}

// noSnapshot searches a file, and if it is an archive all of it, for development
// versions.
func noSnapshot(t *testing.T, path string) {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	look := func(name string, content []byte) {
		for _, sign := range []string{"SNAPSHOT", "-dev.", "6.0.0-20"} {
			if bytes.Contains(content, []byte(sign)) || strings.Contains(name, sign) {
				t.Errorf("%s: %s names a snapshot", path, name)
			}
		}
	}
	look(filepath.Base(path), raw)
	if !bytes.HasPrefix(raw, []byte("PK")) {
		return
	}
	archive := done(zip.NewReader(bytes.NewReader(raw), int64(len(raw))))(t)
	for _, f := range archive.File {
		content := done(io.ReadAll(done(f.Open())(t)))(t)
		look(f.Name, content)
	}
}

// TestPromoteSigned signs on the way, and goes on to another server; gpg accepts
// the signatures.
func TestPromoteSigned(t *testing.T) {
	u, public := shore(t, demo.Files{})
	admin := desk(house.Token)
	_, snapshots, releases := track(t, admin)
	key, to := fmt.Sprintf("key-%d", made.Add(1)), fmt.Sprintf("public-%d", made.Add(1))
	if err := admin.AddKey(t.Context(), api.NewKey{Name: key, Owner: "Releases <releases@skerry.example>"}); err != nil {
		t.Fatal(err)
	}
	if err := admin.SetTarget(t.Context(), api.NewTarget{Name: to, Ecosystem: "maven", URL: public +
		demo.Landing, User: demo.LandingUser, Secret: "wrong"}); err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("track-%d", made.Add(1))
	if err := admin.AddTrack(t.Context(), api.Track{Name: name,
		Stages: []api.Stage{{Repository: snapshots}, {Repository: releases, SignWith: key, Onward: []string{to},
			Gates: []string{"signed-by " + key}}}}); err != nil {
		t.Fatal(err)
	}
	publishSnapshot(t, snapshots, "tide-model", "1.0.0")
	p := done(admin.Promote(t.Context(), api.NewPromotion{Track: name,
		PURLs: []string{"pkg:maven/example.skerry.berth/tide-model@1.0.0-SNAPSHOT"}}))(t)
	if p.State != "done" {
		t.Fatalf("%+v", p)
	}
	delivery := func() api.Delivery { return done(admin.Promotion(t.Context(), p.ID))(t).Deliveries[0] }
	eventually(t, 15*time.Second, "the first attempt was refused", func() bool {
		return strings.Contains(delivery().Said, "401")
	})
	// The right credentials help, at the next attempt.
	if err := admin.SetTarget(t.Context(), api.NewTarget{Name: to, Ecosystem: "maven", URL: public +
		demo.Landing, User: demo.LandingUser, Secret: demo.LandingSecret}); err != nil {
		t.Fatal(err)
	}
	eventually(t, 40*time.Second, "it was sent on", func() bool { return delivery().State == "done" })
	landed := u.Landed()
	base := demo.Landing + groupPath + "/tide-model/"
	if !strings.Contains(string(landed[base+"maven-metadata.xml"]), "<release>1.0.0</release>") {
		t.Errorf("the list there is %s", landed[base+"maven-metadata.xml"])
	}
	w := newWorkshop(t, "GNUPGHOME="+t.TempDir())
	w.write("key.asc", must(t, http.MethodGet, "/keys/"+key, "", 200).Body)
	w.run("", "gpg", "--quiet", "--import", "key.asc")
	for _, file := range []string{"1.0.0/tide-model-1.0.0.jar", "1.0.0/tide-model-1.0.0.pom"} {
		content := must(t, http.MethodGet, "/at/"+releases+"/maven/"+groupPath+"/tide-model/"+file, "", 200).Body
		if string(content) != string(landed[base+file]) {
			t.Errorf("%s is another file there", file)
		}
		w.write("file", content)
		w.write("file.asc", landed[base+file+".asc"])
		if out := w.run("", "gpg", "--verify", "file.asc", "file"); !strings.Contains(out,
			`Good signature from "Releases <releases@skerry.example>"`) {
			t.Errorf("gpg says %s", out)
		}
		w.write("file", append(content, 'x'))
		w.fails([]string{"BAD signature"}, "", "gpg", "--verify", "file.asc", "file")
	}
	if _, err := admin.UndoPromotion(t.Context(), p.ID, ""); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("undone without a reason after it was sent on: %v", err)
	}
	if p := done(admin.UndoPromotion(t.Context(), p.ID, "wrong tide"))(t); p.State != "undone" ||
		p.UndoReason != "wrong tide" {
		t.Errorf("%+v", p)
	}
	must(t, http.MethodGet, "/at/"+releases+"/maven/"+groupPath+"/tide-model/1.0.0/tide-model-1.0.0.jar", "", 404)
}

// publishSnapshot sends a snapshot as build tools do, with a jar that states its
// version.
func publishSnapshot(t *testing.T, repository, artifact, release string, more ...string) {
	t.Helper()
	version := release + "-SNAPSHOT"
	stamp := fmt.Sprintf("20261101.0809%02d", made.Add(1)%60)
	text := pom("example.skerry.berth", artifact, version, more...)
	base := fmt.Sprintf("/at/%s/maven/%s/%s/%s/", repository, groupPath, artifact, version)
	file := base + artifact + "-" + release + "-" + stamp + "-1"
	must(t, http.MethodPut, file+".jar", archive(t, "META-INF/maven/example.skerry.berth/"+artifact+"/pom.xml", text), 201)
	must(t, http.MethodPut, file+".pom", text, 201)
	must(t, http.MethodPut, base+"maven-metadata.xml",
		fmt.Sprintf(
			"<metadata><groupId>example.skerry.berth</groupId><artifactId>%s</artifactId><version>%s</version><versioning><snapshot><timestamp>%s</timestamp><buildNumber>1</buildNumber></snapshot></versioning></metadata>", artifact, version, stamp), 201)
}

// TestPromoteKill ends the service with SIGKILL in the middle of promotions, 20
// times: of each, all versions are there or none, and it can be done again.
func TestPromoteKill(t *testing.T) {
	t.Parallel()
	const rounds, packages = 20, 8
	h := ownHouse(t)
	for name, holds := range map[string]string{"snapshots": "snapshots", "releases": "releases"} {
		if err := h.AddRepository(t.Context(), name, holds); err != nil {
			t.Fatal(err)
		}
	}
	c := &client.Client{Server: h.Address, Token: house.Token}
	if err := c.AddTrack(t.Context(), api.Track{Name: "ferry",
		Stages: []api.Stage{{Repository: "snapshots"}, {Repository: "releases"}}}); err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(20261123, 6))
	filling := make([]byte, 300<<10)
	for i := range filling {
		filling[i] = byte(random.Uint32())
	}
	there := func(version string) (n int) {
		for i := range packages {
			a, err := h.Ask(t.Context(), http.MethodGet, fmt.Sprintf("/at/releases/npm/part-%d/-/part-%d-%s.tgz", i, i, version),
				house.Token, nil)
			if err != nil {
				t.Fatal(err)
			}
			if a.Status == 200 {
				n++
			}
		}
		return n
	}
	cut, whole := 0, 0
	for round := range rounds {
		release := fmt.Sprintf("1.%d.0", round)
		n := api.NewPromotion{Track: "ferry"}
		for i := range packages {
			p := madeup.Package{Name: fmt.Sprintf("part-%d", i), Version: release + "-dev.1",
				Files: []madeup.Entry{{Name: "package/table.bin", Content: string(filling)}}}
			if a, err := h.Ask(t.Context(), http.MethodPut, "/at/snapshots/npm/"+p.Name, house.Token,
				bytes.NewReader(p.NPMDocument("next", p.NPM()))); err != nil || a.Status >= 300 {
				t.Fatalf("%d %s %v", a.Status, a.Body, err)
			}
			n.PURLs = append(n.PURLs, fmt.Sprintf("pkg:npm/part-%d@%s", i, p.Version))
		}
		var asking sync.WaitGroup
		ctx, stop := context.WithCancel(t.Context())
		asking.Go(func() { _, _ = c.Promote(ctx, n) })                 // its answer may be lost
		time.Sleep(time.Duration(random.IntN(700)) * time.Millisecond) // the moment of the kill is the experiment
		if err := h.Kill(); err != nil {
			t.Fatal(err)
		}
		stop()
		asking.Wait()
		if err := h.Restart(); err != nil {
			t.Fatal(err)
		}
		c.Server = h.Address
		switch got := there(release); got {
		case 0:
			cut++
			// What was cut is taken as underway until it is clear that nobody works on it.
			eventually(t, 40*time.Second, "it is done when it is asked for again", func() bool {
				p, err := c.Promote(t.Context(), n)
				if err != nil {
					t.Fatalf("round %d: again: %v", round, err)
				}
				return p.State == "done"
			})
			if got := there(release); got != packages {
				t.Fatalf("round %d: again: %d of %d versions are there", round, got, packages)
			}
		case packages:
			whole++
		default:
			t.Fatalf("round %d: %d of %d versions are there", round, got, packages)
		}
	}
	t.Logf("%d promotions were cut, %d done before the kill", cut, whole)
	if cut == 0 || whole == 0 {
		t.Errorf("%d cut and %d done: the kill always came at the same point", cut, whole)
	}
	checkStore(t, h)
}
