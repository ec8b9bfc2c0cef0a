package record_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

// told is what a package says, in one line.
func told(p *catalog.Package) string {
	var all []string
	for _, v := range p.Versions {
		one := v.Version
		for _, f := range v.Files {
			one += "/" + f.Name
		}
		if v.Withdrawn != nil {
			one += " withdrawn: " + v.Withdrawn.Reason
		}
		all = append(all, one)
	}
	slices.Sort(all)
	labels, _ := json.Marshal(p.Labels) // a map of strings can be written
	return strings.Join(all, ", ") + " " + string(labels)
}

// TestPackageIsBroughtUpToDate: reading on from what was known gives the same as
// reading anew, after every kind of change.
func TestPackageIsBroughtUpToDate(t *testing.T) {
	w := newWorld(t)
	ctx, now := t.Context(), time.Now()
	first := w.file("a", "1", "one", 1, now)
	key := first.Key
	w.complete(w.add(first).VersionID, now)
	known, err := w.Package(ctx, key, record.Known{})
	if err != nil {
		t.Fatal(err)
	}
	for i, change := range []struct {
		do   func(tx *record.Tx) error
		want string
	}{
		{func(tx *record.Tx) error {
			added, err := tx.AddFile(ctx, w.file("a", "2", "two", 1, now))
			if err == nil {
				_, err = tx.Complete(ctx, added.VersionID, 0, now)
			}
			return err
		}, "1/a-1.jar, 2/a-2.jar null"},
		{func(tx *record.Tx) error {
			f := w.file("a", "1", "sign", 1, now)
			f.Name = "a-1.asc"
			_, err := tx.AddFile(ctx, f)
			return err
		}, "1/a-1.asc/a-1.jar, 2/a-2.jar null"},
		{func(tx *record.Tx) error {
			return tx.SetLabel(ctx, key, "latest", "1", "x", now)
		}, `1/a-1.asc/a-1.jar, 2/a-2.jar {"latest":"1"}`},
		{func(tx *record.Tx) error {
			return tx.SetLabel(ctx, key, "latest", "2", "x", now)
		}, `1/a-1.asc/a-1.jar, 2/a-2.jar {"latest":"2"}`},
		{func(tx *record.Tx) error {
			return tx.Withdraw(ctx, key, []string{"1"}, []string{"leaks"}, "x", now)
		}, `1/a-1.asc/a-1.jar withdrawn: leaks, 2/a-2.jar {"latest":"2"}`},
		{func(tx *record.Tx) error {
			return tx.Withdraw(ctx, key, []string{"1"}, []string{"leaks much"}, "x", now)
		}, `1/a-1.asc/a-1.jar withdrawn: leaks much, 2/a-2.jar {"latest":"2"}`},
		{func(tx *record.Tx) error {
			_, err := tx.RemoveVersions(ctx, key, []string{"2"}, time.Hour, now)
			return err
		}, `1/a-1.asc/a-1.jar withdrawn: leaks much null`},
		{func(tx *record.Tx) error { return tx.Restore(ctx, key, []string{"1"}, now) }, `1/a-1.asc/a-1.jar null`},
	} {
		before := told(known.Package)
		w.within(change.do)
		was := known
		if known, err = w.Package(ctx, key, was); err != nil {
			t.Fatal(err)
		}
		anew, err := w.Package(ctx, key, record.Known{})
		if err != nil {
			t.Fatal(err)
		}
		if got := told(known.Package); got != change.want || got != told(anew.Package) {
			t.Errorf("change %d: brought up to date %s, anew %s, want %s", i, got, told(anew.Package), change.want)
		}
		if got := told(was.Package); got != before {
			t.Errorf("change %d: what was read before became %s", i, got)
		}
		if known.Package.Revision <= was.Package.Revision {
			t.Errorf("change %d: the revision stays %d", i, known.Package.Revision)
		}
	}
}

// TestManyVersionsGrow: what is added to a package of many versions is written behind them,
// once, and nobody who read it before sees that.
func TestManyVersionsGrow(t *testing.T) {
	w := newWorld(t)
	ctx, now := t.Context(), time.Now()
	first := w.file("a", "1", "one", 1, now)
	w.complete(w.add(first).VersionID, now)
	for _, statement := range []string{
		`insert into version (package_id, version, snapshot, uploaded_at, published_by, touched_at, visible_from, bytes, details)
		select package_id, '1.' || n, false, uploaded_at, published_by, touched_at, visible_from, bytes, details
		from version, generate_series(1, 1500) n`,
		`insert into file (version_id, name, extension, sha256, added_at)
		select v.id, 'a-' || v.version || '.jar', 'jar', f.sha256, f.added_at from version v, file f where v.version <> '1'`,
	} {
		if _, err := w.ExecContext(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	type was struct {
		known record.Known
		told  string
	}
	var all []was
	read := func(before record.Known) record.Known {
		t.Helper()
		known, err := w.Package(ctx, first.Key, before)
		if err != nil {
			t.Fatal(err)
		}
		anew, err := w.Package(ctx, first.Key, record.Known{})
		if err != nil {
			t.Fatal(err)
		}
		if told(known.Package) != told(anew.Package) {
			t.Errorf("%d versions brought up to date, %d anew", len(known.Package.Versions), len(anew.Package.Versions))
		}
		all = append(all, was{known, told(known.Package)})
		return known
	}
	publish := func(version string) {
		t.Helper()
		w.complete(w.add(w.file("a", version, version, 1, now)).VersionID, now)
	}
	same := func(a, b record.Known) bool { return &a.Package.Versions[0] == &b.Package.Versions[0] }
	known := read(record.Known{})
	publish("2")
	known = read(known)
	publish("3")
	next, besides := read(known), read(known)
	if !same(known, next) || same(known, besides) {
		t.Errorf("in the same array: %v, and a second time: %v", same(known, next), same(known, besides))
	}
	publish("4")
	next, besides = read(next), read(besides)
	w.within(func(tx *record.Tx) error {
		return tx.Withdraw(ctx, first.Key, []string{"3"}, []string{"leaks"}, "x", now)
	})
	next = read(next)
	publish("5")
	read(next)
	w.within(func(tx *record.Tx) error {
		if err := tx.Restore(ctx, first.Key, []string{"3"}, now); err != nil {
			return err
		}
		_, err := tx.RemoveVersions(ctx, first.Key, []string{"1.7"}, time.Hour, now)
		return err
	})
	read(next)
	read(besides)
	for i, one := range all {
		if told(one.known.Package) != one.told {
			t.Errorf("what was read as number %d has become something else", i)
		}
	}
}

// TestWhatIsUnderWay: a version whose transaction began before a read and ended
// after it must not be missed.
func TestWhatIsUnderWay(t *testing.T) {
	w := newWorld(t)
	ctx, now := t.Context(), time.Now()
	first := w.file("a", "1", "one", 1, now)
	w.complete(w.add(first).VersionID, now)
	second := w.add(w.file("a", "2", "two", 1, now)).VersionID
	var known record.Known
	w.within(func(tx *record.Tx) error {
		if _, err := tx.Complete(ctx, second, 0, now); err != nil {
			return err
		}
		var err error
		known, err = w.Package(ctx, first.Key, record.Known{}) // beside the transaction
		return err
	})
	if len(known.Package.Versions) != 1 {
		t.Fatalf("read before the commit: %s", told(known.Package))
	}
	known, err := w.Package(ctx, first.Key, known)
	if err != nil || len(known.Package.Versions) != 2 {
		t.Errorf("after the commit: %v, %v", known.Package, err)
	}
}

// TestRemovedReleases: what was removed comes back with the same bytes only.
func TestRemovedReleases(t *testing.T) {
	w := newWorld(t)
	ctx, now := t.Context(), time.Now()
	f := w.file("a", "1", "one", 1, now)
	w.complete(w.add(f).VersionID, now)
	w.within(func(tx *record.Tx) error {
		_, err := tx.RemoveVersions(ctx, f.Key, []string{"1"}, time.Hour, now)
		return err
	})
	if got := w.add(w.file("a", "1", "other", 1, now)); !got.Taken || got.RemovedAt.IsZero() {
		t.Errorf("other bytes: %+v", got)
	}
	if got := w.add(f); got.Taken {
		t.Errorf("the same bytes: %+v", got)
	}
}

func TestDetailsWithNUL(t *testing.T) {
	w := newWorld(t)
	now := time.Now()
	f := w.file("a", "1", "one", 1, now)
	f.Details = catalog.Details{Title: "a\x00b",
		Native: map[string]json.RawMessage{"x": json.RawMessage(`"\\u0000 and \u0000 and \\\u0000"`)},
		Readme: &catalog.Readme{Text: "c\x00\xffd", Format: "text/plain"}}
	id := w.add(f).VersionID
	w.complete(id, now)
	known, err := w.Package(t.Context(), f.Key, record.Known{})
	if err != nil {
		t.Fatal(err)
	}
	d := known.Package.Versions[0].Details
	if got := d.Title + fmt.Sprintf(" %s", d.Native["x"]); got != `ab "\\u0000 and  and \\"` {
		t.Errorf("%s", got)
	}
	if r, err := w.Readme(t.Context(), id); err != nil || r.Text != "cd" {
		t.Errorf("%q, %v", r.Text, err)
	}
}

// TestListings: what upstreams list is read as it was written, with details and without;
// lists that were kept in the forms of before are still read.
func TestListings(t *testing.T) {
	w := newWorld(t)
	at := time.Date(2026, 10, 1, 8, 0, 0, 1000, time.UTC)
	l := catalog.Listing{Labels: map[string]string{"latest": "1.149"}, Places: map[string]string{"a": "b"},
		Plugins: []catalog.ListedPlugin{{Name: "deck", Prefix: "d"}}}
	for i := range 150 {
		v := catalog.ListedVersion{Version: fmt.Sprintf("1.%d", i), SeenAt: at, UploadedAt: at.Add(time.Hour),
			Files: []catalog.ListedFile{{Name: "x.tgz", Address: "x", Size: 7, Digests: map[string]string{"sha1": "ab"}}}}
		if i != 70 {
			v.Details = &catalog.Details{Title: v.Version, Licences: []catalog.Licence{{Name: "MIT"}},
				Dependencies: []catalog.Dependency{{PURL: "pkg:npm/y", Optional: true}},
				Native:       map[string]json.RawMessage{"a": json.RawMessage(`{"b":"\u0000 c"}`)}}
		}
		if i == 3 {
			v.Withdrawn, v.GoneAt = &catalog.Withdrawal{Reason: "no more"}, at.Add(2*time.Hour)
		}
		l.Versions = append(l.Versions, v)
	}
	var before bytes.Buffer
	zipped := gzip.NewWriter(&before)
	head := l
	head.Versions = nil
	write := json.NewEncoder(zipped).Encode
	err := write(head)
	for _, v := range l.Versions {
		err = errors.Join(err, write(v))
	}
	plain, plainErr := json.Marshal(l)
	if err := errors.Join(err, zipped.Close(), plainErr); err != nil {
		t.Fatal(err)
	}
	for path, raw := range map[string][]byte{"zipped": before.Bytes(), "plain": plain} {
		if _, err := w.ExecContext(t.Context(),
			`insert into upstream_document (repository_id, path, ecosystem, namespace, name, found, checked_at, changed_at,
				listing) values ($1, $2, 'npm', '', 'x', true, now(), now(), $3)`, w.repo.ID, path, raw); err != nil {
			t.Fatal(err)
		}
	}
	d := record.UpstreamDocument{RepositoryID: w.repo.ID, Path: "now", Found: true, Listing: l,
		About: catalog.PackageKey{Ecosystem: "npm", Name: "x"}}
	w.within(func(tx *record.Tx) error { return tx.SetUpstreamDocument(t.Context(), d) })
	lean := catalog.Listing{Labels: l.Labels, Places: l.Places, Plugins: l.Plugins, Versions: slices.Clone(l.Versions)}
	for i := range lean.Versions {
		lean.Versions[i].Details = nil
	}
	for _, c := range []struct {
		path    string
		details bool
		want    catalog.Listing
	}{{"now", true, l}, {"now", false, lean}, {"zipped", true, l}, {"plain", true, l}} {
		if got, err := w.UpstreamDocument(t.Context(), w.repo.ID, c.path, c.details); err != nil ||
			!reflect.DeepEqual(got.Listing, c.want) {
			t.Errorf("%s, %t: %d versions, %v", c.path, c.details, len(got.Listing.Versions), err)
		}
	}
	if keys, err := w.UpstreamPackages(t.Context(), w.repo.ID); err != nil || len(keys) != 1 || keys[0].Name != "x" {
		t.Errorf("%v, %v", keys, err)
	}
}
