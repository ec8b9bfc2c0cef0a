package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestTransferBetween takes what npm published to another repository, from where npm installs it; the
// command tells what comes, what does not, and how it went.
func TestTransferBetween(t *testing.T) {
	t.Parallel()
	from, to := repository(t, "both"), repository(t, "releases")
	w := newNPM(t, from)
	deck := deckUI("1.0.0")
	bell := madeup.Package{Name: "@skerry/bell", Version: "2.0.0", Licence: "MIT",
		Needs: map[string]string{"@skerry/deck-ui": "^1.0.0"}}
	w.source("deck", deck)
	w.run("deck", "npm", "publish")
	w.source("bell", bell)
	w.run("bell", "npm", "publish")
	deck.Version = "1.1.0-dev.1"
	w.source("deck", deck)
	w.run("deck", "npm", "publish", "--tag", "next")

	text, errs, code := crelvoAsAdmin(t, "transfer", "--from", from, "--to", to, "--dry-run")
	says(t, text, "To come:       2 versions", "Not taken:     1 version", "pkg:npm/@skerry/bell@2.0.0",
		"pkg:npm/@skerry/deck-ui@1.1.0-dev.1", to+" holds releases, and no snapshot")
	if code != 1 {
		t.Errorf("the plan ends with %d: %s", code, errs)
	}
	text, errs, code = crelvoAsAdmin(t, "transfer", "--from", from, "--to", to, "--only", "pkg:npm/@skerry/*@vers:npm/>=1.0.0")
	says(t, text, "Came:          2 versions")
	if code != 1 || errs != "" {
		t.Errorf("it ends with %d: %s", code, errs)
	}
	names := w.write("names.txt", []byte("# what moves\npkg:npm/@skerry/bell\n\npkg:npm/@skerry/deck-ui@1.0.0\n"))
	text, _, code = crelvoAsAdmin(t, "transfer", "--from", from, "--to", to, "--only", "@"+names)
	if says(t, text, "There already: 2 versions"); code != 0 {
		t.Errorf("by a list it ends with %d: %s", code, text)
	}
	other := newNPM(t, to)
	other.project("ferry", map[string]string{"@skerry/bell": "*"})
	other.run("ferry", "npm", "install")
	if got := other.read("ferry/node_modules/@skerry/deck-ui/index.js"); !strings.Contains(got, "1.0.0") {
		t.Errorf("npm installed %q", got)
	}
	text, _, code = crelvoAsAdmin(t, "transfer", "--from", from, "--to", to, "--only", "pkg:npm/@skerry/bell", "--background")
	id := strings.Fields(text)[1]
	says(t, text, "Transfer "+id+" has begun: crelvo transfer show "+id)
	if code != 0 {
		t.Errorf("it ends with %d", code)
	}
	eventually(t, 20*time.Second, "transfer "+id+" to end", func() bool {
		text, _, _ = crelvoAsAdmin(t, "transfer", "show", id)
		return strings.Contains(text, "There already: 1 version") && strings.Contains(text, "done")
	})
	says(t, text, from, "pkg:npm/@skerry/bell", "done")
	text, _, _ = crelvoAsAdmin(t, "transfer", "list")
	says(t, text, from, "planned", "STATE")
	for args, want := range map[string]string{
		"stop " + id: "ended already", "show x": "no number of a transfer", "show 999999": "crelvo transfer list",
		"--from nowhere --to " + to:                    "there is no repository \"nowhere\"",
		"--from ./nowhere --to " + to:                  "nowhere",
		"--from " + to + " --to " + to:                 "where it comes from and where it goes to",
		"--from . --background --to " + to:             "lies on this machine",
		"--from " + from + " --to " + to + " --rate x": "is no size",
	} {
		_, errs, code := crelvoAsAdmin(t, append([]string{"transfer"}, strings.Fields(args)...)...)
		if says(t, errs, want); code == 0 {
			t.Errorf("%s is done", args)
		}
	}
}

// TestConsoleTransfers plans a transfer on the console, and has it done.
func TestConsoleTransfers(t *testing.T) {
	from, to := repository(t, "releases"), repository(t, "both")
	publishRelease(t, from, "tide-bell", "1.0.0", "tides")
	publishRelease(t, from, "tide-bell", "1.1.0", "more tides")
	publishRelease(t, to, "tide-bell", "1.1.0", "other tides")
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/"), browser.ShowsText("Transfers"), browser.ClickText("Transfers"),
		browser.ShowsText("New transfer"), browser.ClickText("New transfer"), browser.ShowsText("Only plan it"))
	do(chromedp.SetValue(chromedp.CSS("select[aria-label=From]"), from),
		chromedp.SetValue(chromedp.CSS("select[aria-label=To]"), to), browser.ClickText("Begin"))
	do(browser.ShowsText(from+" to "+to, "planned", "has other bytes in tide-bell-1.1.0.jar", "Do it"))
	do(browser.ClickText("Do it"), browser.ShowsText("done", "Came", "what does not come"))
	must(t, "GET", "/at/"+to+"/maven/"+groupPath+"/tide-bell/1.0.0/tide-bell-1.0.0.jar", "", 200)
	do(browser.ClickText("Transfers"), browser.ShowsText("From one repository to another", from+" to "+to, "by admin"))
}
