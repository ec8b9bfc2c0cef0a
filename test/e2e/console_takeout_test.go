package e2e

import (
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"

	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsoleTakesOut withdraws a version on its page and takes the mark away, removes
// it, and brings it back from where that leads.
func TestConsoleTakesOut(t *testing.T) {
	r := repository(t, "releases")
	publishRelease(t, r, "tide-gauge", "1.0.0", "tides")
	publishRelease(t, r, "tide-gauge", "1.1.0", "more tides")
	file := "/at/" + r + "/maven/" + groupPath + "/tide-gauge/1.1.0/tide-gauge-1.1.0.jar"
	withdrawn := func() string {
		t.Helper()
		p, err := desk(house.Token).Package(t.Context(), "pkg:maven/example.skerry.berth/tide-gauge@1.1.0", r)
		if err != nil {
			t.Fatal(err)
		}
		if w := p.Versions[0].Withdrawn; w != nil {
			return w.Reason + " by " + w.By
		}
		return "no"
	}
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/package/maven/example.skerry.berth/tide-gauge@1.1.0"),
		browser.ShowsText("Withdraw…", "Remove…"),
		browser.ClickText("Withdraw…"), browser.ShowsText("Withdraw 1.1.0?"),
		typeInto("input[name=reason]", "wrong moon"), browser.ClickText("Withdraw it"),
		browser.ShowsText("Withdrawn by admin: wrong moon", "It may be used again"))
	if got := withdrawn(); got != "wrong moon by admin" {
		t.Errorf("withdrawn: %s", got)
	}
	do(browser.ClickText("It may be used again"), browser.ShowsText("Withdraw…"))
	if got := withdrawn(); got != "no" {
		t.Errorf("withdrawn: %s", got)
	}
	do(browser.ClickText("Remove…"), browser.ShowsText("Remove 1.1.0 from "+r), browser.ClickText("Remove it"),
		browser.ShowsText("Bring all back…"))
	must(t, http.MethodGet, file, "", 404)
	do(browser.ClickText("Bring all back…"), browser.ShowsText("Which"),
		chromedp.Click(chromedp.CSS("form button[type=submit]")), browser.ShowsText("Brought back 1 version"))
	must(t, http.MethodGet, file, "", 200)
}
