package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsoleTables orders a table, and chooses its columns, which are kept.
func TestConsoleTables(t *testing.T) {
	r := repository(t, "releases")
	for _, name := range []string{"alpha", "beta-10", "beta-9"} {
		publishRelease(t, r, name, "1.0.0", name)
	}
	publishRelease(t, r, "alpha", "1.1.0", "another")
	tab, do := openConsole(t)
	see := browser.ShowsText
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	rows := func(want string) {
		t.Helper()
		got := ""
		eventually(t, 10*time.Second, "the rows are "+want, func() bool {
			var err error
			got, err = chromedp.Run(tab, chromedp.Evaluate[string](`[...document.querySelectorAll("tbody tr")].map(
				(r) => r.querySelector("[data-row]").innerText.replace(/^.*:/, "")).join(" ")`))
			return err == nil && got == want
		})
	}
	head := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(fmt.Sprintf("//th//button[normalize-space(.)=%q]", name)))
	}
	do(chromedp.Navigate(shared.Address+"/repositories/"+r+"/packages"), see("beta-10"), head("Package"))
	rows("alpha beta-9 beta-10") // as people count
	do(head("Package"))
	rows("beta-10 beta-9 alpha")
	do(head("Versions")) // the most first
	if sorted, err := chromedp.Run(tab,
		chromedp.Evaluate[string](`document.querySelector("th[aria-sort]").innerText.trim()`)); err != nil ||
		sorted != "Versions" {
		t.Errorf("it is ordered by %q, %v", sorted, err)
	}
	if first, err := chromedp.Run(tab, chromedp.Evaluate[string](
		`document.querySelector("tbody [data-row]").innerText`)); err != nil || !strings.HasSuffix(first, "alpha") {
		t.Errorf("%q stands first, %v", first, err)
	}
	do(chromedp.Click(chromedp.CSS(`button[aria-label="Choose columns"]`)),
		chromedp.Click(chromedp.Search(`//*[@role='menuitemcheckbox'][normalize-space(.)='Size']`)),
		chromedp.WaitNotPresent(chromedp.Search(`//th[normalize-space(.)='Size']`)),
		chromedp.Navigate(shared.Address+"/repositories/"+r+"/packages"), see("beta-10"),
		chromedp.WaitNotPresent(chromedp.Search(`//th[normalize-space(.)='Size']`)))
}

// TestConsoleHears: what happens elsewhere does not ask again for what is shown, and what
// happens here does.
func TestConsoleHears(t *testing.T) {
	here, elsewhere := repository(t, "releases"), repository(t, "releases")
	publishRelease(t, here, "heard", "1.0.0", "x")
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	asked := func(path string) int {
		t.Helper()
		n, err := chromedp.Run(tab, chromedp.Evaluate[int](fmt.Sprintf(`performance.getEntriesByType("resource").filter(
			(r) => new URL(r.name).pathname === %q).length`, path)))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	about, folder := "/api/v1/repositories/"+here, "/api/v1/repositories/"+here+"/folder"
	do(chromedp.Navigate(shared.Address+"/repositories/"+here), browser.ShowsText("heard"),
		chromedp.Evaluate[chromedp.Void](`performance.clearResourceTimings()`))
	publishRelease(t, elsewhere, "unheard", "1.0.0", "y")
	// Changes are heard in their order: with this one, the one before was.
	another := "another"
	if _, err := shared.JSON(t.Context(), http.MethodPatch, "/api/v1/repositories/"+elsewhere,
		api.RepositoryChange{Description: &another}, nil); err != nil {
		t.Fatal(err)
	}
	eventually(t, 10*time.Second, "the repository is asked about", func() bool { return asked(about) > 0 })
	if n := asked(folder); n != 0 {
		t.Errorf("its contents were asked for %d times, for what is elsewhere", n)
	}
	publishRelease(t, here, "heard-too", "1.0.0", "z")
	do(browser.ShowsText("heard-too"))
	if asked(folder) == 0 {
		t.Error("what is shown came from nowhere")
	}
}

// TestConsoleMoment shows a repository as of a day that is chosen in the calendar.
func TestConsoleMoment(t *testing.T) {
	r := repository(t, "releases")
	publishRelease(t, r, "young", "1.0.0", "x")
	tab, do := openConsole(t)
	see, click := browser.ShowsText, browser.ClickText
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/repositories/"+r), see("young"),
		chromedp.Click(chromedp.CSS(`button[aria-label="Show it as of: now"]`)),
		chromedp.WaitVisible(chromedp.CSS(`[role=grid]`)),
		chromedp.Click(chromedp.CSS(`button[aria-label="Go to the Previous Month"]`)),
		chromedp.Click(chromedp.Search(`//td[not(@data-outside)]/button[normalize-space(.)='15']`)), click("Take it"),
		see("As it stood on 15", "held nothing then"), click("Back to now"), see("young"))
}
