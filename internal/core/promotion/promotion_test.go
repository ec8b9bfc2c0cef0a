package promotion

import (
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/junit"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func item(change func(*Item)) Item {
	i := Item{PURL: purl.PURL{Ecosystem: "maven", Namespace: "example.skerry.berth", Name: "tide-model",
		Version: "1.5.0-SNAPSHOT"}, To: "1.5.0", Since: now.Add(-50 * time.Hour),
		Build: &Build{Name: "berth#7", Recorded: true, Tests: &junit.Summary{Tests: 3},
			Statements: []Statement{{Type: "slsa", SignedBy: []string{"yard"}}}},
		Licences: []catalog.Licence{{Name: "The Apache License, Version 2.0"}},
		Signers:  map[string][]string{"a.jar": {"yard", "line"}, "a.pom": {"line"}},
		There:    []string{"1.4.0", "1.6.0", "1.7.0"}}
	if change != nil {
		change(&i)
	}
	return i
}

// TestGates asks each gate about what passes, fails and waits.
func TestGates(t *testing.T) {
	votes := []Vote{{Who: "purser", Teams: []string{"crew"}, Approve: true},
		{Who: "cook", Teams: []string{"galley"}, Approve: true},
		{Who: "mate", Teams: []string{"deck", "crew"}, Approve: true, Comment: "fine"}}
	for _, c := range []struct {
		gate   string
		change func(*Item)
		state  State
		fact   string
	}{
		{"recorded-build", nil, Pass, "comes from berth#7"},
		{"recorded-build", func(i *Item) { i.Build = nil }, Fail, "no build that is known"},
		{"recorded-build", func(i *Item) { i.Build.Recorded = false }, Waiting, "berth#7 has not ended"},
		{"tests-passed", nil, Pass, "3 tests, none failed"},
		{"tests-passed", func(i *Item) { i.Build.Tests = nil }, Fail, "reports no tests"},
		{"tests-passed", func(i *Item) { i.Build.Tests = &junit.Summary{} }, Fail, "ran no tests"},
		{"tests-passed", func(i *Item) {
			i.Build.Tests = &junit.Summary{Tests: 9, Failed: 1, Errors: 1, Names: []string{"a.B"}}
		}, Fail, "2 of 9 tests failed, such as a.B"},
		{"no-snapshots", nil, Pass, "needs nothing besides"},
		{"no-snapshots", func(i *Item) {
			i.Dependencies = []catalog.Dependency{{PURL: "pkg:maven/a/b", Version: "[1.0,2)"}}
		}, Pass, "no snapshot among them"},
		{"no-snapshots", func(i *Item) {
			i.Dependencies = []catalog.Dependency{{PURL: "pkg:maven/a/b", Version: "[1.0-SNAPSHOT,2)"}}
		}, Fail, "needs maven/a/b 1.0-SNAPSHOT"},
		{"signed-by line", nil, Pass, "2 files are signed by line"},
		{"signed-by yard", nil, Fail, "a.pom is not signed"},
		{"signed-by yard", func(i *Item) { i.WillSign = "yard" }, Pass, "signed on the way"},
		{"signed-by yard", func(i *Item) { i.Signers = nil }, Fail, "no signatures"},
		{"signed-by yard", func(i *Item) { i.Signers = map[string][]string{"sha256:00": {"yard"}} }, Pass, "is signed by yard"},
		{"comes-with application/spdx+json", nil, Pass, "nothing is attached"},
		{"comes-with application/spdx*", func(i *Item) { i.With = []string{"x", "application/spdx+json"} }, Pass, "comes with"},
		{"comes-with application/spdx+json", func(i *Item) { i.With = []string{"x"} }, Fail, "comes with x alone"},
		{"comes-with application/spdx+json", func(i *Item) { i.With = []string{} }, Fail, "comes with nothing"},
		{"attested slsa", nil, Pass, "has one"}, {"attested slsa by yard, line", nil, Pass, "signed by yard"},
		{"attested slsa by line", nil, Fail, "has none"}, {"attested vex", nil, Fail, "has none"},
		{"licences MIT, Apache-2.0", nil, Pass, "Apache-2.0"}, {"licences MIT", nil, Fail, "Apache-2.0"},
		{"licences MIT", func(i *Item) { i.Licences = nil }, Fail, "states no licence"},
		{"licences MIT", func(i *Item) { i.Licences = []catalog.Licence{{Name: "GPL-3.0-only OR MIT"}} }, Pass, "MIT"},
		{"licences MIT", func(i *Item) { i.Licences = []catalog.Licence{{Name: "GPL-3.0-only AND MIT"}} }, Fail, "GPL"},
		{"with-symbols", nil, Waiting, "not been looked into"},
		{"with-symbols", func(i *Item) { i.Programs = &Programs{} }, Pass, "no programs"},
		{"with-symbols", func(i *Item) { i.Programs = &Programs{Count: 2} }, Pass, "are known"},
		{"with-symbols", func(i *Item) { i.Programs = &Programs{Count: 2, Without: []string{"bin/gate"}} }, Fail,
			"the symbols of bin/gate in"},
		{"with-symbols", func(i *Item) { i.Programs = &Programs{Count: 2, Without: []string{"bin/gate", "bin/fare"}} }, Fail,
			"has 2 programs whose symbols are in neither staging nor releases, such as bin/gate"},
		{"vetted", nil, Pass, "was vetted"}, {"vetted", func(i *Item) { i.Build = nil }, Fail, "nobody knows what it used"},
		{"vetted", func(i *Item) { i.Unvetted = []purl.PURL{{Ecosystem: "npm", Name: "kelp", Version: "1.0.0"}} }, Fail,
			"used pkg:npm/kelp@1.0.0, which nobody vetted"},
		{"vetted", func(i *Item) {
			i.Unvetted = []purl.PURL{{Ecosystem: "npm", Name: "kelp", Version: "1.0.0"}, {Ecosystem: "npm", Name: "wrack"}}
		}, Fail, "used pkg:npm/kelp@1.0.0 and 1 more that nobody vetted"},
		{"no-advisories", nil, Pass, "nothing that is known"},
		{"no-advisories", advised("ISLE-1", safety.Low), Fail, "ISLE-1, low"},
		{"no-advisories from high", advised("ISLE-1", safety.Medium), Pass, "nothing that is known"},
		{"no-advisories from high", advised("ISLE-1", safety.Critical), Fail, "ISLE-1, critical"},
		{"no-advisories from critical", advised("MAL-2026-1", safety.Unknown), Fail, "MAL-2026-1, malicious"},
		{"waited 2d", nil, Pass, "since 2026-11-21 10:00 UTC"}, {"waited 3d", nil, Waiting, "until 2026-11-24 10:00 UTC"},
		{"behind 2", nil, Pass, "1.6.0, 1.7.0"}, {"behind 1", nil, Fail, "1.6.0, 1.7.0"},
		{"behind 9", func(i *Item) { i.There = []string{"1.5"} }, Fail, "already"},
		{"approved 1 by crew, galley", nil, Pass, "approved by mate: fine"},
		{"approved 2 by crew", nil, Waiting, "waits for 1 of crew; purser, who asks, cannot be one"},
		{"asks https://check.example/yes", nil, Pass, "fine"},
		{"asks https://check.example/other", nil, Waiting, "not asked"},
	} {
		g, err := ParseGate(c.gate)
		if err != nil {
			t.Fatal(err)
		}
		a := Judge([]Gate{g}, Facts{Now: now, Asker: "purser", From: "staging", To: "releases", Items: []Item{item(c.change)},
			Votes: votes, Advisories: true,
			Outside: map[string]Outside{"https://check.example/yes": {State: Pass, Fact: "fine"}}})[0]
		if a.State != c.state || !strings.Contains(strings.Join(a.Facts, "; "), c.fact) {
			t.Errorf("%s: %s %q, want %s %q", c.gate, a.State, a.Facts, c.state, c.fact)
		}
	}
}

// advised is that an advisory is about an item.
func advised(id string, s safety.Severity) func(*Item) {
	return func(i *Item) {
		i.Advised = []Advised{{PURL: i.PURL, Finding: safety.Finding{ID: id, Rating: safety.Rating{Severity: s}}}}
	}
}

// TestNothingKnown: where there are no advisories, no version is without one; and what a
// build used counts as what it made.
func TestNothingKnown(t *testing.T) {
	g, err := ParseGate("no-advisories from high")
	if err != nil || g.String() != "no-advisories from high" {
		t.Fatal(g, err)
	}
	used := purl.PURL{Ecosystem: "npm", Name: "kelp-colors", Version: "1.0.0"}
	item := Item{PURL: purl.PURL{Ecosystem: "npm", Name: "deck-ui", Version: "2.0.0"}, To: "2.0.0", Build: &Build{Name: "deck#7"},
		Advised: []Advised{{PURL: used, Finding: safety.Finding{ID: "ISLE-1", Rating: safety.Rating{Severity: safety.High}}}}}
	if a := Judge([]Gate{g}, Facts{Items: []Item{item}})[0]; a.State != Fail || !strings.Contains(a.Facts[0], "no advisories are known") {
		t.Errorf("%+v", a)
	}
	a := Judge([]Gate{g}, Facts{Items: []Item{item}, Advisories: true})[0]
	if a.State != Fail || !strings.Contains(a.Facts[0], "deck#7, which made it, used pkg:npm/kelp-colors@1.0.0: ISLE-1") {
		t.Errorf("%+v", a)
	}
}

// TestInside: what a version has inside counts, whether a build of it is known or not.
func TestInside(t *testing.T) {
	g, err := ParseGate("no-advisories from high")
	if err != nil {
		t.Fatal(err)
	}
	item := Item{PURL: purl.PURL{Ecosystem: "oci", Name: "berth", Version: "sha256:1"}, To: "sha256:1",
		Advised: []Advised{{PURL: purl.PURL{Ecosystem: "npm", Name: "kelp-colors", Version: "1.0.0"}, Inside: true,
			Finding: safety.Finding{ID: "ISLE-1", Rating: safety.Rating{Severity: safety.High}}}}}
	a := Judge([]Gate{g}, Facts{Items: []Item{item}, Advisories: true})[0]
	if a.State != Fail || !strings.Contains(a.Facts[0], "has pkg:npm/kelp-colors@1.0.0 inside: ISLE-1") {
		t.Errorf("%+v", a)
	}
}

// TestRefusal: one refusal is enough, whoever else approves; the asker's own word
// does not count, not even against it.
func TestRefusal(t *testing.T) {
	g, err := ParseGate("approved 1 by crew")
	if err != nil {
		t.Fatal(err)
	}
	votes := []Vote{{Who: "mate", Teams: []string{"crew"}, Approve: true},
		{Who: "cook", Teams: []string{"crew"}, Comment: "leaks"}}
	answers := Judge([]Gate{g}, Facts{Asker: "purser", Votes: votes})
	if Overall(answers) != Fail || !slices.Contains(answers[0].Facts, "refused by cook: leaks") {
		t.Errorf("%+v", answers)
	}
	if Overall(Judge([]Gate{g}, Facts{Asker: "cook", Votes: votes})) != Pass || Overall(nil) != Pass {
		t.Error("the asker's word counts")
	}
}

func TestParseGate(t *testing.T) {
	for text, want := range map[string]string{"waited 72h": "waited 3d", "waited 90m": "waited 1h30m",
		"approved 2 by a,b": "approved 2 by a, b", "asks http://x.example/": "asks http://x.example/ within 10s",
		"behind 0":     "behind 0",
		"comes-with x": "comes-with x"} {
		g, err := ParseGate(text)
		if err != nil || g.String() != want || g.Sentence() == "" {
			t.Errorf("%s: %s, %v", text, g, err)
		}
	}
	for _, text := range []string{"", "open", "recorded-build now", "signed-by", "comes-with", "comes-with a b",
		"licences (", "attested",
		"attested x with y", "waited", "waited -1h", "waited 900d", "behind", "behind -1", "behind x",
		"approved by a", "approved 0 by a", "approved 1", "approved 1 of a", "asks ftp://x", "asks http://u:p@x.example/",
		"asks http://x.example/ within 2h", "asks http://x.example/ soon 2s"} {
		if g, err := ParseGate(text); err == nil {
			t.Errorf("%q is the gate %s", text, g)
		}
	}
}

func FuzzParseGate(f *testing.F) {
	for _, form := range Forms {
		f.Add(form)
	}
	f.Fuzz(func(t *testing.T, text string) {
		g, err := ParseGate(text)
		if err != nil {
			return
		}
		again, err := ParseGate(g.String())
		if err != nil || again.String() != g.String() {
			t.Errorf("%q is %q is %q, %v", text, g, again, err)
		}
	})
}
