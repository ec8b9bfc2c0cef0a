package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestRetentionCommands keeps a repository small as an admin does: a policy tried
// out, set and run; what went brought back; clients see the same all along.
func TestRetentionCommands(t *testing.T) {
	run := func(code int, args ...string) string {
		t.Helper()
		out, errs, got := crelvoAsAdmin(t, args...)
		if got != code {
			t.Fatalf("crelvo %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), got, code, out, errs)
		}
		return out + errs
	}
	r := repository(t, "releases")
	name := fmt.Sprintf("policy-%d", made.Add(1))
	for _, version := range []string{"1.0.0", "1.1.0", "1.2.0", "1.3.0"} {
		publishRelease(t, r, "tide-model", version, "tides of "+version)
	}
	file := func(version string) string {
		return "/at/" + r + "/maven/" + groupPath + "/tide-model/" + version + "/tide-model-" + version + ".jar"
	}
	metadata := func() string {
		return string(must(t, http.MethodGet, "/at/"+r+"/maven/"+groupPath+"/tide-model/maven-metadata.xml", "", 200).Body)
	}
	must(t, http.MethodGet, file("1.1.0"), "", 200)
	w := newWorkshop(t)
	text := "name: " + name + "\nrepositories: [" + r +
		"]\nkeep:\n  - newest 1 of each package\nmost-versions: 2\ngrace: 3d\n"
	policy := w.write("policy.yaml", []byte(text))
	says(t, run(1, "policy", "set", w.write("bad.yaml", []byte(text+"keep: all"))),
		`line 7: this is not YAML: mapping key "keep" already defined`)
	says(t, run(1, "sweep", "plan", w.write("bad.yaml", []byte(strings.Replace(text, "newest 1", "oldest 1", 1)))),
		"line 4:", "oldest 1", "newest 3 of each package")
	says(t, run(2, "sweep", "plan", "nowhere.yaml"), "there is no file nowhere.yaml")
	says(t, run(3, "sweep", "plan", "no-policy"), "there is no policy no-policy")
	says(t, run(0, "sweep", "plan", policy), name+" would take 3 of 4 versions", "It would stop and ask",
		"no reason keeps it", "tide-model@1.0.0")
	says(t, run(0, "policy", "set", policy), "Set the policy "+name, "crelvo sweep run "+name)
	says(t, run(0, "policy", "list"), name, r, "newest 1 of each package", "by hand")
	lines := strings.Split(strings.TrimSpace(run(0, "sweep", "plan", name, "--form", "csv", "--fate", "")), "\n")
	if len(lines) != 5 || !strings.HasPrefix(lines[0], "repository,purl,upload,fate,reason") ||
		!strings.Contains(lines[1], "tide-model@1.3.0,,kept,among the newest 1 of each package,"+name) {
		t.Errorf("%q", lines)
	}
	if out := run(0, "sweep", "plan", name, "--form", "json"); strings.Count(out, `"fate":"swept"`) != 3 {
		t.Errorf("%s", out)
	}
	asks := run(7, "sweep", "run", name)
	says(t, asks, "took nothing yet", "--go-on", "crelvo sweep stop ")
	run(0, "sweep", "stop", strings.Trim(asks[strings.LastIndex(asks, " "):], " .\n"))
	says(t, run(0, "pin", "pkg:maven/example.skerry.berth/tide-model@1.0.0", "--in", r, "--reason", "the audit", "--until",
		"+90d"), "stays, whatever the policies say")
	says(t, run(0, "pin"), "the audit", r)
	says(t, run(0, "sweep", "run", name, "--dry-run"), "would take 2 of 4 versions", "pinned")
	says(t, run(0, "sweep", "run", name, "--wait"), "is done: it took 2 of 2 versions")
	if list := metadata(); strings.Contains(list, "1.1.0") || !strings.Contains(list, "<release>1.3.0</release>") ||
		!strings.Contains(list, "1.0.0") {
		t.Errorf("%s", list)
	}
	must(t, http.MethodGet, file("1.1.0"), "", 404)
	listed := run(0, "sweep", "list", "--policy", name, "-o", "json")
	_, id, _ := strings.Cut(listed, `"id": `)
	id, _, _ = strings.Cut(id, ",")
	says(t, run(0, "sweep", "show", id), "done", "2; 0 stayed after all", "removed", "tide-model@1.1.0")
	says(t, run(0, "sweep", "undo", id, "pkg:maven/*/*@1.1.0"), "Brought back 1 version")
	if list := metadata(); !strings.Contains(list, "1.1.0") || strings.Contains(list, "1.2.0") {
		t.Errorf("%s", list)
	}
	must(t, http.MethodGet, file("1.1.0"), "", 200)
	says(t, run(3, "sweep", "undo", id, "pkg:maven/*/*@9.9"), "took nothing that fits")
	says(t, run(1, "sweep", "stop", id), "has ended")
	says(t, run(2, "sweep", "show", "first"), "no number of a sweep")
	// By hand, the same way.
	out := run(0, "remove", "pkg:maven/example.skerry.berth/tide-model@1.3.0", "--in", r, "--yes")
	says(t, out, "Bring it back within 14d: crelvo sweep undo ")
	must(t, http.MethodGet, file("1.3.0"), "", 404)
	says(t, run(0, "sweep", "undo", strings.TrimSpace(out[strings.LastIndex(out, "undo ")+5:])), "Brought back 1 version")
	must(t, http.MethodGet, file("1.3.0"), "", 200)
	// What is known of its use.
	eventually(t, 10*time.Second, "the downloads are counted", func() bool {
		out, _, _ := crelvoAsAdmin(t, "usage", "pkg:maven/example.skerry.berth/tide-model", "--in", r, "--by", "version")
		return strings.Contains(out, "1.1.0") && strings.Contains(out, "1.3.0")
	})
	says(t, run(0, "who-uses", "pkg:maven/example.skerry.berth/tide-model@1.1.0", "--in", r), "admin", "user")
	says(t, run(0, "usage", "--in", r), "pkg:maven/example.skerry.berth/tide-model", r)
	says(t, run(0, "usage", "--in", r, "--by", "who"), "person")
	says(t, run(0, "space"), r, "stored once")
	says(t, run(0, "reclaim"), "had ended")
	says(t, run(0, "reclaim", "--list"), "admin")
	says(t, run(0, "policy", "pause", name), "Paused "+name)
	says(t, run(0, "policy", "show", name), "paused", "yes")
	says(t, run(0, "policy", "resume", name), "runs and counts again")
	says(t, run(0, "pin", "pkg:maven/example.skerry.berth/tide-model@1.0.0", "--in", r, "--off"), "not pinned any more")
	says(t, run(0, "policy", "remove", name, "--yes"), "Removed the policy "+name)
}

// TestRetentionRights: who may not remove may neither change a policy, run it nor
// undo, and sees nothing of what they may not read all of.
func TestRetentionRights(t *testing.T) {
	admin := desk(house.Token)
	r := repository(t, "releases")
	name := fmt.Sprintf("policy-%d", made.Add(1))
	publishRelease(t, r, "tide-model", "1.0.0", "tides")
	text := "name: " + name + "\nrepositories: [" + r + "]\nkeep: [newest 1]\n"
	done(admin.SetPolicy(t.Context(), api.SetPolicy{Text: text}))(t)
	n := made.Add(1)
	holds := func(role, repository string) *client.Client {
		return person(t, fmt.Sprintf("%s-%d-%d", role, n, made.Add(1)), "user",
			api.NewGrant{Role: role, Repositories: repository})
	}
	reader, stranger := holds("reader", r), holds("reader", repository(t, "releases"))
	if all := done(reader.Policies(t.Context()))(t); len(all) != 1 || all[0].May {
		t.Errorf("%+v", all)
	}
	if all := done(stranger.Policies(t.Context()))(t); len(all) != 0 {
		t.Errorf("a stranger sees %+v", all)
	}
	if _, err := stranger.Policy(t.Context(), name); err == nil ||
		!strings.Contains(err.Error(), "there is no policy "+name) {
		t.Errorf("%v", err)
	}
	for what, err := range map[string]error{
		"set":  errorOf(reader.SetPolicy(t.Context(), api.SetPolicy{Text: text})),
		"run":  errorOf(reader.RunSweep(t.Context(), api.RunSweep{Policy: name})),
		"wide": errorOf(holds("curator", r).SetPolicy(t.Context(), api.SetPolicy{Text: strings.Replace(text, r, "'*'", 1)})),
	} {
		if err == nil || !strings.Contains(err.Error(), "curator") && !strings.Contains(err.Error(), "admin") {
			t.Errorf("%s: %v", what, err)
		}
	}
	if plan := done(reader.PlanSweep(t.Context(), api.PlanRequest{Text: text}))(t); plan.Total.Kept != 1 {
		t.Errorf("%+v", plan.Total)
	}
	if _, err := stranger.PlanSweep(t.Context(), api.PlanRequest{Text: text}); err == nil ||
		!strings.Contains(err.Error(), "of which you may read everything") {
		t.Errorf("%v", err)
	}
}

func errorOf[T any](_ T, err error) error { return err }

// TestConsoleRetention writes a policy beside what it would do, sweeps by it, and
// brings back what went.
func TestConsoleRetention(t *testing.T) {
	r := repository(t, "releases")
	name := fmt.Sprintf("policy-%d", made.Add(1))
	for _, version := range []string{"1.0.0", "1.1.0"} {
		publishRelease(t, r, "tide-model", version, "tides of "+version)
	}
	tab, do := openConsole(t)
	see, click := browser.ShowsText, browser.ClickText
	page := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(shared.Address + path) }
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	write := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { document.querySelector(".cm-content").focus();
			document.execCommand("selectAll"); document.execCommand("insertText", false, %q) })()`, text))
	}
	text := "name: " + name + "\nrepositories: [" + r + "]\nkeep:\n- newest 1\n"
	do(page("/retention"), see("Retention policies"), click("New policy"),
		chromedp.WaitVisible(chromedp.CSS(".cm-content")), write(strings.Replace(text, "newest", "oldest", 1)),
		see("line 4", "is no reason to stay"), chromedp.WaitVisible(chromedp.CSS(".cm-lint-marker-error")), write(text),
		chromedp.WaitNotPresent(chromedp.CSS(".cm-lint-marker-error")),
		see("1 version", "of 2 would go", "no reason keeps it", "tide-model@1.0.0"), click("Save"), see("Saved by admin"))
	do(click("Sweep now"), see("done", "removed", "can come back until"), page("/retention/sweeps"), see(name, "done"))
	do(page("/package/maven/example.skerry.berth/tide-model"), see("1.1.0", "Who still uses it"))
	sweeps := done(desk(house.Token).Sweeps(t.Context(), map[string][]string{"policy": {name}}))(t)
	do(page(fmt.Sprintf("/sweeps/%d", sweeps[0].ID)), click("Bring back"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=pattern]")),
		chromedp.Evaluate[chromedp.Void](`document.querySelector("[role=dialog] button[type=submit]").click()`),
		see("Brought back 1 version"), click("Close"), see("brought back", "by admin"))
	do(page("/retention/space"), see("Where it goes"))
	eventually(t, 20*time.Second, r+" is somewhere in the table", func() bool {
		there, err := chromedp.Run(tab, chromedp.Evaluate[bool](fmt.Sprintf(
			"(document.body.innerText.includes(%q) || (scrollBy(0, 500), false))", r)))
		return err == nil && there
	})
	do(page("/retention/use"), see("Downloads of everything"),
		page("/status"), see("Status", "the database is ok"))
	do(page("/package/maven/example.skerry.berth/tide-model@1.0.0"), click("Pin…"),
		chromedp.WaitVisible(chromedp.CSS("[role=dialog] input[name=reason]")),
		typeInto("[role=dialog] input[name=reason]", "the audit"), click("Pin it"), see("Pinned by admin", "the audit"),
		page("/retention/pins"), see("the audit"))
	do(chromedp.EmulateViewport(390, 844), page("/policies/"+name), see("What it would do"))
	if wide, err := chromedp.Run(tab,
		chromedp.Evaluate[bool]("document.documentElement.scrollWidth > innerWidth")); err != nil || wide {
		t.Errorf("the page is wider than a phone: %v %v", wide, err)
	}
}
