package safety

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/purl"
)

func init() {
	purl.Register("cargo", purl.Rules{OSV: "crates.io", Compare: purl.CompareSemver})
}

// record writes a record of the OSV format about one package.
func record(id, ecosystem, name, ranges, versions string) string {
	return fmt.Sprintf(`{"schema_version": "1.7.0", "id": %q, "modified": "2026-11-01T08:00:00Z",
		"affected": [{"package": {"ecosystem": %q, "name": %q}, "ranges": [%s], "versions": [%s]}]}`,
		id, ecosystem, name, ranges, versions)
}

func parsed(t *testing.T, raw string) *Advisory {
	t.Helper()
	a, err := ParseOSV([]byte(raw))
	if err != nil {
		t.Fatalf("%v: %s", err, raw)
	}
	return a
}

// The cases follow the algorithm and the examples of the schema
// (https://ossf.github.io/osv-schema/#evaluation).
func TestAffects(t *testing.T) {
	events := func(kind string, events ...string) string {
		var all []string
		for _, e := range events {
			name, version, _ := strings.Cut(e, " ")
			all = append(all, fmt.Sprintf(`{%q: %q}`, name, version))
		}
		return fmt.Sprintf(`{"type": %q, "events": [%s]}`, kind, strings.Join(all, ", "))
	}
	for _, one := range []struct {
		name, ecosystem, ranges, versions string
		in, out                           []string
		text                              string
	}{
		{"from the first version to a fix", "npm", events("SEMVER", "introduced 0", "fixed 1.4.1"), "",
			[]string{"0.0.1", "1.4.0", "1.4.1-rc.1", "0.0.0-0"}, []string{"1.4.1", "2.0.0", "1.4.1+build.7"}, "< 1.4.1"},
		{"a prerelease begins it", "npm", events("SEMVER", "introduced 1.0.0-alpha.2", "fixed 1.0.0"), "",
			[]string{"1.0.0-alpha.2", "1.0.0-beta", "1.0.0-rc.1"}, []string{"1.0.0-alpha.1", "1.0.0"}, ">= 1.0.0-alpha.2, < 1.0.0"},
		{"the last one that is affected", "PyPI", events("ECOSYSTEM", "introduced 2.0", "last_affected 2.1.5"), "",
			[]string{"2.0", "2.1.5", "2.1.5rc1"}, []string{"2.1.6", "1.9", "2.1.5.post1"}, ">= 2.0, <= 2.1.5"},
		{"several stretches, in any order", "NuGet", events("ECOSYSTEM", "fixed 1.2.0", "introduced 2.0.0", "introduced 1.0.0",
			"fixed 2.1.0"), "", []string{"1.0.0", "1.1.9", "2.0.5"}, []string{"1.2.0", "1.9.9", "2.1.0", "0.9.0"},
			">= 1.0.0, < 1.2.0 or >= 2.0.0, < 2.1.0"},
		{"a limit", "crates.io", events("SEMVER", "introduced 1.0.0", "limit 2.0.0"), "",
			[]string{"1.0.0", "1.99.0"}, []string{"2.0.0", "0.9.0"}, ">= 1.0.0"},
		{"a limit that is none", "npm", events("SEMVER", "introduced 1.0.0", "limit *"), "",
			[]string{"1.0.0", "99.0.0"}, []string{"0.9.0"}, ">= 1.0.0"},
		{"versions beside ranges", "Maven", events("ECOSYSTEM", "introduced 1.2", "fixed 1.3"), `"0.9", "1.0-beta-3"`,
			[]string{"0.9", "1.2", "1.2.1", "1.0-beta-3"}, []string{"1.1", "1.3"}, ">= 1.2, < 1.3"},
		{"versions alone, however they are spelled", "PyPI", "", `"1.0", "1.0.0-RC1"`,
			[]string{"1.0rc1", "1.0"}, []string{"1.1"}, "1.0, 1.0.0rc1"},
		{"commits say nothing", "npm", events("GIT", "introduced 0"), `"1.0.0"`, []string{"1.0.0"}, []string{"1.0.1"}, "1.0.0"},
		{"every version", "npm", events("SEMVER", "introduced 0"), "", []string{"0.0.1", "77.0.0"}, nil, "every version"},
		{"neither ranges nor versions", "npm", "", "", nil, []string{"1.0.0"}, ""},
	} {
		a := parsed(t, record("ISLE-2026-0001", one.ecosystem, "org.openshore:brine", one.ranges, one.versions))
		f := a.Affected[0]
		for _, v := range one.in {
			if !f.Affects(v) {
				t.Errorf("%s: %s is not affected", one.name, v)
			}
		}
		for _, v := range one.out {
			if f.Affects(v) {
				t.Errorf("%s: %s is affected", one.name, v)
			}
		}
		if got := f.Text(); got != one.text {
			t.Errorf("%s: %q, not %q", one.name, got, one.text)
		}
	}
}

// The names of packages are those of the schema, or package URLs.
func TestPackageNames(t *testing.T) {
	for _, one := range []struct{ ecosystem, name, purl, want string }{
		{"npm", "@skerry/deck-ui", "", "pkg:npm/%40skerry/deck-ui"},
		{"PyPI", "Moonphase.Lite", "", "pkg:pypi/moonphase-lite"},
		{"Maven", "org.openshore:brine-http", "", "pkg:maven/org.openshore/brine-http"},
		{"Maven:https://repo.openshore.example", "org.openshore:brine-http", "", "pkg:maven/org.openshore/brine-http"},
		{"NuGet", "Openshore.Serial", "", "pkg:nuget/openshore.serial"},
		{"crates.io", "brine-codec", "", "pkg:cargo/brine-codec"},
		{"npm", "other", "pkg:npm/kelp-colors", "pkg:npm/kelp-colors"},
		{"Debian:12", "curl", "", ""},
		{"npm", "", "", ""},
		{"Elsewhere", "x", "pkg:deb/debian/curl", ""},
	} {
		raw := fmt.Sprintf(`{"id": "ISLE-1", "modified": "2026-11-01T08:00:00Z", "affected": [{"package":
			{"ecosystem": %q, "name": %q, "purl": %q}, "versions": ["1.0.0"]}]}`, one.ecosystem, one.name, one.purl)
		a, err := ParseOSV([]byte(raw))
		switch {
		case one.want == "":
			if !errors.Is(err, ErrForeign) {
				t.Errorf("%s %s is taken as %v, %v", one.ecosystem, one.name, a, err)
			}
		case err != nil:
			t.Errorf("%s %s: %v", one.ecosystem, one.name, err)
		case a.Affected[0].Package.String() != one.want:
			t.Errorf("%s %s is %s, not %s", one.ecosystem, one.name, a.Affected[0].Package, one.want)
		}
	}
}

// The examples are those of the specifications of CVSS.
func TestRatings(t *testing.T) {
	for vector, want := range map[string]string{
		"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H":                    "critical (9.8)",
		"CVSS:3.1/AV:N/AC:L/PR:N/UI:R/S:C/C:L/I:L/A:N":                    "medium (6.1)",
		"CVSS:3.1/AV:N/AC:L/PR:L/UI:N/S:C/C:L/I:L/A:N":                    "medium (6.4)",
		"CVSS:3.0/AV:N/AC:H/PR:N/UI:R/S:U/C:L/I:N/A:N":                    "low (3.1)",
		"CVSS:3.1/AV:L/AC:L/PR:L/UI:N/S:U/C:N/I:N/A:N":                    "none (0.0)",
		"CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N": "critical (9.3)",
		"CVSS:4.0/AV:L/AC:L/AT:P/PR:L/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N": "high (7.3)",
		"CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:P/VC:N/VI:L/VA:N/SC:N/SI:N/SA:N": "medium (5.3)",
		"AV:N/AC:L/Au:N/C:N/I:N/A:C":                                      "high (7.8)",
		"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H/E:U/RL:O/RC:U":      "high (7.8)",
	} {
		got, err := RateCVSS(vector)
		if err != nil || got.String() != want {
			t.Errorf("%s is %v, %v; not %s", vector, got, err, want)
		}
	}
	for _, bad := range []string{"", "CVSS:3.1/AV:X", "CVSS:4.0/", "high", strings.Repeat("A", 5000)} {
		if got, err := RateCVSS(bad); err == nil {
			t.Errorf("%.20q is %v", bad, got)
		}
	}
	a := parsed(t, `{"id": "ISLE-2", "modified": "2026-11-01T08:00:00Z", "severity": [{"type": "CVSS_V3", "score":
		"CVSS:3.1/AV:N/AC:L/PR:N/UI:R/S:C/C:L/I:L/A:N"}], "affected": [{"package": {"ecosystem": "npm", "name": "a"},
		"versions": ["1.0.0"]}, {"package": {"ecosystem": "npm", "name": "b"}, "versions": ["1.0.0"],
		"database_specific": {"severity": "CRITICAL"}}], "database_specific": {"severity": ["x"]}}`)
	if a.Rating.Severity != Medium || a.Worst().Severity != Critical || a.Affected[0].Rating.Severity != Unknown {
		t.Errorf("it is rated %v, at worst %v", a.Rating, a.Worst())
	}
	if word, err := ParseSeverity("MODERATE"); err != nil || word != Medium {
		t.Errorf("moderate is %v, %v", word, err)
	}
}

func TestRefusedRecords(t *testing.T) {
	for _, raw := range []string{
		`{}`, `[]`, `null`, `{"id": "x"}`, `{"id": "x", "modified": "yesterday"}`,
		`{"id": "a/b", "modified": "2026-11-01T08:00:00Z"}`, `{"id": "a\u0000b", "modified": "2026-11-01T08:00:00Z"}`,
		`{"id": "x", "modified": "2026-11-01T08:00:00Z", "withdrawn": "no"}`,
		`{"id": "x", "modified": "2026-11-01T08:00:00Z"}`,
		`{"id": "` + strings.Repeat("x", 300) + `", "modified": "2026-11-01T08:00:00Z"}`,
		strings.Repeat(" ", LargestRecord+1),
	} {
		if a, err := ParseOSV([]byte(raw)); err == nil {
			t.Errorf("%.60s is taken as %v", raw, a)
		}
	}
}

// known are some advisories about one package.
func known(t *testing.T, raws ...string) (all []Known) {
	for _, raw := range raws {
		a := parsed(t, raw)
		all = append(all, Known{ID: a.ID, Aliases: a.Aliases, Summary: a.Summary, Rating: a.Rating, Affected: a.Affected[0]})
	}
	return all
}

func TestDecide(t *testing.T) {
	below := `{"type": "SEMVER", "events": [{"introduced": "0"}, {"fixed": "1.4.1"}]}`
	rated := func(id, vector string) string {
		return strings.Replace(record(id, "npm", "kelp-colors", below, ""), `"affected"`,
			`"aliases": ["CVE-2026-1"], "severity": [{"type": "CVSS_V3", "score": "`+vector+`"}], "affected"`, 1)
	}
	const critical, medium = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", "CVSS:3.1/AV:N/AC:L/PR:N/UI:R/S:C/C:L/I:L/A:N"
	all := known(t, rated("ISLE-1", medium), rated("ISLE-2", critical))
	evil := known(t, record("MAL-2026-1", "npm", "kelp-colors", "", `"1.3.0"`))
	now := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	waiver := func(advisory, pattern string, until time.Time) Waiver {
		p, err := purl.ParsePattern(pattern)
		if err != nil {
			t.Fatal(err)
		}
		return Waiver{ID: 7, Advisory: advisory, Pattern: p, Until: until}
	}
	for _, one := range []struct {
		name    string
		known   []Known
		rules   Rules
		version string
		waivers []Waiver
		by      string // "" is that it is let in
	}{
		{"no rules let in what is only vulnerable", all, Rules{}, "1.4.0", nil, ""},
		{"the worst is named", all, Rules{Refuse: Medium}, "1.4.0", nil, "ISLE-2"},
		{"what is mended is let in", all, Rules{Refuse: Low}, "1.4.1", nil, ""},
		{"a waiver accepts one", all, Rules{Refuse: High}, "1.4.0", []Waiver{waiver("ISLE-2", "pkg:npm/*", time.Time{})}, ""},
		{"and no other", all, Rules{Refuse: Medium}, "1.4.0", []Waiver{waiver("ISLE-2", "pkg:npm/*", time.Time{})}, "ISLE-1"},
		{"an alias names both", all, Rules{Refuse: Low}, "1.4.0", []Waiver{waiver("CVE-2026-1",
			"pkg:npm/kelp-colors", time.Time{})},
			""},
		{"for something else", all, Rules{Refuse: High}, "1.4.0", []Waiver{waiver("ISLE-2", "pkg:npm/other", time.Time{})},
			"ISLE-2"},
		{"it is over", all, Rules{Refuse: High}, "1.4.0", []Waiver{waiver("ISLE-2", "pkg:npm/*", now)}, "ISLE-2"},
		{"what is malicious never is", evil, Rules{}, "1.3.0", nil, "MAL-2026-1"},
		{"a wide waiver does not help it", evil, Rules{}, "1.3.0", []Waiver{waiver("MAL-2026-1", "pkg:npm/*", time.Time{}),
			waiver("MAL-2026-1", "pkg:npm/kelp-colors@1.*", time.Time{})}, "MAL-2026-1"},
		{"one that names the version does", evil, Rules{}, "1.3.0",
			[]Waiver{waiver("MAL-2026-1", "pkg:npm/kelp-colors@1.3.0", time.Time{})}, ""},
	} {
		p := purl.PURL{Ecosystem: "npm", Name: "kelp-colors", Version: one.version}
		v := Decide(one.rules, p, Facts{}, Find(one.known, one.version), waived(one.waivers...), now)
		by := ""
		if v.Refused {
			by = v.By.ID
		}
		if by != one.by || v.Refused != (v.Why != "") {
			t.Errorf("%s: refused by %q (%q), not %q", one.name, by, v.Why, one.by)
		}
	}
	soon, later := now.Add(time.Hour), now.Add(48*time.Hour)
	v := Decide(Rules{Refuse: High}, purl.PURL{Ecosystem: "npm", Name: "kelp-colors", Version: "1.4.0"}, Facts{},
		Find(all, "1.4.0"), waived(waiver("ISLE-2", "pkg:npm/*", soon), waiver("ISLE-2", "pkg:npm/kelp-*", later)), now)
	if v.Refused || !v.Until.Equal(later) || len(v.Waived) != 1 {
		t.Errorf("of two waivers, the longer one counts: %+v", v)
	}
	if got := Better("npm", []string{"2.0.0", "1.5.0-dev.1", "1.4.1", "1.0.0"}, "1.3.0"); got != "1.4.1" {
		t.Errorf("the version to go to is %q", got)
	}
	if got := Better("npm", []string{"1.5.0-dev.1"}, "1.3.0"); got != "1.5.0-dev.1" {
		t.Errorf("where there is no release, it is %q", got)
	}
}

func waived(all ...Waiver) Decisions { return Decisions{Waivers: NewWaivers(all...)} }

// A stricter rule, or one more advisory, never lets more in, and one waiver less neither; a
// waiver never touches another advisory.
func TestDecideNeverLetsMoreIn(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	now := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	any, err := purl.ParsePattern("pkg:npm/*")
	if err != nil {
		t.Fatal(err)
	}
	p := purl.PURL{Ecosystem: "npm", Name: "kelp-colors", Version: "1.0.0"}
	finding := func(i int) Finding {
		id := fmt.Sprintf("ISLE-%d", i)
		if random.IntN(10) == 0 {
			id = fmt.Sprintf("MAL-%d", i)
		}
		return Finding{ID: id, Rating: Rating{Severity: Severity(random.IntN(int(Critical) + 1))}}
	}
	waiver := func() Waiver {
		w := Waiver{Advisory: fmt.Sprintf("ISLE-%d", random.IntN(6)), Pattern: any}
		if random.IntN(2) == 0 {
			w.Until = now.Add(time.Duration(random.IntN(5)-2) * time.Hour)
		}
		return w
	}
	for range 5000 {
		var findings []Finding
		for i := range random.IntN(6) {
			findings = append(findings, finding(i))
		}
		var waivers []Waiver
		for range random.IntN(5) {
			waivers = append(waivers, waiver())
		}
		rules := Rules{Refuse: Severity(random.IntN(int(Critical) + 1))}
		v := Decide(rules, p, Facts{}, findings, waived(waivers...), now)
		for _, w := range v.Waived {
			if w.Waiver.Advisory != w.Finding.ID {
				t.Fatalf("a waiver of %s accepts %s", w.Waiver.Advisory, w.Finding.ID)
			}
		}
		if !v.Refused {
			continue
		}
		stricter := rules
		if stricter.Refuse > Low {
			stricter.Refuse--
		}
		shuffled := slices.Clone(findings)
		random.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		for what, more := range map[string]Verdict{
			"a stricter rule": Decide(stricter, p, Facts{}, findings, waived(waivers...), now),
			"one more advisory": Decide(rules, p, Facts{}, append(slices.Clone(findings), finding(99)),
				waived(waivers...), now),
			"one waiver less":     Decide(rules, p, Facts{}, findings, waived(waivers[:max(len(waivers)-1, 0)]...), now),
			"another order":       Decide(rules, p, Facts{}, shuffled, waived(waivers...), now),
			"no waivers":          Decide(rules, p, Facts{}, findings, Decisions{}, now),
			"the same, a year on": Decide(rules, p, Facts{}, findings, waived(waivers...), now.AddDate(1, 0, 0)),
			"a waiver of something": Decide(rules, p, Facts{}, findings, waived(append(slices.Clone(waivers),
				Waiver{Advisory: "ISLE-77", Pattern: any})...), now),
		} {
			if !more.Refused {
				t.Fatalf("%s lets in what %v, %v and %v do not", what, rules, findings, waivers)
			}
		}
	}
}

// What is read stays what it was when it is written down and read again.
func TestAdvisoryKept(t *testing.T) {
	a := parsed(t, record("ISLE-3", "npm", "kelp-colors", `{"type": "SEMVER", "events": [{"introduced": "0"}, {"fixed": "2.0.0"}]}`,
		`"1.0.0"`))
	raw, err := json.Marshal(a.Affected[0])
	if err != nil {
		t.Fatal(err)
	}
	var again Affected
	if err := json.Unmarshal(raw, &again); err != nil {
		t.Fatal(err)
	}
	again.Package = a.Affected[0].Package
	if !reflect.DeepEqual(again, a.Affected[0]) {
		t.Errorf("%+v became %+v", a.Affected[0], again)
	}
}

func FuzzParseOSV(f *testing.F) {
	f.Add([]byte(record("ISLE-4", "npm", "kelp-colors", `{"type": "SEMVER", "events": [{"introduced": "0"}]}`, `"1.0.0"`)))
	f.Add([]byte(`{"id": "x", "modified": "2026-11-01T08:00:00Z", "affected": [{"package": {"purl": "pkg:npm/a"}}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		a, err := ParseOSV(raw)
		if err != nil {
			return
		}
		for _, affected := range a.Affected {
			affected.Affects("1.0.0")
			affected.Text()
		}
		if _, err := json.Marshal(a); err != nil {
			t.Errorf("it cannot be written down: %v", err)
		}
	})
}
