package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/api"
	"crelvo/test/house"
)

const tideModel100 = "pkg:maven/example.skerry.berth/tide-model@1.0.0-SNAPSHOT"

// TestAskedFor: whoever a gate asks sees the promotion and what it is about, without
// a right on any repository; a gate that nobody can pass is refused, and told of when
// it becomes one.
func TestAskedFor(t *testing.T) {
	n := made.Add(1)
	crew, mate := fmt.Sprintf("crew-%d", n), fmt.Sprintf("mate-%d", n)
	admin := desk(house.Token)
	name, snapshots, releases := track(t, admin)
	outsider := person(t, mate, "user")
	post(t, "/api/v1/teams", api.NewTeam{Name: crew, Members: []string{mate}}, nil)
	run := func(want int, args ...string) string {
		t.Helper()
		out, errs, code := crelvoAsAdmin(t, args...)
		if code != want {
			t.Fatalf("%v: %d %s %s; want %d", args, code, out, errs, want)
		}
		return out + errs
	}
	says(t, run(1, "track", "edit", name, "--into", releases, "--gate", "approved 2 by "+crew),
		"can never pass: it asks for 2, and "+crew+" has 1 member")
	run(0, "track", "edit", name, "--into", releases, "--gate", "approved 1 by "+crew)
	publishSnapshot(t, snapshots, "tide-model", "1.0.0")
	says(t, run(0, "promote", tideModel100, "--along", name, "--to", releases), "waits: waits for 1 of "+crew)
	mine := done(outsider.Promotions(t.Context(), map[string][]string{"mine": {"true"}}))(t)
	if len(mine.Promotions) != 1 || !mine.Promotions[0].MayVote || mine.Promotions[0].From != snapshots {
		t.Fatalf("who is asked sees %+v", mine.Promotions)
	}
	p := done(outsider.Promotion(t.Context(), mine.Promotions[0].ID))(t)
	if len(p.Planned) == 0 || p.AskedBy != "admin" {
		t.Errorf("who is asked is told %+v", p)
	}
	// Asked for twice, it is one.
	says(t, run(0, "promote", tideModel100, "--along", name, "--to", releases), "asked for before",
		fmt.Sprintf("Promotion %d", p.ID))
	says(t, run(6, "promote", tideModel100, "--along", name, "--to", releases, "--wait", "1s"),
		fmt.Sprintf("promotion %d waits: waits for 1 of %s", p.ID, crew))
	if p = done(outsider.Decide(t.Context(), p.ID, api.Say{Approve: true}))(t); p.State != "done" {
		t.Errorf("%+v", p)
	}
	must(t, http.MethodGet, "/at/"+releases+"/maven/"+groupPath+"/tide-model/1.0.0/tide-model-1.0.0.jar", "", 200)
	says(t, run(0, "promote", tideModel100, "--along", name, "--to", releases), "asked for before", "done")
	says(t, run(2, "promote", tideModel100, "--along", name), "--to REPOSITORY")
	run(0, "user", "remove", mate, "--yes")
	says(t, run(0, "status"), "can never pass: it asks for 1, and "+crew+" has 0 members")
	run(0, "track", "remove", name, "--yes")
}

// TestDryRunRefuses: what the real run refuses, the dry run refuses too.
func TestDryRunRefuses(t *testing.T) {
	admin := desk(house.Token)
	name, snapshots, releases := track(t, admin)
	publishMade(t, snapshots, "npm", deckUI("4.1.0-dev.1"))
	publishMade(t, snapshots, "pypi", tidecast("0.9.0.dev1"))
	for _, c := range []struct{ purl, as string }{
		{"pkg:npm/@skerry/deck-ui@4.1.0-dev.1", "banana"}, {"pkg:npm/@skerry/deck-ui@4.1.0-dev.1", "4.1"},
		{"pkg:pypi/tidecast@0.9.0.dev1", "banana"},
		{"pkg:npm/@skerry/deck-ui@4.1.0-dev.1", "4.1.0-dev.2"},
	} {
		for _, dry := range [][]string{{"--dry-run"}, nil} {
			out, errs, code := crelvoAsAdmin(t, append([]string{"promote", c.purl, "--as", c.as, "--along", name, "--to",
				releases}, dry...)...)
			if code != 1 && (code != 0 || !strings.Contains(out, "would fail")) {
				t.Errorf("%s as %s %v: %d %s %s", c.purl, c.as, dry, code, out, errs)
			}
		}
	}
	// A release that was there with other bytes does not come back as something else.
	other := deckUI("4.1.0")
	other.Description = "Another"
	publishMade(t, releases, "npm", other)
	if _, errs, code := crelvoAsAdmin(t, "remove", "pkg:npm/@skerry/deck-ui@4.1.0", "--in", releases, "--yes"); code != 0 {
		t.Fatal(errs)
	}
	for _, dry := range [][]string{{"--dry-run"}, nil} {
		out, errs, code := crelvoAsAdmin(t, append([]string{"promote", "pkg:npm/@skerry/deck-ui@4.1.0-dev.1", "--along", name,
			"--to", releases}, dry...)...)
		if code != 1 || !strings.Contains(out, "before, with other bytes, and removed") {
			t.Errorf("%v: %d %s %s", dry, code, out, errs)
		}
	}
}

// TestBuildNamesOfCI: names of projects and workflows, the same build twice, and two
// with one token.
func TestBuildNamesOfCI(t *testing.T) {
	repository(t, "releases") // whoever begins builds may publish somewhere
	title := fmt.Sprintf("skerry/berth %d/Build and test#2", made.Add(1))
	run := func(want int, args ...string) string {
		t.Helper()
		out, errs, code := crelvoAsAdmin(t, args...)
		if code != want {
			t.Fatalf("%v: %d %s %s; want %d", args, code, out, errs, want)
		}
		return out + errs
	}
	run(0, "build", "begin", title)
	second := fmt.Sprintf("beside-%d#1", made.Add(1))
	says(t, run(0, "build", "begin", second), title, "belongs to none of them")
	run(0, "build", "record", second)
	run(0, "build", "record", title, "--revision", "4be1c0f")
	says(t, run(1, "build", "record", title, "--revision", "77aa000"),
		"was recorded with the revision 4be1c0f, and this is 77aa000")
	says(t, run(0, "build", "show", title), title, "4be1c0f")
	says(t, run(0, "build", "list", "Build and test"), title)
	says(t, run(0, "build", "record", "--help"), "GITHUB_WORKFLOW", "CI_PIPELINE_URL")
}
