// Package safety decides what is let in: which versions known vulnerabilities are about, and
// what follows from that for a repository. It is pure.
package safety

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/purl"
)

// Advisory is what is known of a vulnerability, or of a malicious package, from a record in
// the OSV format (https://ossf.github.io/osv-schema/).
type Advisory struct {
	ID        string    `json:"id"`
	Aliases   []string  `json:"aliases,omitempty"`
	Modified  time.Time `json:"modified"`
	Published time.Time `json:"published,omitzero"`
	// Withdrawn is when it turned out to be none; zero if it did not.
	Withdrawn  time.Time   `json:"withdrawn,omitzero"`
	Summary    string      `json:"summary,omitempty"`
	Details    string      `json:"details,omitempty"`
	Rating     Rating      `json:"rating,omitzero"`
	References []Reference `json:"references,omitempty"`
	Affected   []Affected  `json:"-"`
}

// Reference is an address at which there is more.
type Reference struct {
	Kind string `json:"kind,omitempty"`
	URL  string `json:"url"`
}

// Affected is one package of an advisory, and which of its versions it is about.
type Affected struct {
	Package  purl.PURL `json:"-"` // without a version
	Ranges   []Range   `json:"ranges,omitempty"`
	Versions []string  `json:"versions,omitempty"` // as the ecosystem takes them for the same
	// Rating is how bad it is for this package, where that is said.
	Rating Rating `json:"rating,omitzero"`
}

// Range is a line of versions with what happened along it.
type Range struct {
	// Semver: the events are in the order of Semantic Versioning, else in the ecosystem's.
	Semver bool    `json:"semver,omitempty"`
	Events []Event `json:"events"`
}

// EventKind is what happened with a version.
type EventKind string

// What happens along a range.
const (
	Introduced   EventKind = "introduced"
	Fixed        EventKind = "fixed"
	LastAffected EventKind = "last_affected"
	Limit        EventKind = "limit"
)

// Event is one thing that happened along a range.
type Event struct {
	Kind    EventKind `json:"kind"`
	Version string    `json:"version"`
}

// Malicious tells whether the advisory says that the package itself means harm, and not only
// that it has a fault.
func (a *Advisory) Malicious() bool { return Malicious(a.ID) }

// Malicious tells whether an advisory of that id is about a malicious package: by
// https://github.com/ossf/malicious-packages those of the OSV format begin with MAL-.
func Malicious(id string) bool { return strings.HasPrefix(id, "MAL-") }

// Names tells whether the advisory is known by an id: its own, or an alias of it.
func (a *Advisory) Names(id string) bool { return a.ID == id || slices.Contains(a.Aliases, id) }

// Worst is the rating of the advisory, or the worst that it gives to a package.
func (a *Advisory) Worst() Rating {
	worst := a.Rating
	for _, f := range a.Affected {
		worst = worst.Or(f.Rating)
	}
	return worst
}

// sort brings the events of a range into the order in which they are looked at.
func (r *Range) sort(ecosystem string) {
	slices.SortStableFunc(r.Events, func(a, b Event) int {
		return cmp.Or(r.compare(ecosystem, a.Version, b.Version), cmp.Compare(a.Kind.order(), b.Kind.order()))
	})
}

// order puts what begins at a version before what ends there.
func (k EventKind) order() int {
	return slices.Index([]EventKind{Introduced, LastAffected, Fixed, Limit}, k)
}

// compare orders versions; 0, by which a range begins where the first version is, comes first.
func (r *Range) compare(ecosystem, a, b string) int {
	switch {
	case a == b:
		return 0
	case a == first:
		return -1
	case b == first:
		return 1
	case r.Semver:
		return purl.CompareSemver(a, b)
	}
	return purl.Compare(ecosystem, a, b)
}

const first = "0"

// Affects tells whether a version is among those that are affected, as the schema's own
// algorithm does (https://ossf.github.io/osv-schema/#evaluation).
func (f *Affected) Affects(version string) bool {
	ecosystem := f.Package.Ecosystem
	for i := range f.Ranges {
		if f.Ranges[i].contains(ecosystem, version) {
			return true
		}
	}
	version = purl.NormalVersion(ecosystem, version)
	return slices.ContainsFunc(f.Versions, func(v string) bool {
		return v == version || purl.Compare(ecosystem, v, version) == 0 // 1.0 and 1.0.0, of some
	})
}

func (r *Range) contains(ecosystem, version string) bool {
	bounded, before := false, false
	for _, e := range r.Events {
		if e.Kind == Limit {
			bounded = true
			before = before || e.Version == "*" || r.compare(ecosystem, version, e.Version) < 0
		}
	}
	if bounded && !before {
		return false
	}
	affected := false
	for _, e := range r.Events { // in their order
		order := r.compare(ecosystem, version, e.Version)
		switch {
		case e.Kind == Introduced && order >= 0:
			affected = true
		case e.Kind == Fixed && order >= 0, e.Kind == LastAffected && order > 0:
			affected = false
		}
	}
	return affected
}

// FixedIn lists the versions that the advisory names as mended, without one twice.
func (f *Affected) FixedIn() (versions []string) {
	for _, r := range f.Ranges {
		for _, e := range r.Events {
			if e.Kind == Fixed && !slices.Contains(versions, e.Version) {
				versions = append(versions, e.Version)
			}
		}
	}
	return versions
}

// Text says of which versions it is, for people: ">= 1.2.0, < 1.4.1".
func (f *Affected) Text() string {
	var all []string
	for _, r := range f.Ranges {
		all = append(all, r.text()...)
	}
	if len(all) == 0 && len(f.Versions) > 0 {
		const most = 5
		some := f.Versions[:min(len(f.Versions), most)]
		if all = []string{strings.Join(some, ", ")}; len(f.Versions) > most {
			all[0] += ", …"
		}
	}
	return strings.Join(all, " or ")
}

// text is a range by its stretches.
func (r *Range) text() (all []string) {
	for _, s := range r.Stretches() {
		upper := "< " + s.To
		if s.ToIt {
			upper = "<= " + s.To
		}
		switch {
		case s.From == "" && s.To == "":
			all = append(all, "every version")
		case s.From == "":
			all = append(all, upper)
		case s.To == "":
			all = append(all, ">= "+s.From)
		default:
			all = append(all, ">= "+s.From+", "+upper)
		}
	}
	return all
}

// Stretch is versions from one on up to another one, and with ToIt that one too. From "" is the
// first of all, To "" that it has no end.
type Stretch struct {
	From, To string
	ToIt     bool
}

// Stretches are those of a range in which versions are affected, in their order.
func (r *Range) Stretches() (all []Stretch) {
	open := false
	var s Stretch
	for _, e := range r.Events {
		switch {
		case e.Kind == Introduced && !open:
			if s, open = (Stretch{From: e.Version}), true; e.Version == first {
				s.From = ""
			}
		case (e.Kind == Fixed || e.Kind == LastAffected) && open:
			s.To, s.ToIt, open = e.Version, e.Kind == LastAffected, false
			all = append(all, s)
		}
	}
	if open {
		all = append(all, s)
	}
	return all
}
