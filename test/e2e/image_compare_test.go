package e2e

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestImageCompared: two images are told apart by their layers, by how they are to be run and
// by their files, and nobody learns of packages that he may not read.
func TestImageCompared(t *testing.T) {
	t.Parallel()
	snapshots, hidden := repository(t, "snapshots"), repository(t, "both")
	chain := addChain(t, snapshots)
	w := newWorkshop(t)
	crane := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", tool("crane"), append(args, "--insecure")...))
	}
	crane("auth", "login", host(), "-u", "admin", "-p", house.Token)
	image := host() + "/" + snapshots + "/skerry/berth"
	w.write("base.tar.gz", madeup.TarGz(madeup.Entry{Name: "etc/os", Content: "shore"},
		madeup.Entry{Name: "etc/old", Content: "goes"}, madeup.Entry{Name: "opt/old/a", Content: "goes too"}))
	w.write("one.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth", Content: "one"}))
	w.write("two.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth", Content: "two"},
		madeup.Entry{Name: "etc/.wh.old"}, madeup.Entry{Name: "opt/.wh..wh..opq"},
		madeup.Entry{Name: "etc/new", Content: "1"}))
	w.write("text.tar.gz", []byte("no archive"))
	crane("append", "-f", "base.tar.gz", "--platform", "linux/amd64", "-t", image+":base")
	crane("copy", image+":base", host()+"/"+hidden+"/secret:base")
	for _, version := range []string{"one", "two"} {
		crane("append", "-b", image+":base", "-f", version+".tar.gz", "-t", image+":"+version)
		crane("mutate", image+":"+version, "--env", "BERTH="+version, "--user", "1000", "-t", image+":"+version)
	}

	out, said, code := crelvoAsAdmin(t, "show", "pkg:oci/skerry/berth@one", "--layers", "--in", snapshots)
	if code != 0 {
		t.Fatal(out, said)
	}
	for _, want := range []string{"LAYER", "secret", `environment BERTH`, "user", "1000"} {
		says(t, out, want)
	}
	for _, in := range []string{snapshots, chain} {
		out, said, code = crelvoAsAdmin(t, "compare", "pkg:oci/skerry/berth@one", "two", "--in", in, "--files")
		if code != 0 {
			t.Fatal(out, said)
		}
		for _, want := range []string{"1 of ", "in both, 1 gone, 1 new", "environment BERTH",
			"Files: 1 added, 1 changed, 2 removed"} {
			says(t, out, want)
		}
	}

	compare := func(token, before, after string) (c api.Comparison, status int) {
		t.Helper()
		q := url.Values{"before": {"pkg:oci/" + before}, "after": {"pkg:oci/" + after}, "files": {"true"}}
		a, err := shared.Ask(t.Context(), "GET", "/api/v1/comparison?"+q.Encode(), token, nil)
		if err != nil {
			t.Fatal(err)
		}
		if a.Status == 200 {
			if err := json.Unmarshal(a.Body, &c); err != nil {
				t.Fatal(err)
			}
		}
		return c, a.Status
	}
	c, _ := compare(house.Token, "skerry/berth@one", "skerry/berth@two")
	var paths []string
	for _, d := range c.Files.Some {
		paths = append(paths, d.Path)
	}
	if got := strings.Join(paths, " "); got != "etc/new etc/old opt/old/a usr/bin/berth" {
		t.Errorf("%s differ", got)
	}
	if c, _ := compare(house.Token, "skerry/berth@two", "skerry/berth@two"); len(c.Files.Some)+len(c.Settings) != 0 {
		t.Errorf("it differs from itself: %+v", c)
	}

	// A layer that is no archive is said, and the rest is told.
	crane("append", "-f", "text.tar.gz", "-t", image+":odd")
	if c, status := compare(house.Token, "skerry/berth@one", "skerry/berth@odd"); status != 200 ||
		!strings.Contains(c.Files.LeftOut, "no archive") || len(c.Gone) != 2 {
		t.Errorf("%d %+v", status, c.Files)
	}

	// Who may not read a package learns nothing of it, by this way neither.
	var token api.MadeToken
	guest := snapshots + "-guest"
	post(t, "/api/v1/users", api.NewUser{Name: guest, Kind: "robot"}, nil)
	post(t, "/api/v1/grants", api.NewGrant{Holder: guest, Role: "reader", Repositories: snapshots}, nil)
	post(t, "/api/v1/tokens", api.NewToken{For: guest, Name: "reads"}, &token)
	if _, status := compare(token.Secret, "skerry/berth@one", "secret@base"); status != 404 {
		t.Errorf("a hidden image: %d", status)
	}
	a, err := shared.Ask(t.Context(), "GET", "/api/v1/makeup?purl=pkg:oci/skerry/berth@one", token.Secret, nil)
	if err != nil || a.Status != 200 || strings.Contains(string(a.Body), "secret") {
		t.Errorf("%d %s, %v", a.Status, a.Body, err)
	}
	for path, want := range map[string]int{"/api/v1/makeup?purl=pkg:npm/x@1": 400, "/api/v1/makeup?purl=x": 400,
		"/api/v1/makeup?purl=pkg:oci/skerry/berth@none": 404} {
		if a := ask(t, "GET", path, ""); a.Status != want {
			t.Errorf("%s: %d %s", path, a.Status, a.Body)
		}
	}
}
