package retention

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
)

var now = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

func ago(days int) time.Time { return now.AddDate(0, 0, -days) }

func reason(t testing.TB, text string) Reason {
	t.Helper()
	r, err := ParseReason(text)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func policy(t testing.TB, name string, keep ...string) *Policy {
	t.Helper()
	p := &Policy{Name: name, Grace: DefaultGrace}
	for _, text := range keep {
		p.Keep = append(p.Keep, reason(t, text))
	}
	return p
}

func TestParseReason(t *testing.T) {
	for _, form := range Forms {
		r := reason(t, form)
		again := reason(t, r.String())
		if !reflect.DeepEqual(r, again) {
			t.Errorf("%q became %q", form, again.String())
		}
	}
	for text, canonical := range map[string]string{"newest 3": "newest 3 of each package", "labelled a,b": "labelled a, b",
		"younger than 48h":                   "younger than 2d",
		"newest 2 of each minor labelled v*": "newest 2 of each minor labelled v*",
		"downloaded within 2w":               "downloaded within 14d"} {
		if r := reason(t, text); r.String() != canonical {
			t.Errorf("%q is written %q", text, r.String())
		}
	}
	for text, why := range map[string]string{"": "empty", "newest": "how many", "newest 0": "how many",
		"newest 3 of each week": "after each comes", "younger 3d": "how long",
		"younger than 3": "no length of time", "younger than -3d": "no length of time",
		"downloaded within 900y": "no length of time", "wanted by many": "by how many", "labelled": "no label",
		"labelled [":     "no pattern",
		"used by people": "builds", "promoted twice": "no meaning", "last used up to many": "no number of bytes",
		"oldest 3": "no such reason", "needed much": "no meaning"} {
		_, err := ParseReason(text)
		if err == nil || !strings.Contains(err.Error(), why) || fault.Of(err).Hint == "" {
			t.Errorf("%q: %v; want %q", text, err, why)
		}
	}
}

const example = `# what CI makes every day
name: development-builds
description: What CI makes every day
repositories: [snapshots, "*-nightly"]
packages:
  - pkg:maven/example.skerry.*/*
where: holds:snapshots -by:deckhand
keep:
  - newest 3 of each development-version
  - younger than 14d
  - labelled "stable*"
grace: 7d
schedule: 30 3 * * 1-5
zone: Europe/Oslo
most-versions: 5_000
most-share: 20%
`

func TestParseFile(t *testing.T) {
	p, lines, err := ParseFile(strings.Replace(example, `"stable*"`, "stable*", 1))
	if err != nil {
		t.Fatal(err)
	}
	if p.Name != "development-builds" || len(p.Repositories) != 2 || len(p.Packages) != 1 ||
		len(p.Query.Conditions) != 2 || len(p.Keep) != 3 ||
		p.Grace != 7*24*time.Hour || p.Schedule != "30 3 * * 1-5" || p.MostVersions != 5000 || p.MostShare != 20 ||
		lines["keep[1]"] != 10 || lines["schedule"] != 13 {
		t.Errorf("%+v %v", p, lines)
	}
	again, _, err := ParseFile(p.Text())
	if err != nil || again.Text() != p.Text() {
		t.Errorf("%v\n%s\nbecame\n%s", err, p.Text(), again.Text())
	}
	if p, _, err := ParseFile("name: a\nrepositories: snapshots\nkeep: newest 1\n"); err != nil ||
		p.Grace != DefaultGrace {
		t.Errorf("%+v %v", p, err)
	}
	small := "name: a\nrepositories: [b]\nkeep: [newest 1]\n"
	for text, why := range map[string]string{
		"":                                "one document",
		"- a":                             "list of settings",
		small + "where: \"open":           "line 4: this is not YAML",
		small + "colour: red":             `line 4: there is no setting "colour"`,
		small + "name: c":                 "line 4: ",
		"name: a\nrepositories: [b]\n":    "keep is missing",
		"name: a\nkeep: [newest 1]\n":     "repositories is missing",
		"repositories: [b]\nkeep: needed": "name is missing",
		"name: A B\n" + small[8:]:         `line 1: "A B" is no name`,
		small + "where: age:>":            "line 4: ",
		small + "where: repo:b":           "line 4: repo: cannot be used in where",
		small + "where: '@mine'":          "line 4: a saved search",
		small + "grace: soon":             "line 4: grace is a length",
		small + "most-share: 200%":        "line 4: most-share",
		small + "most-versions: few":      "line 4: most-versions",
		small + "zone: UTC":               "line 4: a zone has no meaning",
		small + "packages:\n- npm/x":      "line 5: ",
		small + "description: {a: b}":     "line 4: description has one value",
		"name: a\nrepositories: [b]\nkeep:\n - newest 1\n - oldest 2": "line 5: \"oldest 2\" is no reason",
	} {
		_, _, err := ParseFile(text)
		if err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q: %v; want %q", text, err, why)
		}
	}
}

func FuzzParseFile(f *testing.F) {
	f.Add(example)
	f.Add("name: a\nrepositories: [b]\nkeep: |\n  needed\n")
	f.Add("a: &x [*x]")
	f.Fuzz(func(t *testing.T, text string) {
		p, _, err := ParseFile(text)
		if err != nil {
			return
		}
		if again, _, err := ParseFile(p.Text()); err != nil || again.Text() != p.Text() {
			t.Errorf("%v: what was read as\n%s\nis not read again", err, p.Text())
		}
	})
}

// pack is a package with versions; each has all queries fit.
func pack(ecosystem string, versions ...Version) *Package {
	p := &Package{Repository: "snapshots", Key: purl.PURL{Ecosystem: ecosystem, Namespace: "example.skerry",
		Name: "tide-model"}, Versions: versions}
	for i := range p.Versions {
		v := &p.Versions[i]
		v.ID = int64(i + 1)
		v.Snapshot = purl.IsSnapshot(ecosystem, v.Version)
		if v.At.IsZero() {
			v.At = ago(100)
		}
		if v.UploadedAt.IsZero() {
			v.UploadedAt = v.At
		}
		if v.Fits == nil {
			v.Fits = []bool{true, true}
		}
	}
	return p
}

func TestJudge(t *testing.T) {
	for name, c := range map[string]struct {
		policies []*Policy
		pack     *Package
		want     []string // VERSION fate: reason, the highest first
	}{
		"newest of the package, by the order of versions": {[]*Policy{policy(t, "p", "newest 2 of each package")},
			pack("maven", Version{Version: "1.9.0", At: ago(1)}, Version{Version: "1.10.0", At: ago(9)},
				Version{Version: "1.2.0"}),
			[]string{"1.10.0 kept: among the newest 2 of each package", "1.9.0 kept: among the newest 2 of each package",
				"1.2.0 swept: no reason keeps it"}},
		"newest of each line": {[]*Policy{policy(t, "p", "newest 1 of each minor")},
			pack("maven", Version{Version: "1.9.1"}, Version{Version: "1.9.0"}, Version{Version: "2.0.0"},
				Version{Version: "1.10.0"}),
			[]string{"2.0.0 kept", "1.10.0 kept", "1.9.1 kept", "1.9.0 swept"}},
		"newest uploads of each development version": {[]*Policy{policy(t, "p", "newest 1 of each development-version")},
			pack("maven", Version{Version: "1.0-SNAPSHOT", Upload: "a", At: ago(3)},
				Version{Version: "1.0-SNAPSHOT", Upload: "b", At: ago(2)}, Version{Version: "1.1-SNAPSHOT", Upload: "c"},
				Version{Version: "1.0"}),
			[]string{"1.1-SNAPSHOT kept", "1.0 swept", "1.0-SNAPSHOT kept", "1.0-SNAPSHOT swept"}},
		"newest with a label": {[]*Policy{policy(t, "p", "newest 1 labelled stable*")},
			pack("npm", Version{Version: "1.0.0", Labels: []string{"stable-old"}},
				Version{Version: "2.0.0", Labels: []string{"stable"}}, Version{Version: "3.0.0"}),
			[]string{"3.0.0 swept", "2.0.0 kept", "1.0.0 swept"}},
		"age, use, labels": {[]*Policy{policy(t, "p", "younger than 14d", "downloaded within 30d", "wanted by 2",
			"labelled latest")},
			pack("npm", Version{Version: "5.0.0", At: ago(13)}, Version{Version: "4.0.0", UsedAt: ago(29), Users: 1},
				Version{Version: "3.0.0", UsedAt: ago(31), Users: 2}, Version{Version: "2.0.0", Labels: []string{"latest"}},
				Version{Version: "1.0.0", UsedAt: ago(31), Users: 1}),
			[]string{"5.0.0 kept: younger than 14d: of 2026-10-19", "4.0.0 kept: downloaded within 30d: on 2026-10-03",
				"3.0.0 kept: wanted by 2: downloaded by 2", "2.0.0 kept: labelled latest", "1.0.0 swept"}},
		"promotions and builds": {[]*Policy{policy(t, "p", "promoted with its build", "used by a build", "needed")},
			pack("npm", Version{Version: "5.0.0", PromotedBy: 4}, Version{Version: "4.0.0", BuildPromotedBy: 3},
				Version{Version: "3.0.0", UsedIn: "berth#1"}, Version{Version: "2.0.0", NeededBy: "x 1"},
				Version{Version: "1.0.0"}),
			[]string{"5.0.0 kept: promoted by promotion 4", "4.0.0 kept: its build was promoted",
				"3.0.0 kept: used by build berth#1", "2.0.0 kept: needed by x 1", "1.0.0 swept"}},
		"a promotion of its build is no promotion": {[]*Policy{policy(t, "p", "promoted")},
			pack("npm", Version{Version: "4.0.0", BuildPromotedBy: 3}), []string{"4.0.0 swept"}},
		"room": {[]*Policy{policy(t, "p", "last used up to 10KiB")},
			func() *Package {
				p := pack("npm", Version{Version: "2.0.0", UsedAt: ago(3)}, Version{Version: "1.0.0", UsedAt: ago(5)})
				p.Rooms = map[int64]time.Time{10240: ago(4)}
				return p
			}(), []string{"2.0.0 kept: last used up to 10KiB", "1.0.0 swept"}},
		"pins, holds and what came back": {[]*Policy{policy(t, "p", "newest 1")},
			pack("npm", Version{Version: "9.0.0"}, Version{Version: "3.0.0", Pinned: "by deckhand: audit"},
				Version{Version: "2.0.0", Held: "promotion 3 waits"}, Version{Version: "1.0.0", BackAt: ago(13)},
				Version{Version: "0.9.0", BackAt: ago(15)}),
			[]string{"9.0.0 kept", "3.0.0 kept: pinned by deckhand: audit", "2.0.0 kept: promotion 3 waits",
				"1.0.0 kept: brought back on 2026-10-19", "0.9.0 swept"}},
		"another policy keeps": {[]*Policy{policy(t, "p", "newest 1"), policy(t, "q", "younger than 10d")},
			pack("npm", Version{Version: "2.0.0"}, Version{Version: "1.1.0", At: ago(9)},
				Version{Version: "1.0.0", At: ago(9), Fits: []bool{true, false}}),
			[]string{"2.0.0 kept: among the newest 1 of each package, by p", "1.1.0 kept: younger than 10d: of 2026-10-23, by q",
				"1.0.0 swept"}},
		"what it is not about": {[]*Policy{policy(t, "p", "newest 1")},
			pack("npm", Version{Version: "3.0.0", At: now.Add(time.Hour)}, Version{Version: "2.0.0", Fits: []bool{false, false}},
				Version{Version: "1.0.0"}),
			[]string{"3.0.0 outside", "2.0.0 outside", "1.0.0 kept"}},
	} {
		verdicts := Judge(c.policies, c.pack, now)
		for i, v := range verdicts {
			got := fmt.Sprintf("%s %s: %s", c.pack.Versions[i].Version, v.Fate, v.Title())
			if i >= len(c.want) || !strings.HasPrefix(got, c.want[i]) {
				t.Errorf("%s: %d: %s; want %q", name, i, got, c.want)
			}
		}
	}
	only := policy(t, "p", "newest 1")
	pattern, err := purl.ParsePattern("pkg:maven/*/*@1.*")
	if err != nil {
		t.Fatal(err)
	}
	only.Packages = []purl.Pattern{pattern}
	p := pack("maven", Version{Version: "2.0"}, Version{Version: "1.1"}, Version{Version: "1.0"})
	if v := Judge([]*Policy{only}, p, now); v[0].Fate != Outside || v[1].Fate != Kept || v[2].Fate != Swept {
		t.Errorf("with a pattern: %v", v)
	}
}

func TestLines(t *testing.T) {
	for version, want := range map[string][2]string{"1.4.0": {"1", "1.4"}, "1.4.0-SNAPSHOT": {"1", "1.4"}, "1": {"1", "1"},
		"1-dev": {"1", "1"}, "2!1.4": {"2!1", "2!1.4"}, "v3.2": {"v3", "v3.2"}, "": {"", ""}, "1.x": {"1", "1.x"}} {
		if major, minor := numbers(version, 1), numbers(version, 2); major != want[0] || minor != want[1] {
			t.Errorf("%q: %q %q", version, major, minor)
		}
	}
}

// some makes up a package.
func some(random *rand.Rand) *Package {
	var versions []Version
	for i := range random.IntN(12) {
		v := Version{Version: fmt.Sprintf("%d.%d.%d", random.IntN(3), random.IntN(3), random.IntN(3)),
			At: ago(random.IntN(60)), Bytes: int64(random.IntN(100)), BuildID: int64(random.IntN(4))}
		if random.IntN(2) == 0 {
			v.Version += "-SNAPSHOT"
			v.Upload = fmt.Sprint(i)
		}
		if random.IntN(3) == 0 {
			v.UsedAt, v.Users = ago(random.IntN(60)), int64(random.IntN(4))
		}
		if random.IntN(5) == 0 {
			v.Pinned = "by deckhand"
		}
		if random.IntN(4) == 0 {
			v.Labels = []string{"stable"}
		}
		v.PromotedBy, v.BuildPromotedBy = int64(random.IntN(5)/4), int64(random.IntN(5)/4)
		v.Fits = []bool{random.IntN(8) > 0, random.IntN(2) > 0}
		versions = append(versions, v)
	}
	p := pack("maven", versions...)
	p.Rooms = map[int64]time.Time{50 << 30: ago(random.IntN(60))}
	return p
}

// TestPropertyOfPlans: what is pinned or kept by a label never goes; a further
// reason, or a further policy, never lets more go; the same facts in another
// order give the same verdicts.
func TestPropertyOfPlans(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	swept := 0
	for range 20_000 {
		p := some(random)
		var keep []string
		for _, form := range Forms {
			if random.IntN(4) == 0 {
				keep = append(keep, form)
			}
		}
		keep = append(keep, "labelled stable")
		first, other := policy(t, "p", keep...), policy(t, "q", Forms[random.IntN(len(Forms))])
		before := map[int64]Verdict{}
		for i, v := range Judge([]*Policy{first}, p, now) {
			version := p.Versions[i]
			before[version.ID] = v
			if v.Fate == Swept {
				swept++
				if version.Pinned != "" || version.Labels != nil {
					t.Fatalf("%+v is swept by %v", version, keep)
				}
			}
		}
		more := policy(t, "p", append(keep, Forms[random.IntN(len(Forms))])...)
		for name, policies := range map[string][]*Policy{"reason": {more}, "policy": {first, other}} {
			for i, v := range Judge(policies, p, now) {
				if v.Fate == Swept && before[p.Versions[i].ID].Fate != Swept {
					t.Fatalf("a further %s sweeps %+v", name, p.Versions[i])
				}
			}
		}
		random.Shuffle(len(p.Versions), func(i, j int) { p.Versions[i], p.Versions[j] = p.Versions[j], p.Versions[i] })
		for i, v := range Judge([]*Policy{first}, p, now) {
			if v != before[p.Versions[i].ID] {
				t.Fatalf("in another order %+v is %v, not %v", p.Versions[i], v, before[p.Versions[i].ID])
			}
		}
	}
	if swept < 1000 {
		t.Errorf("only %d versions were swept", swept)
	}
}

func TestShares(t *testing.T) {
	var s Shares
	s.File(100) // shared by 1, 2 and 3
	s.Holder(1)
	s.Holder(2)
	s.Holder(3)
	s.File(10) // twice in 2
	s.Holder(2)
	s.Holder(2)
	for _, c := range []struct{ version, bytes, freed int64 }{{1, 100 + 7, 7}, {2, 100 + 20 + 1, 11}, {9, 55, 55},
		{3, 100, 100}} {
		if freed := s.Free(c.version, c.bytes); freed != c.freed {
			t.Errorf("version %d frees %d, not %d", c.version, freed, c.freed)
		}
	}
}

func TestRescue(t *testing.T) {
	p := policy(t, "p", "newest 1", "needed", "used by a build")
	model := pack("maven", Version{Version: "1.2.0", BuildID: 7}, Version{Version: "1.1.0", BuildID: 8},
		Version{Version: "1.0.0", BuildID: 9}, Version{Version: "0.9.0"})
	model.Key.Name = "tide-model"
	planner := pack("maven", Version{Version: "2.0.0"}, Version{Version: "1.9.0"})
	planner.Key.Name = "berth-planner"
	for i := range planner.Versions {
		planner.Versions[i].ID += 10
	}
	r := NewRescue()
	for _, of := range []*Package{model, planner} {
		r.Judged(of, Judge([]*Policy{p}, of, now))
	}
	if names, swept := r.Names(), r.Swept(); len(names) != 2 || !slices.Equal(swept, []int64{2, 3, 4, 12}) {
		t.Fatalf("%v %v", names, swept)
	}
	need := func(name, version string) []catalog.Dependency {
		return []catalog.Dependency{{PURL: "pkg:maven/example.skerry/" + name, Version: version},
			{PURL: "pkg:maven/org.openshore/other", Version: "1"}}
	}
	r.Uses(8, "berth#8", 4) // nothing of build 8 stays yet
	r.Needs("berth-planner 2.0.0", need("tide-model", "1.1.0"))
	if fresh := r.Fresh(); !slices.Equal(fresh, []int64{2, 4}) {
		t.Errorf("rescued %v", fresh)
	}
	r.Elsewhere("pkg:maven/example.skerry/tide-model", "1.0.0")
	r.Needs("berth-planner 2.0.0", need("tide-model", "1.0.0"))
	r.Needs("berth-planner 2.0.0", need("tide-model", "[1.0,2.0)"))
	r.Needs("fare-engine 1.0", need("berth-planner", "1.9.0"))
	r.Kept(9)
	if fresh := r.Fresh(); !slices.Equal(fresh, []int64{12}) {
		t.Errorf("rescued %v; 1.0.0 is elsewhere, and 1.2.0 stays anyway", fresh)
	}
	for i := range model.Versions {
		r.Mark(&model.Versions[i])
	}
	reasons := []string{}
	for i, v := range Judge([]*Policy{p}, model, now) {
		reasons = append(reasons, model.Versions[i].Version+" "+v.Reason)
	}
	if want := []string{"1.2.0 among the newest 1 of each package", "1.1.0 needed by berth-planner 2.0.0", "1.0.0 " +
		NothingKeeps, "0.9.0 used by build berth#8"}; !slices.Equal(reasons, want) {
		t.Errorf("%q", reasons)
	}
}

// TestRescueSymbols: the symbols of a program stay as long as it does, where they came last, and only where no other
// ones stay.
func TestRescueSymbols(t *testing.T) {
	p := policy(t, "p", "newest 1", "needed", "symbols of what stays")
	of := pack("generic", Version{Version: "3.0.0"}, Version{Version: "2.0.0"}, Version{Version: "1.0.0"},
		Version{Version: "0.9.0"}, Version{Version: "0.8.0"}, Version{Version: "0.7.0"})
	r := NewRescue()
	r.Judged(of, Judge([]*Policy{p}, of, now)) // 3.0.0, whose id is 1, stays
	r.Program(1, "gate 3.0.0", []int64{1, 2})  // it has some itself
	r.Program(50, "gate 5.0.0", []int64{60, 3})
	r.Program(51, "gate 5.1.0", []int64{4, 3}) // elsewhere, and nobody else has its symbols
	r.Program(5, "gate 0.8.0", []int64{6})     // goes, too
	if fresh := r.Fresh(); !slices.Equal(fresh, []int64{3}) {
		t.Errorf("rescued %v", fresh)
	}
	r.Elsewhere(of.Key.String(), "9.0.0")
	r.Needs("planner 1.0", []catalog.Dependency{{PURL: of.Key.String(), Version: "0.8.0"}})
	for i := range of.Versions {
		r.Mark(&of.Versions[i])
	}
	reasons := []string{}
	for i, v := range Judge([]*Policy{p}, of, now) {
		if v.Fate == Kept {
			reasons = append(reasons, of.Versions[i].Version+" "+v.Reason)
		}
	}
	if want := []string{"3.0.0 among the newest 1 of each package", "1.0.0 has the symbols of gate 5.1.0",
		"0.8.0 needed by planner 1.0", "0.7.0 has the symbols of gate 0.8.0"}; !slices.Equal(reasons, want) {
		t.Errorf("%q", reasons)
	}
}

// TestTogether: what an image is made of, and what is about it, stays as long as it does.
func TestTogether(t *testing.T) {
	version := func(name string, days int, parts []string, about string, labels ...string) Version {
		return Version{ID: int64(days), Version: name, At: ago(days), UploadedAt: ago(days), Fits: []bool{true}, Parts: parts,
			About: about, Labels: labels}
	}
	p := &Package{Key: purl.PURL{Ecosystem: "oci", Name: "berth-planner"}, Versions: []Version{
		version("index", 40, []string{"amd", "arm", "nested", "gone"}, "", "1.5.0"), version("amd", 41, nil, ""),
		version("arm", 42, nil, ""), version("nested", 43, []string{"deep"}, ""), version("deep", 44, nil, ""),
		version("sbom", 39, nil, "index"), version("signature", 38, nil, "sbom"), version("stray", 37, nil, "missing"),
		version("old", 50, []string{"oldest"}, ""), version("oldest", 51, nil, ""), version("note", 36, nil, "old")}}
	verdicts := Judge([]*Policy{policy(t, "images", "labelled *")}, p, now)
	got := map[string]string{}
	for i, v := range p.Versions {
		if verdicts[i].Fate == Kept {
			got[v.Version] = verdicts[i].Reason
		}
	}
	for name, want := range map[string]string{"amd": "part of 1.5.0", "arm": "part of 1.5.0", "nested": "part of 1.5.0",
		"deep": "part of nested", "sbom": "about 1.5.0", "signature": "about sbom"} {
		if got[name] != want {
			t.Errorf("%s stays since %q, want %q", name, got[name], want)
		}
	}
	if len(got) != 7 {
		t.Errorf("%v stay", got)
	}
}

// TestFamilies: labels that differ in their last number alone are a family, which has newest
// ones of its own.
func TestFamilies(t *testing.T) {
	for label, want := range map[string]string{"1.5.0-dev.118": "1.5.0-dev.*", "pr-17": "pr-*", "latest": "latest",
		"main-20261128-amd64": "main-20261128-amd*", "v1.5.0": "v1.5.*", "7": "*", "": ""} {
		if got := family(label); got != want {
			t.Errorf("%q is of %q, want %q", label, got, want)
		}
	}
	version := func(days int, labels ...string) Version {
		return Version{ID: int64(100 - days), Version: fmt.Sprintf("%d.0.0", 100-days), At: ago(days), UploadedAt: ago(days),
			Fits: []bool{true}, Labels: labels}
	}
	p := &Package{Key: purl.PURL{Ecosystem: "maven", Name: "x"}, Versions: []Version{version(9, "dev.1"), version(8, "dev.2"),
		version(7, "dev.3", "pr-1"), version(6, "pr-2", "pr-3"), version(5), version(20, "stable-1"), version(4, "pr-4")}}
	kept := func(reason string) (days []string) {
		verdicts := Judge([]*Policy{policy(t, "images", reason)}, p, now)
		for i, v := range p.Versions {
			if verdicts[i].Fate == Kept {
				days = append(days, fmt.Sprint(100-v.ID))
			}
		}
		slices.Sort(days)
		return days
	}
	// What has two labels of a family counts once.
	if got := kept("newest 2 of each label-family"); !slices.Equal(got, []string{"20", "4", "6", "7", "8"}) {
		t.Errorf("%v stay", got)
	}
	if got := kept("newest 1 of each label-family labelled pr-*"); !slices.Equal(got, []string{"4"}) {
		t.Errorf("of pr-*, %v stay", got)
	}
}

// TestPlatforms: a policy about platforms takes what is for these alone, out of what it is
// part of too.
func TestPlatforms(t *testing.T) {
	version := func(name string, parts []string, platforms ...string) Version {
		return Version{Version: name, At: ago(40), UploadedAt: ago(40), Fits: []bool{true}, Parts: parts,
			Platforms: platforms}
	}
	p := &Package{Key: purl.PURL{Ecosystem: "oci", Name: "x"}, Versions: []Version{
		version("both", []string{"amd", "arm", "v7"}, "linux/amd64", "linux/arm64", "linux/arm/v7"), version("amd", nil,
			"linux/amd64"),
		version("arm", nil, "linux/arm64"), version("v7", nil, "linux/arm/v7"), version("small", []string{"v7"}, "linux/arm/v7"),
		version("unknown", nil)}}
	for platforms, want := range map[string]string{"linux/arm": "small v7", "linux/arm*": "arm small v7", "windows/*": "",
		"*/*": "amd arm both small v7"} {
		only := policy(t, "small", "younger than 1d")
		only.Platforms = []string{platforms}
		verdicts := Judge([]*Policy{only}, p, now)
		var swept []string
		for i, v := range p.Versions {
			if verdicts[i].Fate == Swept {
				swept = append(swept, v.Version)
			}
		}
		slices.Sort(swept)
		if got := strings.Join(swept, " "); got != want {
			t.Errorf("%s: %q go, want %q", platforms, got, want)
		}
	}
	read, _, err := ParseFile("name: a\nrepositories: [b]\nplatforms: [linux/arm, windows/*]\nkeep: [newest 1]\n")
	if err != nil || !slices.Equal(read.Platforms, []string{"linux/arm", "windows/*"}) {
		t.Errorf("%+v, %v", read.Platforms, err)
	}
	if again, _, err := ParseFile(read.Text()); err != nil || !slices.Equal(again.Platforms, read.Platforms) {
		t.Errorf("%s: %v", read.Text(), err)
	}
	if _, _, err := ParseFile("name: a\nrepositories: [b]\nplatforms: arm64\nkeep: [newest 1]\n"); err == nil ||
		!strings.Contains(err.Error(), `line 3: "arm64" is no platform`) {
		t.Errorf("%v", err)
	}
}
