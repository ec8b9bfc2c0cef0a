package purl

import (
	"strings"
	"testing"
)

func TestPattern(t *testing.T) {
	const berth = "pkg:maven/example.skerry.berth/berth-planner"
	for _, c := range []struct {
		pattern string
		fits    []string
		not     []string
	}{
		{"pkg:maven/example.skerry.*/*", []string{berth, berth + "@1.4.0", "pkg:maven/example.skerry.crew/rota-sheet"},
			[]string{"pkg:maven/example.skerry/x", "pkg:maven/org.openshore/brine-http", "pkg:npm/example.skerry.berth/x"}},
		{berth, []string{berth, berth + "@2"}, []string{berth + "-extra", "pkg:maven/example.skerry.berth/berth"}},
		{berth + "@1.*", []string{berth + "@1.4.0"}, []string{berth, berth + "@2.1.0"}},
		{"pkg:npm/@skerry/*", []string{"pkg:npm/%40skerry/deck-ui@1.0.0"},
			[]string{"pkg:npm/deck-ui", "pkg:npm/%40skerries/deck-ui"}},
		{"pkg:npm/%40skerry/*@2.*", []string{"pkg:npm/%40skerry/deck-ui@2.1.0"}, []string{"pkg:npm/%40skerry/deck-ui@1.0.0"}},
		{"pkg:*/*@*-dev*", []string{"pkg:npm/kelp-colors@1.0.0-dev.3", "pkg:maven/g/a@1-dev"},
			[]string{"pkg:npm/kelp-colors@1.0.0"}},
		{"pkg:*/*", []string{berth, "pkg:npm/kelp-colors", "pkg:golang/skerry.example/slipway/v2"}, nil},
		{"pkg:maven/org.openshore/brine-http@vers:maven/>=2.0|<3.0", []string{"pkg:maven/org.openshore/brine-http@2.10"},
			[]string{"pkg:maven/org.openshore/brine-http@3.0", "pkg:maven/org.openshore/brine-http",
				"pkg:maven/org.openshore/brine-http@1.9"}},
	} {
		p, err := ParsePattern(c.pattern)
		if err != nil {
			t.Errorf("%s: %v", c.pattern, err)
			continue
		}
		for want, all := range map[bool][]string{true: c.fits, false: c.not} {
			for _, text := range all {
				of, err := Parse(text)
				if err != nil {
					t.Fatal(err)
				}
				if p.Match(of) != want {
					t.Errorf("%s fits %s: %v; want %v", text, c.pattern, !want, want)
				}
			}
		}
	}
	for _, bad := range []string{"", "maven/a/b", "pkg:", "pkg:maven", "pkg:maven/", "pkg:/x", "pkg:npm/%zz",
		"pkg:npm/a@vers:npm/", "pkg:npm/a@vers:npm/>=", "pkg:npm/" + strings.Repeat("x", 400)} {
		if p, err := ParsePattern(bad); err == nil {
			t.Errorf("%q was read as %+v", bad, p)
		}
	}
}

func TestPatternExact(t *testing.T) {
	p, err := ParsePattern("pkg:maven/example.skerry/berth@1.*")
	if err != nil {
		t.Fatal(err)
	}
	if of, ok := p.Exact(); !ok || of.Namespace != "example.skerry" || of.Name != "berth" || p.Whole() {
		t.Errorf("%+v, %v", of, ok)
	}
	if p, err = ParsePattern("pkg:maven/example.skerry/*"); err != nil {
		t.Fatal(err)
	}
	if of, ok := p.Exact(); ok || !p.Whole() {
		t.Errorf("a pattern of many names is %+v", of)
	}
}

func TestRange(t *testing.T) {
	for _, c := range []struct{ text, in, out string }{
		{"vers:maven/>=2.0|<3.0", "2.0 2.9 2.10", "1.9 3.0 3.1"},
		{"vers:maven/<2.0", "1.0 1.99", "2.0"},
		{"vers:maven/>2.0", "2.1", "2.0"},
		{"vers:maven/1.0|2.0", "1.0 2.0", "1.5"},
		{"vers:maven/1.0|>=2.0|<=2.5|!=2.3", "1.0 2.0 2.5", "1.5 2.3 2.6"},
		{"vers:maven/!=2.0", "1.0", "2.0"},
		{"vers:maven/<1.0|>=2.0", "0.9 2.0", "1.5"},
		{"vers:maven/*", "1 2-rc", ""},
	} {
		r, err := ParseRange(c.text)
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		for want, list := range map[bool]string{true: c.in, false: c.out} {
			for _, version := range strings.Fields(list) {
				if r.Contains("maven", version) != want {
					t.Errorf("%s contains %s: %v; want %v", c.text, version, !want, want)
				}
			}
		}
	}
}

func FuzzPattern(f *testing.F) {
	for _, seed := range []string{"pkg:maven/a.*/*@1.*", "pkg:npm/@a/*@vers:npm/>=1|<2", "pkg:*/*", "pkg:a/b@@"} {
		f.Add(seed, "pkg:maven/a.b/c@1.2")
	}
	f.Fuzz(func(t *testing.T, pattern, text string) {
		p, err := ParsePattern(pattern)
		if err != nil {
			return
		}
		of, err := Parse(text)
		if err != nil {
			return
		}
		if p.Match(of) && !p.MatchName(of) {
			t.Errorf("%q fits %q with its version, but not by its name", text, pattern)
		}
		if again, err := ParsePattern(p.String()); err != nil || again.Match(of) != p.Match(of) {
			t.Errorf("%q read again differs: %v", pattern, err)
		}
	})
}
