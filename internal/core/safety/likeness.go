package safety

import (
	"hash/fnv"
	"io"
	"slices"
	"strings"

	"crelvo/internal/core/text"
)

// Likeness finds names that look like others: with a letter more, less, changed or swapped, with
// letters that look alike, or with the same letters in another scope.
type Likeness struct {
	known    map[string]bool
	skeleton map[string]string
	names    []string
	near     map[uint64][]uint32 // places of names, by the sums of what is left of them without one letter
}

// shortestLike is how many letters names have at least of which one may be another: short ones are
// often near each other by chance.
const shortestLike = 5

// NewLikeness makes one of names with their namespaces: @skerry/deck-ui, org.openshore:brine-http.
func NewLikeness(names []string) *Likeness {
	l := &Likeness{known: map[string]bool{}, skeleton: map[string]string{}, names: names, near: map[uint64][]uint32{}}
	for i, name := range names {
		l.known[name] = true
		if _, taken := l.skeleton[skeleton(name)]; !taken {
			l.skeleton[skeleton(name)] = name
		}
		if len(name) >= shortestLike {
			for _, part := range shorter(name) {
				l.near[part] = append(l.near[part], uint32(i))
			}
		}
	}
	return l
}

// Of is the name that another one looks like; "" if it is that name, or looks like none.
func (l *Likeness) Of(name string) string {
	if l.known[name] {
		return ""
	}
	if other, ok := l.skeleton[skeleton(name)]; ok {
		return other
	}
	if len(name) < shortestLike {
		return ""
	}
	var found []string
	for _, part := range shorter(name) {
		for _, i := range l.near[part] {
			if text.Distance(name, l.names[i]) == 1 {
				found = append(found, l.names[i])
			}
		}
	}
	if len(found) == 0 {
		return ""
	}
	return slices.Min(found)
}

// shorter are the sums of a name, and of what is left of it without one letter.
func shorter(name string) []uint64 {
	sums := make([]uint64, 0, len(name)+1)
	add := func(a, b string) {
		h := fnv.New64a()
		io.WriteString(h, a) // it takes everything
		io.WriteString(h, b)
		sums = append(sums, h.Sum64())
	}
	add(name, "")
	for i := range len(name) {
		add(name[:i], name[i+1:])
	}
	slices.Sort(sums)
	return slices.Compact(sums)
}

// alike are letters that look like others (after Unicode Technical Standard #39, of what stands in
// names of packages).
var alike = strings.NewReplacer("0", "o", "1", "l", "i", "l", "5", "s", "rn", "m", "vv", "w",
	"а", "a", "е", "e", "о", "o", "р", "p", "с", "c", "х", "x", "у", "y", "і", "l", "ѕ", "s", "ј", "j", "һ", "h", "ԁ", "d",
	"α", "a", "ο", "o", "ν", "v", "ρ", "p")

// skeleton is what names that look alike have in common: not their case, nor what parts words and
// scopes.
func skeleton(name string) string {
	return alike.Replace(strings.Map(func(r rune) rune {
		if strings.ContainsRune("-_.@/:", r) {
			return -1
		}
		return r
	}, strings.ToLower(name)))
}
