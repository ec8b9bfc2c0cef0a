package safety

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/purl"
)

var today = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

func vetting(t testing.TB, refused bool, pattern string, until time.Time) Vetting {
	t.Helper()
	p, err := purl.ParsePattern(pattern)
	if err != nil {
		t.Fatal(err)
	}
	return Vetting{Refused: refused, Pattern: p, Until: until, By: "Mara Lind", Reason: "read through."}
}

func rule(t testing.TB, text string) Acceptance {
	t.Helper()
	a, err := ParseAcceptance(text)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func ago(days int) time.Time { return today.AddDate(0, 0, -days) }

// TestDecideOutside is about what comes from outside, and what people decided.
func TestDecideOutside(t *testing.T) {
	accepted := func(pattern string) Vetting { return vetting(t, false, pattern, time.Time{}) }
	refused := func(pattern string) Vetting { return vetting(t, true, pattern, time.Time{}) }
	young, old := Facts{Outside: true, Published: ago(2)}, Facts{Outside: true, Published: ago(30)}
	mit, agpl, own := old, old, Facts{Licences: []string{"AGPL-3.0-only"}}
	mit.Licences, agpl.Licences = []string{"MIT License"}, []string{"AGPL-3.0-only"}
	kept, unknown, like, runs := young, old, old, old
	kept.Kept, unknown.Published, like.Like, runs.Runs = true, time.Time{}, "kelp-colors, which is ours", true
	cooldown, vets := Rules{Cooldown: 7 * 24 * time.Hour}, Rules{Vets: true}
	licences := Rules{Licences: LicenceRules{Allow: []string{"MIT", "Apache-2.0"}, Refuse: []string{"AGPL-*"}}}
	with := func(rules ...string) Rules {
		r := vets
		for _, text := range rules {
			r.Accepts = append(r.Accepts, rule(t, text))
		}
		return r
	}
	before := &Earlier{Version: "0.9.0", Size: 100, Maintainers: []string{"ada", "bo"}}
	after := func(maintainers ...string) Facts {
		return Facts{Outside: true, Maintainers: maintainers, Before: before}
	}
	sized := func(size int64) Facts { return Facts{Outside: true, Size: size, Before: before} }
	bad := Finding{ID: "ISLE-9", Rating: Rating{Severity: High}}
	for _, one := range []struct {
		name     string
		rules    Rules
		facts    Facts
		vettings []Vetting
		findings []Finding
		ground   Ground // "" is that it is let in
		says     string
	}{
		{"nothing is asked", Rules{}, young, nil, nil, "", ""},
		{"too young", cooldown, young, nil, nil, TooYoung, "is let in from 2026-11-25 08:00 UTC on"},
		{"old enough", cooldown, old, nil, nil, "", ""},
		{"what is kept stays", cooldown, kept, nil, nil, "", ""},
		{"nobody says how old", cooldown, unknown, nil, nil, TooYoung, "nobody says"},
		{"an exception", cooldown, young, []Vetting{accepted("pkg:npm/kelp@1.0.0")}, nil, "", ""},
		{"an exception for another version", cooldown, young, []Vetting{accepted("pkg:npm/kelp@2.0.0")}, nil, TooYoung, ""},
		{"an exception that is over", cooldown, young, []Vetting{vetting(t, false, "pkg:npm/kelp", today)}, nil,
			TooYoung, ""},
		{"ours is not looked at", Rules{Cooldown: time.Hour, Vets: true}, Facts{}, nil, nil, "", ""},
		{"awaits", vets, old, nil, nil, Awaiting, "nobody has decided"},
		{"also what is kept", vets, kept, nil, nil, Awaiting, ""},
		{"accepted by a range", vets, old, []Vetting{accepted("pkg:npm/kelp@vers:npm/>=1.0.0|<2.0.0")}, nil, "", ""},
		{"refused", Rules{}, old, []Vetting{refused("pkg:npm/*")}, nil, ByPerson, "Mara Lind refused it: read through"},
		{"a refusal counts more", vets, old, []Vetting{accepted("pkg:npm/kelp@1.0.0"), refused("pkg:npm/*")}, nil, ByPerson, ""},
		{"ours is refused too", Rules{}, Facts{}, []Vetting{refused("pkg:npm/kelp")}, nil, ByPerson, ""},
		{"an advisory comes first", Rules{Refuse: High}, old, []Vetting{accepted("pkg:npm/kelp")}, []Finding{bad},
			ByAdvisory, ""},
		{"a licence that is refused", licences, agpl, nil, nil, ByLicence, "AGPL-3.0-only, which is refused"},
		{"also of ours", licences, own, nil, nil, ByLicence, ""},
		{"accepted widely", licences, agpl, []Vetting{accepted("pkg:npm/*")}, nil, ByLicence, ""},
		{"accepted by name", licences, agpl, []Vetting{accepted("pkg:npm/kelp")}, nil, "", ""},
		{"a licence that is allowed", licences, mit, nil, nil, "", ""},
		{"one of neither", licences, Facts{Licences: []string{"MPL-2.0"}}, nil, nil, Awaiting, "nobody has allowed or refused"},
		{"no licence", licences, old, nil, nil, "", ""},
		{"no licence, which is refused", Rules{Licences: LicenceRules{Unstated: UnstatedRefused}}, old, nil, nil, ByLicence,
			"states no licence"},
		{"a rule accepts", with("older-than 14d, licences MIT"), mit, nil, nil, "", ""},
		{"a rule does not fit", with("older-than 14d, licences Apache-2.0"), mit, nil, nil, Awaiting, ""},
		{"the second does", with("licences Apache-2.0", "only pkg:npm/kelp, no-advisories from medium"), mit, nil, nil, "", ""},
		{"an advisory", with("no-advisories from medium"), mit, nil, []Finding{bad}, Awaiting, ""},
		{"scripts", with("no-scripts"), runs, nil, nil, Awaiting, ""},
		{"too young for a rule", with("older-than 14d"), young, nil, nil, Awaiting, ""},
		{"it looks like something", with("older-than 1d"), like, nil, nil, Awaiting, "looks like kelp-colors, which is ours"},
		{"downloaded often", with("downloads 100"), Facts{Outside: true, Downloads: 100}, nil, nil, "", ""},
		{"not so often", with("downloads 100"), Facts{Outside: true, Downloads: 99}, nil, nil, Awaiting, ""},
		{"the same maintainers", with("same-maintainers"), after("ada", "bo"), nil, nil, "", ""},
		{"one of them", with("same-maintainers"), after("bo"), nil, nil, "", ""},
		{"a new maintainer", with("same-maintainers"), after("ada", "cy"), nil, nil, Awaiting, ""},
		{"nobody says who", with("same-maintainers"), after(), nil, nil, Awaiting, ""},
		{"nothing before it", with("same-maintainers"), Facts{Outside: true, Maintainers: []string{"ada"}}, nil, nil,
			Awaiting, ""},
		{"a size alike", with("size-within 50%"), sized(150), nil, nil, "", ""},
		{"a size that jumps", with("size-within 50%"), sized(151), nil, nil, Awaiting, ""},
		{"a size that falls", with("size-within 50%"), sized(49), nil, nil, Awaiting, ""},
		{"many times the size", with("size-within 300%"), sized(400), nil, nil, "", ""},
		{"no size", with("size-within 50%"), sized(0), nil, nil, Awaiting, ""},
		{"signed", with("signed-by shore north"), Facts{Outside: true, SignedBy: []string{"x", "north"}}, nil, nil, "", ""},
		{"signed by another", with("signed-by shore"), Facts{Outside: true, SignedBy: []string{"x"}}, nil, nil, Awaiting, ""},
		{"signed by nobody", with("signed-by shore"), old, nil, nil, Awaiting, ""},
		{"nobody looked inside", with("no-binaries"), old, nil, nil, Awaiting, ""},
		{"nothing is inside", with("no-binaries"), Facts{Outside: true, Looked: true}, nil, nil, "", ""},
		{"something is", with("no-binaries"), Facts{Outside: true, Looked: true, Code: []string{"x.so"}}, nil, nil, Awaiting, ""},
	} {
		p := purl.PURL{Ecosystem: "npm", Name: "kelp", Version: "1.0.0"}
		v := Decide(one.rules, p, one.facts, one.findings, Decisions{Vettings: NewVettings(one.vettings...).Of(p,
			"shore")}, today)
		if v.Ground != one.ground || v.Refused != (v.Ground != "") || v.Refused != (v.Why != "") ||
			!strings.Contains(v.Why, one.says) {
			t.Errorf("%s: %q because %q, not %q", one.name, v.Ground, v.Why, one.ground)
		}
	}
}

// TestDecideUntil tells until when a decision holds.
func TestDecideUntil(t *testing.T) {
	p := purl.PURL{Ecosystem: "npm", Name: "kelp", Version: "1.0.0"}
	facts := Facts{Outside: true, Published: ago(2)}
	decide := func(r Rules, all ...Vetting) Verdict {
		return Decide(r, p, facts, nil, Decisions{Vettings: NewVettings(all...).Of(p, "shore")}, today)
	}
	if v := decide(Rules{Cooldown: 7 * 24 * time.Hour}); !v.Until.Equal(ago(2).AddDate(0, 0, 7)) ||
		!v.From.Equal(v.Until) {
		t.Errorf("cooldown ends %v", v.Until)
	}
	ends := today.AddDate(0, 0, 3)
	if v := decide(Rules{Vets: true}, vetting(t, false, "pkg:npm/kelp", ends)); v.Refused || !v.Until.Equal(ends) {
		t.Errorf("what is accepted ends %v", v.Until)
	}
	if v := decide(Rules{Vets: true, Accepts: []Acceptance{rule(t, "older-than 14d")}}); !v.Refused ||
		!v.Until.Equal(ago(2).AddDate(0, 0, 14)) {
		t.Errorf("a rule fits from %v", v.Until)
	}
	elsewhere := vetting(t, false, "pkg:npm/kelp", time.Time{})
	elsewhere.For = []string{"north-*"}
	if v := decide(Rules{Vets: true}, elsewhere); !v.Refused {
		t.Error("what is accepted for others is let in")
	}
}

// TestMoreRefusals: one more refusal, a longer cooldown, a rule or an acceptance less, one more
// licence that is refused never let more in; the order of decisions does not matter.
func TestMoreRefusals(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	patterns := []string{"pkg:npm/kelp", "pkg:npm/*", "pkg:npm/kelp@1.*", "pkg:npm/kelp@1.0.0", "pkg:npm/wrack"}
	rules := []string{"older-than 5d", "licences MIT", "no-scripts", "no-advisories from high", "only pkg:npm/k*, older-than 1d"}
	licences := []string{"MIT", "AGPL-3.0-only", "MPL-2.0 OR MIT", "MIT AND AGPL-3.0-only"}
	pick := func(from []string) string { return from[random.IntN(len(from))] }
	p := purl.PURL{Ecosystem: "npm", Name: "kelp", Version: "1.0.0"}
	let := 0
	for range 5000 {
		facts := Facts{Outside: random.IntN(4) > 0, Kept: random.IntN(4) == 0, Published: ago(random.IntN(20)),
			Runs: random.IntN(2) == 0}
		if random.IntN(3) > 0 {
			facts.Licences = []string{pick(licences)}
		}
		var all []Vetting
		for range random.IntN(4) {
			all = append(all, vetting(t, random.IntN(4) == 0, pick(patterns), today.AddDate(0, 0, random.IntN(9)-2)))
		}
		r := Rules{Vets: random.IntN(2) == 0, Cooldown: time.Duration(random.IntN(10)) * 24 * time.Hour}
		for range random.IntN(3) {
			r.Accepts = append(r.Accepts, rule(t, pick(rules)))
		}
		if random.IntN(2) == 0 {
			r.Licences = LicenceRules{Allow: []string{"MIT"}, Refuse: []string{"AGPL-*"}}
		}
		refused := func(r Rules, all []Vetting) bool {
			return Decide(r, p, facts, nil, Decisions{Vettings: NewVettings(all...).Of(p, "shore")}, today).Refused
		}
		shuffled := slices.Clone(all)
		slices.Reverse(shuffled)
		if was := refused(r, all); refused(r, shuffled) != was {
			t.Fatalf("the order matters: %+v %+v %+v", r, facts, all)
		} else if !was {
			let++
			continue
		}
		colder, licensed, ruleless := r, r, r
		colder.Cooldown += 48 * time.Hour
		licensed.Licences.Refuse = append(slices.Clone(r.Licences.Refuse), "MIT")
		ruleless.Accepts = nil
		accepted := slices.IndexFunc(all, func(v Vetting) bool { return !v.Refused })
		for name, more := range map[string]bool{
			"a longer cooldown":     refused(colder, all),
			"one more licence":      refused(licensed, all),
			"no rules that accept":  refused(ruleless, all),
			"one more refusal":      refused(r, append(slices.Clone(all), vetting(t, true, pick(patterns), time.Time{}))),
			"one acceptance less":   accepted < 0 || refused(r, slices.Delete(slices.Clone(all), accepted, accepted+1)),
			"acceptance of another": refused(r, append(slices.Clone(all), vetting(t, false, "pkg:npm/wrack", time.Time{}))),
			"that it must be vetted": refused(Rules{Vets: true, Cooldown: r.Cooldown, Licences: r.Licences,
				Accepts: r.Accepts}, all),
		} {
			if !more {
				t.Fatalf("%s lets more in: %+v %+v %+v", name, r, facts, all)
			}
		}
	}
	if let < 500 {
		t.Errorf("only %d of 5000 were let in, which says little", let)
	}
}

func TestParseAcceptance(t *testing.T) {
	for _, text := range []string{"older-than 14d", "licences MIT Apache-2.0, no-scripts", "no-advisories from medium",
		"older-than 3d, licences MIT, no-advisories from high, no-scripts, only pkg:npm/@openshore/*"} {
		if got := rule(t, text).String(); got != text {
			t.Errorf("%q is written %q", text, got)
		}
	}
	if got := rule(t, " only pkg:npm/* ,older-than  2d").String(); got != "older-than 2d, only pkg:npm/*" {
		t.Errorf("it is written %q", got)
	}
	for text, says := range map[string]string{"": "empty", "older-than": "number of days", "older-than 2h": "number of days",
		"older-than 0d": "number of days", "older-than 1d, older-than 2d": "once", "licences": "name licences",
		"licences Tidal": "no identifier", "no-advisories medium": "from which severity", "no-advisories from worst": "from which",
		"no-scripts at all": "nothing follows", "only kelp": "pattern", "younger-than 3d": "conditions are", "no-scripts,": "empty"} {
		if _, err := ParseAcceptance(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzParseAcceptance(f *testing.F) {
	f.Add("older-than 14d, licences MIT Apache-2.0")
	f.Add("only pkg:npm/*,no-scripts")
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseAcceptance(text)
		if err != nil {
			return
		}
		again, err := ParseAcceptance(a.String())
		if err != nil || again.String() != a.String() {
			t.Errorf("%q is written %q, which is %v, %v", text, a.String(), again, err)
		}
	})
}
