package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestBundle carries what npm published from one Crelvo to another one, in pieces, by the commands; npm installs
// it there. A bundle that was changed on its way is not loaded, and any tar and OpenPGP can look into one.
func TestBundle(t *testing.T) {
	t.Parallel()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	far, err := house.Start(dir + "/far")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { far.Stop() })
	from := repository(t, "releases")
	w := newNPM(t, from)
	deck := deckUI("1.0.0")
	bell := madeup.Package{Name: "@skerry/bell", Version: "2.0.0", Licence: "MIT",
		Needs: map[string]string{"@skerry/deck-ui": "^1.0.0"}}
	for folder, p := range map[string]madeup.Package{"deck": deck, "bell": bell} {
		w.source(folder, p)
		w.run(folder, "npm", "publish")
	}
	key := "key-of-" + from
	said := func(text, errs string, code int) string {
		t.Helper()
		if code != 0 {
			t.Fatalf("it ended with %d: %s%s", code, text, errs)
		}
		return text
	}
	said(crelvoAsAdmin(t, "key", "add", key, "--sign"))
	public := w.write("key.asc", []byte(said(crelvoAsAdmin(t, "key", "show", key))))
	file := filepath.Join(w.dir, "november.tar")
	says(t, said(crelvoAsAdmin(t, "bundle", "create", "--from", from, "--only", "pkg:npm/@skerry/bell", "--with-needs",
		"--sign-with", key, "--to", file, "--split", "4KiB")), "2 versions of 2 packages", "november.tar.001, ")
	says(t, said(crelvoAsAdmin(t, "bundle", "show", file)), "pkg:npm/@skerry/deck-ui", "needed")
	says(t, said(crelvoAsAdmin(t, "bundle", "verify", file+".001", "--key", public)), "is whole: 2 versions", "signed by")

	atFar := func(args ...string) (string, string, int) {
		t.Helper()
		return crelvoAsAdmin(t, append(args, "--server", far.Address)...)
	}
	said(atFar("repo", "add", "inbound", "--holds", "releases"))
	_, errs, code := atFar("bundle", "load", file, "--to", "inbound")
	if says(t, errs, "signed by no key that is trusted here", "crelvo key add"); code != 1 {
		t.Errorf("without its key it ends with %d", code)
	}
	said(atFar("key", "add", "from-the-yard", public))
	_, errs, code = atFar("bundle", "load", file)
	if says(t, errs, "there is no repository "+from, "--to"); code == 0 {
		t.Errorf("without a repository it ends with %d", code)
	}
	says(t, said(atFar("bundle", "load", file, "--to", "inbound", "--dry-run")), "2 versions would come", "from-the-yard")
	says(t, said(atFar("bundle", "load", file, "--to", "inbound")), "2 versions came, 0 were there already")
	says(t, said(atFar("bundle", "load", file, "--to", "inbound")), "0 versions came, 2 were there already")
	says(t, said(atFar("bundle", "list")), "loaded", from+" to inbound", "2, 2 new")
	other := newNPM(t, from)
	other.write("home/.npmrc", []byte("registry="+far.Address+"/at/inbound/npm/\n"+
		strings.TrimPrefix(far.Address, "http:")+"/at/inbound/npm/:_authToken="+house.Token+"\n"))
	other.project("ferry", map[string]string{"@skerry/bell": "*"})
	other.run("ferry", "npm", "install")
	if got := other.read("ferry/node_modules/@skerry/deck-ui/index.js"); !strings.Contains(got, "1.0.0") {
		t.Errorf("npm installed %q", got)
	}

	w.run("", "sh", "-c", "cat november.tar.* > whole.tar && tar -xf whole.tar && gpg --quiet --import key.asc && "+
		"gpg --verify manifest.json.asc manifest.json && cd files/sha256 && "+
		`for f in *; do echo "$f  $f"; done | sha256sum --check --quiet`)
	raw, err := os.ReadFile(file + ".002")
	if err != nil {
		t.Fatal(err)
	}
	raw[len(raw)/2] ^= 1
	if err := os.WriteFile(file+".002", raw, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, errs, code = crelvoAsAdmin(t, "bundle", "verify", file, "--key", public); code != 1 {
		t.Errorf("a changed one ends with %d: %s", code, errs)
	}
}

// TestConsoleBundles makes a bundle on the console, and loads it there into another repository.
func TestConsoleBundles(t *testing.T) {
	from, to := repository(t, "releases"), repository(t, "releases")
	w := newNPM(t, from)
	w.source("deck", deckUI("1.0.0"))
	w.run("deck", "npm", "publish")
	key := "key-of-" + from
	if text, errs, code := crelvoAsAdmin(t, "key", "add", key, "--sign"); code != 0 {
		t.Fatal(text, errs)
	}
	file := filepath.Join(w.dir, "console.tar")
	if text, errs, code := crelvoAsAdmin(t, "bundle", "create", "--from", from, "--sign-with", key, "--to",
		file); code != 0 {
		t.Fatal(text, errs)
	}
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/"), browser.ShowsText("Bundles"), browser.ClickText("Bundles"),
		browser.ShowsText(key, "made"), browser.ClickText("Load a bundle"), browser.ShowsText("becomes visible at once"),
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}),
		browser.ShowsText("0 versions would come", "1 are there already"),
		chromedp.SetValue(chromedp.CSS("select[aria-label=To]"), to),
		browser.ShowsText("1 version would come", "0 are there already"), browser.ClickText("Load"),
		browser.ShowsText("It is loaded: 1 version came"), browser.ClickText("Close"),
		browser.ShowsText(from+" to "+to, "loaded, 1 new"))
	must(t, "GET", "/at/"+to+"/npm/@skerry/deck-ui", "", 200)
	do(browser.ClickText("Make a bundle"), browser.ShowsText("And what they need in turn"),
		chromedp.SetValue(chromedp.CSS("select[aria-label=Of]"), to),
		chromedp.SetValue(chromedp.CSS(`select[aria-label="Signed with"]`), key), browser.ClickText("Make"),
		browser.ShowsText("loaded, 1 new"))
	eventually(t, 20*time.Second, "the bundle to be made", func() bool {
		text, _, _ := crelvoAsAdmin(t, "bundle", "list")
		for line := range strings.Lines(text) {
			if strings.Contains(line, "made") && strings.Contains(line, " "+to+" ") {
				return true
			}
		}
		return false
	})
}
