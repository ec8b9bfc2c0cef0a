package purl

import (
	"slices"
	"testing"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		in   string
		want PURL
	}{
		{"pkg:maven/example.skerry.berth/berth-planner@1.4.0",
			PURL{Ecosystem: "maven", Namespace: "example.skerry.berth", Name: "berth-planner", Version: "1.4.0"}},
		{"pkg:npm/%40skerry/deck-ui@2.0.0-dev.1", PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "deck-ui",
			Version: "2.0.0-dev.1"}},
		{"pkg:pypi/tidecast", PURL{Ecosystem: "pypi", Name: "tidecast"}},
	} {
		got, err := Parse(c.in)
		if err != nil || got.String() != c.in || got.Namespace != c.want.Namespace || got.Name != c.want.Name ||
			got.Version != c.want.Version || got.Ecosystem != c.want.Ecosystem {
			t.Errorf("Parse(%q) = %+v (%s), %v; want %+v", c.in, got, got, err, c.want)
		}
	}
	for typed, canonical := range map[string]string{"pkg:npm/@skerry/deck-ui@2.0.0": "pkg:npm/%40skerry/deck-ui@2.0.0",
		"pkg:npm/@skerry/deck-ui":   "pkg:npm/%40skerry/deck-ui",
		"pkg:npm/kelp-colors@1.0.0": "pkg:npm/kelp-colors@1.0.0"} {
		p, err := Parse(typed)
		if err != nil || p.String() != canonical || p.Typed() != typed {
			t.Errorf("Parse(%q) = %s, typed %s, %v", typed, p, p.Typed(), err)
		}
	}
	for _, in := range []string{"", "berth-planner", "pkg:", "pkg:maven", "pkg:maven/", "http://example.com/x"} {
		if got, err := Parse(in); err == nil {
			t.Errorf("Parse(%q) = %+v; want an error", in, got)
		}
	}
}

// TestCompareMaven has the examples of the "Version Order Specification" and
// more, in ascending order.
func TestCompareMaven(t *testing.T) {
	ascending := []string{
		"1-alpha-1", "1-alpha2", "1-beta-2", "1-milestone-1", "1.0-rc1", "1.0-cr2", "1-SNAPSHOT", "1",
		"1-sp", "1-abc", "1-xyz", "1.0.1-SNAPSHOT", "1.0.1", "1.0.1.1", "1.1", "1.2-SNAPSHOT", "1.2", "1.10", "2.0.0-alpha",
		"2", "10.0",
		"20261101.5", "99999999999999999999.1",
	}
	for i, a := range ascending {
		for j, b := range ascending {
			got := Compare("maven", a, b)
			if (got < 0) != (i < j) || (got > 0) != (i > j) {
				t.Errorf("Compare(%s, %s) = %d; want the order of %d and %d", a, b, got, i, j)
			}
		}
	}
	for _, same := range [][2]string{{"1", "1.0.0"}, {"1-ga", "1"}, {"1.final", "1.0"}, {"1.0-RELEASE", "1"},
		{"1a1", "1-alpha-1"}, {"1.0rc3", "1-cr-3"}, {"01.02", "1.2"}} {
		if c := Compare("maven", same[0], same[1]); c != 0 {
			t.Errorf("Compare(%s, %s) = %d; want 0", same[0], same[1], c)
		}
	}
}

func TestIsSnapshot(t *testing.T) {
	for version, want := range map[string]bool{"1.0-SNAPSHOT": true, "SNAPSHOT": true, "1.0": false, "1.0-snapshot": false,
		"SNAPSHOT-1": false} {
		if got := IsSnapshot("maven", version); got != want {
			t.Errorf("IsSnapshot(%s) = %v", version, got)
		}
	}
}

func TestNextFree(t *testing.T) {
	taken := []string{"1.4.0", "1.4.1", "2.0-rc1", "1.09", "final", "final.1", "99999999999999999999"}
	for version, want := range map[string]string{"1.4.0": "1.4.2", "2.0-rc1": "2.0-rc2", "1.09": "1.10",
		"final": "final.2", "99999999999999999999": "99999999999999999999.1", "1.4.0-jre": "1.4.1-jre"} {
		if got := NextFree(version, func(v string) bool { return slices.Contains(taken, v) }); got != want {
			t.Errorf("NextFree(%s) = %s; want %s", version, got, want)
		}
	}
}

// FuzzCompareMaven checks that the order does not contradict itself for any two
// versions. (For three it can: Maven's own order has circles among versions
// that nobody writes, such as 1 < 1-sp < 1.0.alpha < 1.)
func FuzzCompareMaven(f *testing.F) {
	f.Add("1.0-SNAPSHOT", "1.0.1")
	f.Add("1-a1", "-_-.0x")
	sign := func(n int) int { return min(1, max(-1, n)) }
	f.Fuzz(func(t *testing.T, a, b string) {
		if Compare("maven", a, a) != 0 {
			t.Errorf("%q is not like itself", a)
		}
		if ab, ba := sign(Compare("maven", a, b)), sign(Compare("maven", b, a)); ab != -ba {
			t.Errorf("%q and %q: %d and %d", a, b, ab, ba)
		}
	})
}

// TestNoText: what is no text, once it is decoded, names no package.
func TestNoText(t *testing.T) {
	for _, text := range []string{"pkg:npm/a@1%00", "pkg:npm/%FFa@1", "pkg:npm/a%0A@1", "pkg:maven/g%C3/a@1"} {
		if p, err := Parse(text); err == nil {
			t.Errorf("%q is %#v", text, p)
		}
	}
	if p, err := Parse("pkg:npm/k%C3%A4lp@1"); err != nil || p.Name != "kälp" {
		t.Errorf("%#v, %v", p, err)
	}
}
