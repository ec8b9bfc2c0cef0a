package service

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/promotion"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

// line is a node with a track from snapshots to releases.
type line struct {
	*node
	snapshots, releases catalog.Repository
}

func newLine(t *testing.T, url string, gates ...string) *line {
	t.Helper()
	q := &line{node: newNode(t, url)}
	var err error
	if q.snapshots, err = q.Repositories.AddRepository(t.Context(), q.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "snapshots", Kind: catalog.House,
			Holds: catalog.Snapshots}}); err != nil {
		t.Fatal(err)
	}
	q.releases = q.repository(t)
	if err := q.Promotion.AddTrack(t.Context(), q.admin,
		promotion.NewTrack{Name: "ferry", Stages: []promotion.TrackStage{{Repository: "snapshots"},
			{Repository: "releases", Gates: gates}}}); err != nil {
		t.Fatal(err)
	}
	return q
}

// npm publishes an npm package by hand.
func (n *node) npm(t *testing.T, by access.Caller, r catalog.Repository, p madeup.Package) {
	t.Helper()
	if _, err := n.Publishing.PublishByHand(t.Context(), by, r, purl.PURL{}, handed(p)); err != nil {
		t.Fatal(err)
	}
}

// handed gives an npm package, as somebody who hands it in does.
func handed(p madeup.Package) func() (publishing.ByHand, error) {
	given := false
	return func() (publishing.ByHand, error) {
		if given {
			return publishing.ByHand{}, io.EOF
		}
		given = true
		return publishing.ByHand{Name: "package.tgz", Body: strings.NewReader(string(p.NPM()))}, nil
	}
}

func part(n int, files ...madeup.Entry) madeup.Package {
	return madeup.Package{Name: fmt.Sprintf("@skerry/part-%d", n), Version: "1.0.0-dev.1", Licence: "MIT", Files: files}
}

func (q *line) names(t *testing.T) (names []string) {
	t.Helper()
	keys, err := q.DB.PackagesOf(t.Context(), q.releases.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range keys {
		names = append(names, k.Name)
	}
	return names
}

// TestPromotionFaults: a disk that is full, bytes that are gone, and a server that
// went down leave nothing behind, and say so.
func TestPromotionFaults(t *testing.T) {
	q := newLine(t, recordtest.URL(t))
	q.npm(t, q.admin, q.snapshots, part(1))
	q.npm(t, q.admin, q.snapshots, part(2))
	stored := q.stored(t)
	ask := promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/@skerry/part-1@1.0.0-dev.1",
		"pkg:npm/@skerry/part-2@1.0.0-dev.1"}}
	fails := func(says string) {
		t.Helper()
		p, err := q.Promotion.Promote(t.Context(), q.admin, ask)
		if err != nil || p.State != record.PromotionFailed || !strings.Contains(p.Why, says) || p.EndedAt == nil {
			t.Errorf("%s %q, %v; want a failure that says %q", p.State, p.Why, err, says)
		}
		if names := q.names(t); names != nil || q.stored(t) != stored {
			t.Errorf("%v are there, and %d files are stored instead of %d", names, q.stored(t), stored)
		}
	}
	q.store.keep = syscall.ENOSPC
	fails("no room left")
	q.store.keep, q.store.stage = nil, syscall.EROFS
	fails("cannot write")
	q.store.stage = errors.New("something else")
	fails("the reason is in its log")
	q.store.stage = nil

	// What is underway, and of which nothing is heard, has failed.
	p, err := q.Promotion.Promote(t.Context(), q.admin, ask)
	if err != nil || p.State != record.PromotionDone {
		t.Fatalf("%+v %v", p, err)
	}
	if _, err := q.DB.ExecContext(t.Context(),
		`update promotion set state = 'underway', alive_at = now() - interval '10 minutes' where id = $1`, p.ID); err != nil {
		t.Fatal(err)
	}
	if err := q.chore(t.Context(), "looking after promotions"); err != nil {
		t.Fatal(err)
	}
	if p, err := q.Promotion.Promotion(t.Context(), q.admin, p.ID); err != nil || p.State != record.PromotionFailed ||
		!strings.Contains(p.Why, "ended in the middle") {
		t.Errorf("%s %q, %v", p.State, p.Why, err)
	}
}

// TestPromotionObstacles: what cannot be changed honestly stops a promotion, with
// the entry, unless it is told to go on.
func TestPromotionObstacles(t *testing.T) {
	q := newLine(t, recordtest.URL(t), "licences MIT")
	q.npm(t, q.admin, q.snapshots, part(1, madeup.Entry{Name: "package/dist/bundle.js",
		Content: `var version="1.0.0-dev.1"`}))
	ask := promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/@skerry/part-1@1.0.0-dev.1"}}
	plan, err := q.Promotion.PlanPromotion(t.Context(), q.admin, ask)
	if err != nil || plan.State != record.PromotionFailed || len(plan.Problems) != 1 ||
		!strings.Contains(plan.Problems[0], "package/dist/bundle.js: it states 1.0.0-dev.1") {
		t.Errorf("%+v %v", plan.Problems, err)
	}
	p, err := q.Promotion.Promote(t.Context(), q.admin, ask)
	if err != nil || p.State != record.PromotionFailed || !strings.Contains(p.Why, "bundle.js") {
		t.Errorf("%+v %v", p, err)
	}
	ask.GoOn = true
	if p, err = q.Promotion.Promote(t.Context(), q.admin, ask); err != nil || p.State != record.PromotionDone || !p.GoOn {
		t.Errorf("%+v %v", p, err)
	}
	q.npm(t, q.admin, q.snapshots, part(2))
	for _, c := range []struct {
		as   string
		says string
	}{{"1.0.0-dev.2", "releases holds releases, and part-2 1.0.0-dev.2 is a snapshot"}} {
		plan, err := q.Promotion.PlanPromotion(t.Context(), q.admin,
			promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/@skerry/part-2@1.0.0-dev.1"}, As: []string{c.as}})
		if err != nil || len(plan.Problems) == 0 || plan.Problems[0] != c.says {
			t.Errorf("as %s: %v %v", c.as, plan.Problems, err)
		}
	}
	_, err = q.Promotion.PlanPromotion(t.Context(), q.admin,
		promotion.Request{Track: "ferry", PURLs: ask.PURLs, As: []string{"2.0.0", "3.0.0"}})
	if f := fault.Of(err); f.Code != "two-versions" {
		t.Errorf("%v", err)
	}
}

// TestPromotionWaits for a time, and goes by itself when it has come; what went in
// the meantime is missed.
func TestPromotionWaits(t *testing.T) {
	q := newLine(t, recordtest.URL(t), "waited 2h")
	q.npm(t, q.admin, q.snapshots, part(1))
	q.npm(t, q.admin, q.snapshots, part(2))
	ask := func(n int) promotion.Asked {
		p, err := q.Promotion.Promote(t.Context(), q.admin,
			promotion.Request{Track: "ferry", PURLs: []string{fmt.Sprintf("pkg:npm/@skerry/part-%d@1.0.0-dev.1", n)}})
		if err != nil || p.State != record.PromotionWaiting {
			t.Fatalf("%+v %v", p, err)
		}
		return p
	}
	first, second := ask(1), ask(2)
	if err := q.chore(t.Context(), "looking after promotions"); err != nil || q.names(t) != nil {
		t.Fatalf("too early: %v, %v", q.names(t), err)
	}
	key := q.snapshots.Key("npm", "@skerry", "part-2")
	if err := q.Retention.Remove(t.Context(), q.admin, key, []string{"1.0.0-dev.1"}); err != nil {
		t.Fatal(err)
	}
	q.Settings.Now = func() time.Time { return time.Now().Add(3 * time.Hour) }
	if err := q.chore(t.Context(), "looking after promotions"); err != nil {
		t.Fatal(err)
	}
	for id, want := range map[int64]string{first.ID: record.PromotionDone, second.ID: record.PromotionFailed} {
		p, err := q.Promotion.Promotion(t.Context(), q.admin, id)
		if err != nil || p.State != want || want == record.PromotionFailed &&
			!strings.Contains(p.Why, "is not in snapshots any more") {
			t.Errorf("%d is %s: %s, %v; want %s", id, p.State, p.Why, err, want)
		}
	}
	if _, err := q.Promotion.Cancel(t.Context(), q.admin, first.ID, ""); fault.Of(err).Code != promotion.CodeNotWaiting {
		t.Errorf("cancelled although it is done: %v", err)
	}
}

// TestPromotionOnTwoNodes: of two nodes that find at once that a promotion may be
// done, one does it.
func TestPromotionOnTwoNodes(t *testing.T) {
	url := recordtest.URL(t)
	q := newLine(t, url, "waited 2h")
	other := newNode(t, url)
	later := func() time.Time { return time.Now().Add(3 * time.Hour) }
	for round := range 5 {
		p := part(round)
		q.Settings.Now = time.Now
		q.npm(t, q.admin, q.snapshots, p)
		asked, err := q.Promotion.Promote(t.Context(), q.admin,
			promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/" + p.Name + "@" + p.Version}})
		if err != nil {
			t.Fatal(err)
		}
		q.Settings.Now, other.Settings.Now = later, later
		var both sync.WaitGroup
		for _, n := range []*node{q.node, other} {
			both.Go(func() {
				if err := n.chore(t.Context(), "looking after promotions"); err != nil {
					t.Error(err)
				}
			})
		}
		both.Wait()
		if done, err := other.Promotion.Promotion(t.Context(), other.admin, asked.ID); err != nil ||
			done.State != record.PromotionDone {
			t.Errorf("round %d: %s %s, %v", round, done.State, done.Why, err)
		}
	}
	if names := q.names(t); len(names) != 5 {
		t.Errorf("%v", names)
	}
}

// TestPromotionSight: who may promote some packages promotes those, and sees of
// builds, promotions and arrivals what is theirs.
func TestPromotionSight(t *testing.T) {
	q := newLine(t, recordtest.URL(t))
	if _, err := q.Repositories.AddRepository(t.Context(), q.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "elsewhere", Kind: catalog.House,
			Holds: catalog.Both}}); err != nil {
		t.Fatal(err)
	}
	ours := func(role, on string) access.Grant {
		pattern, err := purl.ParsePattern("pkg:npm/@skerry/*")
		if err != nil {
			t.Fatal(err)
		}
		return access.Grant{Role: access.Role(role), Repositories: on, Packages: pattern}
	}
	if err := q.Rights.AddPrincipal(t.Context(), q.admin,
		rights.NewPrincipal{Name: "purser", Grants: []access.Grant{ours("reader", "snapshots"),
			ours("promoter", "releases")}}); err != nil {
		t.Fatal(err)
	}
	purser, err := q.Rights.CallerNamed(t.Context(), "purser")
	if err != nil {
		t.Fatal(err)
	}
	build, _, err := q.Builds.BeginBuild(t.Context(), q.admin, "parts#1")
	if err != nil {
		t.Fatal(err)
	}
	by := q.admin
	by.Build = build.ID
	q.npm(t, by, q.snapshots, part(1))
	q.npm(t, by, q.snapshots, madeup.Package{Name: "secret-part", Version: "1.0.0-dev.1", Licence: "MIT"})
	if _, err := q.Builds.RecordBuild(t.Context(), q.admin, builds.Report{Name: "parts", Number: "1"}); err != nil {
		t.Fatal(err)
	}
	seen, err := q.Builds.Build(t.Context(), purser, "parts#1")
	if err != nil || len(seen.Made) != 1 || seen.Made[0].Name != "part-1" {
		t.Errorf("%+v %v", seen.Made, err)
	}
	if _, err := q.Promotion.Promote(t.Context(), purser,
		promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/secret-part@1.0.0-dev.1"}}); fault.Of(err).
		Code != "no-such-version" {
		t.Errorf("the other part: %v", err)
	}
	// Of the build, what may be seen is promoted.
	mine, err := q.Promotion.Promote(t.Context(), purser, promotion.Request{Track: "ferry", Build: "parts#1"})
	if err != nil || mine.State != record.PromotionDone || len(mine.Items) != 1 {
		t.Fatalf("%+v %v", mine, err)
	}
	theirs, err := q.Promotion.Promote(t.Context(), q.admin,
		promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/secret-part@1.0.0-dev.1"}})
	if err != nil || theirs.State != record.PromotionDone {
		t.Fatalf("%+v %v", theirs, err)
	}
	list, _, err := q.Promotion.Promotions(t.Context(), purser, record.PromotionFilter{Limit: 1}, "releases")
	if err != nil || len(list) != 0 {
		t.Errorf("the first page: %+v %v", list, err)
	}
	list, before, err := q.Promotion.Promotions(t.Context(), purser, record.PromotionFilter{Limit: 1, Before: theirs.ID},
		"")
	if err != nil || before != 0 || len(list) != 1 || list[0].ID != mine.ID {
		t.Errorf("the next page: %+v %d %v", list, before, err)
	}
	if _, err := q.Promotion.Undo(t.Context(), purser, theirs.ID, "because"); fault.Of(err).Code != "no-such-promotion" {
		t.Errorf("undone: %v", err)
	}
	arrivals, err := q.Promotion.Arrivals(t.Context(), purser, "releases", time.Time{}, 10)
	if err != nil || len(arrivals) != 1 || arrivals[0].AskedBy != "purser" || arrivals[0].Build != "parts#1" {
		t.Errorf("%+v %v", arrivals, err)
	}
	track, err := q.Promotion.Track(t.Context(), purser, "ferry")
	if err != nil {
		t.Fatal(err)
	}
	standings, err := q.Promotion.Standings(t.Context(), purser, track, 10)
	if err != nil || len(standings) != 2 || standings[0].Versions != 1 || standings[1].Versions != 1 {
		t.Errorf("%+v %v", standings, err)
	}
	stranger := access.Caller{ID: 99, Name: "stranger"}
	if tracks, err := q.Promotion.Tracks(t.Context(), stranger); err != nil || len(tracks) != 0 {
		t.Errorf("a stranger sees %+v, %v", tracks, err)
	}
	if _, err := q.Builds.Build(t.Context(), stranger, "parts#1"); fault.Of(err).Code != "no-such-build" {
		t.Errorf("a stranger sees the build: %v", err)
	}
}

// TestBuildsOfATime: without a beginning, a build takes what its token published
// since the last one ended; later parts of the same upload join it.
func TestBuildsOfATime(t *testing.T) {
	q := newLine(t, recordtest.URL(t))
	ci := q.admin
	ci.Token = "nightly"
	report := func(number string) record.Build {
		t.Helper()
		b, err := q.Builds.RecordBuild(t.Context(), ci,
			builds.Report{Name: "parts", Number: number, Link: "javascript:alert(1)", Notes: map[string]string{"os": "debian"}})
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	q.npm(t, ci, q.snapshots, part(1))
	q.npm(t, q.admin, q.snapshots, part(9)) // with another token
	if b := report("1"); b.Made != 1 || b.Link != "" || b.Notes["os"] != "debian" {
		t.Errorf("%+v", b)
	}
	q.npm(t, ci, q.snapshots, part(2))
	q.npm(t, ci, q.snapshots, part(3))
	if b := report("2"); b.Made != 2 {
		t.Errorf("%+v", b)
	}
	q.npm(t, ci, q.snapshots, part(4))
	if b := report("2"); b.Made != 3 {
		t.Errorf("recorded again: %+v", b)
	}
	made, used, err := q.Builds.CompareBuilds(t.Context(), q.admin, "parts#1", "parts#2")
	if err != nil || len(made) != 4 || len(used) != 0 {
		t.Errorf("%+v %+v %v", made, used, err)
	}
	for _, wrong := range []builds.Report{{Name: "parts"}, {Name: "a b/", Number: "1"},
		{Name: "parts", Number: "3", StartedAt: time.Now().Add(time.Hour)},
		{Name: "parts", Number: "3", Made: []string{"pkg:npm/none@1"}},
		{Name: "parts", Number: "3", Made: []string{"nonsense"}}, {Name: "parts", Number: "3", Digests: []string{"short"}},
		{Name: "parts", Number: "3", In: "nowhere"}} {
		if b, err := q.Builds.RecordBuild(t.Context(), ci, wrong); err == nil {
			t.Errorf("%+v is on record as %+v", wrong, b)
		}
	}
	if _, err := q.Builds.Build(t.Context(), q.admin, "parts#3"); err == nil {
		t.Error("a build that was refused is on record")
	}
	// Two that run at once with one token cannot be told apart.
	for _, title := range []string{"parts#5", "parts#6"} {
		if _, _, err := q.Builds.BeginBuild(t.Context(), ci, title); err != nil {
			t.Fatal(err)
		}
	}
	if id := q.Builds.Of(ci); id != 0 {
		t.Errorf("it belongs to build %d", id)
	}
	other := ci
	other.Token = "other"
	if _, _, err := q.Builds.BeginBuild(t.Context(), other, "parts#7"); err != nil || q.Builds.Of(other) == 0 {
		t.Errorf("the only one of its token is not found: %v", err)
	}
}
