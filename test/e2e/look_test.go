package e2e

import (
	"archive/zip"
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/test/house"
)

// counted is a way to the shared service that counts the bytes which go there, and the
// publications.
func counted(t *testing.T) (address string, sent, publications *atomic.Int64) {
	t.Helper()
	sent, publications = new(atomic.Int64), new(atomic.Int64)
	to, err := url.Parse(shared.Address)
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(to)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/publish") {
			publications.Add(1)
		}
		r.Body = &countedBody{r.Body, sent}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	return server.URL, sent, publications
}

type countedBody struct {
	io.ReadCloser
	n *atomic.Int64
}

func (c *countedBody) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n.Add(int64(n))
	return n, err
}

// TestPublishLooksFirst: a file is looked at before it is sent, and what the server has
// already, where the publisher may read it, is not sent.
func TestPublishLooksFirst(t *testing.T) {
	first, second, snapshots, closed := repository(t, "releases"), repository(t, "releases"), repository(t, "snapshots"),
		repository(t, "releases")
	address, sent, publications := counted(t)
	path := filepath.Join(t.TempDir(), "big.jar")
	big := bigJar(t, pom("example.skerry.berth", "big", "1.0.0"), 3<<20)
	if err := os.WriteFile(path, []byte(big), 0o600); err != nil {
		t.Fatal(err)
	}
	publish := func(token, to string, want int) string {
		t.Helper()
		sent.Store(0)
		publications.Store(0)
		out, errs, code := command(t, []string{"HOME=" + t.TempDir(), "CRELVO_TOKEN=" + token}, "", "publish", path, "--to",
			to, "--server", address)
		if code != want {
			t.Fatalf("exit code %d, want %d\n%s%s", code, want, out, errs)
		}
		return out + errs
	}

	says(t, publish(house.Token, snapshots, 1), "holds snapshots, and 1.0.0 is a release")
	if publications.Load() != 0 || sent.Load() > 3<<20 {
		t.Errorf("what would be refused was sent: %d bytes, %d publications", sent.Load(), publications.Load())
	}
	says(t, publish(house.Token, first, 0), "Published", "big@1.0.0")
	says(t, publish(house.Token, second, 0), "Published", "big@1.0.0", second)
	if n := sent.Load(); publications.Load() != 1 || n >= int64(len(big)) {
		t.Errorf("bytes that the server has were sent: %d of %d", n, len(big))
	}
	must(t, http.MethodGet, fmt.Sprintf("/at/%s/maven/%s/big/1.0.0/big-1.0.0.jar", second, groupPath), "", 200)

	// Who may not read them learns nothing of them, and sends them.
	stranger := person(t, fmt.Sprintf("stranger-%d", made.Add(1)), "robot",
		api.NewGrant{Role: "publisher", Repositories: closed}).Token
	says(t, publish(stranger, closed, 0), "Published", "big@1.0.0")
	if n := sent.Load(); n < int64(len(big)) {
		t.Errorf("a stranger sent %d of %d bytes", n, len(big))
	}
}

// bigJar is a jar with its pom inside and so many bytes that cannot be compressed.
func bigJar(t *testing.T, pom string, n int) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	content := make([]byte, n)
	if _, err := rand.Read(content); err != nil {
		t.Fatal(err)
	}
	for name, raw := range map[string][]byte{"content.bin": content,
		"META-INF/maven/example.skerry.berth/inside/pom.xml": []byte(pom)} {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write(raw)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestLook asks what files would become, as the console does.
func TestLook(t *testing.T) {
	releases := repository(t, "releases")
	publishRelease(t, releases, "looked", "1.0.0", "there")
	whole := func(name, content string) api.LookFile {
		return api.LookFile{Name: name, Size: int64(len(content)), Seen: []api.Stretch{{Bytes: []byte(content)}}}
	}
	inside := whole("some.jar", jarWithPOM(t, pom("example.skerry.berth", "looked", "1.1.0")))
	unknown := whole("brine-http-2.1.0.jar", jar(t, "brine"))
	said := unknown
	said.As = "pkg:maven/org.openshore/brine-http@2.1.0"
	sources := whole("looked-1.1.0-sources.jar", jar(t, "sources"))
	text := whole("notes.txt", "nothing")
	snapshot := whole("tide.jar", jarWithPOM(t, pom("example.skerry.berth", "looked", "1.2-SNAPSHOT")))
	again := whole("looked.pom", pom("example.skerry.berth", "looked", "1.0.0"))
	for _, c := range []struct {
		name  string
		files []api.LookFile
		want  []string // of each publication: purl, names of its files, code of its refusal
	}{
		{"says itself", []api.LookFile{inside},
			[]string{"pkg:maven/example.skerry.berth/looked@1.1.0 looked-1.1.0.jar looked-1.1.0.pom"}},
		{"says nothing", []api.LookFile{unknown}, []string{" brine-http-2.1.0.jar no-coordinates"}},
		{"is said", []api.LookFile{said},
			[]string{"pkg:maven/org.openshore/brine-http@2.1.0 brine-http-2.1.0.jar brine-http-2.1.0.pom"}},
		{"several", []api.LookFile{sources, text, inside, unknown}, []string{
			"pkg:maven/example.skerry.berth/looked@1.1.0 looked-1.1.0.jar looked-1.1.0-sources.jar looked-1.1.0.pom",
			" notes.txt not-recognised", " brine-http-2.1.0.jar no-coordinates"}},
		{"wrong maturity", []api.LookFile{snapshot},
			[]string{"pkg:maven/example.skerry.berth/looked@1.2-SNAPSHOT looked-1.2-SNAPSHOT.jar looked-1.2-SNAPSHOT.pom " +
				"wrong-maturity"}},
		{"there", []api.LookFile{again}, []string{"pkg:maven/example.skerry.berth/looked@1.0.0 looked-1.0.0.pom (there)"}},
	} {
		var looked api.Looked
		post(t, "/api/v1/repositories/"+releases+"/look", api.Look{Files: c.files}, &looked)
		var got []string
		for _, p := range looked.Publications {
			line := p.PURL
			for _, f := range p.Files {
				line += " " + f.Name
			}
			if p.Refusal != nil {
				line += " " + p.Refusal.Code
			}
			if p.There {
				line += " (there)"
			}
			got = append(got, line)
		}
		if strings.Join(got, "\n") != strings.Join(c.want, "\n") || len(looked.Wanted) > 0 {
			t.Errorf("%s:\n%s\nwant\n%s\nwanted: %v", c.name, strings.Join(got, "\n"), strings.Join(c.want, "\n"), looked.Wanted)
		}
	}
	var looked api.Looked
	post(t, "/api/v1/repositories/"+releases+"/look", api.Look{Files: []api.LookFile{{Name: "x.jar", Size: 5 << 30}}},
		&looked)
	if len(looked.Wanted) != 1 || looked.Wanted[0].Length > 100<<10 || looked.Wanted[0].At < 4<<30 {
		t.Errorf("of a large jar %v is wanted; its end tells", looked.Wanted)
	}
}

// TestPublishGoesOn: a publication that is cut goes on from where it was, by itself and
// with the next run of the command, and is published whole.
func TestPublishGoesOn(t *testing.T) {
	releases := repository(t, "releases")
	to, err := url.Parse(shared.Address)
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.ErrorLog = log.New(io.Discard, "", 0)
	var sent, cuts, after atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			r.Body = &countedBody{r.Body, &sent}
			if cuts.Add(-1) >= 0 {
				r.Body = &cutBody{r.Body, after.Load()}
			}
		}
		proxy.ServeHTTP(w, r)
	}))
	defer server.Close()
	path := filepath.Join(t.TempDir(), "large.jar")
	large := bigJar(t, pom("example.skerry.berth", "large", "1.0.0"), 24<<20)
	if err := os.WriteFile(path, []byte(large), 0o600); err != nil {
		t.Fatal(err)
	}
	publish := func() (string, int) {
		out, errs, code := command(t, []string{"HOME=" + t.TempDir(), "CRELVO_TOKEN=" + house.Token}, "", "publish", path,
			"--to", releases, "--server", server.URL)
		return out + errs, code
	}
	// Cut again and again, until the command gives up.
	after.Store(4 << 20)
	cuts.Store(100)
	if out, code := publish(); code == 0 || !strings.Contains(out, "the same command goes on from there") {
		t.Fatalf("exit code %d\n%s", code, out)
	}
	must(t, http.MethodGet, fmt.Sprintf("/at/%s/maven/%s/large/1.0.0/large-1.0.0.jar", releases, groupPath), "", 404)
	// Somebody else knows nothing of what arrived.
	other := person(t, fmt.Sprintf("other-%d", made.Add(1)), "robot",
		api.NewGrant{Role: "publisher", Repositories: releases})
	files, err := client.Locals(t.Context(), []string{path})
	if err != nil {
		t.Fatal(err)
	}
	looked, err := other.Look(t.Context(), releases, "", files)
	if err != nil || looked.Publications[0].Files[0].Arrived != 0 || looked.Publications[0].Files[0].Here {
		t.Errorf("somebody else is told %+v, %v", looked, err)
	}
	cuts.Store(1)
	sent.Store(0)
	out, code := publish()
	if code != 0 || !strings.Contains(out, "going on from") || !strings.Contains(out, "Published") {
		t.Fatalf("exit code %d\n%s", code, out)
	}
	if n := sent.Load(); n > int64(len(large))-8<<20 {
		t.Errorf("%d of %d bytes were sent again", n, len(large))
	}
	if a := must(t, http.MethodGet, fmt.Sprintf("/at/%s/maven/%s/large/1.0.0/large-1.0.0.jar", releases, groupPath), "",
		200); string(a.Body) != large {
		t.Errorf("%d bytes were published, and not the same", len(a.Body))
	}
	// What is here is not sent again, and is told by its digest; another of its size is.
	sent.Store(0)
	if out, code := publish(); code != 0 || !strings.Contains(out, "Was there already, byte for byte") || sent.Load() > 0 {
		t.Errorf("exit code %d, %d bytes were sent\n%s", code, sent.Load(), out)
	}
	files, err = client.Locals(t.Context(), []string{path})
	if err != nil || files[0].SHA256 != "" {
		t.Fatalf("%+v, %v", files, err)
	}
	sum := sha256.Sum256([]byte(large))
	if looked, err = other.Look(t.Context(), releases, "", files); err != nil || !looked.Publications[0].Files[0].Here ||
		files[0].SHA256 != hex.EncodeToString(sum[:]) {
		t.Errorf("it is here: %+v, %v, %s", looked, err, files[0].SHA256)
	}
	// Who may not read it is not told that something of its size is here.
	own := repository(t, "releases")
	elsewhere := person(t, fmt.Sprintf("elsewhere-%d", made.Add(1)), "robot",
		api.NewGrant{Role: "publisher", Repositories: own})
	files[0].SHA256 = ""
	if looked, err = elsewhere.Look(t.Context(), own, "", files); err != nil || files[0].SHA256 != "" ||
		looked.Publications[0].Files[0].Here {
		t.Errorf("who may not read it: %+v, %v, %q", looked, err, files[0].SHA256)
	}
	rebuilt := []byte(large)
	rebuilt[len(rebuilt)/2] ^= 1
	if err := os.WriteFile(path, rebuilt, 0o600); err != nil {
		t.Fatal(err)
	}
	if out, code := publish(); code == 0 || !strings.Contains(out, "with other bytes") {
		t.Errorf("other bytes of the same release: exit code %d\n%s", code, out)
	}
}

// TestPublishDamaged: what arrived in pieces and is not what was announced is dropped,
// and the publication that names it sends the file itself.
func TestPublishDamaged(t *testing.T) {
	releases := repository(t, "releases")
	path := filepath.Join(t.TempDir(), "mended.jar")
	mended := bigJar(t, pom("example.skerry.berth", "mended", "1.0.0"), 9<<20)
	if err := os.WriteFile(path, []byte(mended), 0o600); err != nil {
		t.Fatal(err)
	}
	files, err := client.Locals(t.Context(), []string{path})
	if err != nil {
		t.Fatal(err)
	}
	arriving := "/api/v1/repositories/" + releases + "/arriving/" + files[0].Arriving
	damaged := []byte(mended)
	damaged[len(damaged)/2] ^= 1
	must(t, http.MethodPut, arriving, string(damaged), 200)
	out, errs, code := crelvoAsAdmin(t, "publish", path, "--to", releases)
	if code != 0 || !strings.Contains(out, "Published") {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	if a := must(t, http.MethodGet, fmt.Sprintf("/at/%s/maven/%s/mended/1.0.0/mended-1.0.0.jar", releases, groupPath), "",
		200); string(a.Body) != mended {
		t.Error("what was published is damaged")
	}
	for at, want := range map[string]int{"?at=7": 409, "?at=-1": 400, "?at=x": 400} {
		if a := ask(t, http.MethodPut, arriving+at, "x"); a.Status != want {
			t.Errorf("%s: %d %s, want %d", at, a.Status, a.Body, want)
		}
	}
	if a := ask(t, http.MethodPut, "/api/v1/repositories/"+releases+"/arriving/A_b", "x"); a.Status != 400 {
		t.Errorf("a name that is none: %d %s", a.Status, a.Body)
	}
}

// cutBody ends in the middle.
type cutBody struct {
	io.ReadCloser
	left int64
}

func (c *cutBody) Read(p []byte) (int, error) {
	if c.left <= 0 {
		return 0, errors.New("the line is cut")
	}
	n, err := c.ReadCloser.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	return n, err
}
