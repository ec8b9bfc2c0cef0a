package purl

import (
	"slices"
	"testing"
)

// TestOrders holds each list to its order, by comparing all pairs.
func TestOrders(t *testing.T) {
	for ecosystem, inOrder := range map[string][]string{
		"npm": {"not a version", "0.9.0", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta.2",
			"1.0.0-beta.11", "1.0.0-rc.1", "1.0.0", "1.4.0-dev.7", "1.4.0", "1.10.0"},
		"nuget": {"not a version", "1.0.0-Alpha", "1.0.0-beta.2", "1.0.0-beta.11", "1.0", "1.0.0.1", "1.0.1", "1.2",
			"1.10.0.0"},
		"pypi": {"not a version", "1.0.dev456", "1.0a1", "1.0a2.dev456", "1.0a12.dev456", "1.0a12", "1.0b1.dev456", "1.0b2",
			"1.0b2.post345.dev456",
			"1.0b2.post345", "1.0rc1.dev456", "1.0rc1", "1.0", "1.0+abc.5", "1.0+abc.7", "1.0+5", "1.0.post456.dev34",
			"1.0.post456", "1.1.dev1", "1.10", "1!0.1"},
	} {
		for i, a := range inOrder {
			for j, b := range inOrder {
				got, want := Compare(ecosystem, a, b), i-j
				if got < 0 != (want < 0) || got > 0 != (want > 0) {
					t.Errorf("%s: Compare(%q, %q) = %d", ecosystem, a, b, got)
				}
			}
		}
	}
	for _, same := range [][3]string{{"nuget", "1.0", "1.0.0.0"}, {"nuget", "1.0.0-RC+7", "1.0.0-rc"},
		{"pypi", "1.0", "1.0.0"}, {"pypi", "1.4.0.DEV7", "1.4.0dev7"}} {
		if c := Compare(same[0], same[1], same[2]); c != 0 {
			t.Errorf("%s: Compare(%q, %q) = %d, want 0", same[0], same[1], same[2], c)
		}
	}
}

func TestMaturity(t *testing.T) {
	for ecosystem, both := range map[string][2][]string{
		"maven": {{"1.4.0-SNAPSHOT", "SNAPSHOT"}, {"1.4.0", "1.4.0-rc1"}},
		"npm":   {{"1.4.0-dev.7", "1.0.0-0"}, {"1.4.0", "1.4.0+build.7", "rubbish"}},
		"nuget": {{"1.4.0-dev7", "1.0.0.4-x"}, {"1.4.0", "1.4", "1.4.0+x-y"}},
		"pypi":  {{"1.4.0.dev7", "1.4rc1", "1.4a0", "1.0.post1.dev2"}, {"1.4.0", "1.4.0.post1", "1.4+dev"}},
	} {
		for i, versions := range both {
			for _, v := range versions {
				if IsSnapshot(ecosystem, v) != (i == 0) {
					t.Errorf("%s %s: a snapshot? %v", ecosystem, v, i != 0)
				}
			}
		}
	}
}

func TestNormalForms(t *testing.T) {
	for _, c := range [][3]string{
		{"pypi", "1.4.0-RC.1", "1.4.0rc1"}, {"pypi", "v1.0-1", "1.0.post1"}, {"pypi", "1.0alpha", "1.0a0"},
		{"pypi", "01.02", "1.2"},
		{"pypi", "1!2.0.DEV-3+Ubuntu_1", "1!2.0.dev3+ubuntu.1"}, {"pypi", "nonsense", "nonsense"},
		{"nuget", "1.0", "1.0.0"}, {"nuget", "1.02.3.0", "1.2.3"}, {"nuget", "1.2.3.4-Beta+x", "1.2.3.4-beta"},
		{"npm", "1.0.0-Beta", "1.0.0-Beta"},
	} {
		if got := NormalVersion(c[0], c[1]); got != c[2] {
			t.Errorf("NormalVersion(%s, %q) = %q, want %q", c[0], c[1], got, c[2])
		}
		if again := NormalVersion(c[0], c[2]); again != c[2] {
			t.Errorf("the normal form %q of %s becomes %q", c[2], c[0], again)
		}
	}
	for _, c := range [][3]string{{"pypi", "Moon_Phase..Lite", "moon-phase-lite"},
		{"nuget", "Skerry.TurnstileLink", "skerry.turnstilelink"}, {"npm", "JSONStream", "JSONStream"}} {
		if got := NormalName(c[0], c[1]); got != c[2] {
			t.Errorf("NormalName(%s, %q) = %q, want %q", c[0], c[1], got, c[2])
		}
	}
}

// TestPatternsFitEverySpelling: a claim must not be got round by another
// spelling of the name.
func TestPatternsFitEverySpelling(t *testing.T) {
	for _, c := range [][2]string{
		{"pkg:nuget/Skerry.*", "pkg:nuget/SKERRY.TurnstileLink"}, {"pkg:nuget/Skerry.*@1.0", "pkg:nuget/skerry.x@1.0.0"},
		{"pkg:pypi/Tide_Cast", "pkg:pypi/tide.cast@1.0"}, {"pkg:pypi/tide.*", "pkg:pypi/tide_cast"},
		{"pkg:npm/@skerry/*", "pkg:npm/%40skerry/deck-ui@1.0.0"}, {"pkg:*/Skerry.*", "pkg:nuget/Skerry.TurnstileLink"},
	} {
		pattern, err := ParsePattern(c[0])
		if err != nil {
			t.Fatal(err)
		}
		p, err := Parse(c[1])
		if err != nil {
			t.Fatal(err)
		}
		if !pattern.Match(p) {
			t.Errorf("%s does not fit %s (read as %+v)", c[0], c[1], p)
		}
	}
}

func FuzzVersions(f *testing.F) {
	for _, seed := range []string{"1.0", "1!2.0.dev3+ubuntu.1", "1.2.3.4-beta.1+x", "1.0.0-alpha.1"} {
		f.Add(seed, "1.0.1")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		for ecosystem := range byEcosystem {
			n := NormalVersion(ecosystem, a)
			if again := NormalVersion(ecosystem, n); again != n {
				t.Errorf("%s: %q becomes %q and then %q", ecosystem, a, n, again)
			}
			all := []string{a, b, n}
			slices.SortFunc(all, func(x, y string) int { return Compare(ecosystem, x, y) })
			if x, y := Compare(ecosystem, a, b), Compare(ecosystem, b, a); x < 0 != (y > 0) {
				t.Errorf("%s: %q and %q are compared as %d and %d", ecosystem, a, b, x, y)
			}
		}
	})
}
