package chain

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

func house(id int64, name string) Member {
	return Member{Repository: catalog.Repository{ID: id, Name: name, Kind: catalog.House, Holds: catalog.Both}}
}

func mirror(id int64, name string) Member {
	return Member{Repository: catalog.Repository{ID: id, Name: name, Kind: catalog.Mirror, Holds: catalog.Both,
		Ecosystem: "maven", Mirror: &catalog.MirrorSettings{}}}
}

func parse(t *testing.T, text string) purl.PURL {
	t.Helper()
	p, err := purl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// short is an answer as text: what each said, * before who answers, ! before
// who makes it impossible.
func short(a Answer) string {
	var all []string
	for i, s := range a.Steps {
		mark := ""
		switch {
		case s.Answers:
			mark = "*"
		case a.Failed == i:
			mark = "!"
		case s.Skipped:
			mark = "~"
		}
		all = append(all, mark+string(s.Said))
	}
	return strings.Join(all, ", ")
}

func TestResolve(t *testing.T) {
	skip := mirror(4, "skip")
	skip.MaySkip = true
	strict := mirror(5, "strict")
	strict.Mirror = &catalog.MirrorSettings{Deny: []string{"pkg:maven/org.openshore/brine@1.*"},
		Allow: []string{"pkg:maven/org.openshore/*"}}
	only := mirror(6, "only-releases")
	only.Holds = catalog.Releases
	other := mirror(7, "other")
	other.Ecosystem = "npm"
	a, b, m, n := house(1, "a"), house(2, "b"), mirror(3, "m"), mirror(8, "n")
	const one = "pkg:maven/org.openshore/brine@1.0"
	const name = "pkg:maven/org.openshore/brine"
	const snapshot = "pkg:maven/org.openshore/brine@1.0-SNAPSHOT"
	for _, c := range []struct {
		what    string
		members []Member
		purl    string
		ours    string
		all     bool
		said    string // one letter a member: h has it, s stale, n has not, f failed
		want    string
	}{
		{"the first that has it", []Member{a, b, m}, one, "", false, "nhh", "not here, *has it, not asked"},
		{"all are asked", []Member{a, b, m}, one, "", true, "nhh", "not here, *has it, has it"},
		{"a mirror first", []Member{m, a}, one, "", false, "hh", "*has it, not asked"},
		{"a stale copy answers", []Member{a, m}, one, "", false, "ns", "not here, *stale"},
		{"nobody", []Member{a, m}, one, "", false, "nn", "not here, not here"},
		{"a failure before the answer", []Member{a, m, n}, one, "", false, "nfh", "not here, !failed, not asked"},
		{"a failure before the answer, all asked", []Member{a, m, n}, one, "", true, "nfh", "not here, !failed, has it"},
		{"a failure after the answer", []Member{a, m}, one, "", true, "hf", "*has it, failed"},
		{"a failure that may be skipped", []Member{skip, n}, one, "", false, "fh", "~failed, *has it"},
		{"a failure that may be skipped, and nobody else", []Member{skip, n}, one, "", false, "fn", "~failed, not here"},
		{"ours", []Member{m, a, n}, one, "it was published", true, "hhh", "claimed elsewhere, *has it, claimed elsewhere"},
		{"denied", []Member{strict, m}, one, "", false, "hh", "denied by pattern, *has it"},
		{"another version is not", []Member{strict, m}, "pkg:maven/org.openshore/brine@2.0", "", false, "hh",
			"*has it, not asked"},
		{"not allowed", []Member{strict}, "pkg:maven/com.other/x@1", "", false, "h", "denied by pattern"},
		{"another ecosystem", []Member{other, m}, one, "", false, "hh", "other ecosystem, *has it"},
		{"a name: all who have it", []Member{a, m, n}, name, "", false, "hnh", "*has it, not here, *has it"},
		{"a name, denied in some versions", []Member{strict, m}, name, "", false, "hh", "*has it, *has it"},
		{"a name, with a failure", []Member{a, m}, name, "", false, "hf", "has it, !failed"},
		{"a name, with a failure that may be skipped", []Member{a, skip}, name, "", false, "hf", "*has it, ~failed"},
		{"a snapshot: houses together", []Member{a, m, b}, snapshot, "", false, "hhh", "*has it, not asked, *has it"},
		{"a snapshot: houses first", []Member{m, b}, snapshot, "", false, "hh", "not asked, *has it"},
		{"a snapshot of a mirror", []Member{a, m, n}, snapshot, "", false, "nhh", "not here, *has it, not asked"},
		{"a snapshot that a mirror does not hold", []Member{only, m}, snapshot, "", false, "hh", "other maturity, *has it"},
	} {
		asked := map[int]int{}
		p := parse(t, c.purl)
		got := Resolve(c.members, Question{PURL: p, Snapshot: purl.IsSnapshot("maven", p.Version), Ours: c.ours, All: c.all},
			func(i int) Finding {
				asked[i]++
				return map[byte]Finding{'h': {Said: HasIt}, 's': {Said: Stale}, 'n': {Said: HasNot},
					'f': {Said: Failed, Err: errors.New("down")}}[c.said[i]]
			})
		if short(got) != c.want {
			t.Errorf("%s: %s; want %s", c.what, short(got), c.want)
		}
		for i, n := range asked {
			if n > 1 {
				t.Errorf("%s: member %d was asked %d times", c.what, i, n)
			}
		}
	}
}

func TestFlattenAndCircle(t *testing.T) {
	all := map[int64]catalog.Repository{}
	add := func(id int64, name string, members ...int64) {
		r := catalog.Repository{ID: id, Name: name, Kind: catalog.House}
		if members != nil {
			r.Kind, r.Chain = catalog.Chain, new(catalog.ChainSettings)
			for _, m := range members {
				r.Chain.Members = append(r.Chain.Members, catalog.Member{RepositoryID: m, MaySkip: m == 10})
			}
		}
		all[id] = r
	}
	find := func(id int64) (catalog.Repository, bool) { r, ok := all[id]; return r, ok }
	add(1, "releases")
	add(2, "snapshots")
	add(3, "shore")
	add(10, "inner", 2, 1, 99)
	add(11, "outer", 1, 10, 3)
	var names []string
	for _, m := range Flatten(all[11], find) {
		name := strings.Join(append(slices.Clone(m.Via), m.Name), "/")
		if m.MaySkip {
			name += "?"
		}
		names = append(names, name)
	}
	if got := strings.Join(names, " "); got != "releases inner/snapshots? shore" {
		t.Errorf("behind outer is %s", got)
	}
	if c := Circle(all[11], find); c != nil {
		t.Errorf("there is no circle, but %v", c)
	}
	add(10, "inner", 2, 12)
	add(12, "third", 1, 11)
	if c := strings.Join(Circle(all[11], find), " "); c != "outer inner third outer" {
		t.Errorf("the circle is %s", c)
	}
	if got := len(Flatten(all[11], find)); got != 3 {
		t.Errorf("a circle that is there anyhow gives %d members", got)
	}
}

func TestOurs(t *testing.T) {
	claim := func(pattern string, lifted bool) Claim {
		p, err := purl.ParsePattern(pattern)
		if err != nil {
			t.Fatal(err)
		}
		return Claim{Pattern: p, Lifted: lifted, Reason: "because", By: "purser"}
	}
	group, lift := claim("pkg:maven/example.skerry.*/*", false), claim("pkg:maven/example.skerry.open/*", true)
	for _, c := range []struct {
		name      string
		published []string
		want      string // part of the reason; "" for not ours
	}{
		{"pkg:maven/org.openshore/brine", nil, ""},
		{"pkg:maven/org.openshore/brine", []string{"releases", "snapshots"}, "published in releases and snapshots"},
		{"pkg:maven/example.skerry.berth/x@99", nil, "claimed by pkg:maven/example.skerry.*/* (purser: because)"},
		{"pkg:maven/example.skerry.open/x", nil, ""},
		{"pkg:maven/example.skerry.open/x", []string{"releases"}, ""},
	} {
		if got := Ours([]Claim{group, lift}, parse(t, c.name), c.published); got != c.want {
			t.Errorf("%s is %q; want %q", c.name, got, c.want)
		}
	}
}

func TestMerge(t *testing.T) {
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	version := func(repository int64, name, upload string, files ...string) catalog.Version {
		v := catalog.Version{Version: name, Upload: upload, Snapshot: strings.HasSuffix(name, "-SNAPSHOT"), UploadedAt: at}
		for _, f := range files {
			v.Files = append(v.Files, catalog.File{Name: f, RepositoryID: repository})
		}
		return v
	}
	part := func(isHouse bool, versions ...catalog.Version) Part {
		return Part{House: isHouse, Package: &catalog.Package{Versions: versions}}
	}
	merged := Merge(catalog.PackageKey{Name: "x"}, []Part{
		part(false, version(1, "1.0", "", "a"), version(1, "2.0-SNAPSHOT", "2.0-1", "s"),
			version(1, "3.0-SNAPSHOT", "3.0-1", "s")),
		part(true, version(2, "1.0", "", "a", "b"), version(2, "2.0-SNAPSHOT", "2.0-2", "s")),
		part(true, version(3, "1.1", "", "a"), version(3, "2.0-SNAPSHOT", "2.0-2", "s"),
			version(3, "2.0-SNAPSHOT", "2.0-3", "s")),
	})
	var got []string
	for _, v := range merged.Versions {
		got = append(got, v.Exact()+"@"+string(rune('0'+v.Files[0].RepositoryID)))
	}
	slices.Sort(got)
	if all := strings.Join(got, " "); all != "1.0@1 1.1@3 2.0-2@2 2.0-3@3 3.0-1@1" {
		t.Errorf("merged to %s", all)
	}
	// Latest is no snapshot of one house while another has released something.
	labelled := func(p Part, version string) Part {
		p.Package.Labels = map[string]string{"latest": version, "next": version}
		return p
	}
	all := []Part{part(true, version(1, "1.0", "", "a")),
		labelled(part(true, version(2, "2.0-SNAPSHOT", "2.0-1", "s")), "2.0-SNAPSHOT")}
	if got := Merge(catalog.PackageKey{}, all).Labels; got["latest"] != "" || got["next"] != "2.0-SNAPSHOT" {
		t.Errorf("the labels are %v", got)
	}
	if got := Merge(catalog.PackageKey{}, all[1:]).Labels; got["latest"] != "2.0-SNAPSHOT" {
		t.Errorf("without a release the labels are %v", got)
	}
	stale := part(false, version(4, "1.0", "", "a"))
	stale.Package.Stale = []catalog.Staleness{{Mirror: "shore"}}
	if merged := Merge(catalog.PackageKey{}, []Part{stale}); len(merged.Stale) != 1 {
		t.Errorf("that a part is stale is lost: %+v", merged)
	}
	if Merge(catalog.PackageKey{}, nil) != nil {
		t.Error("nothing merged to something")
	}
}

func TestSeen(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 0, 0, 0, 0, time.UTC) }
	list := func(versions ...string) (all []catalog.ListedVersion) {
		for _, v := range versions {
			all = append(all, catalog.ListedVersion{Version: v})
		}
		return all
	}
	first := Seen(nil, list("1", "2", "2"), day(1))
	second := Seen(first, list("2", "3"), day(2))
	third := Seen(second, list("1", "3"), day(3))
	var got []string
	for _, v := range third {
		text := v.Version + " from " + v.SeenAt.Format("2")
		if !v.GoneAt.IsZero() {
			text += " to " + v.GoneAt.Format("2")
		}
		got = append(got, text)
	}
	if all := strings.Join(got, ", "); all != "1 from 3, 3 from 2, 2 from 1 to 3" {
		t.Errorf("seen: %s", all)
	}
}
