package demo

import (
	"context"
	"fmt"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

// track sets up how versions of the house become releases: along the track ferry,
// with a key to sign with, and on to a public repository.
func (y *yard) track(ctx context.Context, admin *client.Client, shore string) error {
	if err := admin.AddKey(ctx, api.NewKey{Name: "ferry-release",
		Owner: "The Skerry Line releases <releases@skerry.example>"}); err != nil {
		return err
	}
	if err := admin.SetTarget(ctx, api.NewTarget{Name: "public-maven", Ecosystem: "maven", URL: shore + Landing,
		User: LandingUser, Secret: LandingSecret}); err != nil {
		return err
	}
	if err := admin.SetTarget(ctx, api.NewTarget{Name: "public-pypi", Ecosystem: "pypi", Tree: true,
		URL: shore + Web + "pypi/", ReadAt: shore + Web + "pypi/", User: LandingUser, Secret: LandingSecret}); err != nil {
		return err
	}
	return admin.AddTrack(ctx, api.Track{Name: "ferry", Description: "from CI to what sails", Stages: []api.Stage{
		{Repository: "snapshots"},
		{Repository: "staging", Gates: []string{"recorded-build", "tests-passed", "no-snapshots",
			"licences Apache-2.0, MIT"}, Restamps: []string{"image-references", "text in VERSION"}},
		{Repository: "releases", Gates: []string{"recorded-build", "approved 1 by berth-crew", "behind 0"},
			SignWith: "ferry-release", Onward: []string{"public-maven"}},
	}})
}

func (y *yard) as(who string) *client.Client {
	return &client.Client{Server: y.address, Token: y.tokens[who], Agent: "crelvo-demo"}
}

// berth is the build of the berth planner, and failing its run whose tests fail.
const (
	berth   = "berth-planner"
	failing = 116
)

// notes are those of the releases of the berth planner.
var notes = map[string]string{"1.2.0": "Berths of two ferries may overlap by ten minutes.",
	"1.3.0": "Winter fares. The planner knows spring tides.",
	"1.4.0": "Faster in fog, and no more double bookings at the north berth."}

// record records a run of a build.
func (y *yard) record(ctx context.Context, name string, run int, began time.Time) error {
	var cases strings.Builder
	for i, m := range modules {
		for n := range 12 + 3*i + run%5 {
			fmt.Fprintf(&cases, `<testcase classname="%s.%s" name="case%d">`, group, m.name, n+1)
			if name == berth && run == failing && i == 1 && n == 3 {
				cases.WriteString(`<failure message="the winter fare is 4.20, not 4.10"/>`)
			}
			cases.WriteString("</testcase>")
		}
	}
	_, err := y.as("ci-berth").RecordBuild(ctx, api.BuildReport{Name: name, Number: fmt.Sprint(run), StartedAt: &began,
		Revision: fmt.Sprintf("%08x%032x", run*2654435761%(1<<32), run*40503), Branch: "main", Agent: "yard-runner-" +
			fmt.Sprint(1+run%3),
		Link: fmt.Sprintf("https://ci.skerry.example/%s/%d", name, run), Notes: map[string]string{"machine": "yard, 2 cores"},
		JUnit: []string{`<testsuite name="all">` + cases.String() + `</testsuite>`}})
	return err
}

// sail takes a build to the releases: first to staging, and a day later, when
// somebody of the crew agrees, further.
func (y *yard) sail(ctx context.Context, build, notes string, at time.Time) error {
	y.clock.set(at)
	if err := y.promote(ctx, api.NewPromotion{Track: "ferry", Build: build, To: "staging"}, "done"); err != nil {
		return err
	}
	y.clock.set(at.Add(26 * time.Hour))
	if err := y.promote(ctx, api.NewPromotion{Track: "ferry", Build: build, To: "releases", Notes: notes},
		"waiting"); err != nil {
		return err
	}
	open, err := y.as("deckhand").Promotions(ctx, map[string][]string{"mine": {"true"}})
	if err != nil || len(open.Promotions) == 0 {
		return fmt.Errorf("no promotion of the demo waits for the crew: %w", err)
	}
	y.clock.set(at.Add(28 * time.Hour))
	_, err = y.as("deckhand").Decide(ctx, open.Promotions[0].ID, api.Say{Approve: true, Comment: "sea trial was fine"})
	return err
}

func (y *yard) promote(ctx context.Context, n api.NewPromotion, state string) error {
	p, err := y.as("purser").Promote(ctx, n)
	if err == nil && p.State != state {
		err = fmt.Errorf("the demo's promotion of %s%v is %s, not %s: %s", n.Build, n.PURLs, p.State, state, p.Why)
	}
	return err
}

// underway is where things stand today: one promotion failed at a gate, and one
// waits for somebody to approve it.
func (y *yard) underway(ctx context.Context, today time.Time) error {
	y.clock.set(today.AddDate(0, 0, -2).Add(9 * time.Hour))
	if err := y.promote(ctx, api.NewPromotion{Track: "ferry", Build: fmt.Sprintf("%s#%d", berth, failing)},
		"failed"); err != nil {
		return err
	}
	y.clock.set(today.AddDate(0, 0, -1).Add(9 * time.Hour))
	if err := y.promote(ctx, api.NewPromotion{Track: "ferry", Build: berth + "#118"}, "done"); err != nil {
		return err
	}
	y.clock.set(today.AddDate(0, 0, -1).Add(16 * time.Hour))
	return y.promote(ctx, api.NewPromotion{Track: "ferry", Build: berth + "#118", To: "releases",
		Notes: "Sees which berth a late ferry can still reach."}, "waiting")
}
