package e2e

import (
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// toHere adds a target that is a repository of the shared service.
func toHere(t *testing.T, to string) string {
	t.Helper()
	name := fmt.Sprintf("to-%d", made.Add(1))
	if err := desk(house.Token).SetTarget(t.Context(), api.NewTarget{Name: name, Ecosystem: "npm",
		URL: shared.Address + "/at/" + to + "/npm/", Secret: house.Token}); err != nil {
		t.Fatal(err)
	}
	return name
}

// comes tells how long it takes until a version of a package can be had.
func comes(t *testing.T, to, name, version string) time.Duration {
	t.Helper()
	begun := time.Now()
	path := "/at/" + to + "/npm/" + name + "/-/" + name + "-" + version + ".tgz"
	eventually(t, 30*time.Second, path+" to come", func() bool {
		a, err := shared.Ask(t.Context(), http.MethodHead, path, house.Token, nil)
		return err == nil && a.Status == 200
	})
	return time.Since(begun)
}

// TestRelay sends what arrives on, at once and in order; what is filtered stays; two that lead to each other
// end by themselves; what is paused waits; what fails is told, and sent again when somebody asks.
func TestRelay(t *testing.T) {
	t.Parallel()
	admin := desk(house.Token)
	from, to := repository(t, "both"), repository(t, "both")
	n := made.Add(1)
	forth, back := fmt.Sprintf("forth-%d", n), fmt.Sprintf("back-%d", n)
	kelp := func(version string) madeup.Package {
		return madeup.Package{Name: "relayed-kelp", Version: version, Licence: "MIT"}
	}
	publishMade(t, from, "npm", kelp("1.0.0"))
	text, errs, code := crelvoAsAdmin(t, "relay", "add", forth, "--from", from, "--to", toHere(t, to), "--only",
		"pkg:npm/relayed-*")
	if says(t, text, "Made the relay "+forth); code != 0 {
		t.Fatalf("%d: %s", code, errs)
	}
	comes(t, to, "relayed-kelp", "1.0.0") // which was there before
	if _, _, code := crelvoAsAdmin(t, "relay", "add", back, "--from", to, "--to", toHere(t, from)); code != 0 {
		t.Fatal(code)
	}
	var took []time.Duration
	for i := range 20 {
		version := fmt.Sprintf("1.%d.0", i+1)
		publishMade(t, from, "npm", kelp(version))
		took = append(took, comes(t, to, "relayed-kelp", version))
	}
	slices.Sort(took)
	t.Logf("from publishing here to reading there: half within %v, 19 of 20 within %v", took[9], took[18])
	if took[18] > 5*time.Second { // on a machine that does much else
		t.Errorf("it takes %v", took[18])
	}
	publishMade(t, from, "npm", kelp("2.0.0-dev.1")) // a snapshot is not sent, nor is what no pattern fits
	publishMade(t, from, "npm", madeup.Package{Name: "other-kelp", Version: "1.0.0", Licence: "MIT"})
	publishMade(t, to, "npm", kelp("3.0.0")) // comes back
	comes(t, from, "relayed-kelp", "3.0.0")
	state := func(name string) api.Relay {
		t.Helper()
		r, err := admin.Relay(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	eventually(t, 30*time.Second, "both to be in step", func() bool {
		a, b := state(forth), state(back)
		return a.Waiting == 0 && b.Waiting == 0 && a.Sent == 22 && b.Sent == 22
	})
	must(t, http.MethodHead, "/at/"+to+"/npm/other-kelp/-/other-kelp-1.0.0.tgz", "", 404)
	must(t, http.MethodHead, "/at/"+to+"/npm/relayed-kelp/-/relayed-kelp-2.0.0-dev.1.tgz", "", 404)
	p, err := admin.Package(t.Context(), "pkg:npm/relayed-kelp", from)
	if err != nil || len(p.Versions) != 23 {
		t.Errorf("there and back made %d versions, %v", len(p.Versions), err)
	}

	for command, want := range map[string]string{"check": "lets us in", "pause": "what arrives waits"} {
		text, errs, code := crelvoAsAdmin(t, "relay", command, forth)
		if says(t, text, want); code != 0 {
			t.Fatal(errs)
		}
	}
	publishMade(t, to, "npm", kelp("4.0.0")) // the back relay brings it, with other bytes than these
	other := kelp("4.1.0")
	other.Description = "other"
	publishMade(t, to, "npm", other)
	comes(t, from, "relayed-kelp", "4.0.0")
	if _, _, code := crelvoAsAdmin(t, "relay", "pause", back); code != 0 {
		t.Fatal(code)
	}
	eventually(t, 30*time.Second, "what was underway to end", func() bool { return state(back).Waiting == 0 })
	publishMade(t, from, "npm", kelp("5.0.0"))
	publishMade(t, to, "npm", madeup.Package{Name: "relayed-kelp", Version: "5.1.0", Licence: "MIT", Author: "elsewhere"})
	publishMade(t, from, "npm", kelp("5.1.0"))
	eventually(t, 30*time.Second, "the relay to be behind", func() bool { return state(forth).Waiting >= 2 })
	text, _, _ = crelvoAsAdmin(t, "relay", "show", forth)
	says(t, text, "paused; ", "versions behind", "pkg:npm/relayed-kelp@5.0.0", "none while it is paused")
	text, _, _ = crelvoAsAdmin(t, "relay", "list")
	says(t, text, forth, from, "paused; ")
	if _, errs, code := crelvoAsAdmin(t, "relay", "run", forth); code == 0 || !strings.Contains(errs, "is paused") {
		t.Errorf("what is paused runs: %s", errs)
	}
	crelvoAsAdmin(t, "relay", "resume", forth)
	comes(t, to, "relayed-kelp", "5.0.0")
	eventually(t, 30*time.Second, "other bytes to be told of", func() bool { return state(forth).Failed == 1 })
	text, _, _ = crelvoAsAdmin(t, "relay", "show", forth)
	says(t, text, "1 version FAILED", "is there already, with other bytes")
	text, _, _ = crelvoAsAdmin(t, "status")
	says(t, text, "could not be relayed by "+forth)
	text, errs, code = crelvoAsAdmin(t, "relay", "run", forth)
	if says(t, text, "looks for what it missed"); code != 0 {
		t.Error(errs)
	}
	eventually(t, 30*time.Second, "it to fail again", func() bool { return state(forth).Failed == 1 })
	for _, name := range []string{forth, back} {
		if _, errs, code := crelvoAsAdmin(t, "relay", "remove", name, "--yes"); code != 0 {
			t.Error(errs)
		}
	}
}

// TestRelayThroughTrouble: a target that is not there is told of before a relay is saved; one that goes
// away is tried again, and nothing is lost.
func TestRelayThroughTrouble(t *testing.T) {
	t.Parallel()
	admin := desk(house.Token)
	from, to := repository(t, "releases"), repository(t, "releases")
	n := made.Add(1)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := listener.Addr().String()
	listener.Close() // nobody listens
	away := fmt.Sprintf("away-%d", n)
	set := func(url, secret string) {
		t.Helper()
		if err := admin.SetTarget(t.Context(), api.NewTarget{Name: away, Ecosystem: "npm", URL: url,
			Secret: secret}); err != nil {
			t.Fatal(err)
		}
	}
	set("http://"+address+"/npm/", house.Token)
	relay := fmt.Sprintf("trouble-%d", n)
	add := []string{"relay", "add", relay, "--from", from, "--to", away}
	if _, errs, code := crelvoAsAdmin(t, add...); code == 0 || !strings.Contains(errs, away+" refused the connection") {
		t.Errorf("a target that is not there is taken: %s", errs)
	}
	set(shared.Address+"/at/"+to+"/npm/", "no-token")
	if _, errs, code := crelvoAsAdmin(t, add...); code == 0 || !strings.Contains(errs, "does not let us in") {
		t.Errorf("a target that does not let us in is taken: %s", errs)
	}
	for _, bad := range [][2]string{{"--schedule", "never"}, {"--hours", "25:00-26:00"}, {"--zone", "Nowhere"},
		{"--only", "kelp"}, {"--rate", "10"}, {"--maturity", "ripe"}} {
		if _, errs, code := crelvoAsAdmin(t, append(add, "--anyway", bad[0], bad[1])...); code == 0 {
			t.Errorf("%s %s is taken", bad[0], bad[1])
		} else if errs == "" {
			t.Errorf("nobody says what is wrong with %s", bad)
		}
	}
	if _, errs, code := crelvoAsAdmin(t, append(add, "--anyway", "--rate", "1MiB")...); code != 0 {
		t.Fatal(errs)
	}
	publishMade(t, from, "npm", madeup.Package{Name: "relayed-buoy", Version: "1.0.0", Licence: "MIT"})
	eventually(t, 30*time.Second, "an attempt to fail", func() bool {
		r, err := admin.Relay(t.Context(), relay)
		return err == nil && r.Waiting == 1 && r.Said != ""
	})
	set(shared.Address+"/at/"+to+"/npm/", house.Token)
	if _, errs, code := crelvoAsAdmin(t, "relay", "run", relay); code != 0 {
		t.Fatal(errs)
	}
	comes(t, to, "relayed-buoy", "1.0.0")
	if _, errs, code := crelvoAsAdmin(t, "target", "remove", away, "--yes"); code == 0 ||
		!strings.Contains(errs, relay+" sends to "+away) {
		t.Errorf("what a relay sends to is removed: %s", errs)
	}
	if a, err := shared.Ask(t.Context(), http.MethodGet, "/api/v1/relays", "", nil); err != nil || a.Status != 401 {
		t.Errorf("strangers are answered with %d, %v", a.Status, err)
	}
}

// TestConsoleRelays makes a relay on the console, looks how far it is, pauses it, changes it and removes it.
func TestConsoleRelays(t *testing.T) {
	from, to := repository(t, "releases"), repository(t, "releases")
	target, name := toHere(t, to), fmt.Sprintf("on-console-%d", made.Add(1))
	publishMade(t, from, "npm", madeup.Package{Name: "relayed-lamp", Version: "1.0.0", Licence: "MIT"})
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/relays"), browser.ShowsText("New relay"), browser.ClickText("New relay"),
		browser.ShowsText("It looks for what was missed"))
	do(typeInto("input[name=name]", name), chromedp.SetValue(chromedp.CSS(`select[aria-label="From"]`), from),
		chromedp.SetValue(chromedp.CSS(`select[aria-label="To"]`), target), browser.ClickText("Save"))
	do(browser.ShowsText(name, "in step", "1 version", "npm/relayed-lamp@1.0.0", "Next times"))
	comes(t, to, "relayed-lamp", "1.0.0")
	do(browser.ClickText("Try the target"), browser.ShowsText("The target is there"),
		browser.ClickText("Pause it"), browser.ShowsText("paused", "Let it go on"))
	publishMade(t, from, "npm", madeup.Package{Name: "relayed-lamp", Version: "1.1.0", Licence: "MIT"})
	do(browser.ShowsText("1 version,"), browser.ClickText("Let it go on"), browser.ShowsText("in step", "2 versions"),
		browser.ClickText("Change…"), browser.ShowsText("Change "+name), typeInto("input[name=hours]", "20:00-06:00"),
		browser.ClickText("Save"), browser.ShowsText("20:00-06:00 UTC"), browser.ClickText("Remove…"),
		browser.ShowsText("Nothing is sent by it any more"), browser.ClickText("Remove it"), browser.ShowsText("New relay"))
	if all, err := desk(house.Token).Relays(t.Context()); err != nil ||
		slices.ContainsFunc(all, func(r api.Relay) bool { return r.Name == name }) {
		t.Errorf("it is still there: %v, %v", all, err)
	}
}

// TestRelayImages: images go along with their labels, whatever of them is there already is not sent, and a
// client finds them whole.
func TestRelayImages(t *testing.T) {
	t.Parallel()
	admin := desk(house.Token)
	from, to := repository(t, "both"), repository(t, "both")
	n := made.Add(1)
	target, name := fmt.Sprintf("images-%d", n), fmt.Sprintf("images-%d", n)
	if err := admin.SetTarget(t.Context(), api.NewTarget{Name: target, Ecosystem: "oci",
		URL: shared.Address + "/v2/" + to + "/", User: "admin", Secret: house.Token}); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := crelvoAsAdmin(t, "relay", "add", name, "--from", from, "--to", target); code == 0 ||
		!strings.Contains(errs, "its labels say") {
		t.Errorf("releases of images are relayed from a repository for both: %s", errs)
	}
	if _, errs, code := crelvoAsAdmin(t, "relay", "add", name, "--from", from, "--to", target, "--maturity",
		"both"); code != 0 {
		t.Fatal(errs)
	}
	p := madeup.Package{Name: "berth", Version: "1.5.0"}
	amd, arm := p.Image("linux/amd64", nil), p.Image("linux/arm64", nil)
	pushMade(t, from+"/skerry/berth", amd, "")
	pushMade(t, from+"/skerry/berth", arm, "")
	index := pushMade(t, from+"/skerry/berth", p.Index(amd, arm), "1.5.0")
	path := "/v2/" + to + "/skerry/berth/manifests/1.5.0"
	eventually(t, 30*time.Second, "the image to come", func() bool {
		a, err := shared.Ask(t.Context(), http.MethodGet, path, house.Token, nil)
		return err == nil && a.Status == 200 && a.Header.Get("Docker-Content-Digest") == index
	})
	w := newWorkshop(t)
	w.run("", tool("crane"), "auth", "login", host(), "-u", "admin", "-p", house.Token, "--insecure")
	w.run("", tool("crane"), "validate", "--insecure", "--remote", host()+"/"+to+"/skerry/berth:1.5.0")
	eventually(t, 30*time.Second, "the relay to be in step", func() bool {
		r, err := admin.Relay(t.Context(), name)
		return err == nil && r.Waiting == 0 && r.Failed == 0 && r.Sent == 3
	})
}
