package e2e

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"strings"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/api"
	"crelvo/internal/checkout"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// tool is the path of a client that was built for the tests.
func tool(name string) string { return checkout.Path("test/clients/bin/" + name) }

// host is the service as images are named by it.
func host() string { return strings.TrimPrefix(shared.Address, "http://") }

// TestDistribution: the specification's own test finds nothing wrong, in all four
// categories, and leaves out nothing.
func TestDistribution(t *testing.T) {
	t.Parallel()
	repository := repository(t, "both")
	dir := t.TempDir()
	w := newWorkshop(t, "OCI_REGISTRY="+host(), "OCI_TLS=disabled", "OCI_REPO1="+repository+"/first",
		"OCI_REPO2="+repository+"/second/image", "OCI_USERNAME=admin", "OCI_PASSWORD="+house.Token, "OCI_VERSION=1.1",
		"OCI_RESULTS_DIR="+dir, "OCI_API_BLOBS_UPLOAD_CANCEL=true", "OCI_API_BLOBS_DIGEST_HEADER=true",
		"OCI_API_MANIFESTS_DIGEST_HEADER=true")
	out, err := w.try("", tool("conformance"))
	raw, readErr := os.ReadFile(dir + "/junit.xml")
	if readErr != nil {
		t.Fatalf("there is no report: %v\n%s\n%v", err, out, readErr)
	}
	var report struct {
		Suites []struct {
			Cases []struct {
				Name   string `xml:"name,attr"`
				Status string `xml:"status,attr"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal(raw, &report); err != nil {
		t.Fatal(err)
	}
	passed := 0
	for _, s := range report.Suites {
		for _, c := range s.Cases {
			if c.Status != "passed" {
				t.Errorf("%s: %s", c.Name, c.Status)
				continue
			}
			passed++
		}
	}
	if passed < 600 {
		t.Errorf("only %d tests passed:\n%s", passed, out)
	}
}

// TestImages does with real clients what people do with images, through a chain: they are
// pointed, push, pull, copy, attach, list, delete, and are refused.
func TestImages(t *testing.T) {
	t.Parallel()
	p := newPointed(t, "")
	says(t, p.point(0, "docker", "--at", p.chain, "--publish"), "docker login "+host())
	p.point(0, "docker", "--at", p.chain, "--publish", "--write", "--yes")
	says(t, p.read("home/.docker/config.json"), `"`+host()+`"`)
	if out := p.point(0, "docker", "--at", p.chain, "--publish", "--check"); strings.Contains(out, "BAD") {
		t.Error(out)
	}
	crane := func(args ...string) string {
		t.Helper()
		return p.run("project", tool("crane"), append(args, "--insecure")...)
	}
	image := host() + "/" + p.chain + "/skerry/berth-planner"
	p.write("project/layer.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth-planner", Content: "plans"}))
	p.write("project/other.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth-planner", Content: "plans otherwise"}))

	// What a tag reads as decides where it belongs.
	crane("append", "-f", "layer.tar.gz", "-t", image+":1.5.0-dev.118")
	crane("append", "-f", "layer.tar.gz", "-t", image+":1.5.0")
	crane("append", "-f", "other.tar.gz", "-t", image+":1.5.0-dev.118")
	for repository, want := range map[string]string{p.snapshots: "1.5.0-dev.118", p.releases: "1.5.0"} {
		if got := strings.TrimSpace(crane("ls", host()+"/"+repository+"/skerry/berth-planner")); got != want {
			t.Errorf("%s has the tags %q, want %q", repository, got, want)
		}
	}
	if got := strings.Fields(crane("ls", image)); len(got) != 2 {
		t.Errorf("the chain has the tags %q", got)
	}
	p.fails([]string{"DENIED", "is a release", "does not move"}, "project", tool("crane"), "append", "-f", "other.tar.gz",
		"-t", image+":1.5.0", "--insecure")
	// A repository may say that other tags are releases.
	patch(t, p.chain, map[string]any{"releaseTags": []string{"r*"}}, 400)
	patch(t, p.releases, map[string]any{"releaseTags": []string{"r *"}}, 400)
	patch(t, p.releases, map[string]any{"releaseTags": []string{"r*"}}, 200)
	crane("append", "-f", "layer.tar.gz", "-t", image+":r118")
	says(t, crane("ls", host()+"/"+p.releases+"/skerry/berth-planner"), "r118")
	p.fails([]string{"DENIED", "r118", "is a release", "does not move"}, "project", tool("crane"), "append", "-f",
		"other.tar.gz", "-t", image+":r118", "--insecure")
	crane("append", "-f", "other.tar.gz", "-t", host()+"/"+p.snapshots+"/skerry/berth-planner:r118")
	p.fails([]string{"DENIED", p.releases + " holds releases, and 2.0.0-dev.1 is a snapshot"}, "project", tool("crane"),
		"append", "-f", "layer.tar.gz", "-t", host()+"/"+p.releases+"/skerry/berth-planner:2.0.0-dev.1", "--insecure")
	p.fails([]string{"MANIFEST_UNKNOWN"}, "project", tool("crane"), "manifest", image+":9", "--insecure")
	p.fails([]string{"NAME_UNKNOWN", "has no image nothing"}, "project", tool("crane"), "ls",
		host()+"/"+p.chain+"/nothing", "--insecure")

	// An index of two platforms, whose images were pushed before it had a tag.
	crane("append", "-f", "layer.tar.gz", "--platform", "linux/amd64", "-t", image+":amd")
	crane("append", "-f", "other.tar.gz", "--platform", "linux/arm64", "-t", image+":arm")
	crane("index", "append", "-m", image+":amd", "-m", image+":arm", "-t", image+":1.6.0")
	says(t, crane("manifest", host()+"/"+p.releases+"/skerry/berth-planner:1.6.0"), `"manifests"`)
	digest := strings.TrimSpace(crane("digest", host()+"/"+p.releases+"/skerry/berth-planner:1.6.0"))

	// Others copy it, layer by layer, without sending what is here.
	p.run("project", "skopeo", "--insecure-policy", "copy", "--all", "--src-tls-verify=false", "--dest-tls-verify=false",
		"--dest-creds", p.name+":"+p.token, "docker://"+image+":1.6.0", "docker://"+host()+"/"+p.other+"/berth-planner:1.6.0")
	says(t, p.run("project", "skopeo", "inspect", "--tls-verify=false", "--creds", p.name+":"+p.token, "--raw",
		"docker://"+host()+"/"+p.other+"/berth-planner:1.6.0"), `"manifests"`)
	p.run("project", "skopeo", "--insecure-policy", "copy", "--all", "--src-tls-verify=false", "docker://"+image+":1.6.0",
		"oci:layout:1.6.0")
	p.fails([]string{"unauthorized"}, "project", "skopeo", "list-tags", "--tls-verify=false", "--creds", p.name+":wrong",
		"docker://"+image)

	// What is about it stands beside it.
	p.write("project/sbom.json", []byte(`{"spdxVersion":"SPDX-2.3"}`))
	oras := func(args ...string) string {
		t.Helper()
		return p.run("project", tool("oras"), append(args, "--plain-http")...)
	}
	oras("attach", "--artifact-type", "application/spdx+json", image+"@"+digest, "sbom.json:application/spdx+json")
	says(t, oras("discover", image+"@"+digest), "application/spdx+json")
	says(t, oras("discover", host()+"/"+p.releases+"/skerry/berth-planner@"+digest), "application/spdx+json")
	oras("push", host()+"/"+p.chain+"/charts/tides:v1", "sbom.json")
	oras("pull", host()+"/"+p.chain+"/charts/tides:v1", "-o", "pulled")
	if got := p.read("project/pulled/sbom.json"); got != `{"spdxVersion":"SPDX-2.3"}` {
		t.Errorf("another file came back: %s", got)
	}

	// A publisher moves tags, and removes nothing; a curator does.
	crane("auth", "login", host(), "-u", p.name, "-p", p.token)
	p.fails([]string{"DENIED", "curator"}, "project", tool("crane"), "delete", image+"@"+digest, "--insecure")
	p.fails([]string{"DENIED", "curator"}, "project", tool("crane"), "delete",
		host()+"/"+p.releases+"/skerry/berth-planner:1.6.0", "--insecure")
	post(t, "/api/v1/grants", api.NewGrant{Holder: p.name, Role: "curator", Repositories: p.releases}, nil)
	then := time.Now().UTC()
	waitPast(t, then)
	crane("delete", host()+"/"+p.releases+"/skerry/berth-planner@"+digest)
	p.fails([]string{"MANIFEST_UNKNOWN", "was removed"}, "project", tool("crane"), "manifest", image+"@"+digest, "--insecure")
	// As of a moment: the name of the repository says it, as far as names of images can.
	says(t, crane("manifest", host()+"/"+p.chain+"__"+then.Format("2006-01-02t15.04.05.000000z")+
		"/skerry/berth-planner:1.6.0"), `"manifests"`)
}

// TestImagePromoted: a build that makes a package and an image of two platforms is promoted
// in one act. The image stays what it is; its tag becomes that of the release, and what is
// about it goes along.
func TestImagePromoted(t *testing.T) {
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	run := func(want int, args ...string) string {
		t.Helper()
		out, said, code := crelvoAsAdmin(t, args...)
		if code != want {
			t.Fatalf("%q: %d, want %d\n%s%s", args, code, want, out, said)
		}
		return out + said
	}
	run(0, "track", "add", "images", "--stages", snapshots+","+releases)
	run(0, "build", "begin", "berth-images#118")
	w := newWorkshop(t)
	crane := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", tool("crane"), append(args, "--insecure")...))
	}
	crane("auth", "login", host(), "-u", "admin", "-p", house.Token)
	image := host() + "/" + snapshots + "/berth-planner"
	w.write("amd.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth-planner", Content: "for amd64"}))
	w.write("arm.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth-planner", Content: "for arm64"}))
	crane("append", "-f", "amd.tar.gz", "--platform", "linux/amd64", "-t", image+":amd")
	crane("append", "-f", "arm.tar.gz", "--platform", "linux/arm64", "-t", image+":arm")
	crane("index", "append", "-m", image+":amd", "-m", image+":arm", "-t", image+":1.5.0-dev.118")
	for _, tag := range []string{"amd", "arm"} {
		crane("delete", image+":"+tag)
	}
	publishMade(t, snapshots, "npm", madeup.Package{Name: "deck-images", Version: "1.5.0-dev.118"})
	run(0, "build", "record", "berth-images#118")
	// What is about it came later, and from no build.
	digest := crane("digest", image+":1.5.0-dev.118")
	w.write("sbom.json", []byte(`{"spdxVersion":"SPDX-2.3"}`))
	w.run("", tool("oras"), "attach", "--plain-http", "--artifact-type", "application/spdx+json", image+"@"+digest,
		"sbom.json:application/spdx+json")

	says(t, run(0, "promote", "--build", "berth-images#118", "--along", "images", "--to", releases, "--dry-run"), "tag=1.5.0-dev.118")
	run(0, "promote", "--build", "berth-images#118", "--along", "images", "--to", releases, "--yes")
	to := host() + "/" + releases + "/berth-planner"
	if got := crane("ls", to); got != "1.5.0" {
		t.Errorf("the tags are %q", got)
	}
	if got := crane("digest", to+":1.5.0"); got != digest {
		t.Errorf("1.5.0 is %s, and was %s", got, digest)
	}
	// All of it is there: both platforms, their layers, and what is about it.
	says(t, w.run("", "skopeo", "--insecure-policy", "copy", "--all", "--src-tls-verify=false", "--src-creds",
		"admin:"+house.Token, "docker://"+to+":1.5.0", "oci:layout:1.5.0"), "Copying 2 of 2 images")
	says(t, w.run("", tool("oras"), "discover", "--plain-http", to+"@"+digest), "application/spdx+json")
	if a := ask(t, "GET", "/at/"+releases+"/npm/deck-images", ""); a.Status != 200 ||
		!strings.Contains(string(a.Body), `"1.5.0"`) {
		t.Errorf("%d %s", a.Status, a.Body)
	}

	// By its tag it is withdrawn, and then pulled by its digest alone.
	run(0, "withdraw", "pkg:oci/berth-planner@1.5.0", "--in", releases, "--reason", `it "leaks"`)
	w.fails([]string{"MANIFEST_UNKNOWN", `withdrawn: it "leaks"`}, "", tool("crane"), "manifest", to+":1.5.0", "--insecure")
	crane("manifest", to+"@"+digest)
	manifest := "/v2/" + releases + "/berth-planner/manifests/" + digest
	if got, want := ask(t, "HEAD", manifest, "").Header.Get("Warning"), `299 - "`+digest+
		` of berth-planner is withdrawn: it \"leaks\""`; got != want {
		t.Errorf("the warning is %s, want %s", got, want)
	}
	says(t, w.run("", tool("oras"), "manifest", "fetch", "--plain-http", "--descriptor", to+"@"+digest), "withdrawn")
	run(0, "withdraw", "pkg:oci/berth-planner@1.5.0", "--in", releases, "--undo")
	if a := ask(t, "GET", manifest, ""); a.Status != 200 || a.Header.Get("Warning") != "" {
		t.Errorf("used again: %d %v", a.Status, a.Header)
	}
	crane("manifest", to+":1.5.0")

	// The next upload under the same tag cannot become the same release.
	crane("append", "-f", "arm.tar.gz", "-t", image+":1.5.0-dev.120")
	says(t, run(1, "promote", "pkg:oci/berth-planner?tag=1.5.0-dev.120", "--along", "images", "--to", releases, "--as",
		"1.6.0", "--yes"), releases+" has the very bytes of berth-planner already")
	w.write("other.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth-planner", Content: "the next one"}))
	crane("append", "-f", "other.tar.gz", "-t", image+":1.5.0-dev.119")
	says(t, run(1, "promote", "pkg:oci/berth-planner?tag=1.5.0-dev.119", "--along", "images", "--to", releases, "--yes"), "is a release")
	run(0, "promote", "pkg:oci/berth-planner@1.5.0-dev.119", "--along", "images", "--to", releases, "--as", "1.6.0", "--yes")
	if got := strings.Fields(crane("ls", to)); len(got) != 2 || got[1] != "1.6.0" {
		t.Errorf("the tags are %q", got)
	}
}

// TestImageMirror: a mirror fetches an index and what is asked for of it, each once, answers
// for what it keeps when its upstream fails, and stands behind a chain.
func TestImageMirror(t *testing.T) {
	t.Parallel()
	minimal := func(version string) madeup.Package {
		return madeup.Package{Name: "openshore/minimal", Version: version, Description: "As little as possible"}
	}
	upstream, _, mirror := shelf(t, "oci", minimal("1.0.0"), minimal("1.1.0"))
	ours := repository(t, "releases")
	chain := addChain(t, ours, mirror)
	w := newWorkshop(t)
	crane := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", tool("crane"), append(args, "--insecure")...))
	}
	crane("auth", "login", host(), "-u", "admin", "-p", house.Token)
	image := host() + "/" + chain + "/openshore/minimal"
	if got := strings.Fields(crane("ls", image)); len(got) != 2 || got[1] != "1.1.0" {
		t.Errorf("the tags are %q", got)
	}
	digest := crane("digest", image+":1.1.0")
	crane("pull", "--platform", "linux/arm64", image+":1.1.0", "image.tar")
	crane("pull", "--platform", "linux/arm64", image+":1.1.0", "again.tar")
	crane("pull", "--platform", "linux/arm64", image+"@"+digest, "byDigest.tar")
	fetched := 0
	for path, n := range upstream.Requests() {
		if strings.Contains(path, "/blobs/") || strings.Contains(path, "/manifests/sha256") {
			fetched++
			if n != 1 {
				t.Errorf("%s was asked for %d times", path, n)
			}
		}
	}
	if fetched != 4 { // the index, one image of it, its configuration and its layer
		t.Errorf("%d files were fetched: %v", fetched, upstream.Requests())
	}
	// What it keeps is a version with its files.
	out, said, code := crelvoAsAdmin(t, "show", "pkg:oci/openshore/minimal", "--in", mirror)
	if code != 0 {
		t.Fatalf("%s%s", out, said)
	}
	says(t, out, "1.1.0 ("+digest[:19]+")")
	// How much more its upstream lets it pull, is told.
	if out, said, code = crelvoAsAdmin(t, "mirror", "show", mirror); code != 0 {
		t.Fatalf("%s%s", out, said)
	}
	says(t, out, " more times, of 100 within 6h")

	// Its upstream fails: what is kept is served, by its tag too.
	switchTo(t, upstream, demo.Fault{Kind: "error"})
	crane("pull", "--platform", "linux/arm64", image+":1.1.0", "kept.tar")
	w.fails([]string{"UNKNOWN", "fails"}, "", tool("crane"), "pull", image+":1.0.0", "x.tar", "--insecure")
	switchTo(t, upstream)
	// Wrong bytes are neither kept nor given.
	switchTo(t, upstream, demo.Fault{Path: "/blobs/", Kind: "wrong-bytes"})
	w.fails([]string{"UNKNOWN"}, "", tool("crane"), "pull", "--platform", "linux/amd64", image+":1.0.0", "x.tar", "--insecure")
	switchTo(t, upstream)
	eventually(t, 20*time.Second, "the upstream is asked again", func() bool {
		_, err := w.try("", tool("crane"), "pull", "--platform", "linux/amd64", image+":1.0.0", "x.tar", "--insecure")
		return err == nil
	})
	if a := ask(t, "GET", "/v2/"+chain+"/openshore/minimal/manifests/9", ""); a.Status != 404 {
		t.Errorf("%d %s", a.Status, a.Body)
	}

	// A name of the house is the house's, whatever the upstream has.
	w.write("layer.tar.gz", madeup.TarGz(madeup.Entry{Name: "x", Content: "ours"}))
	crane("append", "-f", "layer.tar.gz", "-t", host()+"/"+ours+"/openshore/minimal:2.0.0")
	if got := crane("ls", image); got != "2.0.0" {
		t.Errorf("the tags are %q", got)
	}
	w.fails([]string{"NAME_UNKNOWN", "the name is ours"}, "", tool("crane"), "manifest", image+":1.1.0", "--insecure")
}

// TestImageHosts: a repository answers under a host of its own, for clients that know only a
// host, and a mirror for the host that it mirrors alone.
func TestImageHosts(t *testing.T) {
	t.Parallel()
	minimal := madeup.Package{Name: "openshore/minimal", Version: "1.0.0"}
	_, public := shore(t, demo.Shelves["oci"]("oci/", minimal))
	mirror := "hosted-mirror"
	if err := shared.AddMirrorOf(t.Context(), "oci", mirror, public+demo.ShorePaths["oci"], quick); err != nil {
		t.Fatal(err)
	}
	own := repository(t, "both")
	chain := addChain(t, own, mirror)
	for _, name := range []string{"", "images", "images.skerry.example:80", "-.example"} {
		patch(t, own, map[string]any{"hosts": []string{name}}, 400)
	}
	patch(t, own, map[string]any{"hosts": []string{"Images.skerry.example"}}, 200)
	patch(t, chain, map[string]any{"hosts": []string{"all.skerry.example", "images.skerry.example"}}, 409)
	patch(t, chain, map[string]any{"hosts": []string{"all.skerry.example"}}, 200)

	// The server stands in for the names of its hosts as a proxy does.
	w := newWorkshop(t, "HTTP_PROXY="+shared.Address)
	crane := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", tool("crane"), append(args, "--insecure")...))
	}
	for _, at := range []string{"images.skerry.example", "all.skerry.example"} {
		crane("auth", "login", at, "-u", "admin", "-p", house.Token)
	}
	w.write("layer.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth", Content: "for a host"}))
	crane("append", "-f", "layer.tar.gz", "-t", "images.skerry.example/skerry/berth:1.5.0")
	if got := crane("ls", "all.skerry.example/skerry/berth"); got != "1.5.0" {
		t.Errorf("the chain's host has the tags %q", got)
	}
	crane("copy", "images.skerry.example/skerry/berth:1.5.0", "images.skerry.example/other/berth:1.5.0")
	crane("pull", "all.skerry.example/other/berth:1.5.0", "pulled.tar")
	says(t, crane("manifest", "all.skerry.example/openshore/minimal:1.0.0"), `"manifests"`)
	if a := ask(t, "GET", "/v2/"+own+"/other/berth/tags/list", ""); a.Status != 200 {
		t.Errorf("under its own name: %d %s", a.Status, a.Body)
	}

	// What containerd asks a mirror for is meant to be of the host that it names.
	upstream := strings.Split(strings.TrimPrefix(public, "http://"), "/")[0]
	name, _, _ := strings.Cut(upstream, ":")
	for path, want := range map[string]int{
		"/openshore/minimal/manifests/1.0.0?ns=" + upstream: 200, "/openshore/minimal/manifests/1.0.0?ns=" + name: 200,
		"/openshore/minimal/manifests/1.0.0?ns=elsewhere.example": 404,
		"/skerry/berth/manifests/1.5.0?ns=" + upstream:            404, "/skerry/berth/manifests/1.5.0?ns=" + host(): 200,
		"/skerry/berth/manifests/1.5.0": 200} {
		if a := ask(t, "GET", "/v2/"+chain+path, ""); a.Status != want {
			t.Errorf("%s: %d %s; want %d", path, a.Status, a.Body, want)
		}
	}
	patch(t, own, map[string]any{"hosts": []string{}}, 200)
	w.fails([]string{"NAME"}, "", tool("crane"), "ls", "images.skerry.example/skerry/berth", "--insecure")
}

// TestImagePrefetch: the newest images are fetched ahead, of the platforms that are wanted,
// and charts by patterns.
func TestImagePrefetch(t *testing.T) {
	t.Parallel()
	minimal := func(version string) madeup.Package {
		return madeup.Package{Name: "openshore/minimal", Version: version, Description: "As little as possible"}
	}
	upstream, _, mirror := shelf(t, "oci", minimal("1.0.0"), minimal("1.1.0"))
	patch(t, mirror, map[string]any{"mirror": map[string]any{"prefetch": map[string]any{
		"patterns": []string{"pkg:oci/openshore/minimal"}, "platforms": []string{"amd64"}}}}, 400)
	patch(t, mirror, map[string]any{"mirror": map[string]any{"prefetch": map[string]any{
		"patterns": []string{"pkg:oci/openshore/minimal"}, "platforms": []string{"linux/amd*"}}}}, 200)
	out, said, code := crelvoAsAdmin(t, "mirror", "prefetch", mirror)
	if code != 0 || !strings.Contains(out, "pkg:oci/openshore/minimal@1.1.0") {
		t.Fatalf("%d %s%s", code, out, said)
	}
	out, said, code = crelvoAsAdmin(t, "repo", "show", mirror)
	if code != 0 || !strings.Contains(out, "linux/amd*") {
		t.Errorf("%d %s%s", code, out, said)
	}
	switchTo(t, upstream, demo.Fault{Kind: "gone"})
	w := newWorkshop(t)
	crane := func(args ...string) string {
		t.Helper()
		return w.run("", tool("crane"), append(args, "--insecure")...)
	}
	crane("auth", "login", host(), "-u", "admin", "-p", house.Token)
	crane("pull", "--platform", "linux/amd64", host()+"/"+mirror+"/openshore/minimal:1.1.0", "pulled.tar")
	at := "/v2/" + mirror + "/openshore/minimal/manifests/"
	must(t, "GET", at+"1.0.0", "", 503)
	var index v1.Index
	if err := json.Unmarshal(must(t, "GET", at+"1.1.0", "", 200).Body, &index); err != nil || len(index.Manifests) != 2 {
		t.Fatalf("%+v, %v", index, err)
	}
	for _, m := range index.Manifests {
		must(t, "GET", at+string(m.Digest), "", map[string]int{"amd64": 200, "arm64": 503}[m.Platform.Architecture])
	}
	switchTo(t, upstream)
	forgetTrouble(t, mirror)
	if out, said, code = crelvoAsAdmin(t, "mirror", "prefetch", mirror); code != 0 || !strings.Contains(out, "there") {
		t.Errorf("again: %d %s%s", code, out, said)
	}

	gauge := madeup.Package{Name: "tide-gauge", Version: "2.1.0"}
	upstream, _, mirror = shelf(t, "helm", gauge, madeup.Package{Name: "kelp", Version: "1.0.0"})
	patch(t, mirror, map[string]any{"mirror": map[string]any{"prefetch": map[string]any{
		"patterns": []string{"pkg:helm/tide-*"}}}}, 200)
	if out, said, code = crelvoAsAdmin(t, "mirror", "prefetch", mirror); code != 0 ||
		!strings.Contains(out, "pkg:helm/tide-gauge@2.1.0") || strings.Contains(out, "kelp") {
		t.Errorf("charts: %d %s%s", code, out, said)
	}
	switchTo(t, upstream, demo.Fault{Kind: "gone"})
	must(t, "GET", "/at/"+mirror+"/helm/tide-gauge-2.1.0.tgz", "", 200)
	must(t, "GET", "/at/"+mirror+"/helm/kelp-1.0.0.tgz", "", 503)
}
