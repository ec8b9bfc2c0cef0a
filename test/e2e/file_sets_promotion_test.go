package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"crelvo/internal/api"
	"crelvo/test/house"
)

// keptAs are the files that a version of a set is kept as in a repository, as they are handed out.
func keptAs(t *testing.T, repository, name, version string) map[string][]byte {
	t.Helper()
	at := "/at/" + repository + "/generic/.sets/" + name
	var list struct {
		Versions []struct {
			Version string
			Kept    []struct{ Name string }
		}
	}
	if a := ask(t, http.MethodGet, at, ""); json.Unmarshal(a.Body, &list) != nil {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	all := map[string][]byte{}
	for _, v := range list.Versions {
		for _, f := range v.Kept {
			if v.Version != version {
				continue
			}
			a := ask(t, http.MethodGet, at+"/"+version+"/"+f.Name, "")
			if a.Status != http.StatusOK {
				t.Fatalf("%s: %d %s", f.Name, a.Status, a.Body)
			}
			all[f.Name] = a.Body
		}
	}
	return all
}

// promoted promotes a version of a set, and gives what was written for it.
func promoted(t *testing.T, track, to, what string) api.PromotionPage {
	t.Helper()
	out, errs, code := crelvoAsAdmin(t, "promote", what, "--along", track, "--to", to, "--output", "json")
	var p api.PromotionPage
	if err := json.Unmarshal([]byte(out), &p); err != nil || code != 0 || p.State != "done" {
		t.Fatalf("%d %s: %s%s", code, p.State, out, errs)
	}
	return p
}

// TestFileSetPromoted: texts change in the files that the hop names, and nothing that was in an earlier upload alone
// comes along in a pack; of a later version, only what is new is written; what was taken back may come again.
func TestFileSetPromoted(t *testing.T) {
	t.Parallel()
	admin := desk(house.Token)
	name, snapshots, releases := track(t, admin)
	for _, bad := range []string{"text in ", "text in a: b", "texts"} {
		_, errs, code := crelvoAsAdmin(t, "track", "edit", name, "--into", releases, "--restamp", bad)
		if code == 0 {
			t.Errorf("%q was taken", bad)
		}
		says(t, errs, "text in PATTERN: OLD -> NEW")
	}
	if _, errs, code := crelvoAsAdmin(t, "track", "edit", name, "--into", releases, "--restamp", "text in *version.txt",
		"--restamp", "text in conf/*: test.skerry.example -> live.skerry.example"); code != 0 {
		t.Fatal(errs)
	}
	dir := tiles(t, 10, 100_000, 5)
	secret := bytes.Repeat([]byte("not for releases "), 5000)
	writeTile(t, dir, "secret.bin", secret)
	writeTile(t, dir, "version.txt", []byte("turnstile-firmware 2.0.0-dev\nbuilt for 2.0.0-dev, not for 12.0.0-dev1\n"))
	writeTile(t, dir, "conf/servers.ini", []byte("[servers]\nat = test.skerry.example\n"))
	snapshot := "pkg:generic/turnstile-firmware@2.0.0-dev"
	setAt(t, shared.Address, "publish", dir, "--to", snapshots, "--as", snapshot)
	if err := os.Remove(filepath.Join(dir, "secret.bin")); err != nil {
		t.Fatal(err)
	}
	setAt(t, shared.Address, "publish", dir, "--to", snapshots, "--as", snapshot)

	out, _, _ := crelvoAsAdmin(t, "promote", snapshot, "--along", name, "--to", releases, "--dry-run")
	says(t, out, "version.txt: line 1", "- turnstile-firmware 2.0.0-dev", "+ turnstile-firmware 2.0.0",
		"+ built for 2.0.0, not for 12.0.0-dev1", "conf/servers.ini: line 2", "+ at = live.skerry.example",
		"it has more than the version")
	first := promoted(t, name, releases, snapshot)
	writeTile(t, dir, "version.txt", []byte("turnstile-firmware 2.0.0\nbuilt for 2.0.0, not for 12.0.0-dev1\n"))
	writeTile(t, dir, "conf/servers.ini", []byte("[servers]\nat = live.skerry.example\n"))
	released := "pkg:generic/turnstile-firmware@2.0.0"
	same := func(version string) {
		t.Helper()
		into := filepath.Join(t.TempDir(), "firmware")
		setAt(t, shared.Address, "fetch", version, "--in", releases, "--into", into)
		for name, is := range tree(t, dir) {
			got := tree(t, into)[name]
			if got[strings.LastIndex(got, " ")+1:] != is[strings.LastIndex(is, " ")+1:] {
				t.Errorf("%s of %s is %q, and not %q", name, version, got, is)
			}
		}
	}
	same(released)
	kept := keptAs(t, releases, "turnstile-firmware", "2.0.0")
	if len(kept) < 3 {
		t.Errorf("%d files", len(kept))
	}
	for name, raw := range kept {
		if bytes.Contains(raw, secret[:1000]) {
			t.Errorf("%s has what the release does not", name)
		}
	}

	// It comes back as what it was, though its packs may be others.
	if _, errs, code := crelvoAsAdmin(t, "promotion", "undo", strconv.FormatInt(first.ID, 10), "--reason",
		"for the test"); code != 0 {
		t.Fatal(errs)
	}
	promoted(t, name, releases, snapshot)
	same(released)

	// Of the next, only what is new.
	writeTile(t, dir, "zone-1/tile-0001.bin", bytes.Repeat([]byte("new"), 30_000))
	next := "pkg:generic/turnstile-firmware@2.1.0-dev"
	setAt(t, shared.Address, "publish", dir, "--to", snapshots, "--as", next)
	second := promoted(t, name, releases, next)
	if n := second.Planned[0].NewBytes; n < 0 || n > 200_000 {
		t.Errorf("%d new bytes", n)
	}
	same("pkg:generic/turnstile-firmware@2.1.0")

	// What is no text is in the way.
	writeTile(t, dir, "conf/key.bin", []byte{0, 1, 2, 0xff})
	odd := "pkg:generic/turnstile-firmware@2.2.0-dev"
	setAt(t, shared.Address, "publish", dir, "--to", snapshots, "--as", odd)
	out, errs, code := crelvoAsAdmin(t, "promote", odd, "--along", name, "--to", releases)
	if code == 0 {
		t.Errorf("it was promoted: %s", out)
	}
	says(t, out+errs, "conf/key.bin is no text in UTF-8")
	if out, errs, code := crelvoAsAdmin(t, "promote", odd, "--along", name, "--to", releases, "--go-on"); code != 0 {
		t.Errorf("%s%s", out, errs)
	}
}

// TestFileSetSigned: who publishes signs the manifest, with gpg; a gate asks for it, the signature goes along, a hop
// signs what is not signed, and who fetches takes only what is signed by a key.
func TestFileSetSigned(t *testing.T) {
	t.Parallel()
	admin := desk(house.Token)
	w := newWorkshop(t, "GNUPGHOME="+t.TempDir())
	w.run("", "gpg", "--batch", "--passphrase", "", "--quick-generate-key", "Tiles <tiles@skerry.example>", "ed25519")
	w.run("", "gpg", "--batch", "--passphrase", "", "--quick-generate-key", "Else <else@skerry.example>", "ed25519")
	w.write("tiles.asc", []byte(w.run("", "gpg", "--armor", "--export", "tiles@skerry.example")))
	w.write("else.asc", []byte(w.run("", "gpg", "--armor", "--export", "else@skerry.example")))
	trusted := fmt.Sprintf("tiles-%d", made.Add(1))
	for _, args := range [][]string{{"key", "add", trusted, w.dir + "/tiles.asc"},
		{"key", "add", trusted + "-own", "--sign"}} {
		if out, errs, code := crelvoAsAdmin(t, args...); code != 0 {
			t.Fatalf("%s%s", out, errs)
		}
	}
	name, snapshots, releases := track(t, admin, "signed-by "+trusted)
	dir := tiles(t, 3, 50_000, 6)
	crelvo := func(args ...string) (string, error) {
		return w.try("", "env", append([]string{"CRELVO_SERVER=" + shared.Address, "CRELVO_TOKEN=" + house.Token,
			house.Program()}, args...)...)
	}
	publish := func(version string, more ...string) (string, error) {
		return crelvo(append([]string{"publish", dir, "--to", snapshots, "--as", "pkg:generic/chart-tiles@" + version},
			more...)...)
	}
	if out, err := publish("1.0.0-dev", "--sign", "nobody@skerry.example"); err == nil {
		t.Errorf("signed by nobody: %s", out)
	} else {
		says(t, out, "gpg does not sign with nobody@skerry.example")
	}
	for version, more := range map[string][]string{"1.0.0-dev": {"--sign", "tiles@skerry.example"}, "1.1.0-dev": nil} {
		if out, err := publish(version, more...); err != nil {
			t.Fatal(out)
		}
	}
	promote := func(version string) (string, error) {
		return crelvo("promote", "pkg:generic/chart-tiles@"+version, "--along", name, "--to", releases)
	}
	if out, err := promote("1.1.0-dev"); err == nil {
		t.Errorf("promoted without a signature: %s", out)
	} else {
		says(t, out, "manifest.jsonl is not signed by any of them")
	}
	if out, err := promote("1.0.0-dev"); err != nil {
		t.Fatal(out)
	}
	fetch := func(version, key string) (string, error) {
		return crelvo("fetch", "pkg:generic/chart-tiles@"+version, "--in", releases, "--into", "into-"+version,
			"--signed-by", key)
	}
	if out, err := fetch("1.0.0", "tiles.asc"); err != nil {
		t.Error(out)
	}
	sameTree(t, filepath.Join(w.dir, "into-1.0.0"), dir)
	if out, err := fetch("1.0.0", "else.asc"); err == nil {
		t.Errorf("fetched: %s", out)
	} else {
		says(t, out, "the signature of chart-tiles 1.0.0 is not by the key that was given")
	}

	// The hop signs: gpg alone finds it right.
	if out, errs, code := crelvoAsAdmin(t, "track", "edit", name, "--into", releases, "--gate", "", "--sign-with",
		trusted+"-own"); code != 0 {
		t.Fatal(out + errs)
	}
	if out, err := promote("1.1.0-dev"); err != nil {
		t.Fatal(out)
	}
	kept := keptAs(t, releases, "chart-tiles", "1.1.0")
	w.write("manifest.jsonl", kept["manifest.jsonl"])
	w.write("manifest.jsonl.asc", kept["manifest.jsonl.asc"])
	w.write("own.asc", must(t, http.MethodGet, "/keys/"+trusted+"-own", "", 200).Body)
	w.run("", "gpg", "--quiet", "--import", "own.asc")
	says(t, w.run("", "gpg", "--verify", "manifest.jsonl.asc", "manifest.jsonl"), "Good signature")
	if len(kept) < 4 || kept["layout.bin"] == nil {
		t.Errorf("it is kept as %d files", len(kept))
	}
	if out, err := fetch("1.1.0", "own.asc"); err != nil {
		t.Error(out)
	}
	if out, err := crelvo("publish", dir, "--to", releases, "--as", "pkg:generic/chart-tiles@1.2.0"); err != nil {
		t.Error(out)
	}
	if out, err := fetch("1.2.0", "own.asc"); err == nil {
		t.Errorf("fetched: %s", out)
	} else {
		says(t, out, "chart-tiles 1.2.0 is not signed")
	}
	if out, err := crelvo("publish", dir, "--to", releases, "--as", "pkg:generic/chart-tiles@1.2.0", "--sign",
		"tiles@skerry.example"); err == nil {
		t.Errorf("signed late: %s", out)
	} else {
		says(t, out, "chart-tiles 1.2.0 is published already, without a signature")
	}
}
