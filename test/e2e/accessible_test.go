package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/demo"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// accessible looks at every page with axe-core, light and dark, wide and narrow: there
// is nothing against WCAG 2.2, levels A and AA.
func accessible(t *testing.T, h *house.House) {
	axe, err := os.ReadFile(fromNPM("axe-core/axe.min.js"))
	if err != nil {
		t.Fatal(err)
	}
	tab, stop, err := browser.Start(t.Context(), 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	if err := browser.SignIn(tab, h.Address, demo.User, demo.Password); err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, page := range browser.DemoPages {
		if err := browser.Within(tab, 30*time.Second, chromedp.EmulateViewport(1280, 800),
			chromedp.Navigate(h.Address+page.Path), browser.ShowsText(page.Shows), browser.ChartsDrawn()); err != nil {
			t.Errorf("%s: %v", page.Path, err)
			continue
		}
		if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](string(axe)+"; true")); err != nil {
			t.Fatal(err)
		}
		for _, width := range []int64{1280, 390} {
			// Dark, nothing differs but the colours.
			for theme, rules := range map[string]string{
				"light": `{type: "tag", values: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}`,
				"dark":  `{type: "rule", values: ["color-contrast"]}`} {
				if err := browser.Within(tab, 30*time.Second, chromedp.EmulateViewport(width, 800), setTheme(theme)); err != nil {
					t.Fatal(err)
				}
				for _, v := range violations(t, tab, rules) {
					if key := v.ID + v.Where; !seen[key] {
						seen[key] = true
						t.Errorf("%s, %d wide, %s: %s: %s\n%s", page.Path, width, theme, v.ID, v.Help, v.Where)
					}
				}
			}
		}
	}
}

// setTheme sets the colours that a person chooses with the button.
func setTheme(theme string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Evaluate[bool](fmt.Sprintf(`document.documentElement.dataset.theme = %q, true`, theme))(ctx,
			target)
		return err
	})
}

type violation struct{ ID, Help, Where string }

// violations are what axe-core finds on the page by some of its rules.
func violations(t *testing.T, tab context.Context, rules string) (found []violation) {
	t.Helper()
	ctx, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	run := `window.axeSaid = "", axe.run(document, {runOnly: ` + rules + `, resultTypes: ["violations"]}).then((r) => {
		window.axeSaid = JSON.stringify(r.violations.flatMap((v) => v.nodes.map((n) => ({ID: v.id, Help: v.help, Where: n.html.slice(0, 160) + " " + (n.any[0]?.message ?? "")}))))
	}, (e) => { window.axeSaid = JSON.stringify([{ID: "axe", Help: String(e), Where: ""}]) }), true`
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](run)); err != nil {
		t.Fatal(err)
	}
	said := ""
	for said == "" {
		var err error
		if said, err = chromedp.Run(ctx, chromedp.Evaluate[string]("window.axeSaid")); err != nil {
			t.Fatal(err)
		}
		select {
		case <-ctx.Done():
			t.Fatal("axe-core does not end")
		case <-time.After(20 * time.Millisecond):
		}
	}
	if err := json.Unmarshal([]byte(said), &found); err != nil {
		t.Fatalf("%s: %v", strings.TrimSpace(said), err)
	}
	return found
}
