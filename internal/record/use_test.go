package record_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/query"
	"crelvo/internal/core/retention"
	"crelvo/internal/record"
)

// version publishes a version with one file, and gives its id.
func (w *world) version(name, version, content string, at time.Time) int64 {
	w.t.Helper()
	id := w.add(w.file(name, version, content, 1, at)).VersionID
	if !w.complete(id, at) {
		w.t.Fatalf("%s %s was not completed", name, version)
	}
	return id
}

// TestUse counts downloads by day, client and who, and tells what is used, what
// rises, and what nobody uses.
func TestUse(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	old, fresh, idle := w.version("a", "1", "one", now), w.version("a", "2", "two", now),
		w.version("idle", "1", "a much longer one", now)
	day := func(n int) time.Time { return now.AddDate(0, 0, -n) }
	count := func(version int64, ago int, client, who string, n int64, users ...int64) {
		t.Helper()
		d := record.Downloads{VersionIDs: []int64{version}, Days: []time.Time{day(ago)}, Clients: []string{client},
			Whos: []string{who}, Counts: []int64{n}, Lasts: []time.Time{day(ago)}}
		for _, user := range users {
			d.UserVersionIDs, d.UserDays, d.UserClients, d.UserWhos = append(d.UserVersionIDs, version),
				append(d.UserDays, day(ago)), append(d.UserClients, client), append(d.UserWhos, who)
			d.UserIDs, d.UserLasts = append(d.UserIDs, user), append(d.UserLasts, day(ago))
		}
		w.within(func(tx *record.Tx) error { return tx.CountDownloads(ctx, d) })
	}
	count(old, 8, "maven", "robot", 5, 1)
	count(old, 8, "maven", "robot", 2, 1, 2)
	count(old, 1, "gradle", "person", 1, 2)
	count(fresh, 1, "maven", "nobody", 4)
	count(fresh, 0, "maven", "robot", 3, 1)
	count(-7, 0, "maven", "robot", 3, 1) // a version that is gone

	uses, err := w.Uses(ctx, []int64{old, fresh, idle})
	if err != nil || uses[old].Downloads != 8 || uses[old].Users != 2 || !uses[old].UsedAt.Equal(day(1)) ||
		uses[fresh].Users != 1 || uses[idle].Downloads != 0 {
		t.Errorf("%+v %v", uses, err)
	}
	of := record.UseOf{Scope: record.Scope{Repositories: []int64{w.repo.ID}}, From: day(30), Until: now}
	for by, want := range map[string]string{
		"day":        "2026-10-24 7/2, 2026-10-31 5/1, 2026-11-01 3/1",
		"client":     "gradle 1/1, maven 14/2",
		"who":        "nobody 4/0, person 1/1, robot 10/2",
		"version":    "1 8/2, 2 7/1",
		"repository": fmt.Sprintf("%d 15/2", w.repo.ID),
	} {
		parts, err := w.UseBy(ctx, of, by)
		got := ""
		for i, p := range parts {
			if i > 0 {
				got += ", "
			}
			got += fmt.Sprintf("%s %d/%d", p.Part, p.Downloads, p.Users)
		}
		if err != nil || got != want {
			t.Errorf("by %s: %s %v; want %s", by, got, err, want)
		}
	}
	one := of
	one.Ecosystem, one.Namespace, one.Name, one.Version = "maven", "example.skerry.berth", "a", "2"
	if parts, err := w.UseBy(ctx, one, "day"); err != nil || len(parts) != 2 {
		t.Errorf("of one version: %+v %v", parts, err)
	}
	if _, err := w.UseBy(ctx, of, "colour"); err == nil {
		t.Error("use is parted by colour")
	}
	week := of
	week.From = day(6)
	for order, want := range map[string][]string{"top": {"a 8 before 7"}, "rising": {"a 8 before 7"}, "falling": nil,
		"unused": {"idle 0 before 0"}} {
		found, err := w.UsedPackages(ctx, week, order, 10)
		var got []string
		for _, p := range found {
			got = append(got, fmt.Sprintf("%s %d before %d", p.Name, p.Downloads, p.Before))
		}
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %v %v; want %v", order, got, err, want)
		}
	}
	if _, err := w.UsedPackages(ctx, week, "best", 10); err == nil {
		t.Error("there is an order best")
	}
	users, err := w.UsersOf(ctx, []int64{old})
	if err != nil || len(users) != 2 || users[0].Name != "purser" ||
		!slices.Equal(users[0].Clients, []string{"gradle", "maven"}) || users[1].Name != "ci-berth" {
		t.Errorf("%+v %v", users, err)
	}
	// Two years later the days are forgotten, and the totals are not.
	if n, err := w.ForgetDownloads(ctx, day(0)); err != nil || n != 3 {
		t.Errorf("%d rows were forgotten, %v", n, err)
	}
	if uses, err := w.Uses(ctx, []int64{old}); err != nil || uses[old].Downloads != 8 {
		t.Errorf("%+v %v", uses, err)
	}
}

// TestSpace tells what is held, what of it is shared, and what was held before.
func TestSpace(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	scope := record.Scope{Repositories: []int64{w.repo.ID}}
	w.version("a", "1", "0123456789", now.AddDate(0, -1, 0))
	two := w.version("a", "2", "0123456789", now.AddDate(0, 0, -3)) // the same bytes
	w.version("b", "1", "01234", now.AddDate(0, 0, -2))
	w.within(func(tx *record.Tx) error {
		ids, err := tx.Hold(ctx, []int64{two})
		if err != nil || len(ids) != 1 {
			return fmt.Errorf("%v %w", ids, err)
		}
		return tx.TakeOut(ctx, ids, time.Hour, now.AddDate(0, 0, -1))
	})
	spaces, err := w.Spaces(ctx, scope)
	if err != nil || len(spaces) != 1 || spaces[0].Packages != 2 || spaces[0].Versions != 2 || spaces[0].Bytes != 15 ||
		spaces[0].Shared != 10 || spaces[0].Grace != 10 {
		t.Errorf("%+v %v", spaces, err)
	}
	days, err := w.SpaceDays(ctx, scope.Repositories, now.AddDate(0, 0, -10))
	got := ""
	for _, d := range days {
		got += fmt.Sprintf("%s:%d/%d ", d.Day, d.Versions, d.Bytes)
	}
	if err != nil || got != "2026-10-22:1/10 2026-10-29:2/20 2026-10-30:3/25 2026-10-31:2/15 " {
		t.Errorf("%s %v", got, err)
	}
	ages, err := w.SpaceByAge(ctx, scope)
	if err != nil || len(ages) != 1 || ages[0].Month != "2026-10" || ages[0].Versions != 2 || ages[0].Bytes != 15 {
		t.Errorf("%+v %v", ages, err)
	}
	stored, err := w.Stored(ctx)
	if err != nil || stored.Files != 2 || stored.Bytes != 15 || stored.Unnamed != 0 {
		t.Errorf("%+v %v", stored, err)
	}
}

// TestFacts reads the same in a transaction and beside one, and tells of versions
// what policies ask for.
func TestFacts(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	first := w.version("a", "1", "0123456789", now.AddDate(0, 0, -9))
	second := w.version("a", "2", "0123456789", now.AddDate(0, 0, -5))
	third := w.version("b", "1", "01234", now.AddDate(0, 0, -2))
	key := w.repo.Key("maven", "example.skerry.berth", "a")
	w.within(func(tx *record.Tx) error {
		if err := tx.SetLabel(ctx, key, "latest", "2", "x", now); err != nil {
			return err
		}
		until := now.Add(time.Hour)
		done, err := tx.SetPin(ctx, key, record.Pin{Version: "1", Reason: "audit", By: "purser", At: now.Add(-time.Hour),
			Until: &until})
		if err != nil || !done {
			return fmt.Errorf("%v %w", done, err)
		}
		if done, err = tx.SetPin(ctx, key, record.Pin{Version: "9", Reason: "audit", By: "purser", At: now}); err != nil ||
			done {
			return fmt.Errorf("what is not there was pinned: %w", err)
		}
		return tx.CountDownloads(ctx, record.Downloads{VersionIDs: []int64{first}, Days: []time.Time{now.AddDate(0, 0, -1)},
			Clients: []string{"maven"}, Whos: []string{"robot"}, Counts: []int64{3}, Lasts: []time.Time{now.AddDate(0, 0, -1)}})
	})
	labelled, err := query.Parse("label:latest")
	if err != nil {
		t.Fatal(err)
	}
	named, err := query.Parse("name:b")
	if err != nil {
		t.Fatal(err)
	}
	queries := []query.Query{{}, labelled, named}
	check := func(f record.Facts) error {
		packages, err := f.Packages(ctx, w.repo.ID, queries, 0)
		if err != nil || len(packages) != 2 || packages[0].Key.Name != "a" || packages[0].Versions != 2 ||
			!slices.Equal(packages[0].About, []bool{true, true, false}) ||
			!slices.Equal(packages[1].About, []bool{true, true, true}) {
			return fmt.Errorf("packages: %+v %w", packages, err)
		}
		ids := []int64{packages[0].ID, packages[1].ID}
		found := map[int64]retention.Version{}
		var order []int
		if err := f.Versions(ctx, ids, queries, now, 0, func(i int, versions []retention.Version) error {
			order = append(order, i)
			for _, v := range versions {
				found[v.ID] = v
			}
			return nil
		}); err != nil {
			return err
		}
		v := found[first]
		if len(found) != 3 || !slices.Equal(order, []int{0, 1}) || v.Bytes != 10 || v.Downloads != 3 ||
			!v.UsedAt.Equal(now.AddDate(0, 0, -1)) || !slices.Equal(v.Fits, []bool{true, false, true}) ||
			!found[second].Fits[1] {
			return fmt.Errorf("versions: %v %+v", order, found)
		}
		labels, err := f.Labels(ctx, ids, 0)
		if err != nil || !slices.Equal(labels[ids[0]]["2"], []string{"latest"}) || len(labels) != 1 {
			return fmt.Errorf("labels: %v %w", labels, err)
		}
		pins, err := f.Pinned(ctx, []int64{w.repo.ID}, now)
		if err != nil || pins[ids[0]]["1"] != "by purser: audit" {
			return fmt.Errorf("pins: %v %w", pins, err)
		}
		if later, err := f.Pinned(ctx, []int64{w.repo.ID}, now.Add(2*time.Hour)); err != nil || len(later) != 0 {
			return fmt.Errorf("a pin that has ended: %v %w", later, err)
		}
		shares, err := f.Shares(ctx)
		if err != nil || shares.Free(first, 10) != 0 || shares.Free(second, 10) != 10 || shares.Free(third, 5) != 5 {
			return fmt.Errorf("shares: %w", err)
		}
		// The last used: 1 (10 bytes), then b (5), then 2.
		for bytes, want := range map[int64]time.Time{9: now.AddDate(0, 0, -1), 10: now.AddDate(0, 0, -2),
			15: now.AddDate(0, 0, -5), 100: {}} {
			since, err := f.Room(ctx, w.repo.ID, bytes)
			if err != nil || !want.IsZero() && !since.After(want) || since.Sub(want) > time.Second {
				return fmt.Errorf("room for %d: %v, want %v, %w", bytes, since, want, err)
			}
		}
		n, err := f.Count(ctx, w.repo.ID)
		if err != nil || n != 3 {
			return fmt.Errorf("count: %d %w", n, err)
		}
		return nil
	}
	w.within(func(tx *record.Tx) error { return check(tx.Facts()) })
	if err := w.Facts(ctx, func(f record.Facts) error {
		// What comes now is seen neither here nor beside.
		w.version("c", "1", "new", now)
		wait := f.Beside(ctx, check)
		if err := wait(); err != nil {
			return fmt.Errorf("beside: %w", err)
		}
		return check(f)
	}); err != nil {
		t.Error(err)
	}
	// As of a moment before all of it.
	if err := w.Facts(ctx, func(f record.Facts) error {
		packages, err := f.Packages(ctx, w.repo.ID, nil, catalog.MomentOf(now.AddDate(0, 0, -7)))
		if err != nil || len(packages) != 3 {
			return fmt.Errorf("%v %w", packages, err)
		}
		return f.Versions(ctx, []int64{packages[0].ID, packages[1].ID, packages[2].ID}, nil, now.AddDate(0, 0, -7),
			catalog.MomentOf(now.AddDate(0, 0, -7)), func(i int, versions []retention.Version) error {
				if i != 0 || len(versions) != 1 || versions[0].ID != first || versions[0].Downloads != 0 {
					return fmt.Errorf("as of then: %d %+v", i, versions)
				}
				return nil
			})
	}); err != nil {
		t.Error(err)
	}
}

// TestPlaceOfWhatIsGone: what was swept meanwhile cannot be promoted, and what is
// being promoted is not swept before that is done.
func TestPlaceOfWhatIsGone(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	source := w.version("a", "1", "one", now)
	placed := []record.PlacedVersion{{SourceID: source, Key: w.repo.Key("maven", "example.skerry.berth", "target"),
		Version: "1",
		Files:   []record.PlacedFile{{Name: "a-1.jar", Extension: "jar", Digests: w.file("a", "1", "one", 1, now).Digests}}}}
	promoting, promoted, swept := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	go func() {
		<-promoting
		swept <- w.Within(ctx, func(tx *record.Tx) error {
			ids, err := tx.Hold(ctx, []int64{source})
			if err != nil {
				return err
			}
			select {
			case <-promoted:
			default:
				err = fmt.Errorf("%v was held while it was being promoted", ids)
			}
			if err == nil {
				err = tx.TakeOut(ctx, ids, 0, now)
			}
			return err
		})
	}()
	w.within(func(tx *record.Tx) error {
		ids, collisions, err := tx.Place(ctx, placed, 1, "purser", now)
		if err != nil || len(ids) != 1 || collisions != nil {
			return fmt.Errorf("%v %v %w", ids, collisions, err)
		}
		close(promoting)
		for waits := 0; waits == 0; {
			if err := w.GetContext(ctx, &waits,
				`select count(*) from pg_stat_activity where datname = current_database()
					and wait_event_type = 'Lock'`); err != nil {
				return err
			}
		}
		close(promoted)
		return nil
	})
	if err := <-swept; err != nil {
		t.Fatal(err)
	}
	placed[0].Version = "2"
	w.within(func(tx *record.Tx) error {
		ids, collisions, err := tx.Place(ctx, placed, 1, "purser", now)
		if err != nil || ids != nil || len(collisions) != 1 || !collisions[0].NoSource {
			return fmt.Errorf("%v %+v %w", ids, collisions, err)
		}
		return nil
	})
}
