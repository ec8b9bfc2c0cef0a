package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	coreretention "crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/retention"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/status"
)

// TestPlanAndRunAgree makes up repositories and policies: when nothing changes
// between, a run takes what the plan said, and nothing else.
func TestPlanAndRunAgree(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "0.0.1", "first"); err != nil {
		t.Fatal(err)
	}
	if _, err := n.DB.ExecContext(ctx, `with more as (
			insert into package (repository_id, ecosystem, namespace, name, changed_at)
			select repository_id, (array['maven', 'npm', 'pypi', 'nuget'])[1 + i % 4], case
			when i % 4 = 1 then '@skerry' else '' end, 'package-' || i, changed_at from package, generate_series(1, 40) i
			returning id
		), made as (
			insert into version (package_id, version, upload, snapshot, uploaded_at, upload_count, published_by, touched_at,
			visible_from, bytes)
			select p.id, '1.' || i % 4 || '.' || i || case when i % 3 = 0 then '-dev.1' else '' end, case
			when i % 3 = 0 then 'u' || i else '' end, i % 3 = 0,
				v.uploaded_at - (i * p.id % 60) * interval '1 day', i, 'x', v.touched_at,
				v.visible_from - (i * p.id % 60) * interval '1 day', 100 + i
			from more p, version v, generate_series(1, 12) i where v.version = '0.0.1' returning id, package_id, version, bytes
		), used as (
			insert into version_use (version_id, used_at, downloads, users) select id, now() - (id % 50) * interval '1 day', 3,
			id % 4 from made where id % 3 = 0
		), labelled as (
			insert into label (package_id, name, version, set_by, visible_from) select distinct on (package_id) package_id,
			'stable', version, 'x', now() - interval '1 day' from made where id % 7 = 0 order by package_id, id
		), pinned as (
			insert into pin (package_id, version, reason, by_name, at) select distinct package_id, version, 'why not', 'x',
			now() - interval '1 day' from made where id % 11 = 0
		)
		update package p set versions = m.n, bytes = m.bytes from (select package_id, count(*) n, sum(bytes) bytes from made
		group by package_id) m where m.package_id = p.id`); err != nil {
		t.Fatal(err)
	}
	// The rows that the last statement did not see yet.
	if _, err := n.DB.ExecContext(ctx,
		`update package p set versions = m.n, bytes = m.bytes from (select package_id, count(*) n, sum(bytes) bytes
			from version group by package_id) m where m.package_id = p.id`); err != nil {
		t.Fatal(err)
	}
	last := 1 << 30
	for i, keep := range []string{"newest 8 of each package, younger than 50d", "newest 2 of each minor, labelled stable",
		"downloaded within 20d, labelled stable, newest 3", "last used up to 4KiB, wanted by 3", "labelled stable"} {
		var reasons []string
		for _, reason := range strings.Split(keep, ", ") {
			reasons = append(reasons, "  - "+reason)
		}
		name := fmt.Sprintf("round-%d", i)
		text := "name: " + name + "\nrepositories: [releases]\nkeep:\n" + strings.Join(reasons, "\n") + "\n"
		n.set(t, text)
		planned := map[int64]bool{}
		plan, err := n.Retention.PlanSweep(ctx, n.admin, text, time.Time{}, func(l *retention.PlanLine) error {
			if l.Fate == coreretention.Swept {
				planned[l.ID] = true
				if l.Pinned != "" || len(l.Labels) > 0 && strings.Contains(keep, "labelled") {
					t.Errorf("%s %s is pinned or labelled, and would go", l.Package, l.Version.Version)
				}
			}
			return nil
		})
		if err != nil || plan.Total.Swept != len(planned) {
			t.Fatal(plan, err)
		}
		v := n.sweep(t, name, false)
		items, err := n.Retention.SweepItems(ctx, n.admin, v,
			record.ItemFilter{After: -1, Limit: 5000, States: []string{record.ItemRemoved}})
		if err != nil || v.Spared != 0 || len(items) != len(planned) {
			t.Errorf("%s: %d planned, %d removed, %d spared: %v", keep, len(planned), len(items), v.Spared, err)
		}
		for _, item := range items {
			if !planned[item.VersionID] {
				t.Errorf("%s: %s %s was not planned", keep, item.Name, item.Version)
			}
		}
		totals, err := n.Repositories.Totals(ctx, r)
		if left := int(totals[r.ID].Versions); err != nil || left != plan.Total.Kept+plan.Total.Outside || left > last {
			t.Errorf("%s: %d are left, %+v, %v", keep, left, plan.Total, err)
		} else {
			last = left
		}
		if err := n.Retention.RemovePolicy(ctx, n.admin, name); err != nil {
			t.Fatal(err)
		}
	}
	if last > 200 || last < 40 {
		t.Errorf("%d versions are left in the end", last)
	}
	// All of it comes back.
	for id := int64(1); id <= 5; id++ {
		if _, err := n.Retention.UndoSweep(ctx, n.admin, id, nil); err != nil && fault.Of(err).Code != "nothing-to-undo" {
			t.Fatal(err)
		}
	}
	if totals, err := n.Repositories.Totals(ctx, r); err != nil || totals[r.ID].Versions != 481 {
		t.Errorf("%+v %v", totals, err)
	}
}

// TestConcerns tells each what is wrong with what they may see.
func TestConcerns(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	levels := func() map[string]string {
		t.Helper()
		found, err := n.Status.Concerns(ctx, n.admin)
		if err != nil {
			t.Fatal(err)
		}
		all := map[string]string{}
		for _, c := range found {
			if c.Do == "" || !strings.HasPrefix(c.Page, "/") {
				t.Errorf("%+v", c)
			}
			all[c.Page] = c.Level + ": " + c.What
		}
		return all
	}
	if all := levels(); len(all) != 0 {
		t.Errorf("a new service: %v", all)
	}
	r := n.repository(t)
	for _, version := range []string{"1.0.0", "1.1.0"} {
		if err := n.publish(t, r, version, version); err != nil {
			t.Fatal(err)
		}
	}
	n.set(t, "name: tidy\nrepositories: [releases]\nkeep: [newest 1]\nmost-share: 10%\n")
	asking := n.sweep(t, "tidy", false)
	if _, err := n.Repositories.AddRepository(ctx, n.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "snapshots", Kind: catalog.House,
			Holds: catalog.Snapshots}}); err != nil {
		t.Fatal(err)
	}
	if _, err := n.DB.ExecContext(ctx,
		`insert into package (repository_id, ecosystem, namespace, name, changed_at, versions, bytes) select id, 'npm', '',
			'many', now(), $1, 5 from repository where name = 'snapshots'`, status.Crowded); err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: "ci-berth", Robot: true}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := n.Rights.AddToken(ctx, n.admin,
		rights.NewToken{For: "ci-berth", Name: "nightly", Length: 10 * time.Hour}); err != nil {
		t.Fatal(err)
	}
	if all := levels(); all["/tokens"] != "" {
		t.Errorf("a fresh token is a concern: %v", all)
	}
	n.later(9*time.Hour + 10*time.Minute) // the last tenth
	all := levels()
	for page, want := range map[string]string{"/sweeps/" +
		act.Itoa(asking.ID): "waits: Sweep 1 by tidy stopped and asks: it would take 1 of the 2 versions of releases",
		"/policies/new": "soon: snapshots holds 500 versions",
		"/tokens":       "soon: The token nightly of the robot ci-berth ends on"} {
		if !strings.HasPrefix(all[page], want) {
			t.Errorf("%s: %q; want %q", page, all[page], want)
		}
	}
	if len(all) != 3 {
		t.Errorf("%v", all)
	}
}
