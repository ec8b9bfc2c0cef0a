package e2e

import (
	"bytes"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crelvo/internal/api"
	"crelvo/test/house"
)

// came counts what became of versions, by their states.
func came(out api.Transfer) map[string]int {
	states := map[string]int{}
	for _, v := range out.Versions {
		states[v.State]++
	}
	return states
}

// TestTransferMavenTree takes the Maven tree of this machine's own packages, with all its links, and gives back what
// it took; the second time nothing travels.
func TestTransferMavenTree(t *testing.T) {
	t.Parallel()
	const tree = "/usr/share/maven-repo"
	if _, err := os.Stat(tree); err != nil {
		t.Fatalf("%v: run make test, which installs what has it", err)
	}
	to := repository(t, "releases")
	out, _ := transferred(t, shared.Address, "--from", tree, "--to", to)
	first := came(out)
	if first["came"] < 100 || first["came"] < 9*len(out.Versions)/10 {
		t.Fatalf("%v of %d versions", first, len(out.Versions))
	}
	for _, v := range out.Versions {
		if v.State != "came" && v.Why == "" {
			t.Errorf("%s does not come, and nothing says why", v.PURL)
		}
	}
	again, _ := transferred(t, shared.Address, "--from", tree, "--to", to)
	if second := came(again); second["there"] != first["came"] || second["came"] != 0 {
		t.Errorf("once more: %v, after %v", second, first)
	}
	for _, v := range again.Versions {
		if v.State == api.TransferThere && v.Travels != 0 {
			t.Errorf("%s is there, and %d bytes travel", v.PURL, v.Travels)
		}
	}
	compared := 0
	err := filepath.WalkDir(tree+"/org", func(path string, _ os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".jar") || compared == 20 {
			return err
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return nil // a link to what is not installed
		}
		at := strings.TrimPrefix(path, tree+"/")
		if a := ask(t, http.MethodGet, "/at/"+to+"/maven/"+at, ""); a.Status == 200 {
			compared++
			if !bytes.Equal(a.Body, content) {
				t.Errorf("%s is not what it was", at)
			}
		}
		return nil
	})
	if err != nil || compared < 20 {
		t.Errorf("%d files were compared: %v", compared, err)
	}
}

// TestTransferNPMCache takes the cache that npm itself made: what somebody installed once can be had from then on.
func TestTransferNPMCache(t *testing.T) {
	t.Parallel()
	from, to := repository(t, "releases"), repository(t, "releases")
	w := newWorkshop(t, "npm_config_update_notifier=false", "npm_config_fund=false", "npm_config_audit=false")
	publishMade(t, from, "npm", deckUI("1.0.0"))
	publishMade(t, from, "npm", deckUI("1.1.0"))
	at := shared.Address + "/at/" + from + "/npm/"
	w.write("home/.npmrc", []byte("registry="+at+"\n"+strings.TrimPrefix(at, "http:")+":_authToken="+house.Token+"\n"))
	for _, version := range []string{"1.0.0", "1.1.0"} {
		w.project("ferry"+version, map[string]string{"@skerry/deck-ui": version})
		w.run("ferry"+version, "npm", "install")
	}
	out, code := transferred(t, shared.Address, "--from", w.dir+"/home/.npm/_cacache", "--to", to)
	if got := came(out); code != 0 || got["came"] != 2 || len(got) != 1 {
		t.Fatalf("%d: %s", code, states(out))
	}
	for _, version := range []string{"1.0.0", "1.1.0"} {
		path := "/npm/@skerry/deck-ui/-/deck-ui-" + version + ".tgz"
		was, is := ask(t, http.MethodGet, "/at/"+from+path, ""), ask(t, http.MethodGet, "/at/"+to+path, "")
		if was.Status != 200 || is.Status != 200 || !bytes.Equal(was.Body, is.Body) {
			t.Errorf("%s: %d and %d", path, was.Status, is.Status)
		}
	}
}
