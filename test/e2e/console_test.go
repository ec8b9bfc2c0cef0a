package e2e

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"crelvo/test/browser"
	"crelvo/test/house"
)

// openConsole starts a browser, and gives it with a way to do things in it that
// ends the test if they fail.
func openConsole(t *testing.T) (tab context.Context, do func(...chromedp.Action[chromedp.Void])) {
	t.Helper()
	tab, stop, err := browser.Start(context.WithoutCancel(t.Context()), 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	return tab, func(actions ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		if err := browser.Within(tab, 20*time.Second, actions...); err != nil {
			t.Fatal(err)
		}
	}
}

func typeInto(selector, text string) chromedp.Action[chromedp.Void] {
	return chromedp.SendKeys(chromedp.CSS(selector), text)
}

// pick chooses what begins with a text in a field with a list, by its label.
func pick(label, text string) chromedp.Action[chromedp.Void] {
	field := fmt.Sprintf("input[aria-label=%q]", label)
	shown := fmt.Sprintf(`(() => { const o = [...document.querySelectorAll("[role=option]")].find((o) =>
		o.innerText.trim().startsWith(%q)); o?.click(); return Boolean(o) })()`, text)
	return chromedp.Steps(typeInto(field, text), chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		for {
			if there, err := chromedp.Evaluate[bool](shown)(ctx, target); err == nil && there {
				return nil
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("%q has no %q to choose: %w", label, text, ctx.Err())
			case <-time.After(20 * time.Millisecond):
			}
		}
	}))
}

// arrowTo presses the arrow key until what begins with a text is chosen in the list of a field.
func arrowTo(text string) chromedp.Action[chromedp.Void] {
	const chosen = `document.querySelector("[role=option][aria-selected=true]")?.innerText.trim() ?? ""`
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		at := ""
		for range 20 {
			if _, err := chromedp.KeyEvent(kb.ArrowDown)(ctx, target); err != nil {
				return err
			}
			var err error
			if at, err = chromedp.Evaluate[string](chosen)(ctx, target); err == nil && strings.HasPrefix(at, text) {
				return nil
			}
		}
		typed, _ := chromedp.Evaluate[string](`document.activeElement?.value ?? ""`)(ctx, target)
		return fmt.Errorf("no arrow key leads to %q, but to %q, where %q is typed", text, at, typed)
	})
}

// TestConsole drives the console as a person at work: sign in, make a
// repository, see a build arrive without a refresh, look at the package.
func TestConsole(t *testing.T) {
	tab, do := openConsole(t)
	see := browser.ShowsText

	do(chromedp.Navigate(shared.Address+"/"), typeInto("input[name=name]", "admin"),
		typeInto("input[name=password]", "not it"),
		chromedp.Click(chromedp.CSS("button[type=submit]")), see("the name or the password is wrong"))
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	cookies := must(t, http.MethodGet, "/", "", 200)
	if policy := cookies.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "script-src 'self'") ||
		strings.Contains(policy, "unsafe-eval") {
		t.Errorf("the console's policy: %q", policy)
	}
	if seen, err := chromedp.Run(tab, chromedp.Evaluate[string]("document.cookie")); err != nil || seen != "" {
		t.Errorf("scripts can see the session: %q, %v", seen, err)
	}

	do(browser.ClickText("New repository"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")),
		typeInto("[role=dialog] input[name=name]", "Wrong Name"), browser.ClickText("Make it"),
		see("cannot be the name of a repository"))
	const r = "console-arrivals"
	do(chromedp.Navigate(shared.Address+"/"), see("Repositories"), browser.ClickText("New repository"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")),
		typeInto("[role=dialog] input[name=name]", r), typeInto("[role=dialog] select", "releases"),
		browser.ClickText("Make it"), see(r+" is empty", "crelvo publish FILE --to "+r))

	// The page stays as it is; the build arrives by itself.
	publishRelease(t, r, "deck-plan", "1.0.0", "decks")
	do(see("example", "1 package, 1 version"), browser.Unfold("deck-plan"), browser.Unfold("1.0.0"),
		see("deck-plan-1.0.0.jar", "deck-plan-1.0.0.pom"),
		browser.Unfold("deck-plan-1.0.0.jar"), see("sha256", sha1Hex(jar(t, "decks"))))
	publishRelease(t, r, "deck-plan", "1.1.0", "more decks")
	do(see("1.1.0"))

	// The keyboard reaches the package from any page.
	do(chromedp.KeyEvent("k", chromedp.KeyModifiers(2)), chromedp.WaitVisible(chromedp.CSS("[role=combobox]")),
		typeInto("[role=combobox]", "deck-plan"),
		see("example.skerry.berth:deck-plan"))
	do(chromedp.KeyEvent("\r"), see("deck-plan", "1.0.0", "1.1.0", "Use it"))
	do(browser.ClickText("Show how"), see("To use the package", "<artifactId>deck-plan</artifactId>", "settings.xml",
		"crelvo point maven --at "+r))
	publishRelease(t, r, "deck-plan", "1.2.0", "yet more decks")
	do(see("1.2.0"))

	do(chromedp.Navigate(shared.Address+"/repositories/"+r+"/settings"), see("Anybody may read it"),
		chromedp.Click(chromedp.Search(`//label[contains(., 'Anybody may read it')]//input`)),
		browser.ClickText("Save"), see("it is in force now"))
	if a, err := shared.Ask(t.Context(), http.MethodGet, "/at/"+r+"/maven/"+groupPath+"/deck-plan/maven-metadata.xml", "",
		nil); err != nil || a.Status != 200 {
		t.Errorf("the setting is not in force: %d %v", a.Status, err)
	}
	do(browser.ClickText("Remove "+r), chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[type=checkbox]")),
		chromedp.Click(chromedp.CSS("[role=dialog] input[type=checkbox]")),
		typeInto("[role=dialog] input:not([type=checkbox])", r),
		chromedp.Click(chromedp.Search(`//*[@role='dialog']//button[normalize-space(.)='Remove']`)),
		chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), see("Latest arrivals"))
	if a := ask(t, http.MethodGet, "/api/v1/repositories/"+r, ""); a.Status != 404 {
		t.Errorf("the removed repository answers %d", a.Status)
	}

	do(chromedp.Navigate(shared.Address+"/package/maven/no.such/thing"), see("no repository that you may read holds"))
	do(chromedp.Navigate(shared.Address+"/no/such/page"), see("There is no such page"))
	do(chromedp.Navigate(shared.Address+"/tokens"), browser.ClickText("New token"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] input")),
		typeInto("[role=dialog] input[name=name]", "console-token"), browser.ClickText("Make it"), see("shown this once", "crelvo_"),
		browser.ClickText("I have kept it"), see("console-token"))

	// Pages that were left must not keep their connections.
	for range 12 {
		do(chromedp.Navigate(shared.Address+"/"), see("Latest arrivals"))
	}

	// A phone is wide enough for all that matters.
	const long = "a-repository-with-a-name-that-does-not-fit-on-any-phone-either"
	if err := shared.AddRepository(t.Context(), long, "releases"); err != nil {
		t.Fatal(err)
	}
	if err := shared.AddChain(t.Context(), "chain-of-"+long[:40], long); err != nil {
		t.Fatal(err)
	}
	short := []string{"deck-1", "deck-2", "deck-3", "deck-4", "deck-5"}
	for _, name := range short {
		if err := shared.AddRepository(t.Context(), name, "both"); err != nil {
			t.Fatal(err)
		}
	}
	if err := shared.AddChain(t.Context(), "decks", short...); err != nil {
		t.Fatal(err)
	}
	publishRelease(t, long, "a-package-with-a-name-that-does-not-fit-on-any-phone", "1.0.0", "x")
	do(chromedp.EmulateViewport(390, 780))
	for path, shows := range map[string]string{"/": "does-not-fit", "/search?q=does-not-fit": "does-not-fit",
		"/repositories/" + long:               "1 package",
		"/repositories/chain-of-" + long[:40]: "Try a name",
		"/package/maven/example.skerry.berth/a-package-with-a-name-that-does-not-fit-on-any-phone": "Use it"} {
		do(chromedp.Navigate(shared.Address+path), see(shows))
		if width, err := chromedp.Run(tab, chromedp.Evaluate[int]("document.documentElement.scrollWidth")); err != nil ||
			width > 390 {
			widest, _ := chromedp.Run(tab,
				chromedp.Evaluate[string](
					`[...document.querySelectorAll("*")].filter((e) => e.getBoundingClientRect().right > 390 && getComputedStyle(e).position === "absolute" || e.getBoundingClientRect().right > 390 && !e.closest(".overflow-x-auto")).map((e) => e.outerHTML.slice(0, 200)).join("\n")`))
			t.Errorf("%s is %d pixels wide on a phone of 390, %v; too wide are:\n%s", path, width, err, widest)
		}
	}
	do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(shared.Address+"/"), see("Latest arrivals"))
	do(chromedp.Click(chromedp.CSS("button[aria-haspopup=menu]")))
	do(see("Sign out"))
	do(browser.ClickText("Sign out"), chromedp.WaitVisible(chromedp.CSS("input[name=password]")))
}
