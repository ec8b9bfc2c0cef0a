package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/bundle"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// another starts a Crelvo of its own, with a repository "yard".
func another(t *testing.T) (*house.House, *client.Client) {
	t.Helper()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	h, err := house.Start(dir + "/data")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(h.Log())
		}
		h.Stop()
		os.RemoveAll(dir)
	})
	if err := h.AddRepository(t.Context(), "yard", "both"); err != nil {
		t.Fatal(err)
	}
	return h, &client.Client{Server: h.Address, Token: house.Token, Agent: "crelvo-tests"}
}

// publishAt publishes a package by the protocol of npm, somewhere.
func publishAt(t *testing.T, h *house.House, repository, label string, p madeup.Package) (content []byte) {
	t.Helper()
	content = p.NPM()
	a, err := h.Ask(t.Context(), http.MethodPut, "/at/"+repository+"/npm/"+strings.ReplaceAll(p.Name, "/", "%2f"),
		house.Token, strings.NewReader(string(p.NPMDocument(label, content))))
	if err != nil || a.Status != 200 && a.Status != 201 {
		t.Fatalf("publishing %s: %d %s %v", p.Name, a.Status, a.Body, err)
	}
	return content
}

// mirrorOf adds a mirror of the repository yard of another Crelvo, at the other end of a line.
func mirrorOf(t *testing.T, h *house.House, name string, line *wire) {
	t.Helper()
	if err := h.AddMirrorOf(t.Context(), "npm", name, "http://"+line.Addr().String()+"/at/yard/npm/",
		map[string]any{"secret": house.Token}); err != nil {
		t.Fatal(err)
	}
}

// moved has a transfer done at the shared house, and tells what became of each version.
func moved(t *testing.T, wish api.NewTransferRun) (run api.TransferRun, became string) {
	t.Helper()
	return movedBy(t, desk(house.Token), wish)
}

func movedBy(t *testing.T, c *client.Client, wish api.NewTransferRun) (run api.TransferRun, became string) {
	t.Helper()
	run = done(c.BeginTransfer(t.Context(), wish))(t)
	eventually(t, 60*time.Second, "the transfer to end", func() bool {
		run = done(c.Transfer(t.Context(), run.ID))(t)
		return run.EndedAt != nil
	})
	items := done(c.TransferItems(t.Context(), run.ID, "", 0))(t)
	for _, i := range items.Items {
		became += i.State + " " + i.PURL + " " + i.Why + "\n"
	}
	return run, became
}

// TestTransferFromAnother takes what another Crelvo keeps over by digests: only bytes travel that are nowhere here,
// whatever they are called; labels, withdrawals, times, publishers and builds come along; what is all there costs next
// to nothing; what the other keeps out is told of.
func TestTransferFromAnother(t *testing.T) {
	t.Parallel()
	far, _ := another(t)
	line := newWire(t, far.Address, nil)
	to, from := repository(t, "both"), fmt.Sprintf("held-%d", made.Add(1))
	mirrorOf(t, shared, from, line)
	const packages = 60
	size := 0
	for i := range packages {
		p := madeup.Package{Name: fmt.Sprintf("@skerry/held-%02d", i), Version: "1.0.0", Licence: "MIT",
			Files: []madeup.Entry{{Name: "package/noise", Content: noise(20_000)}}}
		content := publishAt(t, far, "yard", "latest", p)
		if size += len(content); i == 0 {
			publishAt(t, shared, repository(t, "both"), "elsewhere", p) // its bytes are here, where the admin may read them
		}
		if i < 3 {
			p.Version = "1.1.0"
			publishAt(t, far, "yard", "next", p)
		}
	}
	run := func(args ...string) string {
		t.Helper()
		out, errs, code := crelvoAsAdmin(t, append(args, "--server", far.Address)...)
		if code != 0 {
			t.Fatalf("%v: %d %s%s", args, code, out, errs)
		}
		return out
	}
	run("withdraw", "pkg:npm/@skerry/held-01@1.0.0", "--in", "yard", "--reason", "it leaks")
	run("build", "record", "held#7", "--revision", "abc123", "--branch", "main", "--note", "runner=berth-3",
		"--in", "yard", "pkg:npm/@skerry/held-02@1.0.0")

	// One was promoted there.
	run("repo", "add", "slipway")
	run("track", "add", "outward", "--stages", "slipway,yard")
	promoted := madeup.Package{Name: "@skerry/promoted", Version: "1.0.0", Licence: "MIT"}
	size += len(publishAt(t, far, "slipway", "latest", promoted))
	run("promote", "pkg:npm/@skerry/promoted@1.0.0", "--along", "outward", "--to", "yard")
	planned, became := moved(t, api.NewTransferRun{From: from, To: to, DryRun: true})
	if planned.ToCome.Versions != packages+4 || planned.ToCome.Travels < int64(size)*9/10 ||
		planned.ToCome.Travels >= planned.ToCome.Bytes {
		t.Fatalf("planned are %+v:\n%s", planned, became)
	}
	before := line.bytes.Load()
	came, became := moved(t, api.NewTransferRun{From: from, To: to})
	if came.Came.Versions != packages+4 {
		t.Fatalf("%+v:\n%s", came, became)
	}
	travelled := line.bytes.Load() - before
	if travelled < planned.ToCome.Travels || travelled > planned.ToCome.Travels*115/100 || came.Fetched > travelled {
		t.Errorf("%d bytes travelled, of packages of %d, and %d were planned", travelled, size, planned.ToCome.Travels)
	}
	of := func(h *house.House, repository string) string {
		t.Helper()
		var p api.Package
		out, errs, code := crelvoAsAdmin(t, "show", "pkg:npm/@skerry/held-02@1.0.0", "--in", repository, "-o", "json",
			"--server", h.Address)
		if err := json.Unmarshal([]byte(out), &p); err != nil || code != 0 || len(p.Versions) != 1 {
			t.Fatalf("%d %s%s %v", code, out, errs, err)
		}
		u := p.Versions[0].Uploads[0]
		return fmt.Sprintln(u.PublishedBy, u.PublishedAt, p.Versions[0].Labels, u.Build)
	}
	was, is := of(far, "yard"), of(shared, to)
	if was != is || !strings.Contains(was, "held#7") {
		t.Errorf("there it is %s, and here %s", was, is)
	}
	says(t, done(desk(house.Token).Build(t.Context(), "held#7"))(t).Notes["runner"], "berth-3")
	out, _, _ := crelvoAsAdmin(t, "show", "pkg:npm/@skerry/promoted@1.0.0", "--in", to)
	says(t, out, line.Addr().String()+"/at/yard/npm/; promoted from slipway to yard there by admin")
	document := string(ask(t, "GET", "/at/"+to+"/npm/@skerry/held-01", "").Body)
	says(t, document, `"deprecated":"it leaks"`, `"next":"1.1.0"`, `"latest":"1.0.0"`)

	before = line.bytes.Load()
	begun := time.Now()
	if again, became := moved(t, api.NewTransferRun{From: from, To: to}); again.There.Versions != packages+4 {
		t.Errorf("once more: %+v:\n%s", again, became)
	}
	if more := line.bytes.Load() - before; more > int64(size)/50 {
		t.Errorf("what is all there made %d bytes travel, of %d", more, size)
	}
	t.Logf("once more: %v, %d bytes of %d", time.Since(begun).Round(time.Millisecond), line.bytes.Load()-before, size)

	// Who may read some of the mirror gets that, and no more.
	who := fmt.Sprintf("stoker-%d", made.Add(1))
	mine := repository(t, "both")
	post(t, "/api/v1/users", api.NewUser{Name: who, Kind: "robot"}, nil)
	post(t, "/api/v1/grants", api.NewGrant{Holder: who, Role: "reader", Repositories: from,
		Packages: "pkg:npm/@skerry/held-1*"}, nil)
	post(t, "/api/v1/grants", api.NewGrant{Holder: who, Role: "publisher", Repositories: mine}, nil)
	var token api.MadeToken
	post(t, "/api/v1/tokens", api.NewToken{For: who, Name: "shovel"}, &token)
	theirs, became := movedBy(t, desk(token.Secret), api.NewTransferRun{From: from, To: mine})
	if theirs.Came.Versions != 10 || theirs.There.Versions+theirs.Refused.Versions+theirs.Failed.Versions > 0 {
		t.Errorf("who may read ten packages takes %+v:\n%s", theirs, became)
	}

	// Patterns, and other bytes under the same name, hold as for all transfers.
	other := repository(t, "releases")
	publishAt(t, shared, other, "latest", madeup.Package{Name: "@skerry/held-05", Version: "1.0.0", Licence: "MIT"})
	only := []string{"pkg:npm/@skerry/held-0*@1.0.0"}
	some, became := moved(t, api.NewTransferRun{From: from, To: other, Only: only})
	if some.Came.Versions != 9 || some.Refused.Versions != 1 ||
		!strings.Contains(became, "refused pkg:npm/@skerry/held-05@1.0.0 "+other+" has it already, and has other bytes") {
		t.Errorf("%+v:\n%s", some, became)
	}
}

// TestTransferFromAnotherKilled: whichever side is killed, twenty times in all, what another Crelvo keeps is here in
// the end, once, and as it is there.
func TestTransferFromAnotherKilled(t *testing.T) {
	t.Parallel()
	far, _ := another(t)
	near, here := another(t)
	line := newWire(t, far.Address, nil)
	mirrorOf(t, near, "far-npm", line)
	contents := map[string]string{}
	const versions = 400
	for i := range versions {
		p := madeup.Package{Name: fmt.Sprintf("sunk-%02d", i%40), Version: fmt.Sprintf("1.%d.0", i), Licence: "MIT",
			Files: []madeup.Entry{{Name: "package/noise", Content: noise(30_000)}}}
		contents[p.Name+"/-/"+p.Name+"-"+p.Version+".tgz"] = string(publishAt(t, far, "yard", "latest", p))
	}
	run, err := here.BeginTransfer(t.Context(), api.NewTransferRun{From: "far-npm", To: "yard", BytesRate: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 20 {
		time.Sleep(time.Duration(rand.IntN(400)) * time.Millisecond) // it is killed in the middle of something
		h := []*house.House{far, near}[i%2]
		if err := h.Kill(); err != nil {
			t.Fatal(err)
		}
		if err := h.Restart(); err != nil {
			t.Fatal(err)
		}
		if h == far {
			line.leadTo(far.Address)
		}
		here.Server = near.Address
	}
	eventually(t, 5*time.Minute, "the transfer to end", func() bool {
		run, err = here.Transfer(t.Context(), run.ID)
		return err == nil && run.EndedAt != nil
	})
	if run.Came.Versions != versions || run.State != "done" {
		t.Fatalf("%+v", run)
	}
	for path, content := range contents {
		a, err := near.Ask(t.Context(), http.MethodGet, "/at/yard/npm/"+path, house.Token, nil)
		if err != nil || a.Status != 200 || string(a.Body) != content {
			t.Errorf("%s: %d, %d bytes, %v", path, a.Status, len(a.Body), err)
		}
	}
}

// TestHeld: whoever may read a repository is told what it keeps, as far as they may see it, page by page, and is sent
// the files of what they name, and no others.
func TestHeld(t *testing.T) {
	t.Parallel()
	repo, around := repository(t, "both"), fmt.Sprintf("held-around-%d", made.Add(1))
	if _, errs, code := crelvoAsAdmin(t, "repo", "add", around, "--members", repo); code != 0 {
		t.Fatal(errs)
	}
	open := publishAt(t, shared, repo, "latest", madeup.Package{Name: "open-kelp", Version: "1.0.0", Licence: "MIT"})
	shut := publishAt(t, shared, repo, "latest", madeup.Package{Name: "shut-kelp", Version: "1.0.0", Licence: "MIT"})
	sum := func(content []byte) string { return fmt.Sprintf("%x", sha256.Sum256(content)) }
	path := "/api/v1/repositories/" + repo + "/held"
	asked := func(path, token, body string) house.Answer {
		t.Helper()
		a, err := shared.Ask(t.Context(), http.MethodPost, path, token, strings.NewReader(body), "Content-Type",
			"application/json")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	var held bundle.Held
	told := func(token, body string) string {
		t.Helper()
		a := asked(path, token, body)
		held = bundle.Held{}
		if err := json.Unmarshal(a.Body, &held); err != nil || a.Status != 200 {
			t.Fatalf("%d %s %v", a.Status, a.Body, err)
		}
		return string(a.Body)
	}
	all := told(house.Token, `{}`)
	says(t, all, "open-kelp", "shut-kelp", sum(open), `"publishedBy":"admin"`)
	if held.Next != "" || strings.Contains(all, `"said"`) {
		t.Errorf("all of it is %s", all)
	}
	told(house.Token, `{"after":"pkg:npm/open-kelp"}`)
	if len(held.Packages) != 1 || held.Packages[0].Name != "shut-kelp" {
		t.Errorf("after the first come %+v", held.Packages)
	}
	if told(house.Token, `{"only":["pkg:npm/open-*"]}`); len(held.Packages) != 1 || held.Packages[0].Name != "open-kelp" {
		t.Errorf("of a pattern there are %+v", held.Packages)
	}
	if told(house.Token, `{"ecosystem":"maven"}`); len(held.Packages) != 0 {
		t.Errorf("of another ecosystem there are %+v", held.Packages)
	}
	says(t, told(house.Token, `{"packages":["pkg:npm/open-kelp","pkg:npm/no-kelp"]}`), `"said"`)

	// Who may read a part of it is told of that part, and sent no bytes of the rest.
	user := fmt.Sprintf("diver-%d", made.Add(1))
	post(t, "/api/v1/users", api.NewUser{Name: user, Kind: "robot"}, nil)
	post(t, "/api/v1/grants", api.NewGrant{Holder: user, Role: "reader", Repositories: repo,
		Packages: "pkg:npm/open-*"}, nil)
	var diver api.MadeToken
	post(t, "/api/v1/tokens", api.NewToken{For: user, Name: "lamp"}, &diver)
	token := diver.Secret
	if told(token, `{}`); len(held.Packages) != 1 || held.Packages[0].Name != "open-kelp" {
		t.Errorf("who may read one package is told of %+v", held.Packages)
	}
	files := func(token, body string) (all []string) {
		t.Helper()
		a := asked(path+"/files", token, body)
		if a.Status != 200 {
			t.Fatalf("%d %s", a.Status, a.Body)
		}
		r := bundle.NewFilesReader(bytes.NewReader(a.Body))
		for {
			of, _, content, err := r.Next()
			if err != nil {
				return all
			}
			raw, err := io.ReadAll(content)
			if err != nil || sum(raw) != of.String() {
				t.Errorf("%s is %s, %v", of, sum(raw), err)
			}
			all = append(all, of.String())
		}
	}
	both := `"sha256":["` + sum(open) + `","` + sum(shut) + `"]}`
	if got := files(house.Token, `{"packages":["pkg:npm/open-kelp","pkg:npm/shut-kelp"],`+both); len(got) != 2 {
		t.Errorf("the files are %v", got)
	}
	if got := files(house.Token, `{"packages":["pkg:npm/open-kelp"],`+both); len(got) != 1 || got[0] != sum(open) {
		t.Errorf("of one package the files are %v", got)
	}
	got := files(token, `{"packages":["pkg:npm/open-kelp","pkg:npm/shut-kelp"],`+both)
	if len(got) != 1 || got[0] != sum(open) {
		t.Errorf("who may read one package is sent %v", got)
	}
	one := `{"packages":["pkg:npm/open-kelp"],"sha256":["` + sum(open) + `"],"from":`
	if a := asked(path+"/files", house.Token, one+`10}`); a.Status != 200 || string(a.Body) != string(open[10:]) {
		t.Errorf("from a byte on it is %d, %d bytes", a.Status, len(a.Body))
	}
	for _, c := range []struct {
		path, token, body string
		status            int
		says              string
	}{
		{path + "/files", house.Token, one + `-1}`, 400, ""},
		{path + "/files", house.Token, one + `1000000}`, 404, ""},
		{path + "/files", token, strings.ReplaceAll(one, sum(open), sum(shut)) + `0}`, 404, ""},
		{path, "", `{}`, 401, ""},
		{path + "/files", "", `{"packages":["pkg:npm/open-kelp"],` + both, 401, ""},
		{path, house.Token, `{"only":["x"]}`, 400, "pattern"},
		{path, house.Token, `{"after":"x"}`, 400, ""},
		{path, house.Token, `{"packages":["x"]}`, 400, ""},
		{path + "/files", house.Token, `{"packages":["pkg:npm/open-kelp"],"sha256":["x"]}`, 400, "no SHA-256"},
		{path + "/files", house.Token, `{`, 400, "cannot be read"},
		{"/api/v1/repositories/" + around + "/held", house.Token, `{}`, 409, "chain"},
		{"/api/v1/repositories/no-such/held", house.Token, `{}`, 404, ""},
	} {
		if a := asked(c.path, c.token, c.body); a.Status != c.status || !strings.Contains(string(a.Body), c.says) {
			t.Errorf("%s of %s: %d %s", c.body, c.path, a.Status, a.Body)
		}
	}
}

// TestTransferKinds takes what another Crelvo keeps of every kind over: releases, uploads of a snapshot, and images
// with their labels and parts.
func TestTransferKinds(t *testing.T) {
	t.Parallel()
	kelp := madeup.Package{Name: "kinds-kelp", Version: "1.0.0", Description: "About kelp", Licence: "MIT",
		Author: "Deck Hands"}
	image := madeup.Package{Name: "kinds", Version: "1.0.0"}.Image("linux/amd64", nil)
	snapshots := func(t *testing.T, repo string) {
		for n := 1; n <= 2; n++ {
			base := "/at/" + repo + "/maven/" + groupPath + "/kinds/1.0-SNAPSHOT/"
			stamp := fmt.Sprintf("2026110%d.080000", n)
			must(t, http.MethodPut, fmt.Sprintf("%skinds-1.0-%s-%d.pom", base, stamp, n),
				pom("example.skerry.berth", "kinds", "1.0-SNAPSHOT"), 201)
			must(t, http.MethodPut, base+"maven-metadata.xml", fmt.Sprintf("<metadata><version>1.0-SNAPSHOT</version>"+
				"<versioning><snapshot><timestamp>%s</timestamp><buildNumber>%d</buildNumber></snapshot></versioning></metadata>",
				stamp, n), 201)
		}
	}
	for kind, c := range map[string]struct {
		publish  func(t *testing.T, repo string)
		versions int
		path     string // of something that is there in the end
	}{
		"npm":   {versions: 1, path: "/at/%s/npm/kinds-kelp/-/kinds-kelp-1.0.0.tgz"},
		"pypi":  {versions: 1, path: "/at/%s/pypi/simple/kinds-kelp/"},
		"nuget": {versions: 1, path: "/at/%s/nuget/flat/kinds-kelp/1.0.0/kinds-kelp.1.0.0.nupkg"},
		"cargo": {versions: 1, path: "/at/%s/cargo/ki/nd/kinds-kelp"},
		"maven": {snapshots, 2, "/at/%s/maven/" + groupPath + "/kinds/1.0-SNAPSHOT/kinds-1.0-20261101.080000-1.pom"},
		"oci": {func(t *testing.T, repo string) { pushMade(t, repo+"/kinds", image, "1.0.0") }, 1,
			"/v2/%s/kinds/manifests/1.0.0"},
	} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			from, to, mirror := repository(t, "both"), repository(t, "both"), fmt.Sprintf("kinds-%d", made.Add(1))
			if c.publish != nil {
				c.publish(t, from)
			} else {
				publishMade(t, from, kind, kelp)
			}
			at := shared.Address + "/at/" + from + "/" + kind + "/"
			if kind == "oci" {
				at = shared.Address + "/v2/" + from + "/"
			}
			if err := shared.AddMirrorOf(t.Context(), kind, mirror, at, map[string]any{"secret": house.Token}); err != nil {
				t.Fatal(err)
			}
			run, became := moved(t, api.NewTransferRun{From: mirror, To: to})
			if run.Came.Versions != c.versions || run.Fetched > 0 {
				t.Fatalf("%+v\n%s", run, became)
			}
			if a := ask(t, http.MethodGet, fmt.Sprintf(c.path, to), ""); a.Status != 200 {
				t.Errorf("%s: %d %s", c.path, a.Status, a.Body)
			}
		})
	}
}

// TestTransferLarge: a large file that is cut again and again comes in the end, and hardly a byte of it twice.
func TestTransferLarge(t *testing.T) {
	t.Parallel()
	far, _ := another(t)
	near, here := another(t)
	line := newWire(t, far.Address, nil)
	mirrorOf(t, near, "far-npm", line)
	p := madeup.Package{Name: "whale", Version: "1.0.0", Licence: "MIT",
		Files: []madeup.Entry{{Name: "package/noise", Content: noise(90 << 20)}}}
	content := publishAt(t, far, "yard", "latest", p)
	run := done(here.BeginTransfer(t.Context(), api.NewTransferRun{From: "far-npm", To: "yard", BytesRate: 12 << 20}))(t)
	for cuts := int64(1); cuts <= 3; cuts++ {
		eventually(t, 60*time.Second, "more of it to come", func() bool {
			return line.bytes.Load() > cuts*8<<20
		})
		line.set(false) // what is underway ends
	}
	eventually(t, 60*time.Second, "the transfer to end", func() bool {
		run = done(here.Transfer(t.Context(), run.ID))(t)
		return run.EndedAt != nil
	})
	size := int64(len(content))
	if most := size * 13 / 10; run.Came.Versions != 1 || line.bytes.Load() > most {
		t.Errorf("%d bytes of %d went over the line: %+v", line.bytes.Load(), size, run)
	}
	a, err := near.Ask(t.Context(), http.MethodGet, "/at/yard/npm/whale/-/whale-1.0.0.tgz", house.Token, nil)
	if err != nil || a.Status != 200 || string(a.Body) != string(content) {
		t.Errorf("%d, %d bytes, %v", a.Status, len(a.Body), err)
	}
}
