package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestRelayMarks: two Crelvos that relay to each other are in step about labels and withdrawals, whoever said what
// last, also when the line between them was cut and both went on; a relay that is to remove removes; and in the end
// nobody tells anybody anything any more.
func TestRelayMarks(t *testing.T) {
	t.Parallel()
	north, n := another(t)
	south, s := another(t)
	houses, lines := []*house.House{north, south}, []*wire{newWire(t, south.Address, nil), newWire(t, north.Address, nil)}
	for i, c := range []*client.Client{n, s} {
		if err := c.SetTarget(t.Context(), api.NewTarget{Name: "other", Ecosystem: "npm", Secret: house.Token,
			URL: "http://" + lines[i].Addr().String() + "/at/yard/npm/"}); err != nil {
			t.Fatal(err)
		}
		if _, err := c.AddRelay(t.Context(), api.NewRelay{Name: "other", Repository: "yard", Target: "other",
			Removals: i == 0}); err != nil {
			t.Fatal(err)
		}
	}
	kelp := func(version string) madeup.Package {
		return madeup.Package{Name: "kelp", Version: version, Licence: "MIT"}
	}
	type document struct {
		DistTags map[string]string `json:"dist-tags"`
		Versions map[string]struct{ Deprecated string }
	}
	at := func(h *house.House) (d document) {
		t.Helper()
		a, err := h.Ask(t.Context(), http.MethodGet, "/at/yard/npm/kelp", house.Token, nil)
		if err == nil && a.Status == 200 {
			err = json.Unmarshal(a.Body, &d)
		}
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	// said is the labels of both houses, and what is withdrawn, if they say the same.
	said := func() string {
		one, other := at(north), at(south)
		if fmt.Sprint(one) != fmt.Sprint(other) {
			return fmt.Sprint(one, " is not ", other)
		}
		return fmt.Sprint(one)
	}
	label := func(h *house.House, name, version string) {
		t.Helper()
		method, body := http.MethodPut, strings.NewReader(`"`+version+`"`)
		if version == "" {
			method = http.MethodDelete
		}
		a, err := h.Ask(t.Context(), method, "/at/yard/npm/-/package/kelp/dist-tags/"+name, house.Token, body, "Content-Type",
			"application/json")
		if err != nil || a.Status > 299 {
			t.Fatalf("%d %s %v", a.Status, a.Body, err)
		}
	}
	run := func(h *house.House, args ...string) {
		t.Helper()
		if out, errs, code := crelvoAsAdmin(t, append(args, "--server", h.Address)...); code != 0 {
			t.Fatalf("%v: %d %s%s", args, code, out, errs)
		}
	}
	both := func(what, want string) {
		t.Helper()
		is := ""
		defer func() { t.Log(what, is) }()
		eventually(t, 40*time.Second, what, func() bool { is = said(); return is == want })
	}
	publishAt(t, north, "yard", "latest", kelp("1.0.0"))
	both("it comes with its label", "{map[latest:1.0.0] map[1.0.0:{}]}")
	label(north, "stable", "1.0.0")
	run(north, "withdraw", "pkg:npm/kelp@1.0.0", "--in", "yard", "--reason", "it leaks")
	both("what is said at the one is said at the other", "{map[latest:1.0.0 stable:1.0.0] map[1.0.0:{it leaks}]}")
	run(south, "withdraw", "pkg:npm/kelp@1.0.0", "--in", "yard", "--undo")
	label(south, "stable", "")
	both("and the other way", "{map[latest:1.0.0] map[1.0.0:{}]}")

	// The line is cut; both go on. Who speaks last is right, wherever that is.
	for _, line := range lines {
		line.tear(true)
	}
	publishAt(t, north, "yard", "latest", kelp("1.1.0"))
	label(south, "stable", "1.0.0")
	label(north, "stable", "1.1.0")
	publishAt(t, south, "yard", "latest", kelp("2.0.0"))
	label(south, "stable", "2.0.0")
	label(north, "old", "1.0.0")
	for _, line := range lines {
		line.tear(false)
	}
	both("they are in step again", "{map[latest:2.0.0 old:1.0.0 stable:2.0.0] map[1.0.0:{} 1.1.0:{} 2.0.0:{}]}")

	run(north, "remove", "pkg:npm/kelp@1.1.0", "--in", "yard", "--yes")
	both("what is removed is removed there", "{map[latest:2.0.0 old:1.0.0 stable:2.0.0] map[1.0.0:{} 2.0.0:{}]}")
	run(south, "remove", "pkg:npm/kelp@2.0.0", "--in", "yard", "--yes")
	for i, c := range []*client.Client{n, s} {
		eventually(t, 40*time.Second, "nothing to be told any more", func() bool {
			all := done(c.Relays(t.Context()))(t)
			return all[0].Waiting == 0 && all[0].Telling == 0
		})
		if all := done(c.Relays(t.Context()))(t); all[0].Failed > 0 || all[0].NotTaken != "" {
			t.Errorf("%s: %+v", houses[i].Address, all)
		}
	}
	if _, there := at(north).Versions["2.0.0"]; !there {
		t.Error("a relay that is not to remove removed something")
	}
}

// TestRelayMarksToChain: a chain of another Crelvo takes what is relayed to the repository that it publishes to, with
// the labels.
func TestRelayMarksToChain(t *testing.T) {
	t.Parallel()
	from, to := repository(t, "releases"), repository(t, "releases")
	around := fmt.Sprintf("relayed-around-%d", made.Add(1))
	c := desk(house.Token)
	if out, errs, code := crelvoAsAdmin(t, "repo", "add", around, "--members", to, "--releases-to", to); code != 0 {
		t.Fatal(out, errs)
	}
	if err := c.SetTarget(t.Context(), api.NewTarget{Name: around, Ecosystem: "npm", Secret: house.Token,
		URL: shared.Address + "/at/" + around + "/npm/"}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.AddRelay(t.Context(), api.NewRelay{Name: around, Repository: from, Target: around}); err != nil {
		t.Fatal(err)
	}
	publishAt(t, shared, from, "latest", madeup.Package{Name: "bound-kelp", Version: "1.0.0", Licence: "MIT"})
	eventually(t, 30*time.Second, "it to come with its label", func() bool {
		a := ask(t, http.MethodGet, "/at/"+to+"/npm/bound-kelp", "")
		return a.Status == 200 && strings.Contains(string(a.Body), `"latest":"1.0.0"`)
	})
	run := done(c.Relay(t.Context(), around))(t)
	if run.NotTaken != "" || run.Failed > 0 {
		t.Errorf("%+v", run)
	}
}
