package safety

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/purl"
)

// Vetting is a person's decision about what a pattern fits, until it ends.
type Vetting struct {
	ID      int64
	Refused bool // else it is accepted
	Pattern purl.Pattern
	// For are patterns of names of repositories that it is about, with * for any run of
	// characters; none is all.
	For    []string
	Until  time.Time // zero: it does not end by itself
	Reason string
	By     string
	MadeAt time.Time
}

// About tells whether it is about a repository.
func (v *Vetting) About(repository string) bool {
	return len(v.For) == 0 || slices.ContainsFunc(v.For, func(p string) bool { return purl.Glob(p, repository) })
}

// Covers tells whether it is about a version at a moment.
func (v *Vetting) Covers(p purl.PURL, now time.Time) bool {
	return (v.Until.IsZero() || now.Before(v.Until)) && v.Pattern.Match(p)
}

// NamesPackage tells whether it is about one package, which it names.
func (v *Vetting) NamesPackage() bool {
	_, ok := v.Pattern.Exact()
	return ok
}

// Sentence says who decided what: "Mara Lind refused it: nobody looks after it".
func (v *Vetting) Sentence() string {
	said := v.By + " accepted it"
	if v.Refused {
		said = v.By + " refused it"
	}
	if v.Reason != "" {
		said += ": " + strings.TrimRight(v.Reason, ".")
	}
	return said
}

// Vettings are vettings by the packages that they name, so that those about one are found
// among many.
type Vettings struct {
	named map[string][]*Vetting
	wide  []*Vetting
}

// NewVettings orders vettings.
func NewVettings(all ...Vetting) Vettings {
	v := Vettings{named: map[string][]*Vetting{}}
	for i := range all {
		if p, ok := all[i].Pattern.Exact(); ok {
			v.named[nameOf(p)] = append(v.named[nameOf(p)], &all[i])
		} else {
			v.wide = append(v.wide, &all[i])
		}
	}
	return v
}

func nameOf(p purl.PURL) string { return p.Ecosystem + "/" + p.Namespace + "/" + p.Name }

// Of are those about a package in a repository; some may be about none of its versions.
func (v Vettings) Of(p purl.PURL, repository string) (all []*Vetting) {
	for _, one := range v.named[nameOf(p)] {
		if one.About(repository) {
			all = append(all, one)
		}
	}
	for _, one := range v.wide {
		if one.About(repository) && one.Pattern.MatchName(p) {
			all = append(all, one)
		}
	}
	return all
}

// Len is how many there are, and how many of them do not name one package.
func (v Vettings) Len() (all, wide int) {
	for _, some := range v.named {
		all += len(some)
	}
	return all + len(v.wide), len(v.wide)
}

// Each lists them, the oldest first.
func (v Vettings) Each() []*Vetting {
	all := slices.Clone(v.wide)
	for _, some := range v.named {
		all = append(all, some...)
	}
	slices.SortFunc(all, func(a, b *Vetting) int { return cmp.Compare(a.ID, b.ID) })
	return all
}

// Decided are the decisions about a version at a moment: a refusal, and the acceptance that
// lasts longest, of those that name the package before the others. Either is nil if there is
// none.
func Decided(all []*Vetting, p purl.PURL, now time.Time) (refused, accepted *Vetting) {
	for _, v := range all {
		switch {
		case !v.Covers(p, now):
		case v.Refused:
			if refused == nil || lasts(v, refused) {
				refused = v
			}
		case accepted == nil || v.NamesPackage() && !accepted.NamesPackage() ||
			v.NamesPackage() == accepted.NamesPackage() && lasts(v, accepted):
			accepted = v
		}
	}
	return refused, accepted
}

// lasts tells whether a lasts longer than b.
func lasts(a, b *Vetting) bool {
	return !b.Until.IsZero() && (a.Until.IsZero() || a.Until.After(b.Until))
}
