package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"crelvo/internal/client"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsoleLong opens a repository of many packages: its tree and its lists load by
// pages, and draw what is in sight.
func TestConsoleLong(t *testing.T) {
	const many = 240
	r := repository(t, "releases")
	for i := range many {
		publishRelease(t, r, fmt.Sprintf("long-%03d", i), "1.0.0", "x")
	}
	tab, do := openConsole(t)
	see := browser.ShowsText
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	drawn := func(what string) int {
		t.Helper()
		n, err := chromedp.Run(tab, chromedp.Evaluate[int](fmt.Sprintf("document.querySelectorAll(%q).length", what)))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	do(chromedp.Navigate(shared.Address+"/repositories/"+r), see("long-000"))
	if n := drawn("[role=treeitem]"); n < 20 || n > 100 {
		t.Errorf("%d lines of the tree are drawn", n)
	}
	do(chromedp.Click(chromedp.Search(`//*[@role='treeitem'][.//span[.='long-003']]`)), see("1.0.0"),
		chromedp.KeyEvent(kb.End), see("long-199", "Show more of 240 entries"))
	do(browser.ClickText("Show more of 240 entries"),
		chromedp.WaitNotPresent(chromedp.Search(`//button[.='Show more of 240 entries']`)))
	do(chromedp.Click(chromedp.Search(`//*[@role='treeitem'][.//span[.='long-199']]`)), chromedp.KeyEvent(kb.End),
		see("long-239"), chromedp.KeyEvent(kb.Home), see("long-000"))

	do(chromedp.Navigate(shared.Address+"/repositories/"+r+"/packages"), see("long-239", "Show more"))
	end := func(last string) {
		t.Helper()
		eventually(t, 20*time.Second, last+" stands at the end", func() bool {
			there, err := chromedp.Run(tab,
				chromedp.Evaluate[bool](fmt.Sprintf("scrollTo(0, document.body.scrollHeight), document.body.innerText.includes(%q)",
					last)))
			return err == nil && there
		})
	}
	for _, last := range []string{"long-140", "long-040"} {
		end(last)
		do(browser.ClickText("Show more"))
	}
	end("long-000")
	do(chromedp.WaitNotPresent(chromedp.Search(`//button[.='Show more']`)))
	if n := drawn("tbody tr[data-index]"); n < 5 || n > 100 {
		t.Errorf("%d rows of the table are drawn", n)
	}
	if all, err := (&client.Client{Server: shared.Address, Token: house.Token}).Search(t.Context(), "", r, 500,
		0); err != nil || len(all.Packages) != many {
		t.Errorf("%d packages, %v", len(all.Packages), err)
	}
}
