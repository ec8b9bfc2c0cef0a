package e2e

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"

	"crelvo/internal/core/catalog"
	"crelvo/test/house"
)

// TestBadInput sends what must be refused: each gets its 4xx with a text that
// says what is wrong, and nothing of it can be seen afterwards.
func TestBadInput(t *testing.T) {
	r := repository(t, "both")
	publishRelease(t, r, "tide-model", "1.0.0", "first")
	base := "/at/" + r + "/maven/"
	long := strings.Repeat("a", 4000)
	cases := []struct {
		name, method, path, body string
		status                   int
		says                     string
	}{
		{"dot dot", "PUT", base + "example/../../x/1.0/x-1.0.jar", "x", 400, `".." cannot be part`},
		{"control character", "PUT", base + "example/a%0ab/1.0/a%0ab-1.0.jar", "x", 400, "cannot be kept or shown"},
		{"encoded slash", "PUT", base + "example%2fskerry/a/1.0/a-1.0.jar", "x", 400, "encoded slash"},
		{"encoded backslash", "PUT", base + "example/a%5cb/1.0/a-1.0.jar", "x", 400, "encoded slash"},
		{"4,000 characters", "PUT", base + "example/" + long + "/1.0/a-1.0.jar", "x", 400, "at most 1024"},
		{"empty segment", "PUT", base + "example//a/1.0/a-1.0.jar", "x", 400, "cannot be part"},
		{"too short a path", "PUT", base + "a-1.0.jar", "x", 404, "group/artifact/version"},
		{"a file to a folder", "PUT", base + "example/a/", "x", 400, "folder"},
		{"a name of another version", "PUT", base + "example/a/1.0/a-2.0.jar", "x", 400, "a-1.0"},
		{"no extension", "PUT", base + "example/a/1.0/a-1.0", "x", 400, "extension"},
		{"a pom that is no XML", "PUT", base + "example/skerry/a/1.0/a-1.0.pom", "hello", 400, "cannot be read"},
		{"a pom with a DOCTYPE", "PUT", base + "example/skerry/a/1.0/a-1.0.pom",
			`<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><project>&a;</project>`, 400, "DOCTYPE"},
		{"a deep pom", "PUT", base + "example/skerry/a/1.0/a-1.0.pom", "<project>" + strings.Repeat("<a>", 500), 400,
			"nested"},
		{"a pom of something else", "PUT", base + "example/skerry/a/1.0/a-1.0.pom", pom("example.skerry", "b", "1.0"), 400,
			"example.skerry:b:1.0"},
		{"a jar that is no zip", "PUT", base + "example/skerry/a/1.0/a-1.0.jar", "this is no zip", 400, "not a zip"},
		{"metadata that is no XML", "PUT", base + "example/skerry/a/maven-metadata.xml", "{}", 400, "cannot be read"},
		{"a checksum of 10 MiB", "PUT", base + groupPath + "/tide-model/1.0.0/tide-model-1.0.0.jar.sha1",
			strings.Repeat("a", 10<<20), 413, "at most"},
		{"a checksum that is none", "PUT", base + groupPath + "/tide-model/1.0.0/tide-model-1.0.0.jar.sha1", "zzz", 400,
			"40 hexadecimal"},
		{"a checksum of nothing", "PUT", base + "example/skerry/a/1.0/a-1.0.jar.sha1", sha1Hex(""), 422,
			"before its checksum"},
		{"an unknown repository", "PUT", "/at/no-such-place/maven/example/a/1.0/a-1.0.jar", "x", 404, "no-such-place"},
		{"an unknown ecosystem", "GET", "/at/" + r + "/abacus/x", "", 404, "maven"},
		{"a method that Maven has not", "DELETE", base + "example/a/1.0/a-1.0.jar", "", 405, "method not allowed"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			a := ask(t, c.method, c.path, c.body)
			if a.Status != c.status || !strings.Contains(string(a.Body), c.says) {
				t.Errorf("%d %s: %q; want %d saying %q", a.Status, a.Reason, a.Body, c.status, c.says)
			}
			if c.status == 400 && c.method == "PUT" && a.Reason == "Bad Request" {
				t.Error("the reason phrase, which is all that mvn shows, says nothing")
			}
		})
	}
	found := must(t, "GET", "/api/v1/packages?q=&repository="+r, "", 200)
	if n := strings.Count(string(found.Body), `"purl"`); n != 1 {
		t.Errorf("%d packages are listed; want the one that was published in order: %s", n, found.Body)
	}
}

// TestLengths sends bodies that are shorter and longer than announced.
func TestLengths(t *testing.T) {
	r := repository(t, "releases")
	path := "/at/" + r + "/maven/" + groupPath + "/tide-model/1.0.0/tide-model-1.0.0.jar"
	at, err := url.Parse(shared.Address)
	if err != nil {
		t.Fatal(err)
	}
	request := func(length int, body string) string {
		conn, err := net.Dial("tcp", at.Host)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		fmt.Fprintf(conn, "PUT %s HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\n\r\n%s", path,
			at.Host, house.Token, length, body)
		if err := conn.(*net.TCPConn).CloseWrite(); err != nil {
			t.Fatal(err)
		}
		if err := conn.SetReadDeadline(time.Now().Add(20 * time.Second)); err != nil {
			t.Fatal(err)
		}
		answer, _ := io.ReadAll(conn)
		return string(answer)
	}
	archive := jar(t, "cut")
	if a := request(len(archive), archive[:len(archive)-5]); !strings.Contains(a, "400") ||
		!strings.Contains(a, "did not arrive whole") {
		t.Errorf("a body that is too short: %q", a)
	}
	if a := request(len(archive)-5, archive); !strings.HasPrefix(a, "HTTP/1.1 400") {
		t.Errorf("a body that is too long: %q", a)
	}
	must(t, "PUT", strings.TrimSuffix(path, "jar")+"pom", pom("example.skerry.berth", "tide-model", "1.0.0"), 201)
	if a := ask(t, "PUT", "/at/"+r+"/maven/"+groupPath+"/tide-model/maven-metadata.xml",
		releaseMetadata("tide-model", "1.0.0")); a.Status != 422 ||
		!strings.Contains(string(a.Body), "did not arrive whole") {
		t.Errorf("completing a version whose jar was cut: %d %s", a.Status, a.Body)
	}
	must(t, "GET", path, "", 404)
	// Sent again whole, it is complete.
	must(t, "PUT", path, archive, 201)
	must(t, "PUT", "/at/"+r+"/maven/"+groupPath+"/tide-model/maven-metadata.xml", releaseMetadata("tide-model", "1.0.0"),
		201)
	must(t, "GET", path, "", 200)
}

// TestChecksums reads every checksum, and sends wrong ones.
func TestChecksums(t *testing.T) {
	r := repository(t, "releases")
	base := "/at/" + r + "/maven/" + groupPath + "/tide-model/"
	file := base + "1.0.0/tide-model-1.0.0.jar"
	content := jar(t, "sums")
	must(t, "PUT", file, content, 201)
	must(t, "PUT", file+".sha1", sha1Hex(content)+"  tide-model-1.0.0.jar\n", 200)
	a := must(t, "PUT", file+".sha1", sha1Hex("other"), 400)
	if text := string(a.Body); !strings.Contains(text, sha1Hex(content)) || !strings.Contains(text, sha1Hex("other")) {
		t.Errorf("the refusal does not name both checksums: %s", text)
	}
	must(t, "PUT", base+"1.0.0/tide-model-1.0.0.pom", pom("example.skerry.berth", "tide-model", "1.0.0"), 201)
	must(t, "PUT", base+"maven-metadata.xml", releaseMetadata("tide-model", "1.0.0"), 422)
	must(t, "PUT", file, content, 200) // sent again, it is whole
	must(t, "PUT", base+"maven-metadata.xml", releaseMetadata("tide-model", "1.0.0"), 201)

	m, s256, s512 := md5.Sum([]byte(content)), sha256.Sum256([]byte(content)), sha512.Sum512([]byte(content))
	for algorithm, want := range map[string]string{"md5": hex.EncodeToString(m[:]), "sha1": sha1Hex(content),
		"sha256": hex.EncodeToString(s256[:]), "sha512": hex.EncodeToString(s512[:])} {
		if a := must(t, "GET", file+"."+algorithm, "", 200); string(a.Body) != want {
			t.Errorf("%s is %s; want %s", algorithm, a.Body, want)
		}
	}
	for _, algorithm := range catalog.Algorithms {
		document := must(t, "GET", base+"maven-metadata.xml", "", 200)
		sum := must(t, "GET", base+"maven-metadata.xml."+algorithm, "", 200)
		if algorithm == "sha1" && string(sum.Body) != sha1Hex(string(document.Body)) {
			t.Errorf("the metadata's checksum is not that of the metadata")
		}
	}
}

// TestReading is about conditions, ranges and HEAD.
func TestReading(t *testing.T) {
	r := repository(t, "releases")
	publishRelease(t, r, "tide-model", "1.0.0", strings.Repeat("tide ", 1000))
	file := "/at/" + r + "/maven/" + groupPath + "/tide-model/1.0.0/tide-model-1.0.0.jar"
	whole := must(t, "GET", file, "", 200)
	etag, modified := whole.Header.Get("ETag"), whole.Header.Get("Last-Modified")
	if etag == "" || modified == "" || whole.Header.Get("Content-Type") != "application/java-archive" {
		t.Errorf("headers: %v", whole.Header)
	}
	if a := ask(t, "GET", file, "", "If-None-Match", etag); a.Status != 304 {
		t.Errorf("If-None-Match: %d", a.Status)
	}
	if a := ask(t, "GET", file, "", "If-Modified-Since", modified); a.Status != 304 {
		t.Errorf("If-Modified-Since: %d", a.Status)
	}
	if a := ask(t, "GET", file, "", "Range", "bytes=10-19"); a.Status != 206 || !bytes.Equal(a.Body, whole.Body[10:20]) {
		t.Errorf("a range: %d, %d bytes", a.Status, len(a.Body))
	}
	if a := ask(t, "GET", file, "", "Range", "bytes=999999-"); a.Status != 416 {
		t.Errorf("a range outside: %d", a.Status)
	}
	if a := ask(t, "HEAD", file, ""); a.Status != 200 || len(a.Body) != 0 ||
		a.Header.Get("Content-Length") != fmt.Sprint(len(whole.Body)) {
		t.Errorf("HEAD: %d, %d bytes, length %s", a.Status, len(a.Body), a.Header.Get("Content-Length"))
	}
	if a := ask(t, "HEAD", file+".x", ""); a.Status != 404 {
		t.Errorf("HEAD of nothing: %d", a.Status)
	}
	// The whole and the first part of it were downloads; what was not modified,
	// not satisfiable, a later part or only the head was not.
	ask(t, "GET", file, "", "Range", "bytes=0-9")
	eventually(t, 20*time.Second, "two downloads are counted", func() bool {
		a := must(t, "GET", "/api/v1/package?purl=pkg:maven/example.skerry.berth/tide-model&repository="+r, "", 200)
		return strings.Contains(string(a.Body), `"downloads":2,`)
	})
	listing := must(t, "GET", "/at/"+r+"/maven/"+groupPath+"/tide-model/1.0.0/", "", 200)
	for _, want := range []string{"tide-model-1.0.0.jar", "tide-model-1.0.0.pom", "UTC"} {
		if !strings.Contains(string(listing.Body), want) {
			t.Errorf("the listing does not show %q: %s", want, listing.Body)
		}
	}
	if root := must(t, "GET", "/at/"+r+"/", "", 200); !strings.Contains(string(root.Body), `maven/`) {
		t.Errorf("the listing of the repository: %s", root.Body)
	}
	must(t, "GET", "/at/"+r+"/maven/no/such/folder/", "", 404)
}

// TestCredentials asks with none, wrong, damaged, limited and revoked ones.
func TestCredentials(t *testing.T) {
	ctx := t.Context()
	r := repository(t, "releases")
	publishRelease(t, r, "tide-model", "1.0.0", "x")
	file := "/at/" + r + "/maven/" + groupPath + "/tide-model/1.0.0/tide-model-1.0.0.jar"
	with := func(authorization string) house.Answer {
		a, err := shared.Ask(ctx, "GET", file, "", nil, "Authorization", authorization)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	if a, err := shared.Ask(ctx, "GET", file, "", nil); err != nil || a.Status != 401 ||
		!strings.HasPrefix(a.Header.Get("WWW-Authenticate"), "Basic realm=") {
		t.Errorf("nobody: %d, %v, %v", a.Status, a.Header, err)
	}
	// A stranger is not told which repositories there are.
	if a, err := shared.Ask(ctx, "GET", "/at/no-such-place/maven/x", "", nil); err != nil || a.Status != 401 {
		t.Errorf("nobody, at a repository that is not there: %d, %v", a.Status, err)
	}
	var made struct{ Secret string }
	if a, err := shared.JSON(ctx, "POST", "/api/v1/tokens",
		map[string]any{"name": "reading-only", "can": []string{"read"}, "on": []string{r}}, &made); err != nil ||
		a.Status != 200 {
		t.Fatalf("%d %s %v", a.Status, a.Body, err)
	}
	if a := with("Bearer " + made.Secret); a.Status != 200 {
		t.Errorf("Bearer: %d %s", a.Status, a.Body)
	}
	if a := with("Basic !!!"); a.Status != 401 {
		t.Errorf("a broken header: %d", a.Status)
	}
	if a := with("Bearer " + made.Secret[:len(made.Secret)-1] + "x"); a.Status != 401 ||
		!strings.Contains(string(a.Body), "check digits") {
		t.Errorf("a damaged token: %d %s", a.Status, a.Body)
	}
	a, err := shared.Ask(ctx, "PUT", "/at/"+r+"/maven/"+groupPath+"/a/1.0/a-1.0.jar", made.Secret, strings.NewReader("x"))
	if err != nil || a.Status != 403 || !strings.Contains(a.Reason,
		`the token "reading-only" of admin may not publish on `+r) {
		t.Errorf("publishing with a token for reading: %d %q %v", a.Status, a.Reason, err)
	}
	if a, err := shared.Ask(ctx, "POST", "/api/v1/tokens", made.Secret, strings.NewReader(`{"name":"more"}`),
		"Content-Type", "application/json"); err != nil || a.Status != 403 {
		t.Errorf("a limited token made another: %d %s %v", a.Status, a.Body, err)
	}
	must(t, "DELETE", "/api/v1/tokens/reading-only", "", 204)
	if a := with("Bearer " + made.Secret); a.Status != 401 || !strings.Contains(string(a.Body), "was revoked on") {
		t.Errorf("a revoked token: %d %s", a.Status, a.Body)
	}
	short := fmt.Sprintf("short-%d", time.Now().UnixNano())
	if a, err := shared.JSON(ctx, "POST", "/api/v1/tokens", map[string]any{"name": short, "seconds": 1},
		&made); err != nil || a.Status != 200 {
		t.Fatalf("%d %s %v", a.Status, a.Body, err)
	}
	eventually(t, 10*time.Second, "the token ends", func() bool { return with("Bearer "+made.Secret).Status == 401 })
	if a := with("Bearer " + made.Secret); !strings.Contains(string(a.Body), `the token "`+short+`" of admin ended on`) {
		t.Errorf("an ended token: %s", a.Body)
	}
	// An ended token does not keep its name.
	if a, err := shared.JSON(ctx, "POST", "/api/v1/tokens", map[string]any{"name": short, "seconds": 1},
		nil); err != nil || a.Status != 200 {
		t.Errorf("a token with the name of an ended one: %d %s %v", a.Status, a.Body, err)
	}
	if a, err := shared.Ask(ctx, "GET", file, house.Password, nil); err != nil || a.Status != 401 {
		t.Errorf("the right password of somebody else: %d %v", a.Status, err)
	}
	// Anonymous reading is a setting of the repository, in force at once.
	if a, err := shared.JSON(ctx, "PATCH", "/api/v1/repositories/"+r, map[string]any{"anonymousRead": true},
		nil); err != nil || a.Status != 200 {
		t.Fatalf("%d %s %v", a.Status, a.Body, err)
	}
	if a, err := shared.Ask(ctx, "GET", file, "", nil); err != nil || a.Status != 200 {
		t.Errorf("anonymous reading: %d %v", a.Status, err)
	}
	if a, err := shared.Ask(ctx, "PUT", file, "", strings.NewReader("x")); err != nil || a.Status != 401 {
		t.Errorf("anonymous publishing: %d %v", a.Status, err)
	}
}

// TestSnapshotUploads keeps uploads apart, whatever their files are called.
func TestSnapshotUploads(t *testing.T) {
	r := repository(t, "snapshots")
	base := "/at/" + r + "/maven/" + groupPath + "/tide-model/"
	folder := base + "1.0-SNAPSHOT/"
	upload := func(stamp string, number int, files ...string) {
		for _, f := range files {
			body := "bytes of " + stamp + f
			switch f {
			case ".pom":
				body = pom("example.skerry.berth", "tide-model", "1.0-SNAPSHOT")
			case ".jar", "-sources.jar", "-javadoc.jar":
				body = jar(t, stamp+f)
			}
			must(t, "PUT", fmt.Sprintf("%stide-model-1.0-%s-%d%s", folder, stamp, number, f), body, 201)
		}
		must(t, "PUT", folder+"maven-metadata.xml",
			fmt.Sprintf(
				"<metadata><version>1.0-SNAPSHOT</version><versioning><snapshot><timestamp>%s</timestamp><buildNumber>%d</buildNumber></snapshot></versioning></metadata>", stamp, number), 201)
	}
	upload("20261101.080000", 1, ".pom", ".jar", ".tar.gz", "-sources.jar", "-linux-x86_64.tar.gz", ".jar.asc", ".module")
	upload("20261102.080000", 2, ".pom", ".jar", "-javadoc.jar")
	if a := must(t, "GET", folder+"tide-model-1.0-SNAPSHOT.jar", "", 200); string(a.Body) != jar(t,
		"20261102.080000.jar") {
		t.Error("the newest upload does not answer")
	}
	must(t, "GET", folder+"tide-model-1.0-20261101.080000-1.jar", "", 200)
	must(t, "GET", folder+"tide-model-1.0-SNAPSHOT.tar.gz", "", 200)
	metadata := string(must(t, "GET", folder+"maven-metadata.xml", "", 200).Body)
	for _, want := range []string{
		"<timestamp>20261102.080000</timestamp>", "<buildNumber>2</buildNumber>",
		"<classifier>linux-x86_64</classifier>\n        <extension>tar.gz</extension>\n" +
			"        <value>1.0-20261101.080000-1</value>",
		"<extension>jar</extension>\n        <value>1.0-20261102.080000-2</value>",
		"<extension>jar.asc</extension>", "<extension>module</extension>", "<classifier>javadoc</classifier>",
	} {
		if !strings.Contains(metadata, want) {
			t.Errorf("the metadata lacks %q:\n%s", want, metadata)
		}
	}
	// Other bytes under the very name of an upload would be a lost update.
	a := ask(t, "PUT", folder+"tide-model-1.0-20261102.080000-2.jar", jar(t, "other"))
	if a.Status != 409 {
		t.Errorf("overwriting an upload: %d %s", a.Status, a.Body)
	}

	t.Run("plain snapshot names become uploads too", func(t *testing.T) {
		for range 2 {
			must(t, "PUT", base+"2.0-SNAPSHOT/tide-model-2.0-SNAPSHOT.jar", jar(t, "plain"), 201)
			must(t, "PUT", base+"2.0-SNAPSHOT/tide-model-2.0-SNAPSHOT.jar.sha1", sha1Hex(jar(t, "plain")), 200)
			must(t, "PUT", base+"2.0-SNAPSHOT/tide-model-2.0-SNAPSHOT.pom",
				pom("example.skerry.berth", "tide-model", "2.0-SNAPSHOT"), 201)
		}
		// These clients send no metadata: the quiet period completes them.
		eventually(t, 20*time.Second, "both uploads are listed", func() bool {
			a := ask(t, "GET", base+"2.0-SNAPSHOT/maven-metadata.xml", "")
			return strings.Contains(string(a.Body), "<buildNumber>2</buildNumber>")
		})
	})
}

// TestQuietPeriod: without the client's metadata a version is listed once its
// client is quiet and all that its pom promises is there, and not before.
func TestQuietPeriod(t *testing.T) {
	r := repository(t, "releases")
	base := "/at/" + r + "/maven/" + groupPath + "/"
	must(t, "PUT", base+"whole/1.0/whole-1.0.pom", pom("example.skerry.berth", "whole", "1.0"), 201)
	must(t, "PUT", base+"whole/1.0/whole-1.0.jar", jar(t, "w"), 201)
	must(t, "PUT", base+"half/1.0/half-1.0.pom", pom("example.skerry.berth", "half", "1.0"), 201)
	must(t, "PUT", base+"parent/1.0/parent-1.0.pom",
		pom("example.skerry.berth", "parent", "1.0", "<packaging>pom</packaging>"), 201)
	must(t, "GET", base+"whole/maven-metadata.xml", "", 404)
	eventually(t, 20*time.Second, "the whole versions are listed", func() bool {
		return ask(t, "GET", base+"whole/maven-metadata.xml", "").Status == 200 &&
			ask(t, "GET", base+"parent/maven-metadata.xml", "").Status == 200
	})
	must(t, "GET", base+"half/maven-metadata.xml", "", 404)
}

// TestPluginMetadata is the third level of maven-metadata.xml.
func TestPluginMetadata(t *testing.T) {
	r := repository(t, "releases")
	base := "/at/" + r + "/maven/" + groupPath + "/"
	must(t, "PUT", base+"tide-maven-plugin/1.0/tide-maven-plugin-1.0.jar", jar(t, "p"), 201)
	must(t, "PUT", base+"tide-maven-plugin/1.0/tide-maven-plugin-1.0.pom",
		pom("example.skerry.berth", "tide-maven-plugin", "1.0",
			"<packaging>maven-plugin</packaging><name>Tide plugin</name>"), 201)
	must(t, "PUT", base+"tide-maven-plugin/maven-metadata.xml", releaseMetadata("tide-maven-plugin", "1.0"), 201)
	a := must(t, "GET", base+"maven-metadata.xml", "", 200)
	for _, want := range []string{"<prefix>tide</prefix>", "<artifactId>tide-maven-plugin</artifactId>",
		"<name>Tide plugin</name>"} {
		if !strings.Contains(string(a.Body), want) {
			t.Errorf("the group's metadata lacks %s: %s", want, a.Body)
		}
	}
}

// TestManyJobs publishes uploads of one snapshot from many clients at once;
// every acknowledged one is listed.
func TestManyJobs(t *testing.T) {
	r := repository(t, "snapshots")
	folder := "/at/" + r + "/maven/" + groupPath + "/tide-model/1.0-SNAPSHOT/"
	const jobs, each = 8, 5
	var running sync.WaitGroup
	failures := make(chan error, jobs*each)
	put := func(path, body string) error {
		a, err := shared.Ask(context.WithoutCancel(t.Context()), "PUT", path, house.Token, strings.NewReader(body))
		if err == nil && a.Status != 201 {
			err = fmt.Errorf("%s: %d %s", path, a.Status, a.Body)
		}
		return err
	}
	archive := jar(t, "many")
	for job := range jobs {
		running.Go(func() {
			for n := range each {
				stamp := fmt.Sprintf("2026110%d.0800%02d", n+1, job)
				name := fmt.Sprintf("%stide-model-1.0-%s-%d", folder, stamp, n+1)
				for _, err := range []error{put(name+".pom", pom("example.skerry.berth", "tide-model", "1.0-SNAPSHOT")),
					put(name+".jar", archive),
					put(folder+"maven-metadata.xml",
						fmt.Sprintf(
							"<metadata><version>1.0-SNAPSHOT</version><versioning><snapshot><timestamp>%s</timestamp><buildNumber>%d</buildNumber></snapshot></versioning></metadata>", stamp, n+1))} {
					if err != nil {
						failures <- err
					}
				}
			}
		})
	}
	running.Wait()
	close(failures)
	for err := range failures {
		t.Error(err)
	}
	var shown struct {
		Versions []struct{ Uploads []struct{ Name string } }
	}
	if _, err := shared.JSON(t.Context(), "GET",
		"/api/v1/package?purl=pkg:maven/example.skerry.berth/tide-model&repository="+r, nil, &shown); err != nil {
		t.Fatal(err)
	}
	if len(shown.Versions) != 1 || len(shown.Versions[0].Uploads) != jobs*each {
		t.Errorf("%+v; want %d uploads of one version", shown, jobs*each)
	}
}

// TestReleaseRace sends different releases of one version at once: one wins
// whole, no file of another is among its files.
func TestReleaseRace(t *testing.T) {
	r := repository(t, "releases")
	base := "/at/" + r + "/maven/" + groupPath + "/tide-model/"
	var running sync.WaitGroup
	won := make([]bool, 6)
	for job := range won {
		content := jar(t, fmt.Sprint("job ", job))
		running.Go(func() {
			ok := true
			for _, step := range [][2]string{{base + "1.0/tide-model-1.0.jar", content},
				{base + "1.0/tide-model-1.0.pom", pom("example.skerry.berth", "tide-model", "1.0",
					fmt.Sprintf("<name>job %d</name>", job))},
				{base + "maven-metadata.xml", releaseMetadata("tide-model", "1.0")}} {
				a, err := shared.Ask(context.WithoutCancel(t.Context()), http.MethodPut, step[0], house.Token,
					strings.NewReader(step[1]))
				if err != nil || a.Status >= 300 {
					if err != nil || a.Status != 409 && a.Status != 422 {
						t.Errorf("job %d, %s: %d %s, %v; want 409 or 422 for all but one", job, step[0], a.Status, a.Reason, err)
					}
					ok = false
					break
				}
			}
			won[job] = ok
		})
	}
	running.Wait()
	winner := -1
	for job, ok := range won {
		if ok && winner >= 0 {
			t.Errorf("jobs %d and %d were both told that they published 1.0", winner, job)
		}
		if ok {
			winner = job
		}
	}
	if winner < 0 {
		t.Fatal("nobody could publish")
	}
	if a := must(t, "GET", base+"1.0/tide-model-1.0.jar", "", 200); string(a.Body) != jar(t, fmt.Sprint("job ", winner)) {
		t.Error("the jar is not the winner's")
	}
	if a := must(t, "GET", base+"1.0/tide-model-1.0.pom", "", 200); !strings.Contains(string(a.Body),
		fmt.Sprintf("<name>job %d</name>", winner)) {
		t.Errorf("the pom is not the winner's: %s", a.Body)
	}
}
