// Package browser starts headless Chromium for the tests of the console and
// for its pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

// Start gives a context whose actions run in a new browser, and a function that
// ends it.
func Start(ctx context.Context, width, height int) (context.Context, func(), error) {
	dir, err := os.MkdirTemp("", "crelvo-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.UserDataDir(dir), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(allocator)
	stop := func() {
		stopTab()
		stopAllocator()
		os.RemoveAll(dir)
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		stop()
		return nil, nil, fmt.Errorf("starting Chromium: %w", err)
	}
	return tab, stop, nil
}

// SignIn signs in to the console at an address.
func SignIn(tab context.Context, address, name, password string) error {
	return Within(tab, 20*time.Second,
		chromedp.Navigate(address+"/"),
		chromedp.WaitVisible(chromedp.CSS("input[name=name]")),
		chromedp.SendKeys(chromedp.CSS("input[name=name]"), name),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), password),
		chromedp.Click(chromedp.CSS("button[type=submit]")),
		chromedp.WaitVisible(chromedp.CSS("header nav")))
}

// Within runs actions with a time limit.
func Within(tab context.Context, limit time.Duration, actions ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(tab, limit)
	defer cancel()
	return chromedp.Do(ctx, actions...)
}

// ShowsText waits until the page's text has all of the given pieces, in any
// case: styles may change it.
func ShowsText(pieces ...string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		shown := ""
		for {
			// A page that is being left has no text; the next one will.
			if text, err := chromedp.Evaluate[string]("document.body.innerText")(ctx, t); err == nil {
				shown = strings.ToLower(text)
			}
			missing := slices.IndexFunc(pieces, func(piece string) bool {
				return !strings.Contains(shown, strings.ToLower(piece))
			})
			if missing < 0 {
				return nil
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("the page does not show %q, but: %.2000s", pieces[missing], shown)
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// ChartsDrawn waits until every chart of the page is drawn: none is still being
// fetched, and none is blank.
func ChartsDrawn() chromedp.Action[chromedp.Void] {
	const drawn = `document.querySelectorAll("[aria-busy=true]").length === 0 && [...document.querySelectorAll("canvas")].every((c) =>
		c.width > 0 && c.height > 0 && c.getContext("2d").getImageData(0, 0, c.width, c.height).data.some((v) => v !== 0))`
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			if done, err := chromedp.Evaluate[bool](drawn)(ctx, t); err == nil && done {
				return nil
			}
			select {
			case <-ctx.Done():
				return errors.New("a chart of the page is not drawn")
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// ClickText clicks the first button, link, tab or other control with that text
// or label. A control that moves at that very moment is missed by a pointer, as by a
// person's, and is clicked again.
func ClickText(text string) chromedp.Action[chromedp.Void] {
	path := fmt.Sprintf(`//*[self::button or self::a or self::input or @role][normalize-space(.)=%q or @aria-label=%q]`,
		text, text)
	watch := fmt.Sprintf(`(() => {
		window.pressed = false
		const press = (e) => {
			for (let at = e.target; at instanceof Element; at = at.parentElement) {
				if (at.textContent.replace(/\s+/g, " ").trim() === %[1]q || at.getAttribute("aria-label") === %[1]q) window.pressed = true
			}
			removeEventListener("click", press, true)
		}
		addEventListener("click", press, true)
		return true
	})()`, text)
	click := chromedp.Click(chromedp.Search(path))
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			if _, err := chromedp.Evaluate[bool](watch)(ctx, t); err != nil {
				return err
			}
			if _, err := click(ctx, t); err != nil {
				return err
			}
			// Where the click has led to another document, nothing is known of it there.
			if pressed, err := chromedp.Evaluate[bool](`window.pressed !== false`)(ctx, t); err != nil || pressed ||
				ctx.Err() != nil {
				return ctx.Err()
			}
		}
	})
}

// Unfold clicks the line of a tree that has that name.
func Unfold(name string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(chromedp.Search(fmt.Sprintf(`//*[@role='treeitem'][.//span[normalize-space(.)=%q]]`, name)))
}

// DemoPages are the pages of the console with the demo's data, and what each shows.
var DemoPages = []struct{ Path, Shows string }{
	{"/", "snapshots"}, {"/repositories/snapshots", "snapshots"}, {"/repositories/platform", "platform"},
	{"/repositories/shore-maven/upstream", "upstream"}, {"/repositories/snapshots/settings", "settings"},
	{"/search?q=berth", "berth"}, {"/package/npm/@skerry/deck-ui", "deck-ui"},
	{"/package/maven/example.skerry.berth/berth-planner", "berth-planner"}, {"/builds", "berth-planner"},
	{"/package/oci/berth-planner@1.4.0", "layer"},
	{"/compare?before=pkg:oci/berth-planner@1.3.0&beforeIn=releases&after=pkg:oci/berth-planner@1.4.0&afterIn=releases",
		"other way round"},
	{"/package/generic/chart-tiles@2026.11.1", "legend.png"},
	{"/compare?before=pkg:generic/chart-tiles@2026.10.1&beforeIn=releases&after=pkg:generic/chart-tiles@2026.11.1" +
		"&afterIn=releases", "that the first does not have"},
	{"/builds/berth-planner/118", "118"}, {"/tracks", "ferry"},
	{"/repositories/snapshots/publish", "Drop package files"}, {"/signing", "ferry-release"}, {"/targets", "public-maven"},
	{"/promotions/1", "promotion"}, {"/promote", "promote"}, {"/status", "wrong"}, {"/retention", "policies"},
	{"/safety", "kept here"}, {"/safety/advisories", "changed last first"}, {"/safety/accepted", "new waiver"},
	{"/safety/vetting", "wrack-chart"}, {"/safety/decisions", "fathom-format"}, {"/safety/check", "choose a lock file"},
	{"/safety/feeds", "where advisories come from"}, {"/safety/advisories/ISLE-2026-0007", "who had it"},
	{"/retention/space", "space"}, {"/stores", "archive"}, {"/transfers", "shore-npm to releases"},
	{"/transfers/1", "does not come"}, {"/bundles", "ferry-release"},
	{"/relays", "tide-tables"}, {"/relays/mainland", "next times"}, {"/retention/use", "downloads"},
	{"/policies/sea-trials", "sea-trials"}, {"/sweeps/1", "sweep 1"}, {"/tokens", "tokens"}, {"/rights", "rights"},
	{"/activity", "activity"},
}

// Slow makes a tab's processor so many times slower, and its line so many bits a second;
// the browser forgets the files that it has.
func Slow(times float64, bits int) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if err := t.Call(ctx, "Network.clearBrowserCache", nil, nil); err != nil {
			return err
		}
		if err := t.Call(ctx, "Emulation.setCPUThrottlingRate", map[string]any{"rate": times}, nil); err != nil {
			return err
		}
		return t.Call(ctx, "Network.emulateNetworkConditions", map[string]any{"offline": false, "latency": 0,
			"downloadThroughput": bits / 8, "uploadThroughput": bits / 8}, nil)
	})
}

// TimeOf goes to a page, and gives after how long it shows a text in its main part, with
// nothing still being fetched.
func TimeOf(ctx context.Context, address, text string) (took time.Duration, err error) {
	const look = `(() => {
		const look = () => {
			const main = document.querySelector("main");
			if (main && main.textContent.toLowerCase().includes(%q) && !document.querySelector("[aria-busy=true]"))
				window.shownAfter = performance.now();
			else setTimeout(look, 10);
		};
		look();
	})()`
	var script struct {
		Identifier string `json:"identifier"`
	}
	err = Within(ctx, 60*time.Second, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		return t.Call(ctx, "Page.addScriptToEvaluateOnNewDocument",
			map[string]any{"source": fmt.Sprintf(look, strings.ToLower(text))}, &script)
	}), chromedp.Navigate(address), chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for took == 0 {
			ms, err := chromedp.Evaluate[float64]("window.shownAfter ?? 0")(ctx, t)
			if err != nil {
				return err
			}
			took = time.Duration(ms * float64(time.Millisecond))
			select {
			case <-ctx.Done():
				return fmt.Errorf("%s does not show %q", address, text)
			case <-time.After(50 * time.Millisecond):
			}
		}
		return t.Call(ctx, "Page.removeScriptToEvaluateOnNewDocument", map[string]any{"identifier": script.Identifier}, nil)
	}))
	return took, err
}
