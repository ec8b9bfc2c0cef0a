package e2e

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestTypedIsKept: no letter is lost of what is typed quickly on a slow machine into a field whose text
// stands in the page's address, and the address has all of it in the end.
func TestTypedIsKept(t *testing.T) {
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(browser.Slow(4, 100<<20))
	const typed = "the crane lifts seven boxes"
	for _, field := range []struct{ path, css string }{
		{"/search", "[role=combobox]"}, {"/activity", "[aria-label=About]"},
	} {
		if err := browser.Within(tab, time.Minute, chromedp.Navigate(shared.Address+field.path),
			chromedp.WaitVisible(chromedp.CSS(field.css)), chromedp.SendKeys(chromedp.CSS(field.css), typed)); err != nil {
			t.Fatal(err)
		}
		got, in := "", ""
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && in != typed; {
			var err error
			if in, err = chromedp.Run(tab, chromedp.Evaluate[string](
				`[...new URLSearchParams(location.search).values()].join("&")`)); err != nil {
				t.Fatal(err)
			}
			if got, err = chromedp.Run(tab, chromedp.Evaluate[string](
				`document.querySelector("`+field.css+`").value`)); err != nil {
				t.Fatal(err)
			}
			time.Sleep(20 * time.Millisecond)
		}
		if got != typed || in != typed {
			t.Errorf("%s: the field has %q and the address %q", field.path, got, in)
		}
	}
}
