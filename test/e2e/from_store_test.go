package e2e

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestFromStore: where a repository says so, clients that follow there read large files from
// the object store itself, and everybody else, and all that is small, from here.
func TestFromStore(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 1)
	all := f.nodes[0]
	if err := all.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	if a, err := all.JSON(t.Context(), "PATCH", "/api/v1/repositories/releases", map[string]any{"fromStore": true},
		nil); err != nil || a.Status != 200 {
		t.Fatalf("%d %s %v", a.Status, a.Body, err)
	}
	w := newWorkshop(t)
	large := "module.exports = '" + noise(3<<20) + "'\n"
	p := madeup.Package{Name: "deck-large", Version: "1.0.0"}
	from := all.Address + "/at/releases/npm/"
	w.write("home/.npmrc", []byte("registry="+from+"\n"+strings.TrimPrefix(from, "http:")+":_authToken="+house.Token+"\n"))
	w.source("deck", p)
	w.write("deck/index.js", []byte(large))
	w.run("deck", "npm", "publish")
	at := "/at/releases/npm/deck-large/-/deck-large-1.0.0.tgz"

	ask := func(agent string, more ...string) *http.Response {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, all.Address+at, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.SetBasicAuth("admin", house.Token)
		r.Header.Set("User-Agent", agent)
		for i := 0; i < len(more); i += 2 {
			r.Header.Set(more[i], more[i+1])
		}
		response, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		if _, err := io.Copy(io.Discard, response.Body); err != nil {
			t.Fatal(err)
		}
		return response
	}
	sent := ask("npm/10.8.2 node/v20")
	if sent.StatusCode != http.StatusTemporaryRedirect || sent.Header.Get("Cache-Control") != "no-store" {
		t.Fatalf("npm is answered %s, %v", sent.Status, sent.Header)
	}
	to, err := url.Parse(sent.Header.Get("Location"))
	if err != nil || to.Query().Get("X-Amz-Signature") == "" || "http://"+to.Host == all.Address {
		t.Errorf("npm is sent to %s", to)
	}
	for agent, more := range map[string][]string{"curl/7.88.1": nil, "Mozilla/5.0": nil, "": nil, "crelvo/0.9.0": nil,
		"npm/10": {"If-None-Match", sent.Header.Get("ETag") + `"x"`}} {
		if got := ask(agent, more...); got.StatusCode != http.StatusOK {
			t.Errorf("%q is answered %s", agent, got.Status)
		}
	}
	if got := ask("npm/10", "Authorization", "Bearer wrong"); got.StatusCode != http.StatusUnauthorized {
		t.Errorf("whoever may not read it is answered %s", got.Status)
	}

	// With the real clients.
	w.project("ferry", map[string]string{"deck-large": "1.0.0"})
	w.run("ferry", "npm", "install")
	if w.read("ferry/node_modules/deck-large/index.js") != large {
		t.Error("npm has other bytes")
	}
	host := strings.TrimPrefix(all.Address, "http://")
	w.run("", tool("crane"), "auth", "login", host, "-u", "admin", "-p", house.Token)
	w.write("layer.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/brine", Content: noise(12 << 20)}))
	w.run("", tool("crane"), "append", "-f", "layer.tar.gz", "-t", host+"/releases/brine:1.0.0")
	w.run("", tool("crane"), "validate", "--remote", host+"/releases/brine:1.0.0")
	w.run("", "skopeo", "--insecure-policy", "copy", "--src-tls-verify=false", "--src-creds", "admin:"+house.Token,
		"docker://"+host+"/releases/brine:1.0.0", "oci:brine")

	// What was read there counts as what is read here.
	eventually(t, 20*time.Second, "downloads are counted", func() bool {
		a, err := all.Ask(t.Context(), "GET", "/api/v1/use?by=client&purl=pkg:npm/deck-large", house.Token, nil)
		return err == nil && strings.Contains(string(a.Body), `"npm"`)
	})
	// Without the object store nobody is sent there, and what was read here lately is given.
	f.objects.Kill()
	eventually(t, 60*time.Second, "it is known to be away", func() bool {
		return ask("npm/10").StatusCode != http.StatusTemporaryRedirect
	})
	if got := ask("npm/10"); got.StatusCode != http.StatusOK {
		t.Errorf("what was read here lately is answered %s", got.Status)
	}
}
