package service

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/relays"
	"crelvo/internal/service/targets"
)

// TestAfter: that nobody is there counts for nothing, however long it lasts; what a server says counts.
func TestAfter(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	now := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	n.Settings.Now = func() time.Time { return now }
	away, broken := errors.New("nobody is there"), &ecosystem.Rejection{Status: 500, Said: "it broke"}
	attempts := 0
	for range 500 {
		attempts++
		o := n.Targets.After("far", attempts, away)
		if o.Sent || o.Failed || o.Next.Sub(now) > targets.LongestAway || !o.Next.After(now) {
			t.Fatalf("after %v: %+v", now, o)
		}
		attempts, now = o.Attempts, o.Next
	}
	if o := n.Targets.After("far", attempts+1, nil); !o.Sent || !o.Back {
		t.Errorf("it got through: %+v", o)
	}
	if o := n.Targets.After("far", 1, nil); o.Back {
		t.Error("it was there all the time")
	}
	// Others get through, and one does not: that is its own fault.
	attempts = 0
	for o := (targets.Outcome{}); !o.Failed; {
		n.Targets.After("far", 1, nil)
		if attempts++; attempts > 24 {
			t.Fatal("it is tried for ever")
		}
		o = n.Targets.After("far", attempts, away)
		attempts = o.Attempts
	}
	began := now
	for attempts = 1; ; attempts++ {
		o := n.Targets.After("other", attempts, broken)
		if o.Failed {
			break
		}
		now = o.Next
	}
	if took := now.Sub(began); attempts != 24 || took < 10*time.Hour || took > 24*time.Hour {
		t.Errorf("it failed after %d attempts in %v", attempts, took)
	}
	if o := n.Targets.After("other", 1, &ecosystem.Rejection{Status: 400, Said: "no", Final: true}); !o.Failed {
		t.Errorf("what will not do: %+v", o)
	}
}

// npmTree is what is in a plain tree of npm: by package, the versions of its document. It fails if the document
// names what is not there.
func npmTree(t *testing.T, dir, base string) map[string][]string {
	t.Helper()
	all := map[string][]string{}
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, entry := range entries {
		raw, err := os.ReadFile(filepath.Join(dir, entry.Name()))
		if entry.IsDir() || entry.Name() == "crelvo-tree.json" || err != nil {
			continue
		}
		var document struct {
			Versions map[string]struct{ Dist struct{ Tarball string } }
		}
		if err := json.Unmarshal(raw, &document); err != nil {
			t.Fatal(err)
		}
		all[entry.Name()] = []string{}
		for version, is := range document.Versions {
			all[entry.Name()] = append(all[entry.Name()], version)
			if _, err := os.Stat(filepath.Join(dir, strings.TrimPrefix(is.Dist.Tarball, base))); err != nil {
				t.Errorf("the document of %s names what is not there: %v", entry.Name(), err)
			}
		}
		slices.Sort(all[entry.Name()])
	}
	return all
}

// TestPlainTree: a tree has what two repositories send there, of one version the one that came first; what is kept
// out since, removed, or gone with its repository goes from it; a place that is away is written when it is there
// again, and one package that cannot be written keeps no other from being so.
func TestPlainTree(t *testing.T) {
	url := recordtest.URL(t)
	n, other := newNode(t, url), newNode(t, url) // two nodes, who write to one tree
	ctx, dir := t.Context(), t.TempDir()
	const base = "https://packages.skerry.example/npm/"
	here, there := n.both(t, "releases-here"), n.both(t, "releases-there")
	tree := targets.NewTarget{Name: "public", Ecosystem: "npm", Tree: true, URL: dir, ReadAt: base}
	if err := n.Targets.SetTarget(ctx, n.admin, tree); err != nil {
		t.Fatal(err)
	}
	for _, from := range []catalog.Repository{here, there} {
		if _, err := n.Relays.Add(ctx, n.admin, relays.Settings{Name: from.Name, Repository: from.Name, Target: "public",
			Holds: catalog.Releases}, false); err != nil {
			t.Fatal(err)
		}
	}
	n.relaying(t)
	other.relaying(t)
	is := func(what string, want map[string]string) {
		t.Helper()
		got := map[string]string{}
		for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			got = map[string]string{}
			for name, versions := range npmTree(t, dir, base) {
				got[name] = strings.Join(versions, " ")
			}
			if maps.Equal(got, want) {
				return
			}
		}
		all, err := n.Targets.Targets(ctx)
		t.Fatalf("%s: there is %v, and not %v; %+v, %v", what, got, want, all, err)
	}
	kelp := func(name, version, about string) madeup.Package {
		return madeup.Package{Name: name, Version: version, Description: about, Licence: "MIT"}
	}
	n.npm(t, n.admin, here, kelp("kelp", "1.0.0", "ours"))
	n.npm(t, n.admin, here, kelp("kelp", "1.1.0-dev.1", "a snapshot"))
	is("one is published", map[string]string{"kelp": "1.0.0"})
	n.npm(t, n.admin, there, kelp("kelp", "1.0.0", "theirs"))
	n.npm(t, n.admin, there, kelp("kelp", "2.0.0", "theirs"))
	n.npm(t, n.admin, there, kelp("wrack", "1.0.0", "theirs"))
	is("two repositories", map[string]string{"kelp": "1.0.0 2.0.0", "wrack": "1.0.0"})
	if raw, err := os.ReadFile(filepath.Join(dir, "kelp")); err != nil || !strings.Contains(string(raw), `"ours"`) ||
		strings.Contains(string(raw), `"kelp@1.0.0","description":"theirs"`) {
		t.Errorf("%v: %s", err, raw)
	}
	n.imports(t, osvRecord("MAL-1", "npm", "wrack", "2.0.0", "2026-11-01T08:00:00Z", ""))
	is("one is malicious", map[string]string{"kelp": "1.0.0 2.0.0"})
	gone := func(path string) {
		t.Helper()
		for end := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			if _, err := os.Stat(filepath.Join(dir, path)); errors.Is(err, os.ErrNotExist) {
				return
			} else if time.Now().After(end) {
				t.Fatalf("%s is still there: %v", path, err)
			}
		}
	}
	gone("-/tarballs/wrack")

	// The place is away for a while.
	if err := os.Rename(dir, dir+".away"); err != nil {
		t.Fatal(err)
	}
	n.npm(t, n.admin, here, kelp("kelp", "3.0.0", "ours"))
	for end := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if all, err := n.Targets.Targets(ctx); err != nil || time.Now().After(end) {
			t.Fatal(all, err)
		} else if strings.Contains(all[0].Failure, "is not there") {
			break
		}
	}
	if err := os.Rename(dir+".away", dir); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Targets.Check(ctx, n.admin, "public"); err != nil {
		t.Error(err)
	}
	is("it is there again", map[string]string{"kelp": "1.0.0 2.0.0 3.0.0"})

	if err := n.Repositories.RemoveRepository(ctx, n.admin, there.Name, true); err != nil {
		t.Fatal(err)
	}
	is("a repository is removed", map[string]string{"kelp": "1.0.0 3.0.0"})
	gone("-/tarballs/kelp/-/kelp-2.0.0.tgz")
}

// TestTreeHeldUp: one package whose bytes are lost keeps no other from being written, and what asks for those is
// answered that they were.
func TestTreeHeldUp(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx, dir := t.Context(), t.TempDir()
	here := n.both(t, "releases-here")
	if err := n.Targets.SetTarget(ctx, n.admin, targets.NewTarget{Name: "public", Ecosystem: "npm", Tree: true, URL: dir,
		ReadAt: "https://packages.skerry.example/npm"}); err != nil {
		t.Fatal(err)
	}
	versions := map[string]int64{}
	for _, name := range []string{"bell", "kelp", "wrack"} {
		n.npm(t, n.admin, here, madeup.Package{Name: name, Version: "1.0.0", Licence: "MIT"})
		p, err := n.Holdings.Package(ctx, here.Key("npm", "", name))
		if err != nil {
			t.Fatal(err)
		}
		versions[name] = p.Versions[0].ID
		if name == "kelp" {
			digest := p.Versions[0].Files[0].Digests.Hex("sha256")
			if err := os.Remove(filepath.Join(n.dir, "bytes", digest[:2], digest)); err != nil {
				t.Fatal(err)
			}
		}
	}
	n.Store.Purge()
	failed := n.Targets.SendAll(ctx, "public", []int64{versions["bell"], versions["kelp"], versions["wrack"]}, nil)
	if len(failed) != 1 || failed[versions["kelp"]] == nil {
		t.Errorf("what failed is %v of %v", failed, versions)
	}
	if got := npmTree(t, dir, "https://packages.skerry.example/npm/"); len(got) != 2 {
		t.Errorf("there is %v", got)
	}
	if failed := n.Targets.SendAll(ctx, "public", []int64{versions["wrack"]}, nil); len(failed) != 0 {
		t.Errorf("once more: %v", failed)
	}
	// Many at once, with as many who send: each is told that it is there when it is.
	var sending sync.WaitGroup
	for range 4 {
		sending.Go(func() {
			failed := n.Targets.SendAll(context.WithoutCancel(ctx), "public", []int64{versions["bell"]}, nil)
			if len(failed) != 0 {
				t.Errorf("beside others: %v", failed)
			}
		})
	}
	sending.Wait()
}
