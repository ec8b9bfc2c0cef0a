package e2e

import (
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/browser"
	"crelvo/test/house"
)

func found(t *testing.T, q string) string {
	t.Helper()
	var list api.PackageList
	a := must(t, http.MethodGet, "/api/v1/packages?q="+url.QueryEscape(q), "", 200)
	if err := json.Unmarshal(a.Body, &list); err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, p := range list.Packages {
		all = append(all, p.PURL+"@"+p.Latest)
	}
	return strings.Join(all, " ")
}

// TestSearch asks through the API, the command line and the console.
func TestSearch(t *testing.T) {
	both := repository(t, "both")
	publishMade(t, both, "npm", madeup.Package{Name: "@island/crane-ui", Version: "2.0.0", Licence: "MIT",
		Needs: map[string]string{"kelp-colors": "^3.0.0"}})
	publishMade(t, both, "npm", madeup.Package{Name: "@island/crane-ui", Version: "2.1.0-dev.7", Licence: "ISC"})
	publishMade(t, both, "pypi", madeup.Package{Name: "crane-model", Version: "1.0", Licence: "Apache-2.0"})
	const ui, model = "pkg:npm/%40island/crane-ui", "pkg:pypi/crane-model@1.0"
	in := "repo:" + both + " "
	for q, want := range map[string]string{
		"crane":                          model + " " + ui + "@2.1.0-dev.7",
		"crane holds:releases":           model + " " + ui + "@2.0.0",
		"crane needs:kelp-colors":        ui + "@2.0.0",
		"crane licence:isc":              ui + "@2.1.0-dev.7",
		"pkg:npm/@island/* label:latest": ui + "@2.1.0-dev.7",
		"crane age:>1h":                  "",
		"crane -ecosystem:npm":           model,
		"pkg:pypi/Crane_Model size:<1MB": model,
		"@island":                        ui + "@2.1.0-dev.7",
	} {
		if got := found(t, in+q); got != want {
			t.Errorf("%q finds %s; want %s", q, got, want)
		}
	}
	if a := ask(t, http.MethodGet, "/api/v1/packages?q="+url.QueryEscape("crane aeg:>1h"), ""); a.Status != 400 ||
		!strings.Contains(string(a.Body), `at character 7, \"aeg:\"`) {
		t.Errorf("%d %s", a.Status, a.Body)
	}

	out, errs, code := crelvoAsAdmin(t, "search", "--save", "cranes", "crane", "holds:releases")
	if code != 0 {
		t.Fatalf("%d %s", code, errs)
	}
	says(t, out, "@cranes")
	out, _, _ = crelvoAsAdmin(t, "search", "@cranes", "ecosystem:npm", in)
	says(t, out, "pkg:npm/@island/crane-ui", "2.0.0")
	if strings.Contains(out, "crane-model") || strings.Contains(out, "dev.7") {
		t.Errorf("the saved search with more finds %s", out)
	}
	out, _, _ = crelvoAsAdmin(t, "search", "--saved")
	says(t, out, "@cranes", "crane holds:releases", "only admin")
	_, errs, code = crelvoAsAdmin(t, "search", "crane", "licnce:MIT")
	if code != 2 {
		t.Errorf("a wrong query ends with %d", code)
	}
	says(t, errs, "at character 7", "  crane licnce:MIT\n        ^\n", "Did you mean licence: ?")

	// An anonymous caller has no saved searches, and sees none of those.
	a, err := shared.Ask(t.Context(), http.MethodGet, "/api/v1/searches", "", nil)
	if err != nil || strings.Contains(string(a.Body), "cranes") {
		t.Errorf("%s, %v", a.Body, err)
	}

	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/search"), chromedp.WaitVisible(chromedp.CSS("[role=combobox]")),
		chromedp.SendKeys(chromedp.CSS("[role=combobox]"), "crane hol"), browser.ShowsText("the maturity of the version"))
	do(arrowTo("holds:"), chromedp.KeyEvent("\r"), browser.ShowsText("holds:releases"), arrowTo("holds:releases"),
		chromedp.KeyEvent("\r"))
	do(browser.ShowsText("crane-model", "2.0.0"))
	do(browser.ClickText("Save this search"), chromedp.WaitVisible(chromedp.CSS("input[name=name]")),
		chromedp.SendKeys(chromedp.CSS("input[name=name]"), "from-the-page"),
		browser.ClickText("Save it"), browser.ShowsText("@from-the-page"))
	do(chromedp.Navigate(shared.Address+"/package/npm/@island/crane-ui"), browser.ShowsText("latest", "2.0.0"))
	if _, errs, code := crelvoAsAdmin(t, "search", "--forget", "cranes"); code != 0 {
		t.Errorf("%d %s", code, errs)
	}
	if _, _, code := crelvoAsAdmin(t, "search", "--forget", "cranes"); code != 3 {
		t.Errorf("dropping what is not there ends with %d", code)
	}
}
