package promotion

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/junit"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/spdx"
)

// State is what a gate says.
type State string

// What gates say.
const (
	Pass    State = "pass"
	Waiting State = "waiting"
	Fail    State = "fail"
)

// Answer is what a gate says, and the facts that it looked at.
type Answer struct {
	Gate     string   `json:"gate" doc:"as it is written"`
	Sentence string   `json:"sentence" doc:"what it asks for"`
	State    State    `json:"state" enum:"pass,waiting,fail"`
	Facts    []string `json:"facts" doc:"what it looked at"`
}

// Facts are all that gates look at.
type Facts struct {
	Now   time.Time
	Asker string
	From  string // the repository before
	To    string // the repository after
	Items []Item
	Votes []Vote
	// Outside are the answers of outside checks, by their addresses.
	Outside map[string]Outside
	// Advisories: some are known here, so that it can be told what they are not about.
	Advisories bool
}

// Advised is a version that an advisory is about.
type Advised struct {
	PURL    purl.PURL
	Finding safety.Finding
	Inside  bool // what crosses has it inside
}

// Item is a version that is to cross the hop.
type Item struct {
	PURL purl.PURL // as it is
	To   string    // the version that it becomes; the same without a restamp
	// Since is how long it has been in the stage before.
	Since time.Time
	Build *Build // nil if none is known
	// Dependencies are those on versions that do not cross with it.
	Dependencies []catalog.Dependency
	Licences     []catalog.Licence
	// Signers has for every file that is to be signed the keys that signed it.
	Signers map[string][]string
	// With are the types of what is attached to it; nil if nothing can be attached to versions
	// of its kind.
	With []string
	// Advised are the findings of advisories that no waiver accepts: about it, about what it has
	// inside, and about what its build used.
	Advised []Advised
	// Unvetted is what its build used from outside and nobody decided about.
	Unvetted []purl.PURL
	// Programs are those in it that debuggers know by a build id; nil while it was not looked into.
	Programs *Programs
	// WillSign names the key that the hop signs with.
	WillSign string
	There    []string // the releases of the package that the target has
}

// Programs are programs and libraries of a version.
type Programs struct {
	Count int
	// Without are those whose debug symbols are nowhere in the repositories before and after, by their paths.
	Without []string
}

// Build is what is known of the build that made a version.
type Build struct {
	Name     string // with its number
	Owner    string // who recorded it
	Recorded bool   // it has ended, and was recorded
	Tests    *junit.Summary
	// Statements are those attached to it.
	Statements []Statement
}

// Statement is a statement about a build.
type Statement struct {
	Type     string
	SignedBy []string
}

// Vote is what somebody said to a promotion.
type Vote struct {
	Who     string
	Teams   []string
	Approve bool
	Comment string
}

// Outside is the answer of an outside check.
type Outside struct {
	State State
	Fact  string
}

// Judge asks every gate. The answers are in the order of the gates.
func Judge(gates []Gate, f Facts) []Answer {
	answers := make([]Answer, len(gates))
	for i, g := range gates {
		answers[i] = Answer{Gate: g.String(), Sentence: g.Sentence(), State: Pass, Facts: []string{}}
		a := &answers[i]
		switch g.Kind {
		case Approved:
			f.approved(g, a)
		case Asks:
			a.outside(g, f.Outside)
		default:
			for _, item := range f.Items {
				state, fact := f.ask(g, item)
				a.note(state, fact)
			}
		}
	}
	return answers
}

// Overall is what all gates together say.
func Overall(answers []Answer) State {
	state := Pass
	for _, a := range answers {
		state = worse(state, a.State)
	}
	return state
}

func worse(a, b State) State {
	for _, s := range []State{Fail, Waiting} {
		if a == s || b == s {
			return s
		}
	}
	return Pass
}

// maxFacts is how many facts one answer has at most.
const maxFacts = 20

func (a *Answer) note(state State, fact string) {
	if worse(a.State, state) != a.State {
		a.Facts = a.Facts[:0] // what is worse is what matters
	}
	a.State = worse(a.State, state)
	if state == a.State && fact != "" && !slices.Contains(a.Facts, fact) && len(a.Facts) < maxFacts {
		a.Facts = append(a.Facts, fact)
	}
}

func (f Facts) ask(g Gate, item Item) (State, string) {
	name := item.PURL.Name + " " + item.To
	switch g.Kind {
	case RecordedBuild, TestsPassed, Attested:
		return askBuild(g, item)
	case NoSnapshots:
		return noSnapshots(item, name)
	case SignedBy:
		return signed(g, item, name)
	case Licences:
		return licensed(g, item, name)
	case NoAdvisories:
		return f.unadvised(g, item, name)
	case Vetted:
		return vetted(item, name)
	case ComesWith:
		return comesWith(g, item, name)
	case WithSymbols:
		return withSymbols(f, item, name)
	case Waited:
		if until := item.Since.Add(g.For); f.Now.Before(until) {
			return Waiting, fmt.Sprintf("%s is in %s since %s; until %s", item.PURL.Name, f.From, moment(item.Since),
				moment(until))
		}
		return Pass, fmt.Sprintf("%s is in %s since %s", item.PURL.Name, f.From, moment(item.Since))
	case Behind:
		var newer []string
		for _, there := range item.There {
			switch c := purl.Compare(item.PURL.Ecosystem, there, item.To); {
			case c == 0:
				return Fail, f.To + " has " + name + " already"
			case c > 0:
				newer = append(newer, there)
			}
		}
		if len(newer) > g.Count {
			return Fail, fmt.Sprintf("%s has %s of %s, newer than %s", f.To, strings.Join(newer[:min(3, len(newer))], ", "),
				item.PURL.Name, item.To)
		}
		if len(newer) == 0 {
			return Pass, f.To + " has nothing newer of " + item.PURL.Name
		}
		return Pass, fmt.Sprintf("of %s, %s has %s, newer than %s", item.PURL.Name, f.To,
			strings.Join(newer[:min(3, len(newer))], ", "), item.To)
	}
	return Fail, "nobody knows how to ask this"
}

func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

func askBuild(g Gate, item Item) (State, string) {
	b := item.Build
	switch {
	case b == nil:
		return Fail, item.PURL.Name + " " + item.PURL.Version + " comes from no build that is known"
	case g.Kind != Attested && len(g.Names) > 0 && !slices.Contains(g.Names, b.Owner):
		return Fail, b.Name + " is a build of " + b.Owner
	case !b.Recorded:
		return Waiting, b.Name + " has not ended yet"
	case g.Kind == RecordedBuild:
		return Pass, item.PURL.Name + " comes from " + b.Name
	case g.Kind == TestsPassed:
		t := b.Tests
		switch {
		case t == nil:
			return Fail, b.Name + " reports no tests"
		case t.Passed():
			return Pass, fmt.Sprintf("%s: %d tests, none failed", b.Name, t.Tests)
		case t.Failed+t.Errors == 0:
			return Fail, b.Name + " ran no tests"
		}
		fact := fmt.Sprintf("%s: %d of %d tests failed", b.Name, t.Failed+t.Errors, t.Tests)
		if len(t.Names) > 0 {
			fact += ", such as " + t.Names[0]
		}
		return Fail, fact
	}
	for _, s := range b.Statements {
		if s.Type != g.Type {
			continue
		}
		if len(g.Names) == 0 {
			return Pass, b.Name + " has one"
		}
		if by := common(s.SignedBy, g.Names); by != "" {
			return Pass, b.Name + " has one, signed by " + by
		}
	}
	return Fail, b.Name + " has none"
}

func common(have, want []string) string {
	for _, name := range have {
		if slices.Contains(want, name) {
			return name
		}
	}
	return ""
}

// versionIn finds versions in a range of any ecosystem.
var versionIn = regexp.MustCompile(`[0-9A-Za-z][0-9A-Za-z.+!_-]*`)

// SnapshotIn is the snapshot that a version or a range of versions names; "" if
// there is none.
func SnapshotIn(ecosystem, text string) string {
	for _, version := range versionIn.FindAllString(text, -1) {
		if purl.IsSnapshot(ecosystem, version) {
			return version
		}
	}
	return ""
}

func noSnapshots(item Item, name string) (State, string) {
	for _, d := range item.Dependencies {
		if version := SnapshotIn(item.PURL.Ecosystem, d.Version); version != "" {
			return Fail, fmt.Sprintf("%s needs %s %s", name, strings.TrimPrefix(d.PURL, "pkg:"), version)
		}
	}
	if len(item.Dependencies) == 0 {
		return Pass, name + " needs nothing besides what crosses with it"
	}
	return Pass, fmt.Sprintf("%s: %d other dependencies, no snapshot among them", name, len(item.Dependencies))
}

func signed(g Gate, item Item, name string) (State, string) {
	if slices.Contains(g.Names, item.WillSign) {
		return Pass, name + " is signed on the way, by " + item.WillSign
	}
	if len(item.Signers) == 0 {
		return Fail, name + " has no signatures"
	}
	by := ""
	for file, keys := range item.Signers {
		if by = common(keys, g.Names); by == "" {
			return Fail, file + " is not signed by any of them"
		}
	}
	if len(item.Signers) == 1 {
		return Pass, name + " is signed by " + by
	}
	return Pass, fmt.Sprintf("%s: %d files are signed by %s", name, len(item.Signers), by)
}

func comesWith(g Gate, item Item, name string) (State, string) {
	if item.With == nil {
		return Pass, "nothing is attached to packages such as " + item.PURL.Name
	}
	if slices.ContainsFunc(item.With, func(what string) bool { return purl.Glob(g.Type, what) }) {
		return Pass, name + " comes with it"
	}
	if len(item.With) == 0 {
		return Fail, name + " comes with nothing"
	}
	return Fail, name + " comes with " + strings.Join(item.With, ", ") + " alone"
}

// unadvised fails for what an advisory is about; where none is known, that says nothing.
func (f Facts) unadvised(g Gate, item Item, name string) (State, string) {
	if !f.Advisories {
		return Fail, "no advisories are known here, which says nothing of " + name
	}
	for _, a := range item.Advised {
		if safety.Malicious(a.Finding.ID) || a.Finding.Rating.Severity >= g.From {
			of := name
			switch {
			case a.Inside:
				of = name + " has " + a.PURL.Typed() + " inside"
			case a.PURL.String() != item.PURL.String():
				of = item.Build.Name + ", which made it, used " + a.PURL.Typed()
			}
			return Fail, of + ": " + a.Finding.Sentence()
		}
	}
	return Pass, "nothing that is known is about " + name
}

// vetted fails for what nobody decided about.
func vetted(item Item, name string) (State, string) {
	switch n := len(item.Unvetted); {
	case item.Build == nil:
		return Fail, "no build of " + name + " is known, so nobody knows what it used"
	case n == 1:
		return Fail, item.Build.Name + ", which made " + name + ", used " + item.Unvetted[0].Typed() + ", which nobody vetted"
	case n > 1:
		return Fail, fmt.Sprintf("%s, which made %s, used %s and %d more that nobody vetted", item.Build.Name, name,
			item.Unvetted[0].Typed(), n-1)
	}
	return Pass, "what " + item.Build.Name + " used from outside was vetted"
}

func withSymbols(f Facts, item Item, name string) (State, string) {
	switch p := item.Programs; {
	case p == nil:
		return Waiting, name + " has not been looked into yet"
	case len(p.Without) > 1:
		return Fail, fmt.Sprintf("%s has %d programs whose symbols are in neither %s nor %s, such as %s", name,
			len(p.Without),
			f.From, f.To, p.Without[0])
	case len(p.Without) == 1:
		return Fail, fmt.Sprintf("the symbols of %s in %s are in neither %s nor %s", p.Without[0], name, f.From, f.To)
	case p.Count == 0:
		return Pass, name + " has no programs with a build id"
	default:
		return Pass, fmt.Sprintf("the symbols of the programs in %s are known", name)
	}
}

func licensed(g Gate, item Item, name string) (State, string) {
	if len(item.Licences) == 0 {
		return Fail, name + " states no licence"
	}
	allowed := func(licence string) bool {
		return slices.ContainsFunc(g.Names, func(a string) bool { return strings.EqualFold(a, licence) })
	}
	var stated []string
	for _, l := range item.Licences {
		id := spdx.Identifier(l.Name)
		stated = append(stated, id)
		if spdx.Read(id).Satisfied(allowed) {
			return Pass, name + ": " + id
		}
	}
	return Fail, name + ": " + strings.Join(stated, ", ")
}

func (f Facts) approved(g Gate, a *Answer) {
	n := 0
	for _, v := range f.Votes {
		if v.Who == f.Asker || common(v.Teams, g.Names) == "" {
			continue
		}
		said := v.Who
		if v.Comment != "" {
			said += ": " + v.Comment
		}
		if !v.Approve {
			a.note(Fail, "refused by "+said)
			continue
		}
		n++
		a.Facts = append(a.Facts, "approved by "+said)
	}
	if n < g.Count && a.State == Pass {
		a.State = Waiting
		a.Facts = append(a.Facts, fmt.Sprintf("waits for %d of %s; %s, who asks, cannot be one", g.Count-n,
			strings.Join(g.Names, " or "), f.Asker))
	}
}

func (a *Answer) outside(g Gate, answers map[string]Outside) {
	said, ok := answers[g.URL]
	if !ok {
		said = Outside{State: Waiting, Fact: "was not asked yet"}
	}
	a.State, a.Facts = said.State, append(a.Facts, said.Fact)
}
