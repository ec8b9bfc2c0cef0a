// Package retention decides which versions stay: policies and facts in, a verdict
// with its reason out, for every version. It knows no clock and asks nobody; the
// same facts give the same verdicts in the same order.
package retention

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/query"
)

// Kind is what a reason to stay looks at.
type Kind string

// The kinds of reason, by the word that they begin with.
const (
	Newest     Kind = "newest"
	Younger    Kind = "younger"
	Downloaded Kind = "downloaded" // within some time
	UsedBy     Kind = "wanted"     // by so many
	Labelled   Kind = "labelled"
	Promoted   Kind = "promoted"
	InABuild   Kind = "used"
	Needed     Kind = "needed"
	Symbols    Kind = "symbols" // of programs in what stays
	LastUsed   Kind = "last"    // used, up to so many bytes
)

// Line is what versions are counted in: each of these has its own newest ones.
type Line string

// The lines.
const (
	EachPackage     Line = "package"
	EachMajor       Line = "major"
	EachMinor       Line = "minor"
	EachDevelopment Line = "development-version"
	EachFamily      Line = "label-family"
)

// AllLines are all of them.
var AllLines = []Line{EachPackage, EachMajor, EachMinor, EachDevelopment, EachFamily}

// Reason is a reason for a version to stay.
type Reason struct {
	Kind   Kind
	Count  int           // newest: how many; wanted: by how many
	Line   Line          // newest
	Labels []string      // labelled; newest: only of those with such a label. With * for any run of characters
	Within time.Duration // younger, downloaded
	// WithBuild: promoted: or made by a build of which something was promoted.
	WithBuild bool
	// Bytes: last used: those that were used last, up to so many in a repository.
	Bytes int64

	size, text, among string // as they are written
}

// Forms are how reasons are written, for people who write them.
var Forms = []string{
	"newest 3 of each package", "newest 2 of each minor", "newest 5 of each development-version",
	"newest 5 of each label-family",
	"newest 1 labelled stable*",
	"younger than 14d", "downloaded within 30d", "wanted by 2", "labelled latest, v*", "promoted",
	"promoted with its build",
	"used by a build", "needed", "symbols of what stays", "last used up to 50GiB",
}

// longest is the longest time that a policy may name.
const longest = 100 * 366 * 24 * time.Hour

// ParseReason reads a reason as it is written.
func ParseReason(text string) (Reason, error) {
	p := reasonParser{rest: strings.Fields(strings.ReplaceAll(text, ",", " "))}
	err := errors.New("it is empty, or too long")
	if len(p.rest) > 0 && len(text) <= 500 {
		p.r.Kind, p.rest = Kind(p.rest[0]), p.rest[1:]
		if err = p.parse(); err == nil && len(p.rest) > 0 {
			err = fmt.Errorf("%q has no meaning there", p.rest[0])
		}
	}
	if err != nil {
		return Reason{}, fault.New(fault.Invalid, "bad-reason", "%q is no reason to stay: %s", text, err).
			WithHint("Reasons are written: %s.", strings.Join(Forms, "; "))
	}
	p.r.text = p.r.write()
	p.r.among = "among the " + p.r.text
	return p.r, nil
}

// reasonParser reads a reason word by word.
type reasonParser struct {
	r    Reason
	rest []string
}

// begins takes words from the front, if they are there.
func (p *reasonParser) begins(with ...string) bool {
	if len(p.rest) < len(with) || !slices.Equal(p.rest[:len(with)], with) {
		return false
	}
	p.rest = p.rest[len(with):]
	return true
}

func (p *reasonParser) count() bool {
	if len(p.rest) == 0 {
		return false
	}
	n, err := strconv.Atoi(p.rest[0])
	p.rest = p.rest[1:]
	p.r.Count = n
	return err == nil && n > 0 && n <= 1_000_000
}

func (p *reasonParser) labels() error {
	p.r.Labels, p.rest = p.rest, nil
	if len(p.r.Labels) == 0 {
		return errors.New("it names no label; * is any")
	}
	for _, label := range p.r.Labels {
		if _, err := path.Match(label, ""); err != nil {
			return fmt.Errorf("%q is no pattern of labels", label)
		}
	}
	return nil
}

// newest reads what comes after that word.
func (p *reasonParser) newest() error {
	if !p.count() {
		return errors.New("after newest comes how many")
	}
	p.r.Line = EachPackage
	if p.begins("of", "each") {
		if len(p.rest) == 0 || !slices.Contains(AllLines, Line(p.rest[0])) {
			return errors.New("after each comes package, major, minor, development-version or label-family")
		}
		p.r.Line, p.rest = Line(p.rest[0]), p.rest[1:]
	}
	if p.begins("labelled") {
		return p.labels()
	}
	return nil
}

// parse reads what comes after the kind.
func (p *reasonParser) parse() (err error) {
	switch p.r.Kind {
	case Newest:
		return p.newest()
	case Younger, Downloaded:
		if !p.begins(map[Kind]string{Younger: "than", Downloaded: "within"}[p.r.Kind]) || len(p.rest) == 0 {
			return errors.New("it does not say how long, such as 14d")
		}
		p.r.Within, err = ParseLength(p.rest[0])
		p.rest = p.rest[1:]
		return err
	case UsedBy:
		if !p.begins("by") || !p.count() {
			return errors.New("it does not say by how many")
		}
	case Labelled:
		return p.labels()
	case Promoted:
		p.r.WithBuild = p.begins("with", "its", "build")
	case InABuild:
		if !p.begins("by", "a", "build") {
			return errors.New("builds are what uses versions")
		}
	case Needed:
	case Symbols:
		if !p.begins("of", "what", "stays") {
			return errors.New("it is written: symbols of what stays")
		}
	case LastUsed:
		if !p.begins("used", "up", "to") || len(p.rest) == 0 {
			return errors.New("it does not say up to how many bytes")
		}
		var ok bool
		if p.r.Bytes, ok = query.ParseBytes(p.rest[0]); !ok || p.r.Bytes < 1 {
			return fmt.Errorf("%q is no number of bytes, such as 50GiB", p.rest[0])
		}
		p.r.size, p.rest = p.rest[0], p.rest[1:]
	default:
		return errors.New("there is no such reason")
	}
	return nil
}

// String is the reason as it is written.
func (r *Reason) String() string { return r.text }

func (r *Reason) write() string {
	switch r.Kind {
	case Newest:
		text := fmt.Sprintf("newest %d", r.Count)
		if r.Labels == nil || r.Line != EachPackage {
			text += " of each " + string(r.Line)
		}
		if r.Labels != nil {
			text += " labelled " + strings.Join(r.Labels, ", ")
		}
		return text
	case Younger:
		return "younger than " + WriteLength(r.Within)
	case Downloaded:
		return "downloaded within " + WriteLength(r.Within)
	case UsedBy:
		return fmt.Sprintf("wanted by %d", r.Count)
	case Labelled:
		return "labelled " + strings.Join(r.Labels, ", ")
	case Promoted:
		if r.WithBuild {
			return "promoted with its build"
		}
		return "promoted"
	case InABuild:
		return "used by a build"
	case Symbols:
		return "symbols of what stays"
	case LastUsed:
		return "last used up to " + r.size
	}
	return string(r.Kind)
}

// labelled tells whether one of the labels fits one of the reason's patterns, and
// which.
func (r *Reason) labelled(labels []string) (string, bool) {
	for _, label := range labels {
		for _, pattern := range r.Labels {
			if fits, _ := path.Match(pattern, label); fits { // ParseReason has read the pattern
				return label, true
			}
		}
	}
	return "", false
}

var lengthUnits = []struct {
	letter string
	length time.Duration
}{{"y", 365 * 24 * time.Hour}, {"w", 7 * 24 * time.Hour}, {"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute},
	{"s", time.Second}}

// ParseLength reads a length of time of one unit: 90d, 2w, 12h.
func ParseLength(text string) (time.Duration, error) {
	for _, u := range lengthUnits {
		number, ok := strings.CutSuffix(text, u.letter)
		if !ok {
			continue
		}
		n, err := strconv.ParseInt(number, 10, 32)
		if err != nil || n < 0 || n > int64(longest/u.length) {
			break
		}
		return time.Duration(n) * u.length, nil
	}
	return 0, fmt.Errorf("%q is no length of time, such as 12h, 14d, 6w or 2y", text)
}

// WriteLength writes a length of time in the largest unit that it is a whole
// number of, up to weeks in days.
func WriteLength(d time.Duration) string {
	for _, u := range lengthUnits {
		if u.letter != "w" && u.length <= d && d%u.length == 0 {
			return strconv.FormatInt(int64(d/u.length), 10) + u.letter
		}
	}
	return "0s"
}
