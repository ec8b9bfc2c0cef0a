package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"

	"crelvo/internal/api"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestCharts does with the real helm what people do with charts, through a chain with a
// mirror behind: in the classic form, and as OCI artifacts, which are the same charts.
func TestCharts(t *testing.T) {
	t.Parallel()
	gauge := madeup.Package{Name: "tide-gauge", Version: "2.1.0", Description: "Shows how high the water stands"}
	source, public := shore(t, demo.Shelves["helm"]("helm/", gauge, madeup.Package{Name: "sluice", Version: "99.0.0"}))
	mirror := "chart-mirror"
	if err := shared.AddMirrorOf(t.Context(), "helm", mirror, public+demo.ShorePaths["helm"], quick); err != nil {
		t.Fatal(err)
	}
	for _, of := range []string{"", "pkg:helm/tide-gauge"} {
		if out, _, code := crelvoAsAdmin(t, "mirror", "check", "--ecosystem", "helm", "--upstream", public+
			demo.ShorePaths["helm"], "--for", of); code != 0 || strings.Contains(out, "BAD") {
			t.Errorf("the upstream, asked for %q: %s", of, out)
		}
	}
	p := newPointed(t, mirror)
	helm := func(args ...string) string {
		t.Helper()
		return p.run("project", tool("helm"), args...)
	}
	chart := func(version string) {
		t.Helper()
		p.write("project/sluice/Chart.yaml", []byte("apiVersion: v2\nname: sluice\nversion: "+version+"\nappVersion: \""+
			version+"\"\ndependencies:\n  - name: tide-gauge\n    version: ^2.0.0\n    repository: \"@"+p.chain+"\"\n"))
		p.write("project/sluice/templates/gate.yaml", []byte("apiVersion: v1\nkind: ConfigMap\nmetadata:\n"+
			"  name: {{ .Release.Name }}-gate\ndata:\n  version: {{ .Chart.AppVersion }}\n"))
	}
	undo := p.pointAndBack([]string{"helm", "--at", p.chain, "--publish"}, "home/.config/helm/repositories.yaml",
		"home/.config/helm/registry/config.json")
	defer undo()
	helm("repo", "update", p.chain)
	says(t, helm("search", "repo", p.chain+"/"), "tide-gauge", "2.1.0", "Shows how high")

	// A chart takes what it needs from the mirror, and is pushed as an artifact.
	chart("1.4.0")
	helm("dependency", "build", "sluice")
	helm("package", "sluice")
	oci := "oci://" + host() + "/" + p.chain
	helm("push", "sluice-1.4.0.tgz", oci, "--plain-http")
	chart("1.5.0-dev.1")
	helm("package", "sluice")
	helm("push", "sluice-1.5.0-dev.1.tgz", oci, "--plain-http")
	for repository, want := range map[string]string{p.releases: "1.4.0", p.snapshots: "1.5.0-dev.1"} {
		if a := ask(t, http.MethodGet, "/at/"+repository+"/helm/index.yaml", ""); strings.Count(string(a.Body),
			`"created"`) != 1 || !strings.Contains(string(a.Body), `"version":"`+want+`"`) {
			t.Errorf("%s has %s", repository, a.Body)
		}
	}
	// Whoever reads the index finds it; the public source's higher version is none of ours.
	helm("repo", "update", p.chain)
	if out := helm("search", "repo", p.chain+"/sluice", "--versions", "--devel"); !strings.Contains(out, "1.5.0-dev.1") ||
		!strings.Contains(out, "1.4.0") || strings.Contains(out, "99.0.0") {
		t.Error(out)
	}
	says(t, helm("template", "x", p.chain+"/sluice"), "x-gate", "version: 1.4.0")
	says(t, helm("template", "x", oci+"/sluice", "--version", "~1.4", "--plain-http"), "version: 1.4.0")
	// What was published in the classic form, or is elsewhere in it, is pulled as an artifact.
	says(t, helm("show", "chart", oci+"/tide-gauge", "--plain-http"), "version: 2.1.0")

	// It is installed from there, as far as that goes without a cluster: a stand-in tells a
	// version.
	cluster := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/version":
			fmt.Fprint(w, `{"major":"1","minor":"31","gitVersion":"v1.31.0"}`)
		case "/api":
			fmt.Fprint(w, `{"kind":"APIVersions","versions":["v1"]}`)
		case "/apis":
			fmt.Fprint(w, `{"kind":"APIGroupList","apiVersion":"v1","groups":[]}`)
		case "/api/v1":
			fmt.Fprint(w, `{"kind":"APIResourceList","groupVersion":"v1","resources":[`+
				`{"name":"configmaps","kind":"ConfigMap","namespaced":true,"verbs":["get"]}]}`)
		default:
			w.WriteHeader(http.StatusNotFound)
			fmt.Fprint(w, `{"kind":"Status","apiVersion":"v1","status":"Failure","reason":"NotFound","code":404}`)
		}
	}))
	defer cluster.Close()
	for _, from := range [][]string{{p.chain + "/sluice"}, {oci + "/sluice", "--plain-http"}} {
		says(t, helm(append([]string{"install", "gate", "--dry-run=client", "--disable-openapi-validation",
			"--kube-apiserver", cluster.URL}, from...)...),
			"gate-gate", "STATUS: pending-install", "version: 1.4.0")
	}

	// A signed chart is sent as a file, with its provenance, and verified by who pulls it.
	signer, err := openpgp.NewEntity("The Skerry Line", "", "charts@skerry.example", nil)
	if err != nil {
		t.Fatal(err)
	}
	var secret, open bytes.Buffer
	if err := signer.SerializePrivate(&secret, nil); err != nil {
		t.Fatal(err)
	}
	if err := signer.Serialize(&open); err != nil {
		t.Fatal(err)
	}
	p.write("project/secret.gpg", secret.Bytes())
	p.write("project/open.gpg", open.Bytes())
	chart("1.4.1")
	helm("package", "sluice", "--sign", "--key", "The Skerry Line", "--keyring", "secret.gpg")
	for _, file := range []string{"sluice-1.4.1.tgz", "sluice-1.4.1.tgz.prov"} {
		p.run("project", "curl", "--silent", "--show-error", "--fail-with-body", "--user", p.name+":"+p.token, "--upload-file", file,
			address(p.chain, "helm"))
	}
	helm("repo", "update", p.chain)
	helm("pull", p.chain+"/sluice", "--version", "1.4.1", "--verify", "--keyring", "open.gpg", "-d", "..")
	helm("pull", oci+"/sluice", "--version", "1.4.1", "--verify", "--keyring", "open.gpg", "-d", "../home", "--plain-http")
	if a, b := p.read("sluice-1.4.1.tgz"), p.read("home/sluice-1.4.1.tgz"); a != b || a != p.read("project/sluice-1.4.1.tgz") {
		t.Error("both ways do not give the same chart")
	}

	// Who is refused is told why.
	p.fails([]string{"holds releases, and 1.5.0-dev.1 is a snapshot"}, "project", tool("helm"), "push",
		"sluice-1.5.0-dev.1.tgz", "oci://"+host()+"/"+p.releases, "--plain-http")
	chart("1.4.0")
	p.write("project/sluice/templates/gate.yaml", []byte("# another\n"))
	helm("package", "sluice")
	p.fails([]string{"1.4.0", "published"}, "project", tool("helm"), "push", "sluice-1.4.0.tgz", oci, "--plain-http")
	if _, said, code := crelvoAsAdmin(t, "withdraw", "pkg:helm/sluice@1.4.1", "--in", p.releases, "--reason",
		"it leaks"); code != 0 {
		t.Fatal(said)
	}
	helm("repo", "update", p.chain)
	p.fails([]string{"1.4.1"}, "project", tool("helm"), "pull", p.chain+"/sluice", "--version", "1.4.1")
	p.fails([]string{"not found"}, "project", tool("helm"), "pull", oci+"/sluice", "--version", "1.4.1", "--plain-http")

	// What was fetched stays, and the index is as it was, while the source fails.
	switchTo(t, source, demo.Fault{Kind: "error"})
	if a := ask(t, http.MethodGet, "/at/"+p.chain+"/helm/index.yaml", ""); a.Status != 200 ||
		!strings.Contains(string(a.Body), "tide-gauge") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	if err := os.RemoveAll(p.dir + "/home/.cache"); err != nil {
		t.Fatal(err)
	}
	helm("repo", "update", p.chain)
	helm("pull", p.chain+"/tide-gauge", "-d", "../home")
	p.mistakes("helm", false, "home/.config/helm/repositories.yaml")
}

// TestChartPromoted: a chart is promoted with the chart that it needs, restamped in all that
// states a version, and as of a moment it is what it was.
func TestChartPromoted(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	run := func(args ...string) string {
		t.Helper()
		out, said, code := crelvoAsAdmin(t, args...)
		if code != 0 {
			t.Fatalf("%q: %d\n%s%s", args, code, out, said)
		}
		return out + said
	}
	gauge := madeup.Package{Name: "gate-gauge", Version: "2.2.0-dev.3", Description: "Shows"}
	gate := madeup.Package{Name: "gate", Version: "1.5.0-dev.7", Description: "Opens",
		Needs: map[string]string{"gate-gauge": "2.2.0-dev.3"}}
	for _, m := range []madeup.Package{gauge, gate} {
		if a := ask(t, http.MethodPut, "/at/"+snapshots+"/helm/"+m.Name+"-"+m.Version+".tgz",
			string(m.Chart())); a.Status != 201 {
			t.Fatalf("%d %s", a.Status, a.Body)
		}
	}
	before := time.Now().UTC()
	waitPast(t, before)
	track := releases + "-track"
	run("track", "add", track, "--stages", snapshots+","+releases)
	both := []string{"promote", "pkg:helm/gate-gauge@2.2.0-dev.3", "pkg:helm/gate@1.5.0-dev.7", "--along", track,
		"--to", releases}
	says(t, run(append(both, "--dry-run")...), "appVersion", "dependency on gate-gauge")
	run(append(both, "--yes")...)
	w := newWorkshop(t)
	w.run("", tool("helm"), "repo", "add", "ours", strings.TrimSuffix(address(releases, "helm"), "/"), "--username", "admin",
		"--password", house.Token)
	says(t, w.run("", tool("helm"), "show", "chart", "ours/gate"), "version: 1.5.0", "appVersion: 1.5.0", "version: 2.2.0")
	says(t, w.run("", tool("helm"), "template", "x", "ours/gate"), `version: "1.5.0"`)
	says(t, run("show", "pkg:helm/gate@1.5.0"), "pkg:helm/gate-gauge 2.2.0", releases)
	if a := ask(t, http.MethodGet, "/at/"+releases+"@"+before.Format(time.RFC3339Nano)+"/helm/index.yaml",
		""); a.Status != 200 || strings.Contains(string(a.Body), "gate") {
		t.Errorf("before it was promoted: %d %s", a.Status, a.Body)
	}

	// Whoever may see some packages finds these in the index, and no others.
	var made api.MadeToken
	name := releases + "-reader"
	post(t, "/api/v1/users", api.NewUser{Name: name}, nil)
	post(t, "/api/v1/grants", api.NewGrant{Holder: name, Role: "reader", Repositories: releases,
		Packages: "pkg:helm/gate-*"}, nil)
	post(t, "/api/v1/tokens", api.NewToken{For: name, Name: "cli"}, &made)
	a, err := shared.Ask(t.Context(), http.MethodGet, "/at/"+releases+"/helm/index.yaml", made.Secret, nil)
	if err != nil || a.Status != 200 || !strings.Contains(string(a.Body), `"gate-gauge"`) ||
		strings.Contains(string(a.Body), `"gate":`) {
		t.Errorf("who may see gate-gauge alone gets %d %s, %v", a.Status, a.Body, err)
	}
}
