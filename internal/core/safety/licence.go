package safety

import (
	"slices"
	"strings"

	"crelvo/internal/core/spdx"
)

// Unstated is what a repository does with a version of which no licence is known.
type Unstated string

// What can be done with it.
const (
	UnstatedLetIn   Unstated = "" // as if there were no rules
	UnstatedAwaits  Unstated = "await"
	UnstatedRefused Unstated = "refuse"
)

// LicenceRules say under which licences a repository lets versions in. What is neither allowed
// nor refused awaits a person's decision.
type LicenceRules struct {
	// Allow are identifiers of SPDX; none allows all that are not refused.
	Allow []string `json:"allow,omitempty"`
	// Refuse are identifiers of SPDX, with * for any run of characters.
	Refuse   []string `json:"refuse,omitempty"`
	Unstated Unstated `json:"unstated,omitempty"`
}

// IsZero tells whether there are none.
func (r LicenceRules) IsZero() bool {
	return len(r.Allow) == 0 && len(r.Refuse) == 0 && r.Unstated == UnstatedLetIn
}

// answer is what rules say.
type answer int

const (
	yes answer = iota
	awaits
	no
)

// judge tells what the rules say of licences as a version states them, of which one is
// enough, and why, if not yes.
func (r LicenceRules) judge(stated []string) (answer, string) {
	if r.IsZero() {
		return yes, ""
	}
	if len(stated) == 0 {
		const why = "it states no licence"
		switch r.Unstated {
		case UnstatedAwaits:
			return awaits, why
		case UnstatedRefused:
			return no, why
		}
		return yes, ""
	}
	best := no
	for _, text := range stated {
		best = min(best, r.one(text))
	}
	names := strings.Join(stated, " or ")
	switch best {
	case no:
		return no, "its licence is " + names + ", which is refused"
	case awaits:
		return awaits, "its licence is " + names + ", which nobody has allowed or refused"
	}
	return yes, ""
}

// one is judge about one of several.
func (r LicenceRules) one(text string) answer {
	e := spdx.Read(text)
	fits := func(list []string, licence string) bool {
		return slices.ContainsFunc(list, func(p string) bool { return spdx.Fits(p, licence) })
	}
	allowed := func(licence string) bool { return fits(r.Allow, licence) }
	switch {
	// A licence that is refused by a pattern may be allowed by its own name.
	case !e.Satisfied(func(licence string) bool {
		return allowed(licence) || !fits(r.Refuse, strings.TrimSuffix(licence, "+"))
	}):
		return no
	case len(r.Allow) == 0 || e.Satisfied(allowed):
		return yes
	}
	return awaits
}
