// Package purl is how Crelvo addresses packages: package URLs
// (https://github.com/package-url/purl-spec), and the order and maturity of
// versions in each ecosystem.
package purl

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/package-url/packageurl-go"

	"crelvo/internal/core/fault"
)

// PURL is a package URL with its parts decoded.
type PURL struct {
	Ecosystem  string // the purl type
	Namespace  string
	Name       string
	Version    string
	Qualifiers map[string]string
}

// Parse reads a package URL. The error says what is wrong with it.
func Parse(s string) (PURL, error) {
	parsed, err := packageurl.FromString(s)
	if err != nil || parsed.Name == "" || !isText(parsed.Namespace+parsed.Name+parsed.Version) {
		return PURL{}, fault.New(fault.Invalid, "bad-purl", "%q is not a package URL", s).
			WithHint("Write it as pkg:maven/example.skerry.berth/berth-planner@1.4.0; the version may be left out.").
			WithCause(err)
	}
	return PURL{Ecosystem: parsed.Type, Namespace: parsed.Namespace, Name: NormalName(parsed.Type, parsed.Name),
		Version: NormalVersion(parsed.Type, parsed.Version), Qualifiers: parsed.Qualifiers.Map()}, nil
}

// isText tells whether what was decoded is text that can be kept and shown: package URLs stand for
// UTF-8 (https://github.com/package-url/purl-spec, "Character encoding").
func isText(s string) bool { return utf8.ValidString(s) && !strings.ContainsFunc(s, unicode.IsControl) }

// String writes the package URL in its canonical form.
func (p PURL) String() string {
	return packageurl.NewPackageURL(p.Ecosystem, p.Namespace, p.Name, p.Version,
		packageurl.QualifiersFromMap(p.Qualifiers), "").ToString()
}

// Typed is the purl as people type it: a scope begins with a plain @.
func (p PURL) Typed() string { return Typed(p.String()) }

// Typed writes a purl, or a text with purls in it, as people type them.
func Typed(text string) string { return typed.ReplaceAllString(text, "$1@") }

var typed = regexp.MustCompile(`(pkg:[a-z0-9.+*-]+/)%40`)
