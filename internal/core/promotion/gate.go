// Package promotion decides whether versions may cross a hop of a track: gates
// and facts in, answers out. It knows no clock and asks nobody.
package promotion

import (
	"net/url"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/spdx"
)

// Kind is what a gate looks at.
type Kind string

// The kinds of gate, as they are written.
const (
	RecordedBuild Kind = "recorded-build"
	TestsPassed   Kind = "tests-passed"
	NoSnapshots   Kind = "no-snapshots"
	SignedBy      Kind = "signed-by"
	Attested      Kind = "attested"
	Licences      Kind = "licences"
	Waited        Kind = "waited"
	Behind        Kind = "behind"
	Approved      Kind = "approved"
	Asks          Kind = "asks"
	ComesWith     Kind = "comes-with"
	NoAdvisories  Kind = "no-advisories"
	Vetted        Kind = "vetted"
	WithSymbols   Kind = "with-symbols"
)

// Gate is a condition on a hop.
type Gate struct {
	Kind Kind
	// Names are keys (signed-by, attested), teams (approved), licences, or whose
	// build it must be (recorded-build, tests-passed).
	Names []string
	Type  string          // attested: the predicate type; comes-with: of what is attached
	Count int             // approved: how many; behind: by how many versions
	From  safety.Severity // no-advisories: how bad those are that must not be
	For   time.Duration   // waited: how long; asks: the time limit
	URL   string          // asks
}

// Forms are how gates are written, for people who write them.
var Forms = []string{
	"recorded-build by OWNER, OWNER", "tests-passed by OWNER", "no-snapshots", "signed-by KEY, KEY",
	"attested TYPE by KEY, KEY",
	"comes-with application/spdx+json", "licences MIT, Apache-2.0", "no-advisories from high", "vetted", "with-symbols", "waited 72h", "behind 0",
	"approved 2 by TEAM, TEAM",
	"asks https://check.example/ within 10s",
}

// Longest is how long an outside check may take at most.
const Longest = time.Minute

// ParseGate reads a gate as it is written.
func ParseGate(text string) (Gate, error) {
	p := gateParser{words: strings.Fields(strings.ReplaceAll(text, ",", " "))}
	why := "it is empty, or too long"
	if len(p.words) > 0 && len(text) <= 1000 {
		p.g.Kind = Kind(p.take())
		if why = p.parse(); why == "" && len(p.words) > 0 {
			why = "nobody knows what " + strconv.Quote(p.words[0]) + " is for"
		}
	}
	if why != "" {
		return Gate{}, fault.New(fault.Invalid, "bad-gate", "%q is no gate: %s", text, why).
			WithHint("Gates are written: %s.", strings.Join(Forms, "; "))
	}
	return p.g, nil
}

// gateParser reads a gate word by word.
type gateParser struct {
	g     Gate
	words []string
}

// take takes the next word; "" if there is none.
func (p *gateParser) take() string {
	if len(p.words) == 0 {
		return ""
	}
	word := p.words[0]
	p.words = p.words[1:]
	return word
}

// after takes the names that follow a word.
func (p *gateParser) after(word string) bool {
	if p.take() != word {
		return false
	}
	p.g.Names, p.words = p.words, nil
	return len(p.g.Names) > 0
}

// number takes a number between two.
func (p *gateParser) number(from, to int) bool {
	n, err := strconv.Atoi(p.take())
	p.g.Count = n
	return err == nil && n >= from && n <= to
}

// parse reads what comes after the kind, and says what is wrong with it.
func (p *gateParser) parse() (wrong string) {
	switch g := &p.g; g.Kind {
	case RecordedBuild, TestsPassed:
		if len(p.words) > 0 && !p.after("by") {
			return `after it may come "by" and whose build it must be`
		}
	case NoSnapshots, Vetted, WithSymbols:
	case NoAdvisories:
		return p.advisories()
	case SignedBy, Licences:
		if g.Names, p.words = p.words, nil; len(g.Names) == 0 {
			return "it names none"
		}
		for _, name := range g.Names {
			if _, err := spdx.Parse(name); g.Kind == Licences && err != nil {
				return err.Error()
			}
		}
	case Attested:
		if g.Type = p.take(); g.Type == "" {
			return "it names no type of statement"
		}
		if len(p.words) > 0 && !p.after("by") {
			return `after the type comes "by" and the keys`
		}
	case ComesWith:
		if g.Type = p.take(); g.Type == "" {
			return "it does not say with what, such as application/spdx+json"
		}
	case Waited:
		var err error
		if g.For, err = parseDuration(p.take()); err != nil || g.For <= 0 || g.For > 366*24*time.Hour {
			return "it does not say how long, such as 72h or 3d"
		}
	case Behind:
		if !p.number(0, 1000) {
			return "it does not say by how many versions"
		}
	case Approved:
		if !p.number(1, 20) {
			return "it does not say by how many, from 1 to 20"
		}
		if !p.after("by") {
			return `after the number comes "by" and the teams`
		}
	case Asks:
		return p.asks()
	default:
		return "there is no such gate"
	}
	return ""
}

// advisories reads how bad an advisory must be.
func (p *gateParser) advisories() (wrong string) {
	p.g.From = safety.Low
	if len(p.words) == 0 {
		return ""
	}
	if p.take() != "from" {
		return `after it may come "from" and how bad they must be`
	}
	var err error
	if p.g.From, err = safety.ParseSeverity(p.take()); err != nil || p.g.From < safety.Low {
		return "how bad they must be is one of " + strings.Join(safety.SeverityWords(), ", ")
	}
	return ""
}

// asks reads whom an outside check is asked of.
func (p *gateParser) asks() (wrong string) {
	p.g.URL, p.g.For = p.take(), 10*time.Second
	u, err := url.Parse(p.g.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return "it has no web address without credentials"
	}
	if len(p.words) == 0 {
		return ""
	}
	if p.take() != "within" {
		return `after the address comes "within" and how long`
	}
	if p.g.For, err = parseDuration(p.take()); err != nil || p.g.For <= 0 || p.g.For > Longest {
		return "the time limit is at most " + Longest.String()
	}
	return ""
}

// parseDuration also takes days.
func parseDuration(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.ParseUint(days, 10, 16)
		return time.Duration(n) * 24 * time.Hour, err
	}
	return time.ParseDuration(text)
}

// String is the gate as it is written.
func (g Gate) String() string {
	text := string(g.Kind)
	names := strings.Join(g.Names, ", ")
	switch g.Kind {
	case RecordedBuild, TestsPassed:
		if names != "" {
			text += " by " + names
		}
	case SignedBy, Licences:
		text += " " + names
	case Attested:
		text += " " + g.Type
		if names != "" {
			text += " by " + names
		}
	case NoAdvisories:
		if g.From > safety.Low {
			text += " from " + g.From.String()
		}
	case ComesWith:
		text += " " + g.Type
	case Waited:
		text += " " + writtenDuration(g.For)
	case Behind:
		text += " " + strconv.Itoa(g.Count)
	case Approved:
		text += " " + strconv.Itoa(g.Count) + " by " + names
	case Asks:
		text += " " + g.URL + " within " + writtenDuration(g.For)
	}
	return text
}

func writtenDuration(d time.Duration) string {
	if d%(24*time.Hour) == 0 {
		return strconv.Itoa(int(d/(24*time.Hour))) + "d"
	}
	text := d.String()
	if d%time.Minute == 0 {
		text = strings.TrimSuffix(text, "0s")
	}
	if d%time.Hour == 0 {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// Sentence says what the gate asks for.
func (g Gate) Sentence() string {
	names := strings.Join(g.Names, " or ")
	switch g.Kind {
	case RecordedBuild:
		if names != "" {
			return "comes from a build that " + names + " recorded"
		}
		return "comes from a recorded build"
	case TestsPassed:
		if names != "" {
			return "the tests of its build passed, by the word of " + names
		}
		return "the tests of its build passed"
	case NoSnapshots:
		return "depends on no snapshot any more"
	case SignedBy:
		return "every file, or image, is signed by " + names
	case Attested:
		if names == "" {
			return "its build has a statement of the type " + g.Type
		}
		return "its build has a statement of the type " + g.Type + " signed by " + names
	case ComesWith:
		return g.Type + " is attached to it"
	case Licences:
		return "its licence is " + names
	case NoAdvisories:
		return "no advisory that is " + g.From.String() + " or worse is about it, or about what its build used"
	case WithSymbols:
		return "the debug symbols of its programs are known"
	case Vetted:
		return "its build is known, and what that used from outside was let in by a decision or a rule"
	case Waited:
		return "was in the stage before for " + writtenDuration(g.For)
	case Behind:
		if g.Count == 0 {
			return "nothing newer is there already"
		}
		return "at most " + strconv.Itoa(g.Count) + " newer versions are there already"
	case Approved:
		who := "somebody"
		if g.Count > 1 {
			who = strconv.Itoa(g.Count) + " people"
		}
		return who + " of " + names + " approved it"
	case Asks:
		return "the check at " + g.URL + " agrees"
	}
	return string(g.Kind)
}
