package safety

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/purl"
)

// Rules are what a repository lets in. The zero value lets in all but what is malicious.
type Rules struct {
	// Refuse is how bad an advisory must be for what it affects to be refused; Unknown is
	// that none is.
	Refuse Severity `json:"refuse,omitempty"`
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

// Verdict is whether a version is let in.
type Verdict struct {
	Refused bool
	// By is the finding because of which it is refused; and Why says so.
	By  *Finding
	Why string
	// Waived are findings that would have it refused, each with the waiver that accepts it.
	Waived []Waived
	// Until is when the verdict ends by itself, as a waiver does; zero if it does not.
	Until time.Time
}

// Waived is a finding that is accepted.
type Waived struct {
	Finding Finding
	Waiver  Waiver
}

// Decide tells whether a repository lets a version in: what is malicious never is, and
// nothing that has a finding as bad as its rules say, unless a waiver accepts it. Findings
// come with the worst first in the verdict.
func Decide(rules Rules, p purl.PURL, findings []Finding, waivers Waivers, now time.Time) (v Verdict) {
	for i := range findings {
		f := &findings[i]
		if !rules.refuses(f) {
			continue
		}
		if w := waivers.Covering(f, p, now); w != nil {
			v.Waived = append(v.Waived, Waived{*f, *w})
			if !w.Until.IsZero() && (v.Until.IsZero() || w.Until.Before(v.Until)) {
				v.Until = w.Until
			}
			continue
		}
		if !v.Refused || worse(f, v.By) {
			v.Refused, v.By = true, f
		}
	}
	if v.Refused {
		v.Until = time.Time{} // what ends then makes it no better
		v.Why = v.By.Sentence()
	}
	return v
}

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
