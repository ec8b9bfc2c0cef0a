package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/junit"
	"crelvo/internal/core/promotion"
)

// TestFromCI takes what CI systems tell in their variables; what is given on the
// command line comes first.
func TestFromCI(t *testing.T) {
	for _, v := range ciVariables {
		for _, name := range v.names {
			t.Setenv(name, "")
		}
	}
	if title, err := buildTitle(nil); err == nil {
		t.Errorf("the build is %s, and nothing tells", title)
	}
	t.Setenv("JOB_NAME", "berth-planner")
	t.Setenv("BUILD_NUMBER", "118")
	t.Setenv("GIT_COMMIT", "4be1c0f")
	t.Setenv("CI_COMMIT_SHA", "77aa")
	if title, err := buildTitle(nil); err != nil || title != "berth-planner#118" {
		t.Errorf("the build is %q, %v", title, err)
	}
	if title, err := buildTitle([]string{"other#1"}); err != nil || title != "other#1" {
		t.Errorf("the build is %q, %v", title, err)
	}
	if title, err := buildTitle([]string{"other"}); err == nil {
		t.Errorf("%q has no number", title)
	}
	if got := fromCI("revision"); got != "77aa" {
		t.Errorf("the revision is %q", got)
	}
	if got := fromCI("branch"); got != "" {
		t.Errorf("the branch is %q", got)
	}
}

// TestNameFromCI: two projects whose workflows are called alike are two builds.
func TestNameFromCI(t *testing.T) {
	for _, v := range ciVariables {
		for _, name := range v.names {
			t.Setenv(name, "")
		}
	}
	t.Setenv("GITHUB_RUN_ID", "99")
	t.Setenv("GITHUB_SERVER_URL", "https://ci.skerry.example")
	t.Setenv("GITHUB_WORKFLOW", "Build and test")
	t.Setenv("GITHUB_RUN_NUMBER", "7")
	for project, want := range map[string]string{"skerry/berth-planner": "skerry/berth-planner/Build and test#7",
		"skerry/fare-engine": "skerry/fare-engine/Build and test#7"} {
		t.Setenv("GITHUB_REPOSITORY", project)
		if title, err := buildTitle(nil); err != nil || title != want {
			t.Errorf("the build is %q, %v; want %s", title, err, want)
		}
		if link := fromCI("link"); link != "https://ci.skerry.example/"+project+"/actions/runs/99" {
			t.Errorf("the link is %s", link)
		}
	}
}

func TestBuildTexts(t *testing.T) {
	for text, want := range map[string]string{"": "", "1793520000": "2026-11-01T08:00:00Z",
		"2026-11-01T09:00:00+01:00": "2026-11-01T08:00:00Z"} {
		at, err := parseStart(text)
		if err != nil || (at == nil) != (want == "") || at != nil && at.UTC().Format(time.RFC3339) != want {
			t.Errorf("%q is %v, %v", text, at, err)
		}
	}
	if at, err := parseStart("this morning"); err == nil {
		t.Errorf("this morning is %v", at)
	}
	pairs, err := parsePairs([]string{"java=17", "flags=-a=b", "empty="})
	if err != nil || pairs["java"] != "17" || pairs["flags"] != "-a=b" || len(pairs) != 3 {
		t.Errorf("%v, %v", pairs, err)
	}
	for _, bad := range []string{"java", "=17"} {
		if pairs, err := parsePairs([]string{bad}); err == nil {
			t.Errorf("%q gives %v", bad, pairs)
		}
	}
	dir := t.TempDir()
	for name, text := range map[string]string{"TEST-a.xml": "<a/>", "TEST-b.xml": "<b/>", "c.txt": "c"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if texts, err := readAll(dir + "/*.xml"); err != nil || strings.Join(texts, " ") != "<a/> <b/>" {
		t.Errorf("%v, %v", texts, err)
	}
	for _, bad := range []string{dir + "/*.jar", dir + "/[", dir} {
		if texts, err := readAll(bad); err == nil {
			t.Errorf("%s gives %v", bad, texts)
		}
	}
	if sum, err := digestOf(dir + "/c.txt"); err != nil ||
		sum != "2e7d2c03a9507ae265ecf5b5356885a53393a2029d241394997265a1a25aefc6" {
		t.Errorf("%s, %v", sum, err)
	}
	ended := time.Now()
	for want, b := range map[string]api.Build{"runs": {}, "recorded": {EndedAt: &ended},
		"2 of 3 tests failed": {EndedAt: &ended, Tests: &junit.Summary{Tests: 3, Failed: 1, Errors: 1}},
		"1 test passed":       {EndedAt: &ended, Tests: &junit.Summary{Tests: 1}}} {
		if got := buildState(b); got != want {
			t.Errorf("%+v is %q, not %q", b, got, want)
		}
	}
	if got := testsText(api.Build{Tests: &junit.Summary{Tests: 4, Failed: 1, Skipped: 2,
		Names: []string{"a.B"}}}); got != "4 tests, 1 FAILED: a.B, 2 skipped" {
		t.Errorf("%q", got)
	}
	if at, err := parseSince("2d"); err != nil || time.Since(at) < 47*time.Hour || time.Since(at) > 49*time.Hour {
		t.Errorf("two days ago is %v, %v", at, err)
	}
}

// TestShowPromotion writes what a person needs to know of each kind of promotion.
func TestShowPromotion(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	base := api.AskedPromotion{PromotionPage: api.PromotionPage{Promotion: api.Promotion{ID: 7, From: "staging", To: "releases", Track: "ferry", AskedBy: "purser", AskedAt: at,
		Answers: []promotion.Answer{{Sentence: "the tests of its build passed", State: promotion.Fail,
			Facts: []string{"one", "two"}}, {Sentence: "nothing", State: promotion.Pass}}},
		Planned: []api.PlannedVersion{{PURL: "pkg:maven/g/tide-model@1.4.0-SNAPSHOT", To: "1.4.0", NewBytes: 2048,
			Files: []api.PlannedFile{
				{Name: "tide-model-1.4.0-1.jar", To: "tide-model-1.4.0.jar", Signed: true,
					Changes: []api.PlannedChange{{Entry: "META-INF/MANIFEST.MF", What: "Implementation-Version", Old: "1.4.0-SNAPSHOT",
						New: "1.4.0"}}, Mentions: []string{"README.md"}},
				{Name: "tide-model-1.4.0-1.jar.asc", Dropped: "it signs the bytes of before"},
				{Name: "same.txt", To: "same.txt"}}}}}}
	for _, c := range []struct {
		change func(*api.AskedPromotion)
		dryRun bool
		says   []string
		not    []string
	}{
		{func(p *api.AskedPromotion) { p.State, p.Problems = "failed", []string{"releases has it already"} }, true,
			[]string{"Dry run; nothing was changed: staging → releases along ferry would fail.",
				"tide-model-1.4.0.jar, with a new signature",
				"META-INF/MANIFEST.MF: Implementation-Version\n    - 1.4.0-SNAPSHOT\n    + 1.4.0",
				"stays, and names the old version: README.md", ".asc is left behind: it signs the bytes of before", "2.0 KiB",
				"Why not\n  releases has it already",
				"fail  the tests of its build passed  one\n                                     two\n"},
			[]string{"same.txt", "asked by"}},
		{func(p *api.AskedPromotion) {
			p.State, p.Why = "failed", "first\nsecond"
		}, false, []string{"Promotion 7: staging → releases along ferry failed; nothing was moved.", "  first\n  second\n",
			"asked by"}, []string{"MANIFEST"}},
		{func(p *api.AskedPromotion) {
			p.State, p.Next = "done", map[string]string{"pkg:maven/g/tide-model": "1.5.0-SNAPSHOT"}
		}, false, []string{"Go on with\n  pkg:maven/g/tide-model@1.5.0-SNAPSHOT"}, nil},
		{func(p *api.AskedPromotion) {
			p.State, p.UndoneBy, p.UndoneAt, p.UndoReason = "undone", "mate", &at, "wrong tide"
		}, false, []string{"undone by", "mate at ", "wrong tide"}, []string{"Go on with"}},
		{func(p *api.AskedPromotion) {
			p.State, p.Deliveries = "done", []api.Delivery{{PURL: "pkg:maven/g/tide-model@1.4.0", Target: "public",
				State: "waiting", Attempts: 3, Said: "503"}}
		}, false, []string{"pkg:maven/g/tide-model@1.4.0  public       waiting         3  503"}, nil},
	} {
		p := base
		c.change(&p)
		var b bytes.Buffer
		showPromotion(&b, p, c.dryRun)
		for _, want := range c.says {
			if !strings.Contains(b.String(), want) {
				t.Errorf("it does not say %q:\n%s", want, b.String())
			}
		}
		for _, not := range c.not {
			if strings.Contains(b.String(), not) {
				t.Errorf("it says %q:\n%s", not, b.String())
			}
		}
	}
	var b bytes.Buffer
	many := base.Promotion
	for range 5 {
		many.Versions = append(many.Versions, api.PromotedVersion{PURL: "pkg:npm/%40skerry/deck-ui@2.0.0-dev.1", To: "2.0.0"})
	}
	promotionRows(&b, []api.Promotion{many})
	if !strings.Contains(b.String(), "deck-ui 2.0.0, deck-ui 2.0.0, deck-ui 2.0.0, and 2 more") {
		t.Errorf("%s", b.String())
	}
}

func TestLicencesOf(t *testing.T) {
	v := func(purl string, licences ...string) api.BuiltVersion {
		return api.BuiltVersion{PURL: purl, Licences: licences}
	}
	b := api.BuildPage{MadeIt: []api.BuiltVersion{v("pkg:npm/%40skerry/a@1", "MIT"), v("pkg:npm/%40skerry/a@1", "MIT")},
		Used: []api.BuiltVersion{v("pkg:npm/c@1"), v("pkg:npm/b@1", "ISC"), v("pkg:npm/d@1", "MIT"), v("pkg:npm/e@1", "MIT", "ISC"),
			v("pkg:npm/f@1"), v("pkg:npm/g@1")}}
	want := "[{MIT [pkg:npm/@skerry/a@1 pkg:npm/d@1]} {ISC [pkg:npm/b@1]} {MIT OR ISC [pkg:npm/e@1]} " +
		"{ [pkg:npm/c@1 pkg:npm/f@1 pkg:npm/g@1]}]"
	if got := fmt.Sprint(licencesOf(b)); got != want {
		t.Errorf("%s, not %s", got, want)
	}
}
