package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsoleRights makes a robot and a team, gives and takes away rights, asks
// who may do what, and looks at tokens and at the activity record.
func TestConsoleRights(t *testing.T) {
	tab, do := openConsole(t)
	see, click := browser.ShowsText, browser.ClickText
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	r := repository(t, "releases")
	robot, team := fmt.Sprintf("ci-console-%d", made.Add(1)), fmt.Sprintf("crew-%d", made.Add(1))
	page := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(shared.Address + path) }
	dialog := func(selector, text string) chromedp.Action[chromedp.Void] {
		return typeInto("[role=dialog] "+selector, text)
	}

	do(page("/rights"), see("Who may do what"), click("Users and robots"), click("New user or robot"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")),
		dialog("select", "a robot"), dialog("input[name=name]", robot),
		dialog("input[name=description]", "made in the console"), click("Make it"),
		see("A robot gets in with tokens"), click("Done"), see(robot, "made in the console"))
	do(click("Teams"), click("New team"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")),
		dialog("input[name=name]", team), click("Make it"), see(team))
	do(pick("Who joins "+team, robot), see(robot),
		chromedp.WaitVisible(chromedp.CSS(fmt.Sprintf(`[aria-label="Take %s out of %s"]`, robot, team))))

	// A grant to the team is the robot's as well.
	field := func(who, may string) chromedp.Action[chromedp.Void] {
		return chromedp.WaitVisible(chromedp.CSS(fmt.Sprintf(`button[aria-label="%s on %s: %s"]`, who, r, may)))
	}
	do(click("Who may do what"), field(robot, "nothing"), click(fmt.Sprintf("team:%s on %s: nothing", team, r)),
		see("Nothing yet"),
		dialog("select", "publisher"), dialog(`input[placeholder="pkg:npm/@skerry/*"]`, "pkg:npm/@skerry/*@1.0"),
		click("Give it"), see("names versions", "Leave out what follows"))
	do(chromedp.Evaluate[chromedp.Void](
		`document.querySelector('[role=dialog] input[placeholder="pkg:npm/@skerry/*"]').select()`),
		dialog(`input[placeholder="pkg:npm/@skerry/*"]`, "pkg:npm/@skerry/*"), click("Give it"), see("Take away"),
		click("Close"), field("team:"+team, "publisher"), field(robot, "publisher"))
	ask := func(purl, answer string) {
		t.Helper()
		do(page("/rights"), see("May they?"), pick("Who", robot), pick("which repository", r),
			typeInto(`form input[placeholder="pkg:npm/@skerry/deck-ui"]`, purl), click("Ask"), see(answer))
	}
	ask("pkg:npm/@skerry/deck-ui",
		fmt.Sprintf(
			"Yes: %s may publish pkg:npm/%%40skerry/deck-ui in %s, because team:%s is publisher on %s for pkg:npm/@skerry/*.",
			robot, r, team, r))
	ask("pkg:npm/kelp-colors",
		fmt.Sprintf("No: %s may not publish pkg:npm/kelp-colors in %s, which needs the role publisher", robot, r))

	// A token for the robot, which is used, ended, and on record.
	do(page("/tokens?of=everybody"), click("New token"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] input")),
		pick("For", robot), dialog("input[name=name]", "nightly"), click("Make it"), see("shown this once", "crelvo_"))
	secret, err := chromedp.Run(tab, chromedp.Evaluate[string](`document.querySelector("[role=dialog] code").innerText`))
	if err != nil {
		t.Fatal(err)
	}
	if a, err := shared.Ask(t.Context(), http.MethodGet, "/at/"+r+"/npm/-/ping", secret, nil, "User-Agent",
		"npm/11.0 of the test"); err != nil || a.Status != 200 {
		t.Fatalf("%d %v", a.Status, err)
	}
	do(click("I have kept it"), see(robot, "nightly", "by npm/11.0 of the test"))
	do(chromedp.Click(chromedp.Search(fmt.Sprintf(`//tr[td[starts-with(normalize-space(.),%q)]]//button[.='Revoke']`,
		robot))))
	eventually(t, 10e9, "the token is of no use", func() bool {
		a, err := shared.Ask(t.Context(), http.MethodGet, "/at/"+r+"/npm/-/ping", secret, nil)
		return err == nil && a.Status == 401
	})
	do(page("/activity?in="+r), see("grant given", "team:"+team, "publisher on "+r+" for pkg:npm/@skerry/*"))
	do(page("/activity?about="+robot), see("token made", "token revoked", "robot made"), click("Is it whole?"),
		see("events are as they were written"))
	do(page("/activity?what=refused&who="+robot), see("token-revoked"))
	if a := askPlain(t, "/api/v1/events/export?about=x&subject="+robot); a.Status != 200 ||
		strings.Count(string(a.Body), "\n") < 3 || !strings.Contains(string(a.Body), `"seal":`) {
		t.Errorf("exported: %d %s", a.Status, a.Body)
	}

	// Blocked, it is gone from the matrix's point of view only by a word.
	do(page("/rights"), click("Users and robots"), see(robot))
	do(chromedp.Click(chromedp.Search(fmt.Sprintf(`//tr[.//td[contains(.,%q)]]//button[.='Change']`, robot))),
		see("End its sessions"), click("Block"), see("Let it in again"))
	do(click("Remove"), click("Really remove it, with its tokens and grants"),
		chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")))
	eventually(t, 10e9, "the robot is gone", func() bool {
		var users []api.User
		if _, err := shared.JSON(t.Context(), http.MethodGet, "/api/v1/users", nil, &users); err != nil {
			t.Fatal(err)
		}
		for _, u := range users {
			if u.Name == robot {
				return false
			}
		}
		return true
	})
	do(chromedp.EmulateViewport(390, 780))
	for path, shows := range map[string]string{"/rights": "Who may do what", "/tokens?of=everybody": "Last use",
		"/activity": "signed in", "/repositories/" + r + "/use": "One command does it all"} {
		do(page(path), see(shows))
		if width, err := chromedp.Run(tab, chromedp.Evaluate[int]("document.documentElement.scrollWidth")); err != nil ||
			width > 390 {
			t.Errorf("%s is %d pixels wide on a phone of 390, %v", path, width, err)
		}
	}
}

func askPlain(t *testing.T, path string) house.Answer { return ask(t, http.MethodGet, path, "") }

// TestFirstSteps walks through the first minutes with a new service; each step
// ticks itself off when it has really happened.
func TestFirstSteps(t *testing.T) {
	t.Parallel()
	h := ownHouse(t)
	call := func(method, path string, in, out any) {
		t.Helper()
		if a, err := h.JSON(t.Context(), method, path, in, out); err != nil || a.Status >= 300 {
			t.Fatalf("%s %s: %d %s %v", method, path, a.Status, a.Body, err)
		}
	}
	// Somebody whose password was made, as that of the first start is.
	var mate api.MadeUser
	call(http.MethodPost, "/api/v1/users", api.NewUser{Name: "first-mate"}, &mate)
	call(http.MethodPost, "/api/v1/grants", api.NewGrant{Holder: "first-mate", Role: "admin", Repositories: "*"}, nil)
	tab, do := openConsole(t)
	see, click := browser.ShowsText, browser.ClickText
	if err := browser.SignIn(tab, h.Address, "first-mate", mate.Password); err != nil {
		t.Fatal(err)
	}
	do(see("First steps, 4 to go"), click("Set it"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=old]")),
		typeInto("[role=dialog] input[name=old]", mate.Password),
		typeInto("[role=dialog] input[name=now]", "tides-turn-twice-a-day"),
		typeInto("[role=dialog] input[name=again]", "tides-turn-twice-a-day"), click("Change it"),
		see("First steps, 3 to go"))
	_, upstream := shore(t, brine(t, "1.0"))
	do(click("Make a mirror"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")), click("Mirror"),
		typeInto("[role=dialog] input[name=name]", "shore-maven"),
		typeInto("[role=dialog] textarea[name='mirror.upstreams']", upstream), click("Make it"), see("keeps nothing yet"))
	do(chromedp.Navigate(h.Address+"/"), see("First steps, 2 to go"))
	if err := h.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	// The page learns of both by itself.
	if a, err := h.Ask(t.Context(), http.MethodGet, "/at/shore-maven/maven/"+brineFile("1.0", "jar"), house.Token,
		nil); err != nil || a.Status != 200 {
		t.Fatalf("%d %v", a.Status, err)
	}
	do(see("First steps, 1 to go"))
	base := "/at/releases/maven/" + groupPath + "/deck/"
	for path, body := range map[string]string{"1.0/deck-1.0.jar": jar(t, "x"),
		"1.0/deck-1.0.pom": pom("example.skerry.berth", "deck", "1.0")} {
		if a, err := h.Ask(t.Context(), http.MethodPut, base+path, house.Token, strings.NewReader(body)); err != nil ||
			a.Status != 201 {
			t.Fatalf("%d %v", a.Status, err)
		}
	}
	if a, err := h.Ask(t.Context(), http.MethodPut, base+"maven-metadata.xml", house.Token,
		strings.NewReader(releaseMetadata("deck", "1.0"))); err != nil || a.Status != 201 {
		t.Fatalf("%d %v", a.Status, err)
	}
	do(chromedp.WaitNotPresent(chromedp.Search(`//h2[starts-with(.,'First steps')]`)))
	do(see("deck"))
}
