package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsolePromotion takes a build along a track in the console: the dry run,
// the approval by somebody else, what came of it, who let it in, and back.
func TestConsolePromotion(t *testing.T) {
	admin := desk(house.Token)
	n := made.Add(1)
	snapshots, staging, releases := repository(t, "snapshots"), repository(t, "releases"), repository(t, "releases")
	mate, crew, track, build := fmt.Sprintf("mate-%d", n), fmt.Sprintf("crew-%d", n), fmt.Sprintf("line-%d", n),
		fmt.Sprintf("berth-%d", n)
	password := done(admin.AddUser(t.Context(), api.NewUser{Name: mate}))(t).Password
	for _, r := range []string{snapshots, staging, releases} {
		post(t, "/api/v1/grants", api.NewGrant{Holder: mate, Role: "reader", Repositories: r}, nil)
	}
	post(t, "/api/v1/teams", api.NewTeam{Name: crew, Members: []string{mate}}, nil)
	done(admin.BeginBuild(t.Context(), build+"#1"))(t)
	publishSnapshot(t, snapshots, "tide-model", "7.0.0")
	done(admin.RecordBuild(t.Context(), api.BuildReport{Name: build, Number: "1", Revision: "4be1c0f",
		JUnit: []string{"<testsuite><testcase/></testsuite>"}}))(t)

	tab, do := openConsole(t)
	see, click := browser.ShowsText, browser.ClickText
	page := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(shared.Address + path) }
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(page("/tracks"), click("New track"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=name]")),
		typeInto("[role=dialog] input[name=name]", track),
		typeInto("[role=dialog] textarea", snapshots+"\n"+staging+"\n"+releases), click("Make it"),
		see(track, staging, "no gates"))
	// Gates are put on the second hop; one that is none is refused in words.
	// Until each stage says what its repository holds, its lines may still move.
	do(see("releases", "snapshots"),
		chromedp.WaitVisible(chromedp.Search(fmt.Sprintf(`//li[.//h2[normalize-space(.)=%q]]//span[@aria-hidden]`,
			releases))),
		chromedp.Click(chromedp.Search(fmt.Sprintf(`//li[.//h2[normalize-space(.)=%q]]//button[.='change what is asked for']`,
			releases))), chromedp.WaitVisible(chromedp.CSS("[role=dialog] textarea[name=gates]")),
		typeInto("[role=dialog] textarea[name=gates]", "open sesame"), click("Save"), see("there is no such gate"),
		chromedp.Evaluate[chromedp.Void](`document.querySelector('[role=dialog] textarea[name=gates]').select()`),
		typeInto("[role=dialog] textarea[name=gates]", "tests-passed\napproved 1 by "+crew), click("Save"),
		see("the tests of its build passed", "somebody of "+crew+" approved it"))

	do(page("/builds/"+build+"/1"), see("1 test passed", "4be1c0f", "7.0.0-SNAPSHOT"), click("Promote along "+track+"…"),
		see("Say so", "2 changes inside"),
		chromedp.Click(chromedp.CSS("summary")), see("tide-model-7.0.0.jar",
			"META-INF/maven/example.skerry.berth/tide-model/pom.xml: version"),
		typeInto("textarea[name=notes]", "Knows the tides."), click("Promote to "+staging),
		see("done", "Knows the tides.", "In its place now", "tide-model 7.0.0", "Go on with 7.1.0-SNAPSHOT"))
	do(page("/promote?build="+build+"%231&along="+track), see("no byte changed", "It would wait"), click("Ask for it"),
		see("waits for 1 of "+crew))
	// The dry run names the team too, so its text does not tell that the promotion was made.
	var id int64
	eventually(t, 10*time.Second, "a promotion that waits", func() bool {
		waiting := done(admin.Promotions(t.Context(), map[string][]string{"track": {track}, "state": {"waiting"}}))(t).
			Promotions
		if len(waiting) == 0 {
			return false
		}
		id = waiting[0].ID
		return true
	})

	other, doOther := openConsole(t)
	if err := browser.SignIn(other, shared.Address, mate, password); err != nil {
		t.Fatal(err)
	}
	doOther(page("/tracks/"+track), see("Waiting for you", fmt.Sprintf("promotion %d", id)),
		click(fmt.Sprintf("promotion %d", id)), see("It waits for you"),
		typeInto("textarea[name=comment]", "calm sea"), click("Approve"), see("done", "approved by "+mate+": calm sea"))
	// The page of who asked follows by itself.
	do(see("In its place now", "calm sea"))

	// What is in releases that was not there a week ago, and who let it in: two clicks.
	do(page("/"), click("Tracks"), see(track), page("/tracks/"+track), see("went further"), click(releases),
		see("New here", "maven/example.skerry.berth/tide-model@7.0.0", mate, build+"#1"))
	do(click(fmt.Sprintf("promotion %d", id)), see("calm sea"), click("Undo…"), click("Undo it"),
		see("undone", "by admin"))
	do(page("/repositories/"+releases+"/arrivals"), see("Nothing new since then"))
	do(page("/tracks/"+track+"?q=knows+the+tides"), see("snapshots", "done"),
		chromedp.WaitNotPresent(chromedp.CSS(fmt.Sprintf(`[aria-label="promotion %d"]`, id))))
	// On a phone nothing scrolls sideways but tables.
	do(chromedp.EmulateViewport(390, 844), page("/tracks/"+track), see("went further"))
	if wide, err := chromedp.Run(tab,
		chromedp.Evaluate[bool]("document.documentElement.scrollWidth > innerWidth")); err != nil || wide {
		t.Errorf("the page is wider than a phone: %v %v", wide, err)
	}
}
