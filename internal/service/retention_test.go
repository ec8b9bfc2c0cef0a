package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	coreretention "crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/retention"
	"crelvo/internal/service/schedule"
)

const tide = "pkg:maven/example.skerry.berth/tide-model"

func tideKey(r catalog.Repository) catalog.PackageKey {
	return r.Key("maven", "example.skerry.berth", "tide-model")
}

// later moves the clock of a node, and that of its database.
func (n *node) later(by time.Duration) {
	was, theirs := n.Settings.Now, n.DatabaseNow
	n.Settings.Now = func() time.Time { return was().Add(by) }
	n.DatabaseNow = func(ctx context.Context) (time.Time, error) {
		now, err := theirs(ctx)
		return now.Add(by), err
	}
}

func (n *node) versions(t *testing.T, r catalog.Repository) []string {
	t.Helper()
	p, err := n.Holdings.Package(t.Context(), tideKey(r))
	if fault.Is(err, fault.NotFound) || err != nil && strings.Contains(err.Error(), "no such package") {
		return nil
	}
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, v := range p.Versions {
		names = append(names, v.Version)
	}
	slices.Sort(names)
	return names
}

func (n *node) set(t *testing.T, text string) retention.PolicyView {
	t.Helper()
	v, _, err := n.Retention.SetPolicy(t.Context(), n.admin, text, false)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// sweep runs a policy to its end.
func (n *node) sweep(t *testing.T, policy string, goOn bool) retention.SweepView {
	t.Helper()
	sweep, err := n.Retention.Sweep(t.Context(), n.admin, policy, goOn)
	if err == nil {
		err = n.chore(t.Context(), "sweeping")
	}
	if err != nil {
		t.Fatal(err)
	}
	v, err := n.Retention.SweepByID(t.Context(), n.admin, sweep.ID)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestSweep takes versions out by a policy: the plan and the run agree; what went
// comes back with its labels, or after the grace its bytes are reclaimed, and then
// a release still does not come back as something else.
func TestSweep(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	for _, version := range []string{"1.0.0", "1.1.0", "1.2.0", "1.3.0", "1.4.0"} {
		if err := n.publish(t, r, version, "the same "+version[:3]); err != nil {
			t.Fatal(err)
		}
	}
	if err := n.DB.Within(ctx, func(tx *record.Tx) error {
		return tx.SetLabel(ctx, tideKey(r), "old", "1.1.0", "x", n.Now())
	}); err != nil {
		t.Fatal(err)
	}
	if err := n.Retention.Pin(ctx, n.admin, r.Name, "maven", "example.skerry.berth", "tide-model", "1.0.0", "audit",
		nil); err != nil {
		t.Fatal(err)
	}
	text := "name: tidy\nrepositories: [releases]\nkeep: [newest 2]\ngrace: 2d\n"
	n.set(t, text)
	planned := map[string]string{}
	plan, err := n.Retention.PlanSweep(ctx, n.admin, text, time.Time{}, func(l *retention.PlanLine) error {
		planned[l.Version.Version] = l.Fate.String() + " " + l.Reason
		return nil
	})
	if err != nil || plan.Total.Swept != 2 || plan.Total.Kept != 3 || plan.Total.Freed == 0 ||
		plan.Total.Freed != plan.Total.SweptBytes {
		t.Fatalf("%+v %v", plan, err)
	}
	if planned["1.0.0"] != "kept pinned by admin: audit" || planned["1.1.0"] != "swept "+coreretention.NothingKeeps {
		t.Errorf("%v", planned)
	}
	v := n.sweep(t, "tidy", false)
	if v.State != record.SweepDone || v.Done != 2 || v.Versions != 2 || v.Freed != plan.Total.Freed {
		t.Fatalf("%+v", v)
	}
	if got := n.versions(t, r); !slices.Equal(got, []string{"1.0.0", "1.3.0", "1.4.0"}) {
		t.Errorf("after the sweep: %v", got)
	}
	if err := n.publish(t, r, "1.1.0", "something else"); fault.Of(err).Code != "published-before" {
		t.Errorf("a swept release came back as something else: %v", err)
	}
	gone := catalog.MomentOf(n.Now())
	// One comes back, with its label, and stays for the time of grace.
	if back, err := n.Retention.UndoSweep(ctx, n.admin, v.ID, []string{tide + "@1.1.0"}); err != nil || back.Back != 1 {
		t.Fatalf("%+v %v", back, err)
	}
	p, err := n.Holdings.Package(ctx, tideKey(r))
	if err != nil || p.Labels["old"] != "1.1.0" || len(p.Versions) != 4 {
		t.Errorf("%+v %v", p, err)
	}
	then := tideKey(r)
	then.AsOf = gone
	if p, err := n.Resolving.Package(ctx, then); err != nil || len(p.Versions) != 3 {
		t.Errorf("while it was gone: %+v %v", p, err)
	}
	if again := n.sweep(t, "tidy", false); again.Versions != 0 {
		t.Errorf("it was swept again: %+v", again)
	}
	n.later(time.Hour)
	if again := n.sweep(t, "tidy", false); again.Versions != 0 {
		t.Errorf("it was swept again: %+v", again)
	}
	before := n.stored(t)
	if run, err := n.Retention.Reclaim(ctx, n.admin, true); err != nil || run.Files != 0 || n.stored(t) != before {
		t.Errorf("reclaimed within the grace: %+v %v", run, err)
	}
	n.later(48 * time.Hour)
	run, err := n.Retention.Reclaim(ctx, n.admin, false)
	if err != nil || run.Versions != 1 || run.Marked == 0 || run.Files != 0 || n.stored(t) != before {
		t.Errorf("the first run marks only: %+v %v", run, err)
	}
	n.later(2 * time.Hour)
	if run, err = n.Retention.Reclaim(ctx, n.admin, false); err != nil || run.Files == 0 || run.Bytes == 0 ||
		n.stored(t) != before-run.Files {
		t.Errorf("the second run frees: %+v %v; %d files, %d before", run, err, n.stored(t), before)
	}
	if _, err := n.Retention.UndoSweep(ctx, n.admin, v.ID, nil); fault.Of(err).Code != "nothing-to-undo" {
		t.Errorf("what is reclaimed came back: %v", err)
	}
	if err := n.publish(t, r, "1.2.0", "something else"); fault.Of(err).Code != "published-before" {
		t.Errorf("a reclaimed release came back as something else: %v", err)
	}
	if err := n.publish(t, r, "1.2.0", "the same 1.2"); err != nil {
		t.Errorf("the same bytes may come back: %v", err)
	}
	// Everything that can be seen is there, byte for byte.
	if got := n.versions(t, r); !slices.Equal(got, []string{"1.0.0", "1.1.0", "1.2.0", "1.3.0", "1.4.0"}) {
		t.Errorf("in the end: %v", got)
	}
	n.wholeStore(t)
}

// wholeStore checks that the bytes of every file that can be seen are there.
func (n *node) wholeStore(t *testing.T) {
	t.Helper()
	var missing int
	var sums [][]byte
	if err := n.DB.SelectContext(t.Context(), &sums,
		`select distinct f.sha256 from file f join version v on v.id = f.version_id
			where v.visible_until is null`); err != nil {
		t.Fatal(err)
	}
	for _, sum := range sums {
		if there, err := n.Store.HasBytes(t.Context(), [32]byte(sum)); err != nil || !there {
			missing++
		}
	}
	if missing > 0 || len(sums) == 0 {
		t.Errorf("the bytes of %d of %d files are gone", missing, len(sums))
	}
}

// TestSweepAsks stops where more would go than a policy lets a run take, and where
// something changed since the plan.
func TestSweepAsks(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	for i := range 6 {
		if err := n.publish(t, r, fmt.Sprintf("1.%d.0", i), fmt.Sprint(i)); err != nil {
			t.Fatal(err)
		}
	}
	n.set(t, "name: most\nrepositories: [releases]\nkeep: [newest 1]\nmost-versions: 4\n")
	n.set(t, "name: share\nrepositories: [releases]\nkeep: [newest 1]\nmost-share: 50%\n")
	for name, why := range map[string]string{"most": "it would take 5 versions, and may take 4 without asking",
		"share": "it would take 5 of the 6 versions of releases, and may take 50% without asking"} {
		if v := n.sweep(t, name, false); v.State != record.SweepAsking || v.Why != why || v.Done != 0 {
			t.Errorf("%+v", v)
		}
	}
	if v, err := n.Retention.StopSweep(ctx, n.admin, 1); err != nil || v.State != record.SweepCancelled {
		t.Errorf("%+v %v", v, err)
	}
	// It goes on, and spares what is kept by now.
	sweep, err := n.Retention.Sweep(ctx, n.admin, "most", true)
	if err != nil || sweep.State != record.SweepUnderway || sweep.Versions != 5 {
		t.Fatalf("%+v %v", sweep, err)
	}
	if _, err := n.Retention.Sweep(ctx, n.admin, "most", true); fault.Of(err).Code != "sweep-underway" {
		t.Errorf("a second one at once: %v", err)
	}
	if err := n.Retention.Pin(ctx, n.admin, r.Name, "maven", "example.skerry.berth", "tide-model", "1.2.0", "now",
		nil); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Retention.RemoveVersion(ctx, n.admin, r.Name,
		purl.PURL{Ecosystem: "maven", Namespace: "example.skerry.berth", Name: "tide-model", Version: "1.0.0"}); err != nil {
		t.Fatal(err)
	}
	// A version that another policy keeps by now stays too.
	n.set(t, "name: other\nrepositories: ['rel*']\npackages: ['pkg:maven/*/*@1.1.0']\nkeep: [younger than 1d]\n")
	if err := n.chore(ctx, "sweeping"); err != nil {
		t.Fatal(err)
	}
	v, err := n.Retention.SweepByID(ctx, n.admin, sweep.ID)
	if err != nil || v.State != record.SweepDone || v.Done != 2 || v.Spared != 3 {
		t.Errorf("%+v %v", v, err)
	}
	items, err := n.Retention.SweepItems(ctx, n.admin, v,
		record.ItemFilter{After: -1, Limit: 10, States: []string{record.ItemSpared}})
	notes := map[string]string{}
	for _, i := range items {
		notes[i.Version] = i.Note
	}
	if err != nil || notes["1.2.0"] != "pinned by admin: now" || notes["1.0.0"] != "it is not there any more" ||
		!strings.HasSuffix(notes["1.1.0"], "by other") {
		t.Errorf("%v %v", notes, err)
	}
	if got := n.versions(t, r); !slices.Equal(got, []string{"1.1.0", "1.2.0", "1.5.0"}) {
		t.Errorf("left: %v", got)
	}
	// What was removed by hand comes back the same way; not where it was published
	// again.
	found, err := n.Retention.Sweeps(ctx, n.admin, record.SweepFilter{})
	i := slices.IndexFunc(found, func(s retention.SweepView) bool { return s.Policy == "" })
	if err != nil || i < 0 {
		t.Fatal(found, err)
	}
	if back, err := n.Retention.UndoSweep(ctx, n.admin, found[i].ID, nil); err != nil || back.Back != 1 {
		t.Errorf("%+v %v", back, err)
	}
	if err := n.publish(t, r, "1.3.0", "3"); err != nil {
		t.Fatal(err)
	}
	if back, err := n.Retention.UndoSweep(ctx, n.admin, sweep.ID, nil); err != nil || back.Back != 1 ||
		len(back.Not) != 1 || back.Not[0].Why != "it was published again" {
		t.Errorf("%+v %v", back, err)
	}
}

// TestPlanOfMore checks what stays because of what else stays, shared bytes, and
// other moments.
func TestPlanOfMore(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	publish := func(name, version, content string, needs string) {
		t.Helper()
		pom := fmt.Sprintf(
			"<project><modelVersion>4.0.0</modelVersion><groupId>example.skerry.berth</groupId><artifactId>%s</artifactId><version>%s</version>%s</project>", name, version, needs)
		files := []publishing.ByHand{{Name: name + ".pom", Body: strings.NewReader(pom)},
			{Name: name + ".jar", Body: strings.NewReader(jar(t, content))}}
		if _, err := n.Publishing.PublishByHand(ctx, n.admin, r, purl.PURL{}, func() (publishing.ByHand, error) {
			if len(files) == 0 {
				return publishing.ByHand{}, io.EOF
			}
			next := files[0]
			files = files[1:]
			return next, nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 4 {
		publish("tide-model", fmt.Sprintf("1.%d.0", i), fmt.Sprint("tide ", i/2), "") // two share a jar each
	}
	publish("berth-planner", "2.0.0", "planner",
		"<dependencies><dependency><groupId>example.skerry.berth</groupId><artifactId>tide-model</artifactId><version>1.1.0</version></dependency></dependencies>")
	text := "name: lean\nrepositories: [releases]\nkeep: [newest 1, needed]\n"
	fates := func(text string, asOf time.Time) (map[string]string, *retention.SweepPlan) {
		got := map[string]string{}
		plan, err := n.Retention.PlanSweep(ctx, n.admin, text, asOf, func(l *retention.PlanLine) error {
			got[l.Package.Name+" "+l.Version.Version] = fmt.Sprintf("%s %s %t", l.Fate, l.Reason, l.Freed == l.Bytes)
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		return got, plan
	}
	got, plan := fates(text, time.Time{})
	for version, want := range map[string]string{
		"tide-model 1.3.0":    "kept among the newest 1 of each package false",
		"tide-model 1.2.0":    "swept no reason keeps it false", // its jar is that of 1.3.0
		"tide-model 1.1.0":    "kept needed by berth-planner 2.0.0 false",
		"tide-model 1.0.0":    "swept no reason keeps it false", // its jar is that of 1.1.0
		"berth-planner 2.0.0": "kept among the newest 1 of each package false",
	} {
		if got[version] != want {
			t.Errorf("%s: %s; want %s", version, got[version], want)
		}
	}
	if plan.Total.Freed == 0 || plan.Total.Freed >= plan.Total.SweptBytes {
		t.Errorf("%d of %d bytes are freed", plan.Total.Freed, plan.Total.SweptBytes)
	}
	young := "name: lean\nrepositories: [releases]\nkeep: [younger than 10d]\n"
	if _, plan := fates(young, time.Time{}); plan.Total.Swept != 0 {
		t.Errorf("%+v", plan.Total)
	}
	if _, plan := fates(young, n.Now().AddDate(0, 0, 11)); plan.Total.Swept != 5 {
		t.Errorf("in eleven days: %+v", plan.Total)
	}
	if _, plan := fates(young, n.Now().Add(-time.Hour)); plan.Total != (retention.PlanTotal{}) {
		t.Errorf("an hour ago: %+v", plan.Total)
	}
	if got, _ := fates("name: lean\nrepositories: [releases]\nwhere: needs:tide-model\nkeep: [younger than 0d]\n",
		time.Time{}); got["berth-planner 2.0.0"] != "swept no reason keeps it true" ||
		!strings.HasPrefix(got["tide-model 1.0.0"], "outside") {
		t.Errorf("with a query: %v", got)
	}
	if got, _ := fates("name: lean\nrepositories: [releases]\nkeep: [last used up to 1B]\n",
		time.Time{}); !strings.HasPrefix(got["tide-model 1.0.0"], "swept") {
		t.Errorf("with hardly any room: %v", got)
	}
	for text, why := range map[string]string{strings.Replace(young, "releases", "nowhere",
		1): "line 2: there is no repository of that name", young + "schedule: '61 * * * *'": "line 4: ", young +
		"schedule: 0 1 * * *\nzone: Mars/North": `line 5: "Mars/North" is no time zone`} {
		if _, err := n.Retention.PlanSweep(ctx, n.admin, text, time.Time{}, func(*retention.PlanLine) error {
			return nil
		}); err == nil || !strings.HasPrefix(err.Error(), why) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// lockVersions keeps everybody from the versions until it is given up.
func lockVersions(t *testing.T, db *record.DB) *sqlx.Tx {
	t.Helper()
	tx, err := db.BeginTxx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.ExecContext(t.Context(), `lock table version in access exclusive mode`); err != nil {
		t.Fatal(errors.Join(err, tx.Rollback()))
	}
	return tx
}

// TestPlanEnds: a plan that nobody waits for any more ends, in the database too.
func TestPlanEnds(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0.0", "first"); err != nil {
		t.Fatal(err)
	}
	tx := lockVersions(t, n.DB)
	defer tx.Rollback()
	waiting := func() (all int) {
		if err := n.DB.GetContext(t.Context(), &all, `select count(*) from pg_stat_activity
			where datname = current_database() and wait_event_type = 'Lock' and state = 'active'`); err != nil {
			t.Fatal(err)
		}
		return all
	}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		_, err := n.Retention.PlanSweep(ctx, n.admin, "name: x\nrepositories: ["+r.Name+"]\nkeep: [newest 1]\n",
			time.Time{}, func(*retention.PlanLine) error { return nil })
		ended <- err
	}()
	for waiting() == 0 {
		if t.Context().Err() != nil {
			t.Fatal("the plan waits for nothing")
		}
	}
	cancel()
	if err := <-ended; err == nil {
		t.Error("a plan that was given up came to an end")
	}
	for deadline := time.Now().Add(10 * time.Second); waiting() > 0; {
		if time.Now().After(deadline) {
			t.Fatal("the database goes on with a plan that was given up")
		}
	}
}

// TestSweepGoesOn ends the service in the middle of a sweep of some hundred
// versions: the next one takes it over, and takes the rest.
func TestSweepGoesOn(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0.0", "first"); err != nil {
		t.Fatal(err)
	}
	const more = 2*retention.SweepBatch + 50
	if _, err := n.DB.ExecContext(t.Context(), `with made as (
			insert into version (package_id, version, snapshot, uploaded_at, published_by, touched_at, visible_from, bytes)
			select package_id, '0.' || i || '.0', false, uploaded_at, published_by, touched_at, visible_from, 10 from version,
			generate_series(1, $1) i returning package_id)
		update package set versions = versions + $1, bytes = bytes + 10 * $1 where id in (select package_id from made)`,
		more); err != nil {
		t.Fatal(err)
	}
	n.set(t, "name: tidy\nrepositories: [releases]\nkeep: [newest 1]\n")
	sweep, err := n.Retention.Sweep(t.Context(), n.admin, "tidy", false)
	if err != nil || sweep.Versions != more {
		t.Fatalf("%+v %v", sweep, err)
	}
	ctx, end := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- n.chore(ctx, "sweeping") }()
	at := func() retention.SweepView {
		v, err := n.Retention.SweepByID(t.Context(), n.admin, sweep.ID)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for at().Done == 0 {
	}
	end()
	<-ended
	if v := at(); v.State != record.SweepUnderway || v.Done == 0 || v.Done >= more || v.Done%retention.SweepBatch != 0 {
		t.Fatalf("in the middle: %+v", v)
	}
	if err := n.chore(t.Context(), "sweeping"); err != nil || at().State != record.SweepUnderway {
		t.Errorf("it was taken over from somebody who is at it: %v", err)
	}
	n.later(2 * retention.SilentSweep)
	if err := n.chore(t.Context(), "sweeping"); err != nil {
		t.Fatal(err)
	}
	if v := at(); v.State != record.SweepDone || v.Done != more || v.Spared != 0 {
		t.Errorf("in the end: %+v", v)
	}
	if got := n.versions(t, r); !slices.Equal(got, []string{"1.0.0"}) {
		t.Errorf("left: %v", got)
	}
	totals, err := n.Repositories.Totals(t.Context(), r)
	if total := totals[r.ID]; err != nil || total.Versions != 1 || total.Bytes < 100 || total.Bytes > 10_000 {
		t.Errorf("%+v %v", total, err)
	}
}

// TestClockAhead: a clock that jumps ahead ends no grace, and frees nothing; runs
// that a kill left behind are ended.
func TestClockAhead(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0", "first"); err != nil {
		t.Fatal(err)
	}
	if err := n.Retention.Remove(t.Context(), n.admin, tideKey(r), []string{"1.0"}); err != nil {
		t.Fatal(err)
	}
	if _, err := n.DB.BeginReclaiming(t.Context(), record.Reclaiming{BegunBy: "nightly", BegunAt: n.Now()}); err != nil {
		t.Fatal(err)
	}
	right := n.Settings.Now
	n.Settings.Now = func() time.Time { return right().AddDate(1, 0, 0) }
	before := n.stored(t)
	run, err := n.Retention.Reclaim(t.Context(), n.admin, true)
	if err != nil || run.Versions != 0 || run.Files != 0 || n.stored(t) != before {
		t.Errorf("a year ahead: %+v, %v; %d files, %d before", run, err, n.stored(t), before)
	}
	runs, err := n.Retention.Reclaimings(t.Context(), n.admin, 10)
	if err != nil || len(runs) != 2 || runs[1].EndedAt == nil || runs[1].Failure != schedule.EndedInTheMiddle ||
		runs[0].Failure != "" {
		t.Errorf("%+v, %v", runs, err)
	}
	n.Settings.Now = right
	n.later(365 * 24 * time.Hour)
	if run, err = n.Retention.Reclaim(t.Context(), n.admin, true); err != nil || run.Versions != 1 ||
		n.stored(t) >= before {
		t.Errorf("when both clocks say so: %+v, %v", run, err)
	}
}

// TestRemovalIsNoArrival: what lost a version does not come first among what is
// recent, and what is told of it is when its newest version came.
func TestRemovalIsNoArrival(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	older := part(1)
	for _, version := range []string{"1.0.0", "1.1.0"} {
		older.Version = version
		n.npm(t, n.admin, r, older)
	}
	newer := part(2)
	newer.Version = "1.0.0"
	n.npm(t, n.admin, r, newer)
	n.later(time.Hour)
	if err := n.Retention.Remove(t.Context(), n.admin, r.Key("npm", "@skerry", "part-1"), []string{"1.0.0"}); err != nil {
		t.Fatal(err)
	}
	found, err := n.Search.Search(t.Context(), n.admin, "", "", 10, 0)
	if err != nil || len(found) != 2 || found[0].Name != "part-2" || n.Now().Sub(found[1].ChangedAt) < 50*time.Minute {
		t.Errorf("%+v, %v", found, err)
	}
}

// TestPlanIsPatient: a plan over very many versions takes longer than anybody waits for one
// statement of a request.
func TestPlanIsPatient(t *testing.T) {
	t.Parallel()
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0.0", "first"); err != nil {
		t.Fatal(err)
	}
	tx := lockVersions(t, n.DB)
	defer tx.Rollback()
	planned := make(chan error, 1)
	go func() {
		_, err := n.Retention.PlanSweep(t.Context(), n.admin, "name: x\nrepositories: ["+r.Name+"]\nkeep: [newest 1]\n",
			time.Time{}, func(*retention.PlanLine) error { return nil })
		planned <- err
	}()
	for long := false; !long; {
		select {
		case err := <-planned:
			t.Fatalf("it did not wait: %v", err)
		case <-time.After(50 * time.Millisecond):
		}
		if err := n.DB.GetContext(t.Context(), &long, `select exists (select from pg_stat_activity
			where datname = current_database() and wait_event_type = 'Lock' and state = 'active'
			and clock_timestamp() - query_start > interval '7 seconds')`); err != nil {
			t.Fatal(err)
		}
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	if err := <-planned; err != nil {
		t.Errorf("after it waited: %v", err)
	}
}
