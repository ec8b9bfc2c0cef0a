package safety

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/spdx"
)

// Acceptance is a rule that accepts versions that nobody looked at: all that it says must be
// so. The zero value accepts everything.
type Acceptance struct {
	Only      *purl.Pattern // what it is about
	OlderThan time.Duration
	Licences  []string // one of these has to be enough
	Below     Severity // there is no advisory as bad as that which nobody waived; Unknown: does not matter
	NoScripts bool     // installing it runs nothing, as far as its ecosystem says
	Downloads int64    // so often its package was downloaded here
	// SameMaintainers: nobody looks after it who did not look after the version kept before.
	SameMaintainers bool
	// SizeWithin is by how many percent its size may differ from that of the version kept before; 0:
	// does not matter.
	SizeWithin int
	SignedBy   []string // a key of these signed it
	// BuiltFrom is where it was verifiably built from, with * for any run of characters; "" does not matter.
	BuiltFrom  string
	NoBinaries bool // somebody looked inside, and nothing there is run by a processor as it is
}

// AcceptanceForms are how the conditions of rules are written, for people who write them.
var AcceptanceForms = []string{"older-than 14d", "licences MIT Apache-2.0", "no-advisories from medium", "no-scripts",
	"downloads 100", "same-maintainers", "size-within 50%", "signed-by shore-registry", "built-from https://code.example/openshore/*", "no-binaries",
	"only pkg:npm/@openshore/*"}

// mostAcceptance is how many letters a rule may have.
const mostAcceptance = 1000

// ParseAcceptance reads a rule as it is written: conditions with commas between them.
func ParseAcceptance(text string) (a Acceptance, err error) {
	if len(text) > mostAcceptance {
		return a, fmt.Errorf("it is longer than %d letters", mostAcceptance)
	}
	for condition := range strings.SplitSeq(text, ",") {
		words := strings.Fields(condition)
		if len(words) == 0 {
			return a, fmt.Errorf("a condition is empty")
		}
		if why := a.add(words[0], words[1:]); why != "" {
			return a, fmt.Errorf("%q: %s", strings.TrimSpace(condition), why)
		}
	}
	return a, nil
}

// add takes a condition; why is what is wrong with it.
func (a *Acceptance) add(kind string, words []string) (why string) {
	one := strings.Join(words, " ")
	switch kind {
	case "older-than":
		days, err := strconv.Atoi(strings.TrimSuffix(one, "d"))
		if err != nil || !strings.HasSuffix(one, "d") || days < 1 || days > 3650 || a.OlderThan != 0 {
			return "write a number of days once, such as older-than 14d"
		}
		a.OlderThan = time.Duration(days) * 24 * time.Hour
	case "licences":
		if len(words) == 0 || a.Licences != nil {
			return "name licences once, such as licences MIT Apache-2.0"
		}
		for _, word := range words {
			if why := CheckLicence(word, false); why != "" {
				return why
			}
		}
		a.Licences = words
	case "no-advisories":
		s, err := ParseSeverity(strings.TrimPrefix(one, "from "))
		if err != nil || s < Low || !strings.HasPrefix(one, "from ") || a.Below != Unknown {
			return "say from which severity on once, such as no-advisories from medium"
		}
		a.Below = s
	case "no-scripts", "same-maintainers", "no-binaries":
		if len(words) > 0 {
			return "nothing follows it"
		}
		*map[string]*bool{"no-scripts": &a.NoScripts, "same-maintainers": &a.SameMaintainers,
			"no-binaries": &a.NoBinaries}[kind] = true
	case "downloads":
		n, err := strconv.ParseInt(one, 10, 64)
		if err != nil || n < 1 || a.Downloads != 0 {
			return "write a number of downloads once, such as downloads 100"
		}
		a.Downloads = n
	case "signed-by":
		if len(words) == 0 || a.SignedBy != nil {
			return "name keys once, such as signed-by shore-registry"
		}
		a.SignedBy = words
	case "built-from":
		if len(words) != 1 || a.BuiltFrom != "" {
			return "write the address of the sources once, such as built-from https://code.example/openshore/*"
		}
		a.BuiltFrom = one
	case "size-within":
		n, err := strconv.Atoi(strings.TrimSuffix(one, "%"))
		if err != nil || !strings.HasSuffix(one, "%") || n < 1 || n > 10_000 || a.SizeWithin != 0 {
			return "write a part of the size once, such as size-within 50%"
		}
		a.SizeWithin = n
	case "only":
		p, err := purl.ParsePattern(one)
		if err != nil || a.Only != nil {
			return "write one pattern once, such as only pkg:npm/@openshore/*"
		}
		a.Only = &p
	default:
		return "nobody knows what it means; conditions are: " + strings.Join(AcceptanceForms, ", ")
	}
	return ""
}

// String is the rule as it is written.
func (a Acceptance) String() string {
	var all []string
	if a.OlderThan > 0 {
		all = append(all, fmt.Sprintf("older-than %dd", a.OlderThan/(24*time.Hour)))
	}
	if len(a.Licences) > 0 {
		all = append(all, "licences "+strings.Join(a.Licences, " "))
	}
	if a.Below != Unknown {
		all = append(all, "no-advisories from "+a.Below.String())
	}
	if a.NoScripts {
		all = append(all, "no-scripts")
	}
	if a.Downloads > 0 {
		all = append(all, fmt.Sprintf("downloads %d", a.Downloads))
	}
	if a.SameMaintainers {
		all = append(all, "same-maintainers")
	}
	if a.SizeWithin > 0 {
		all = append(all, fmt.Sprintf("size-within %d%%", a.SizeWithin))
	}
	if a.SignedBy != nil {
		all = append(all, "signed-by "+strings.Join(a.SignedBy, " "))
	}
	if a.BuiltFrom != "" {
		all = append(all, "built-from "+a.BuiltFrom)
	}
	if a.NoBinaries {
		all = append(all, "no-binaries")
	}
	if a.Only != nil {
		all = append(all, "only "+a.Only.String())
	}
	return strings.Join(all, ", ")
}

// MarshalText and UnmarshalText keep a rule as it is written.
func (a Acceptance) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (a *Acceptance) UnmarshalText(text []byte) (err error) {
	*a, err = ParseAcceptance(string(text))
	return err
}

// Condition is what one condition of a rule says of a version.
type Condition struct {
	Text string // as it is written
	Fits bool
	Fact string // why
}

// Try tells of each condition whether a version fits. from is when it will be old enough; zero
// if it is, or no rule asks.
func (a Acceptance) Try(p purl.PURL, f Facts, findings []Finding, waivers Waivers, now time.Time) (
	all []Condition, from time.Time) {
	say := func(text string, fits bool, fact string, about ...any) {
		all = append(all, Condition{text, fits, fmt.Sprintf(fact, about...)})
	}
	if a.Only != nil {
		say("only "+a.Only.String(), a.Only.Match(p), "it is %s", p.Typed())
	}
	if a.OlderThan > 0 {
		text := (Acceptance{OlderThan: a.OlderThan}).String()
		if f.Published.IsZero() {
			say(text, false, "nobody says when it was published")
		} else {
			old := f.Published.Add(a.OlderThan)
			if now.Before(old) {
				from = old
			}
			say(text, from.IsZero(), "it was published on %s", day(f.Published))
		}
	}
	if len(a.Licences) > 0 {
		text := "licences " + strings.Join(a.Licences, " ")
		if len(f.Licences) == 0 {
			say(text, false, "it states no licence")
		} else {
			answer, _ := (LicenceRules{Allow: a.Licences}).judge(f.Licences)
			say(text, answer == yes, "its licence is %s", strings.Join(f.Licences, " or "))
		}
	}
	if a.Below != Unknown {
		a.tryAdvisories(p, findings, waivers, now, say)
	}
	if a.NoScripts {
		fact := "installing it runs nothing that is known of"
		if f.Runs {
			fact = "installing it runs scripts of its own"
		}
		say("no-scripts", !f.Runs, "%s", fact)
	}
	if a.Downloads > 0 {
		say((Acceptance{Downloads: a.Downloads}).String(), f.Downloads >= a.Downloads,
			"its package was downloaded here %d times", f.Downloads)
	}
	a.tryBefore(f, say)
	if a.SignedBy != nil {
		by := slices.IndexFunc(f.SignedBy, func(key string) bool { return slices.Contains(a.SignedBy, key) })
		fact := "none of its signatures is by a key that is trusted here"
		if by >= 0 {
			fact = "the signature by " + f.SignedBy[by] + " is right"
		} else if f.SignedBy != nil {
			fact = "it is signed by " + strings.Join(f.SignedBy, ", ") + " alone"
		}
		say("signed-by "+strings.Join(a.SignedBy, " "), by >= 0, "%s", fact)
	}
	if a.BuiltFrom != "" {
		a.trySource(f, say)
	}
	if a.NoBinaries {
		say("no-binaries", f.Looked && len(f.Code) == 0, "%s", f.insideText())
	}
	return all, from
}

// trySource tries where it was built from.
func (a Acceptance) trySource(f Facts, say func(text string, fits bool, fact string, about ...any)) {
	text := "built-from " + a.BuiltFrom
	fits := func(p attest.Provenance) bool { return purl.Glob(a.BuiltFrom, p.Source) }
	switch i := slices.IndexFunc(f.BuiltFrom, fits); {
	case i >= 0:
		say(text, true, "%s verifies that it was built from %s", f.BuiltFrom[i].By, f.BuiltFrom[i].Source)
	case f.BuiltFrom != nil:
		say(text, false, "it was built from %s", f.BuiltFrom[0].Source)
	case !f.Looked:
		say(text, false, "nobody has looked where it was built")
	default:
		say(text, false, "nothing that is trusted here says where it was built")
	}
}

// tryBefore tries what is compared with the version that is kept and comes before it.
func (a Acceptance) tryBefore(f Facts, say func(text string, fits bool, fact string, about ...any)) {
	const none = "no version before it is kept"
	if a.SameMaintainers {
		var come []string
		if f.Before != nil {
			for _, m := range f.Maintainers {
				if !slices.Contains(f.Before.Maintainers, m) {
					come = append(come, m)
				}
			}
		}
		switch {
		case f.Before == nil:
			say("same-maintainers", false, none)
		case len(f.Maintainers) == 0 || len(f.Before.Maintainers) == 0:
			say("same-maintainers", false, "nobody says who looks after it, or after %s", f.Before.Version)
		case come != nil:
			say("same-maintainers", false, "%s did not look after %s", strings.Join(come, ", "), f.Before.Version)
		default:
			say("same-maintainers", true, "it is looked after by those who looked after %s", f.Before.Version)
		}
	}
	if a.SizeWithin > 0 {
		text := (Acceptance{SizeWithin: a.SizeWithin}).String()
		switch {
		case f.Before == nil:
			say(text, false, none)
		case f.Size == 0 || f.Before.Size == 0:
			say(text, false, "nobody says how large it is, or %s", f.Before.Version)
		default:
			off := f.Size - f.Before.Size
			say(text, max(off, -off) <= f.Before.Size/100*int64(a.SizeWithin)+f.Before.Size%100*int64(a.SizeWithin)/100,
				"it has %d bytes, and %s has %d", f.Size, f.Before.Version, f.Before.Size)
		}
	}
}

func (f *Facts) insideText() string {
	switch {
	case !f.Looked:
		return "nobody has looked inside yet"
	case len(f.Code) == 0:
		return "nothing inside is run by a processor as it is"
	case len(f.Code) == 1:
		return "a processor runs " + f.Code[0] + " as it is"
	}
	return fmt.Sprintf("a processor runs %s and %d more as they are", f.Code[0], len(f.Code)-1)
}

func (a Acceptance) tryAdvisories(p purl.PURL, findings []Finding, waivers Waivers, now time.Time,
	say func(text string, fits bool, fact string, about ...any)) {
	text := "no-advisories from " + a.Below.String()
	for i := range findings {
		f := &findings[i]
		if (Rules{Refuse: a.Below}).refuses(f) && waivers.Covering(f, p, now) == nil {
			say(text, false, "%s", f.Sentence())
			return
		}
	}
	say(text, true, "no advisory that is known is as bad")
}

// CheckLicence tells what is wrong with a licence that somebody wrote in a rule; "" if nothing
// is. wild is that a * may stand in it.
func CheckLicence(text string, wild bool) (wrong string) {
	if wild && strings.Contains(text, "*") {
		return ""
	}
	id, _, _ := strings.Cut(text, " ")
	if _, ok := spdx.Known(strings.TrimSuffix(id, "+")); !ok && !strings.HasPrefix(id, "LicenseRef-") {
		return strconv.Quote(id) + " is no identifier of SPDX, such as MIT, Apache-2.0 or GPL-3.0-only"
	}
	return ""
}

func day(at time.Time) string { return at.UTC().Format("2006-01-02") }
