package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsoleRest does in the console what is rarely done: keys, targets, documents
// of a build, the names of builds, a repository that comes back, a plan as a file.
func TestConsoleRest(t *testing.T) {
	n := made.Add(1)
	key, to, build := fmt.Sprintf("key-%d", n), fmt.Sprintf("yonder-%d", n), fmt.Sprintf("build-%d", n)
	r := repository(t, "releases")
	tab, do := openConsole(t)
	see, click := browser.ShowsText, browser.ClickText
	dialog := func(field, text string) chromedp.Action[chromedp.Void] {
		return typeInto("[role=dialog] [name="+field+"]", text)
	}
	gone := chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]"))
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}

	do(chromedp.Navigate(shared.Address+"/signing"), click("New key"), dialog("name", "No Name"), click("Add it"),
		see("cannot be the name of a key"),
		click("Cancel"), gone, click("New key"), dialog("name", key), dialog("owner", "Releases <releases@skerry.example>"),
		click("Add it"), gone, see(key, "signs releases"))
	line := "li"
	// A line that has just moved may be missed by a pointer.
	remove := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
			press := fmt.Sprintf(
				`[...[...document.querySelectorAll(%q)].find((line) => line.innerText.includes(%q)).querySelectorAll("button:last-child")].at(-1).click(), true`, line, name)
			_, err := chromedp.Evaluate[bool](press)(ctx, target)
			return err
		})
	}
	do(remove(key), click("Remove it"), gone)
	line = "tr"
	do(chromedp.Navigate(shared.Address+"/targets"), click("New target"), dialog("name", to),
		dialog("url", "https://upload.openshore.example/maven/"), dialog("user", "skerry"), dialog("secret", "gangway"),
		click("Save"), gone, see(to, "upload.openshore.example", "signs in"))
	do(remove(to), click("Remove it"), gone)
	if a := ask(t, http.MethodGet, "/api/v1/keys", ""); strings.Contains(string(a.Body), `"`+key+`"`) {
		t.Error("the key is still there")
	}

	now := time.Now() // it made nothing of what others made before
	post(t, "/api/v1/builds", api.BuildReport{Name: build, Number: "1", StartedAt: &now}, nil)
	path := filepath.Join(t.TempDir(), "parts.json")
	if err := os.WriteFile(path, []byte(`{"bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1}`),
		0o600); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/builds/"+build+"/1"), see("Documents", "can be attached"),
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{path}), see("parts.json", "cyclonedx"))
	do(chromedp.Navigate(shared.Address+"/builds"), click("Names…"), see(build, "1 build"))
	do(chromedp.Navigate(shared.Address+"/builds/"+build+"/1"), click("Remove…"), click("Remove it"), gone, see("Began"))
	if a := ask(t, http.MethodGet, "/api/v1/builds/"+build+"/1", ""); a.Status != 404 {
		t.Errorf("the build that was removed answers %d", a.Status)
	}

	do(chromedp.Navigate(shared.Address+"/repositories/"+r+"/settings"), typeInto("[name=largestFile]", "500 MiB"),
		chromedp.WaitEnabled(chromedp.Search(`//button[.='Save']`)), click("Save"), see("it is in force now"))
	var shown api.Repository
	if a, err := shared.JSON(t.Context(), http.MethodGet, "/api/v1/repositories/"+r, nil, &shown); err != nil ||
		shown.LargestFile != 500<<20 {
		t.Errorf("the largest file is %d: %d %v", shown.LargestFile, a.Status, err)
	}
	must(t, http.MethodDelete, "/api/v1/repositories/"+r, "", 204)
	do(chromedp.Navigate(shared.Address+"/"), see(r, "it can be brought back until"),
		chromedp.Click(chromedp.Search(fmt.Sprintf(`//li[contains(., %q)]//button[.='Bring it back']`, r))),
		chromedp.WaitVisible(chromedp.CSS(`a[href="/repositories/`+r+`"]`)))
	must(t, http.MethodGet, "/api/v1/repositories/"+r, "", 200)

	publishRelease(t, r, "planned", "1.0.0", "x")
	policy := fmt.Sprintf("policy-%d", n)
	if a, err := shared.JSON(t.Context(), http.MethodPut, "/api/v1/policies",
		api.SetPolicy{Text: "name: " + policy + "\nrepositories: [" + r + "]\nkeep:\n  - younger than 14d\n"},
		nil); err != nil || a.Status >= 300 {
		t.Fatalf("%d %s %v", a.Status, a.Body, err)
	}
	const saved = `(() => { window.saved = ""; const make = URL.createObjectURL; URL.createObjectURL = (b) => { void b.text().then((t) => { window.saved = t }); return make(b) } })()`
	do(chromedp.Navigate(shared.Address+"/policies/"+policy), see("What it would do"),
		chromedp.SetValue(chromedp.CSS(`select[aria-label="Which versions"]`), ""))
	do(chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](saved)(ctx, target)
		return err
	}), click("Save all of them as CSV"))
	eventually(t, 10*time.Second, "the plan is saved", func() bool {
		text, err := chromedp.Run(tab, chromedp.Evaluate[string]("window.saved"))
		return err == nil && strings.Contains(text, "planned") && strings.Contains(text, "younger than 14d")
	})
}
