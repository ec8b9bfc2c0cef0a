package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestFollowing: a mirror of another Crelvo has within moments what was published there, forgets what was removed
// there, and tells how far it is; it asks once for all packages, and for none that did not change.
func TestFollowing(t *testing.T) {
	t.Parallel()
	from, n := repository(t, "both"), made.Add(1)
	far, around, bad := fmt.Sprintf("far-%d", n), fmt.Sprintf("around-%d", n), fmt.Sprintf("bad-%d", n)
	kelp := func(name, version string) madeup.Package {
		return madeup.Package{Name: name, Version: version, Licence: "MIT"}
	}
	publishMade(t, from, "npm", kelp("followed-kelp", "1.0.0")) // before anybody follows
	run := func(args ...string) (string, int) {
		t.Helper()
		out, errs, code := crelvoAsAdmin(t, args...)
		return out + errs, code
	}
	// It follows a chain, of which the repository is a part.
	if out, code := run("repo", "add", around, "--members", from); code != 0 {
		t.Fatal(out)
	}
	w := newWorkshop(t)
	secret := w.write("token", []byte(house.Token))
	if out, code := run("repo", "add", bad, "--upstream", shared.Address+"/packages/npm/", "--ecosystem", "npm",
		"--follow"); code == 0 || !strings.Contains(out, "no repository of a Crelvo") {
		t.Errorf("%d %s", code, out)
	}
	if out, code := run("repo", "add", far, "--upstream", shared.Address+"/at/"+around+"/npm/", "--ecosystem", "npm",
		"--secret-file", secret, "--fresh", "10d", "--prefetch", "pkg:npm/followed-*", "--follow"); code != 0 {
		t.Fatal(out)
	}
	kept := func() string {
		t.Helper()
		return fmt.Sprint(done(desk(house.Token).Repository(t.Context(), far))(t).Versions)
	}
	inStep := func() *api.Following {
		t.Helper()
		return done(desk(house.Token).Mirror(t.Context(), far, 1))(t).Following
	}
	eventually(t, 60*time.Second, "what was there before to come", func() bool {
		f := inStep()
		return f != nil && f.DoneAt != nil && f.Number > 0 && kept() == "1"
	})
	begun := time.Now()
	publishMade(t, from, "npm", kelp("followed-kelp", "1.1.0"))
	publishMade(t, from, "npm", kelp("followed-wrack", "1.0.0"))
	publishMade(t, from, "npm", kelp("other-wrack", "1.0.0"))
	eventually(t, 60*time.Second, "what is new to come", func() bool { return kept() == "3" })
	t.Logf("from publishing there to being kept here: %v", time.Since(begun).Round(time.Millisecond))
	document := func(name string) string {
		t.Helper()
		return string(ask(t, "GET", "/at/"+far+"/npm/"+name, "").Body)
	}
	// Its list is good for ten days, and is not: it changed.
	if out, code := run("withdraw", "pkg:npm/followed-kelp@1.0.0", "--in", from, "--reason", "it leaks"); code != 0 {
		t.Fatal(out)
	}
	eventually(t, 60*time.Second, "a withdrawal to come", func() bool {
		return strings.Contains(document("followed-kelp"), `"deprecated":"it leaks"`)
	})
	says(t, document("other-wrack"), "1.0.0") // somebody wants it: it is known from then on
	publishMade(t, from, "npm", kelp("other-wrack", "1.1.0"))
	eventually(t, 60*time.Second, "the list of what is known to be current", func() bool {
		return strings.Contains(document("other-wrack"), "1.1.0")
	})
	if got := kept(); got != "3" {
		t.Errorf("%s versions are kept: what no pattern fits was fetched", got)
	}
	if out, code := run("remove", "pkg:npm/other-wrack@1.1.0", "--in", from, "--yes"); code != 0 {
		t.Fatal(out)
	}
	eventually(t, 60*time.Second, "a removal to come", func() bool {
		return !strings.Contains(document("other-wrack"), "1.1.0")
	})
	eventually(t, 60*time.Second, "it to be in step", func() bool {
		f := inStep()
		return f.Behind == 0 && f.Failure == "" && f.DoneAt != nil
	})
	out, _ := run("mirror", "show", far)
	says(t, out, "follows", "in step")

	// It is told what it may read, and nothing else; and nobody is told of what nobody may see.
	told := func(path string, c *api.Changes) {
		t.Helper()
		if a, err := shared.JSON(t.Context(), "GET", path, nil, c); err != nil || a.Status != 200 {
			t.Fatalf("%s: %d %s %v", path, a.Status, a.Body, err)
		}
	}
	var c api.Changes
	told("/api/v1/repositories/"+from+"/changes?ecosystem=npm&after=0", &c)
	if c.Complete || len(c.Changes) > 0 || c.Number == 0 {
		t.Errorf("who begins is told %+v", c)
	}
	publishMade(t, from, "npm", kelp("followed-kelp", "1.2.0"))
	after := c.Number
	eventually(t, 30*time.Second, "the change to be told", func() bool {
		c = api.Changes{}
		told(fmt.Sprintf("/api/v1/repositories/%s/changes?ecosystem=npm&after=%d", from, after), &c)
		return len(c.Changes) > 0
	})
	if !c.Complete || len(c.Changes) != 1 || c.Changes[0].PURL != "pkg:npm/followed-kelp" || c.Left != 1 ||
		c.Changes[0].Number != c.Number {
		t.Errorf("%+v", c)
	}
	a, err := shared.Ask(t.Context(), "GET", "/api/v1/repositories/"+from+"/changes?ecosystem=npm", "", nil)
	if err != nil || a.Status != 401 && a.Status != 404 && a.Status != 403 {
		t.Errorf("nobody is told %d %s, %v", a.Status, a.Body, err)
	}
}
