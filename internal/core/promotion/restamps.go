package promotion

import (
	"strings"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
)

// What can be restamped on a hop that is left alone otherwise.
const (
	// ImageLabels is the version in labels and annotations of images, which become others by
	// that: their digests change.
	ImageLabels = "image-labels"
	// ImageReferences are exact references to images in what is promoted with these.
	ImageReferences = "image-references"
)

// RestampForms are how it is written, for people who write it.
var RestampForms = []string{ImageLabels, ImageReferences, "text in PATTERN", "text in PATTERN: OLD -> NEW"}

// Text is a text that is replaced in files of file sets which become a release.
type Text struct {
	In  string // a pattern of paths, in which * stands for any characters
	Old string // "" is the version, which becomes that of the release
	New string
}

// Fits tells whether it is about a file.
func (t Text) Fits(path string) bool { return purl.Glob(t.In, path) }

const textIn = "text in "

// ParseRestamp reads what is restamped as it is written; the zero value is of something that is no text.
func ParseRestamp(written string) (t Text, err error) {
	if written == ImageLabels || written == ImageReferences {
		return t, nil
	}
	rest, ok := strings.CutPrefix(written, textIn)
	pattern, change, changed := strings.Cut(rest, ": ")
	t.In = strings.TrimPrefix(strings.TrimSpace(pattern), "/")
	why := ""
	switch {
	case !ok:
		why = "nobody knows it"
	case t.In == "":
		why = "it does not say in which files"
	case len(written) > 1000 || strings.ContainsAny(written, "\r\n\x00"):
		why = "it is too long, or has more than one line"
	case changed:
		var arrow bool
		if t.Old, t.New, arrow = strings.Cut(change, " -> "); !arrow || t.Old == "" || t.Old == t.New {
			why = "it does not say what becomes what"
		}
	}
	if why != "" {
		return Text{}, fault.New(fault.Invalid, "bad-restamp", "%.200q is nothing that can be restamped: %s", written, why).
			WithHint("Write: %s.", strings.Join(RestampForms, ", "))
	}
	return t, nil
}

// Texts are the texts among what is restamped.
func Texts(written []string) (all []Text) {
	for _, w := range written {
		if t, err := ParseRestamp(w); err == nil && t.In != "" {
			all = append(all, t)
		}
	}
	return all
}
