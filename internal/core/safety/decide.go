package safety

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/purl"
)

// Rules are what a repository lets in. The zero value lets in all but what is malicious, and
// what a person refused.
type Rules struct {
	// Refuse is how bad an advisory must be for what it affects to be refused; Unknown is
	// that none is.
	Refuse Severity `json:"refuse,omitempty"`
	// Licences are about whatever is handed out.
	Licences LicenceRules `json:"licences,omitzero"`
	// Cooldown is how old a version must be that comes from outside and is not kept yet.
	Cooldown time.Duration `json:"cooldown,omitempty"`
	// Vets: what comes from outside needs a decision: a person's, or that of the first of the
	// rules that fits.
	Vets    bool         `json:"vets,omitempty"`
	Accepts []Acceptance `json:"accepts,omitempty"`
}

// NeedFacts tells whether more must be known of a version than its name.
func (r Rules) NeedFacts() bool { return r.Vets || r.Cooldown > 0 || !r.Licences.IsZero() }

// Facts are what is known of a version besides advisories.
type Facts struct {
	Outside   bool      // it comes from an upstream
	Kept      bool      // some of it is kept
	Published time.Time // zero: nobody knows
	Licences  []string  // as it states them, of which one is enough; none: nobody knows
	Runs      bool      // installing it runs scripts of its own, as its ecosystem says
	// Like says which other name its name looks like; "" if it looks like none.
	Like string
	// Downloads is how often its package was downloaded here.
	Downloads int64
	// Size is how large it is, in bytes, and Maintainers who looks after it or published it, as its
	// ecosystem says; none: nobody knows. Before is the version that is kept and comes before it; nil
	// if none is.
	Size        int64
	Maintainers []string
	Before      *Earlier
	// SignedBy are the keys that are trusted here and whose signature of it is right.
	SignedBy []string
	// Looked: it is known what is inside; Code names the files there that a processor runs as they are.
	Looked bool
	Code   []string
	// BuiltFrom is where it was built, as far as that is verified; where it was looked.
	BuiltFrom []attest.Provenance
}

// Earlier is what is known of a version that is kept and comes before another one.
type Earlier struct {
	Version     string
	Size        int64
	Maintainers []string
}

// Waiver accepts an advisory for what a pattern fits, until it ends.
type Waiver struct {
	ID       int64
	Advisory string // an id, or an alias
	Pattern  purl.Pattern
	Until    time.Time // zero: it does not end by itself
	Reason   string
	By       string
}

// Covers tells whether the waiver accepts an advisory for a version at a moment. What is
// malicious is accepted only by its own id, and for a version that is named.
func (w *Waiver) Covers(f *Finding, p purl.PURL, now time.Time) bool {
	if !w.Until.IsZero() && !now.Before(w.Until) || !w.Pattern.Match(p) {
		return false
	}
	if Malicious(f.ID) {
		return w.Advisory == f.ID && w.NamesOne()
	}
	return w.Advisory == f.ID || slices.Contains(f.Aliases, w.Advisory)
}

// NamesOne tells whether the waiver is about one version, which it names.
func (w *Waiver) NamesOne() bool {
	kind, name, version := w.Pattern.Parts()
	return version != "" && !w.Pattern.Ranged() && !strings.Contains(kind+name+version, "*")
}

// Finding is that an advisory is about a version.
type Finding struct {
	ID      string
	Aliases []string
	Summary string
	Rating  Rating
	FixedIn []string
}

// Ground is what a version is kept out for.
type Ground string

// The grounds.
const (
	ByAdvisory Ground = "advisory"
	ByPerson   Ground = "refused"
	ByLicence  Ground = "licence"
	TooYoung   Ground = "cooldown"
	Awaiting   Ground = "awaiting" // a person's decision
)

// Verdict is whether a version is let in.
type Verdict struct {
	Refused bool
	Ground  Ground
	// By is the finding because of which it is refused; nil if it is not because of one. Why
	// says why it is refused.
	By  *Finding
	Why string
	// Waived are findings that would have it refused, each with the waiver that accepts it.
	Waived []Waived
	// Vetting is the decision that counts; nil if none does. Rule is that by which it is
	// accepted without one, by its place among the rules from 1; 0 if it is not.
	Vetting *Vetting
	Rule    int
	// From is when it will be old enough, of what is too young.
	From time.Time
	// Until is when the verdict may be another by itself, as when a waiver ends; zero if it
	// is not.
	Until time.Time
}

func (v *Verdict) refuse(g Ground, why string) {
	if !v.Refused {
		v.Refused, v.Ground, v.Why = true, g, why
	}
}

// ends notes a moment at which the verdict may be another.
func (v *Verdict) ends(at, now time.Time) {
	if at.After(now) && (v.Until.IsZero() || at.Before(v.Until)) {
		v.Until = at
	}
}

// Waived is a finding that is accepted.
type Waived struct {
	Finding Finding
	Waiver  Waiver
}

// Decisions are what people decided.
type Decisions struct {
	Waivers  Waivers
	Vettings []*Vetting // about the package, in the repository
}

// Decide tells whether a repository lets a version in. Kept out are, in this order: what is
// malicious, and what has a finding as bad as its rules say, unless a waiver accepts it; what a
// person refused; whose licence is refused, unless a person accepted the package by its name;
// what is too young, and what awaits a decision, unless a person accepted it.
func Decide(rules Rules, p purl.PURL, facts Facts, findings []Finding, by Decisions, now time.Time) (v Verdict) {
	v.advisories(rules, p, findings, by.Waivers, now)
	refused, accepted := Decided(by.Vettings, p, now)
	if refused != nil {
		v.refuse(ByPerson, refused.Sentence())
		v.ends(refused.Until, now)
		if v.Ground == ByPerson {
			v.Vetting = refused
		}
	}
	if accepted != nil {
		v.ends(accepted.Until, now)
	}
	if v.Refused {
		return v
	}
	v.Vetting = accepted
	switch answer, why := rules.Licences.judge(facts.Licences); {
	case answer == no && (accepted == nil || !accepted.NamesPackage()):
		v.refuse(ByLicence, why)
	case answer == awaits && accepted == nil:
		v.refuse(Awaiting, why)
	}
	if !facts.Outside || accepted != nil || v.Refused {
		return v
	}
	v.young(rules, facts, now)
	if rules.Vets && !v.Refused {
		v.vet(rules, p, facts, findings, by.Waivers, now)
	}
	return v
}

// advisories is Decide by what advisories say.
func (v *Verdict) advisories(rules Rules, p purl.PURL, findings []Finding, waivers Waivers, now time.Time) {
	for i := range findings {
		f := &findings[i]
		if !rules.refuses(f) {
			continue
		}
		if w := waivers.Covering(f, p, now); w != nil {
			v.Waived = append(v.Waived, Waived{*f, *w})
			v.ends(w.Until, now)
			continue
		}
		if !v.Refused || worse(f, v.By) {
			v.Refused, v.Ground, v.By = true, ByAdvisory, f
		}
	}
	if v.Refused {
		v.Until = time.Time{} // what ends then makes it no better
		v.Why = v.By.Sentence()
	}
}

// young is Decide by age. What is kept already stays.
func (v *Verdict) young(rules Rules, facts Facts, now time.Time) {
	if rules.Cooldown <= 0 || facts.Kept {
		return
	}
	if facts.Published.IsZero() {
		v.refuse(TooYoung, "nobody says when it was published, so it may be too young")
		return
	}
	if from := facts.Published.Add(rules.Cooldown); now.Before(from) {
		v.From = from
		v.ends(from, now)
		v.refuse(TooYoung, fmt.Sprintf("it was published on %s, and is let in from %s on", moment(facts.Published),
			moment(from)))
	}
}

// vet is Decide for what no person decided.
func (v *Verdict) vet(rules Rules, p purl.PURL, facts Facts, findings []Finding, waivers Waivers, now time.Time) {
	if facts.Like != "" {
		v.refuse(Awaiting, "its name looks like "+facts.Like)
		return
	}
	for i, rule := range rules.Accepts {
		conditions, from := rule.Try(p, facts, findings, waivers, now)
		fits := !slices.ContainsFunc(conditions, func(c Condition) bool { return !c.Fits })
		if v.ends(from, now); fits {
			v.Rule = i + 1
			return
		}
	}
	v.refuse(Awaiting, "nobody has decided about it yet")
}

func moment(at time.Time) string { return at.UTC().Format("2006-01-02 15:04 UTC") }

func (r Rules) refuses(f *Finding) bool {
	return Malicious(f.ID) || r.Refuse != Unknown && f.Rating.Severity >= r.Refuse
}

func worse(a, b *Finding) bool {
	if Malicious(a.ID) != Malicious(b.ID) {
		return Malicious(a.ID)
	}
	return b.Rating.Or(a.Rating) != b.Rating
}

// Waivers are waivers by the ids or aliases that they name.
type Waivers map[string][]Waiver

// NewWaivers orders waivers.
func NewWaivers(all ...Waiver) Waivers {
	by := Waivers{}
	for _, w := range all {
		by[w.Advisory] = append(by[w.Advisory], w)
	}
	return by
}

// Covering is the waiver that lasts longest of those that accept a finding about a version at a
// moment; nil if none does.
func (w Waivers) Covering(f *Finding, p purl.PURL, now time.Time) (longest *Waiver) {
	look := func(id string) {
		for i := range w[id] {
			one := &w[id][i]
			if !one.Covers(f, p, now) {
				continue
			}
			if longest == nil || !longest.Until.IsZero() && (one.Until.IsZero() || one.Until.After(longest.Until)) {
				longest = one
			}
		}
	}
	look(f.ID)
	for _, alias := range f.Aliases {
		look(alias)
	}
	return longest
}

// Sentence says of a finding what it is: "ISLE-2026-0007 (high (8.1)): Anybody can read …".
func (f *Finding) Sentence() string {
	what := f.Rating.String()
	if Malicious(f.ID) {
		what = "malicious"
	}
	said := fmt.Sprintf("%s, %s", f.ID, what)
	if f.Rating.Severity == Unknown && !Malicious(f.ID) {
		said = f.ID
	}
	if f.Summary != "" {
		said += ": " + strings.TrimRight(f.Summary, ".")
	}
	return said
}

// Find lists the findings about a version, the worst first, of all that advisories say of its
// package.
func Find(known []Known, version string) (findings []Finding) {
	for i := range known {
		if k := &known[i]; k.Affects(version) {
			findings = append(findings, k.Finding())
		}
	}
	slices.SortStableFunc(findings, func(a, b Finding) int {
		switch {
		case worse(&a, &b):
			return -1
		case worse(&b, &a):
			return 1
		}
		return strings.Compare(a.ID, b.ID)
	})
	return slices.CompactFunc(findings, func(a, b Finding) bool { return a.ID == b.ID })
}

// Known is what one advisory that was not withdrawn says of a package.
type Known struct {
	ID      string
	Aliases []string
	Summary string
	Rating  Rating
	Affected
}

// Finding is what is told of a version that it affects.
func (k *Known) Finding() Finding {
	return Finding{ID: k.ID, Aliases: k.Aliases, Summary: k.Summary, Rating: k.Rating.Or(k.Affected.Rating),
		FixedIn: k.FixedIn()}
}

// Better is the version to go to from one that is affected: the lowest later one of those that
// no advisory is about, a release before a development version; "" if there is none.
func Better(ecosystem string, clean []string, from string) string {
	best := ""
	for _, v := range clean {
		if purl.Compare(ecosystem, v, from) <= 0 {
			continue
		}
		snapshot := purl.IsSnapshot(ecosystem, v)
		switch was := purl.IsSnapshot(ecosystem, best); {
		case best == "" || was && !snapshot:
		case snapshot && !was:
			continue
		case purl.Compare(ecosystem, v, best) >= 0:
			continue
		}
		best = v
	}
	return best
}

// Advice is what is known of a package, for clients that ask for themselves.
type Advice struct {
	Of      purl.PURL // without a version
	Known   []Known
	Waivers Waivers
	Now     time.Time
}

// Standing is what advisories say of a version, without those that a waiver accepts for it.
func (a Advice) Standing(version string) (all []Known) {
	p := a.Of
	p.Version = version
	for i := range a.Known {
		if k := &a.Known[i]; k.Affects(version) {
			if f := k.Finding(); a.Waivers.Covering(&f, p, a.Now) == nil {
				all = append(all, *k)
			}
		}
	}
	return all
}
