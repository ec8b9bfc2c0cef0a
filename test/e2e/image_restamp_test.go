package e2e

import (
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestImageRestamped: where a track says so, an image states its release in its labels, with
// the images of an index and what is about it, and a chart of the same build leads to it.
func TestImageRestamped(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	track := releases + "-track"
	run := func(want int, args ...string) string {
		t.Helper()
		out, said, code := crelvoAsAdmin(t, args...)
		if code != want {
			t.Fatalf("%q: %d, want %d\n%s%s", args, code, want, out, said)
		}
		return out + said
	}
	run(0, "track", "add", track, "--stages", snapshots+","+releases)
	says(t, run(1, "track", "edit", track, "--into", releases, "--restamp", "layers"), "image-labels, image-references")
	run(0, "track", "edit", track, "--into", releases, "--restamp", "image-labels,image-references")
	says(t, run(0, "track", "show", track), "restamped too  image-labels, image-references")

	p := madeup.Package{Name: "tide-image", Version: "1.5.0-dev.118", Description: "Tells tides"}
	amd, arm := p.Image("linux/amd64", nil), p.Image("linux/arm64", nil)
	index := p.Index(amd, arm)
	to := snapshots + "/tide-image"
	children := pushMade(t, to, amd, "") + pushMade(t, to, arm, "")
	was := pushMade(t, to, index, "1.5.0-dev.118")
	sbom := []byte(`{"spdxVersion":"SPDX-2.3"}`)
	about := index.Referrer("application/spdx+json", "application/spdx+json", sbom)
	pushMade(t, to, about, "")
	// What is about that goes with it, and a signature of it does not.
	pushMade(t, to, about.Referrer("text/plain", "text/plain", []byte("read by deckhand")), "")
	const bundle = "application/vnd.dev.sigstore.bundle.v0.3+json"
	signed := pushMade(t, to, about.Referrer(bundle, bundle, []byte(`{"mediaType":"`+bundle+`","dsseEnvelope":`+
		`{"payload":"e30=","payloadType":"application/vnd.in-toto+json","signatures":[{"sig":"AA=="}]}}`)), "")
	pushMade(t, to, madeup.Package{Name: "sig", Version: "1"}.Image("linux/amd64", nil),
		strings.Replace(was, ":", "-", 1)+".sig")
	chart := madeup.Package{Name: "tide-chart", Version: "1.5.0-dev.118", Description: "Runs it",
		Values: "image:\n  repository: " + host() + "/" + snapshots + "/tide-image\n  tag: 1.5.0-dev.118 # ours\n" +
			"other:\n  image: " + host() + "/" + snapshots + "/tide-image@" + was + "\n"}
	if a := ask(t, http.MethodPut, "/at/"+snapshots+"/helm/tide-chart-1.5.0-dev.118.tgz",
		string(chart.Chart())); a.Status != 201 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}

	all := []string{"promote", "pkg:oci/tide-image@1.5.0-dev.118", "pkg:helm/tide-chart@1.5.0-dev.118", "--along",
		track, "--to", releases}
	plan := run(0, append(all, "--dry-run")...)
	for _, want := range []string{"label org.opencontainers.image.version", "digest of manifests", "- " + was,
		"stays behind: its tag names the bytes of before", "image tide-image",
		signed + " stays behind: it signs the bytes of before",
		"stays, and names the old version: config Env"} {
		says(t, plan, want)
	}
	run(0, append(all, "--yes")...)

	w := newWorkshop(t)
	crane := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", tool("crane"), append(args, "--insecure")...))
	}
	crane("auth", "login", host(), "-u", "admin", "-p", house.Token)
	image := host() + "/" + releases + "/tide-image"
	is := crane("digest", image+":1.5.0")
	if is == was || !strings.Contains(plan, is) {
		t.Errorf("1.5.0 is %s, and was %s; the plan says\n%s", is, was, plan)
	}
	for _, platform := range []string{"linux/amd64", "linux/arm64"} {
		if config := crane("config", "--platform", platform, image+":1.5.0"); !strings.Contains(config,
			`"org.opencontainers.image.version":"1.5.0"`) {
			t.Errorf("%s: %s", platform, config)
		}
		if child := crane("digest", "--platform", platform, image+":1.5.0"); strings.Contains(children, child) {
			t.Errorf("%s is what it was", platform)
		}
	}
	// All of it can be pulled, and only what leads to the new bytes is about them.
	says(t, w.run("", "skopeo", "--insecure-policy", "copy", "--all", "--src-tls-verify=false", "--src-creds",
		"admin:"+house.Token, "docker://"+image+":1.5.0", "oci:layout:1.5.0"), "Copying 2 of 2 images")
	crane("validate", "--remote", image+":1.5.0")
	says(t, w.run("", tool("oras"), "discover", "--plain-http", image+"@"+is), "application/spdx+json")
	says(t, w.run("", tool("oras"), "discover", "--plain-http", image+"@"+is), "text/plain")
	// What has no tag, and is there, is said to be there.
	stray := madeup.Package{Name: "stray", Version: "1"}.Image("linux/amd64", nil)
	pushMade(t, to, stray, "")
	says(t, run(1, "promote", "pkg:oci/tide-image@"+pushMade(t, releases+"/tide-image", stray, ""), "--along", track, "--to",
		releases, "--yes"), "has the very bytes of tide-image already")
	if got := crane("ls", image); got != "1.5.0" {
		t.Errorf("the tags are %q", got)
	}
	w.fails([]string{"MANIFEST_UNKNOWN"}, "", tool("crane"), "manifest", image+"@"+was, "--insecure")

	w.run("", tool("helm"), "pull", "--username", "admin", "--password", house.Token, "--repo",
		strings.TrimSuffix(address(releases, "helm"), "/"), "tide-chart", "--version", "1.5.0", "--untar")
	if got, want := w.read("tide-chart/values.yaml"), "replicas: 1\nimage:\n  repository: "+host()+"/"+releases+
		"/tide-image\n  tag: 1.5.0 # ours\nother:\n  image: "+host()+"/"+releases+"/tide-image@"+is+"\n"; got != want {
		t.Errorf("the values are\n%s\nwant\n%s", got, want)
	}
	// What was promoted is so already, and the snapshot is what it was.
	says(t, run(0, append(all, "--yes")...), "It was asked for before")
	if got := crane("digest", host()+"/"+to+":1.5.0-dev.118"); got != was {
		t.Errorf("the snapshot became %s", got)
	}
}
