package ecosystem

import (
	"context"
	"io"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
)

// Stamp is what becomes of a version that is restamped.
type Stamp struct {
	Namespace, Name string
	From            string // the snapshot
	Upload          string // which upload of it
	To              string // the release
}

// Is tells whether the stamp is of that package.
func (s Stamp) Is(namespace, name string) bool { return s.Namespace == namespace && s.Name == name }

// Stamps are those of all the versions of one ecosystem that are restamped
// together.
type Stamps []Stamp

// Of finds the stamp of a package; nil if it is not restamped.
func (s Stamps) Of(namespace, name string) *Stamp {
	if i := slices.IndexFunc(s, func(t Stamp) bool { return t.Is(namespace, name) }); i >= 0 {
		return &s[i]
	}
	return nil
}

// ToRestamp is a file of a version that is restamped.
type ToRestamp struct {
	SizedReaderAt
	File  catalog.File
	Stamp Stamp  // of its own version
	All   Stamps // its own among them
	// Relabelled are versions of other kinds that are named by their content and go along;
	// none where references to them stay.
	Relabelled []Relabelled
	// Made gives the digests of what became of another version's file of the same
	// extension; false where that cannot be known, since it states this one's. Nil while
	// it is only planned.
	Made func(s Stamp) (d catalog.Digests, ok bool, err error)
}

// Edit is a place that a restamp changes.
type Edit struct {
	Entry string // of an archive; "" is the file itself
	What  string // in words: version, dependency on tide-model, folder name
	Old   string
	New   string
}

// Obstacle is a place that cannot be changed honestly.
type Obstacle struct{ Entry, Reason string }

// Rewriting is how a file looks as part of a release.
type Rewriting struct {
	Name    string // of the file
	Changes []Edit
	// Obstacles are why it should not be restamped; WriteTo does what it can.
	Obstacles []Obstacle
	// Mentions are texts for people that name the old version, and stay.
	Mentions []string
	// Dropped is why the file is no part of the release; "" if it is.
	Dropped string
	// Late: what it states of other files of its version is only known after
	// those were written.
	Late bool
	// WriteTo writes it; nil if its bytes stay what they are. It may be called
	// again, and writes the same then. sums gives what is known of another file of
	// the release by its name.
	WriteTo func(w io.Writer, sums func(name string) (catalog.Digests, bool)) error
}

// Restamping is an ecosystem whose snapshots can be given the version of a
// release in every file that states it.
type Restamping interface {
	// Restamp reads a file and says what is to be changed. Errors are of files
	// that cannot be read.
	Restamp(ctx context.Context, f ToRestamp) (Rewriting, error)
}

// swap is a version that takes the place of another.
type swap struct{ old, new string }

// swaps are what is replaced in texts of a file of one version: first where a
// version stands beside a name, then its own, then those of others if they are
// clear.
func (f ToRestamp) swaps(forms func(version string) []string) []swap {
	var all []swap
	add := func(old, new string) {
		if old != "" && old != new && !slices.ContainsFunc(all, func(s swap) bool { return s.old == old }) {
			all = append(all, swap{old, new})
		}
	}
	each := func(s Stamp, prefix string) {
		add(prefix+s.Upload, prefix+s.To)
		old, new := forms(s.From), forms(s.To)
		for i := range old {
			add(prefix+old[i], prefix+new[i])
		}
	}
	for _, s := range f.All {
		each(s, s.Name+"-")
	}
	each(f.Stamp, "")
	for _, s := range f.All {
		if !slices.ContainsFunc(f.All, func(o Stamp) bool { return o.From == s.From && o.To != s.To }) {
			each(s, "")
		}
	}
	return slices.DeleteFunc(all, func(s swap) bool { return strings.HasSuffix(s.old, "-") })
}

func isWordByte(b byte) bool {
	return b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
}

// Swap replaces old versions in a text by new ones, where they stand alone; in a
// longer version they are something else. forms gives the ways in which a text
// of the kind may write a version, nil for as it is.
func (f ToRestamp) Swap(text string, forms func(version string) []string) string {
	if forms == nil {
		forms = asWritten
	}
	swaps := f.swaps(forms)
	var b strings.Builder
next:
	for i := 0; i < len(text); {
		alone := i == 0 || !isWordByte(text[i-1]) && text[i-1] != '.' || text[i-1] == 'v'
		for _, s := range swaps {
			if alone && strings.HasPrefix(text[i:], s.old) {
				if end := i + len(s.old); end == len(text) || !isWordByte(text[end]) {
					b.WriteString(s.new)
					i = end
					continue next
				}
			}
		}
		b.WriteByte(text[i])
		i++
	}
	return b.String()
}

func asWritten(version string) []string { return []string{version} }

// oldForms are what is looked for where nothing is changed.
func (f ToRestamp) oldForms() [][]byte {
	var all [][]byte
	for _, s := range f.All {
		for _, form := range []string{s.From, s.Upload} {
			if form != "" && form != s.To && !slices.ContainsFunc(all, func(b []byte) bool { return string(b) == form }) {
				all = append(all, []byte(form), utf16(form))
			}
		}
	}
	return all
}

// utf16 is how Windows binaries write an ASCII text (UTF-16, little-endian).
func utf16(text string) []byte {
	wide := make([]byte, 0, 2*len(text))
	for i := range len(text) {
		wide = append(wide, text[i], 0)
	}
	return wide
}
