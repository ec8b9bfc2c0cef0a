package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"crelvo/internal/api"
	"crelvo/internal/demo"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsoleMirrorsAndChains sets up a mirror and a chain in the console, moves
// its members with the keyboard, tries names, claims, prefetches, and looks at
// the state of an upstream that fails.
func TestConsoleMirrorsAndChains(t *testing.T) {
	tab, do := openConsole(t)
	selectAll := func(selector string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).select()", selector))
	}
	see, click := browser.ShowsText, browser.ClickText
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	u, address := shore(t, brine(t, "1.0", "2.0"))
	releases := repository(t, "releases")
	publishRelease(t, releases, "console-chained", "1.0", "x")
	page := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(shared.Address + path) }

	// A mirror, checked before it is made.
	mirror := fmt.Sprintf("console-mirror-%d", made.Add(1))
	do(page("/"), see("Latest arrivals"), click("New repository"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")), click("Mirror"),
		typeInto("[role=dialog] input[name=name]", mirror),
		typeInto("[role=dialog] textarea[name='mirror.upstreams']", "http://127.0.0.1:9/"),
		click("Check the connection"), see("it refused the connection"),
		selectAll("[role=dialog] textarea[name='mirror.upstreams']"), typeInto("[role=dialog] textarea[name='mirror.upstreams']", address),
		click("Check the connection"), see("it answers"), click("Make it"), see(mirror+" keeps nothing yet"))

	// A chain, put in order by the keyboard.
	chain := fmt.Sprintf("console-chain-%d", made.Add(1))
	do(page("/"), see("Latest arrivals"), click("New repository"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")), click("Chain"),
		typeInto("[role=dialog] input[name=name]", chain), pick("Add a repository", mirror),
		click("Add at the end"),
		see("may be skipped"),
		pick("Add a repository", releases), click("Add at the end"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] [data-member]:nth-child(2)")),
		click("Make it"), see("Try a name"))
	do(chromedp.Focus(chromedp.CSS("[data-member]:nth-child(2)")), chromedp.KeyEvent(kb.ArrowUp, chromedp.KeyModifiers(1)),
		see("Not saved yet"))
	do(click("Save the order"), see("it is in force now"))
	var shown api.Repository
	if _, err := shared.JSON(t.Context(), http.MethodGet, "/api/v1/repositories/"+chain, nil, &shown); err != nil ||
		shown.Chain.Members[0].Name != releases {
		t.Errorf("the order is %+v, %v", shown.Chain, err)
	}
	// The mouse moves them too.
	do(chromedp.Evaluate[chromedp.Void](`(() => {
		const [from, to] = document.querySelectorAll("[data-member]");
		const carried = new DataTransfer();
		for (const [kind, on] of [["dragstart", from], ["dragover", to], ["drop", to], ["dragend", from]])
			setTimeout(() => on.dispatchEvent(new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: carried })), { dragstart: 0, dragover: 50, drop: 100, dragend: 150 }[kind]);
	})()`), see("Not saved yet", releases+" is now number 2 of 2"), click("Leave it as it was"),
		see("Saved; it is in force now"))
	do(typeInto("input[name=explain]", "org.openshore:brine-http:1.0"), click("Who answers?"),
		see(mirror+" answers.", "it was not published there"))
	do(page("/repositories/"+chain), see("Try a name"),
		typeInto("input[name=explain]", "example.skerry.berth:console-chained:9"), click("Who answers?"),
		see("Nobody has it", "The name is ours: published in "+releases, "claimed elsewhere"))

	// Claims.
	pattern := "pkg:maven/com.console-" + mirror + "/*"
	do(page("/repositories/"+chain+"/claims"), see("example.skerry.berth/console-chained"), click("Claim names"),
		chromedp.WaitVisible(chromedp.CSS("input[name=pattern]")),
		typeInto("input[name=pattern]", "not a pattern"), typeInto("input[name=reason]", "because of the test"),
		click("Claim them"), see("is not a pattern"),
		selectAll("input[name=pattern]"), typeInto("input[name=pattern]", pattern), click("Claim them"),
		chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), see(pattern, "because of the test"))

	// Prefetch: a rule with the next times, and a run.
	do(page("/repositories/"+mirror+"/prefetch"), see("What is fetched ahead"),
		typeInto("textarea[name=patterns]", "pkg:maven/org.openshore/brine-http"),
		typeInto("input[name=schedule]", "30 5 * * 1-5"), see("The next five times", "05:30"), click("Save"), see("Saved."),
		click("Run now"), see("1 came", "brine-http@2.0"))

	// The state, with an upstream that fails.
	must(t, http.MethodGet, "/at/"+mirror+"/maven/"+brineFile("1.0", "jar"), "", 200)
	do(page("/repositories/"+mirror+"/upstream"), see("answers", "What it did", "None: everything is as current"))
	if n, err := chromedp.Run(tab,
		chromedp.Evaluate[int]("document.querySelectorAll('figure canvas').length")); err != nil || n != 3 {
		t.Errorf("%d charts are drawn, %v", n, err)
	}
	switchTo(t, u, demo.Fault{Kind: "gone"})
	must(t, http.MethodGet, "/at/"+mirror+"/maven/org/openshore/other/1/other-1.pom", "", 503)
	do(see("it refused the connection", "fails"))
	do(typeInto("input[name=try]", "org.openshore:brine-http:1.0"), click("Does it come in?"),
		see("comes in: no pattern denies it"), click("Forget its copies"), see("Forgot 1 version"))
	do(page("/repositories/"+mirror+"/settings"), see("upstream fails"), click("Check the connection"),
		see("it refused the connection"))

	do(chromedp.EmulateViewport(390, 780))
	for _, path := range []string{"/repositories/" + chain, "/repositories/" + chain + "/claims", "/repositories/" +
		mirror + "/upstream", "/repositories/" + mirror + "/prefetch", "/"} {
		do(page(path), see(strings.Split(path+"/repositories", "/")[1]))
		eventually(t, 10*time.Second, path+" fits on a phone", func() bool {
			width, err := chromedp.Run(tab, chromedp.Evaluate[int]("document.documentElement.scrollWidth"))
			return err == nil && width <= 390
		})
	}
}
