package purl

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

func TestFits(t *testing.T) {
	for _, c := range []struct {
		ecosystem, wanted string
		fit, not          []string
	}{
		{"npm", "^2.0.0", []string{"2.0.0", "2.9.1"}, []string{"3.0.0", "1.9.9", "2.1.0-dev.1", "3.0.0-dev.1"}},
		{"npm", "^0.3.1", []string{"0.3.1", "0.3.9"}, []string{"0.4.0", "0.3.0"}},
		{"npm", "^0.0.3", []string{"0.0.3"}, []string{"0.0.4", "0.1.0"}},
		{"npm", "^1", []string{"1.0.0", "1.8.0"}, []string{"2.0.0"}},
		{"npm", "~1.2", []string{"1.2.0", "1.2.9"}, []string{"1.3.0"}},
		{"npm", "1.x || >=3.1.0 <4", []string{"1.5.0", "3.2.0"}, []string{"2.0.0", "3.0.0", "4.0.0"}},
		{"npm", "1.2.0 - 1.4", []string{"1.2.0", "1.4.9"}, []string{"1.5.0", "1.1.0"}},
		{"npm", "> 1.2 <= 2", []string{"1.3.0", "2.7.0"}, []string{"1.2.5", "3.0.0"}},
		{"npm", "2.1.0-dev.3", []string{"2.1.0-dev.3"}, []string{"2.1.0", "2.1.0-dev.4"}},
		{"npm", "^2.1.0-dev.3", []string{"2.1.0-dev.4", "2.1.0"}, []string{"2.1.0-dev.2"}},
		{"npm", "*", []string{"1.0.0"}, []string{"1.0.0-dev.1"}},
		{"npm", "", []string{"1.0.0"}, nil},
		{"npm", "=1.0.0", []string{"1.0.0"}, []string{"1.0.1"}},
		{"pypi", ">=2.3,<3", []string{"2.3", "2.9.post1"}, []string{"3.0", "2.2", "2.4.dev1"}},
		{"pypi", "~=1.4.2", []string{"1.4.2", "1.4.9"}, []string{"1.5", "1.4.1"}},
		{"pypi", "==1.4.*", []string{"1.4", "1.4.7"}, []string{"1.5"}},
		{"pypi", "!=1.4", []string{"1.5"}, []string{"1.4.0"}},
		{"pypi", "==0.7.0.dev2", []string{"0.7.0.dev2"}, []string{"0.7.0"}},
		{"pypi", "(>1, <=2)", []string{"1.1", "2.0"}, []string{"1.0", "2.1"}},
		{"maven", "1.4.0", []string{"1.4.0", "1.4"}, []string{"1.4.1"}},
		{"maven", "[1.0,2.0)", []string{"1.0", "1.9"}, []string{"2.0", "0.9"}},
		{"maven", "(,1.0],[1.2,)", []string{"0.9", "1.0", "1.3"}, []string{"1.1"}},
		{"maven", "[1.5]", []string{"1.5"}, []string{"1.6"}},
		{"maven", "1.4.0-SNAPSHOT", []string{"1.4.0-SNAPSHOT"}, []string{"1.4.0"}},
		{"nuget", "2.0.0", []string{"2.0.0", "2.1.0"}, []string{"1.9.0"}},
		{"nuget", "[2.0.0, 3.0.0)", []string{"2.0.0"}, []string{"3.0.0"}},
	} {
		for want, versions := range map[bool][]string{true: c.fit, false: c.not} {
			for _, version := range versions {
				if fits, known := Fits(c.ecosystem, c.wanted, version); fits != want || !known {
					t.Errorf("%s: %s in %q: %v, %v", c.ecosystem, version, c.wanted, fits, known)
				}
			}
		}
	}
	for _, c := range [][2]string{{"npm", "latest"}, {"npm", "git+https://example.skerry/x"}, {"maven", "${tide.version}"},
		{"maven", "[1,2"}, {"pypi", "@ https://x"}, {"maven", ""}} {
		if fits, known := Fits(c[0], c[1], "1.0.0"); fits || known {
			t.Errorf("%q says something of %s versions", c[1], c[0])
		}
	}
}

// TestCompareNumbers checks the short way of comparing against the long one.
func TestCompareNumbers(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	ends := []string{"", "-SNAPSHOT", "-dev.3", ".dev2", "rc1", "-1", ".final", "+b2", "-alpha", ".0"}
	some := func() string {
		text := fmt.Sprint(random.IntN(3))
		for range random.IntN(4) {
			text += fmt.Sprint(".", []int{0, 1, 2, 9, 10, 11}[random.IntN(6)])
		}
		return text + ends[random.IntN(len(ends))]
	}
	told := 0
	for range 50_000 {
		a, b := some(), some()
		order := compareNumbers(a, b)
		if order == 0 {
			continue
		}
		told++
		for ecosystem, r := range byEcosystem {
			long := r.Compare(a, b)
			// What is no version of the ecosystem has no order that counts.
			valid := map[string]bool{"maven": true, "npm": IsSemver(a) && IsSemver(b), "nuget": IsNuGet(a) && IsNuGet(b),
				"pypi": IsPython(a) && IsPython(b)}[ecosystem]
			if valid && (long < 0) != (order < 0) {
				t.Fatalf("%s: %s and %s: %d, and by the ecosystem's rules %d", ecosystem, a, b, order, long)
			}
		}
	}
	if told < 10_000 {
		t.Errorf("the short way told only %d of 50,000", told)
	}
}

func FuzzFits(f *testing.F) {
	for _, seed := range []string{"^1.2 || 3.x", ">=1,<2", "[1,2)", "~> 1", "(,1],[2,)", "1 - 2"} {
		f.Add(seed, "1.5.0")
	}
	f.Fuzz(func(t *testing.T, wanted, version string) {
		for ecosystem := range byEcosystem {
			if fits, known := Fits(ecosystem, wanted, version); fits && !known {
				t.Errorf("%s fits %q, of which nothing is known", version, wanted)
			}
		}
	})
}
