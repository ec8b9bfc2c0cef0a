// Package purl is how Crelvo addresses packages: package URLs
// (https://github.com/package-url/purl-spec), patterns over them, and the
// order and maturity of versions in each ecosystem.
package purl

import (
	"path"
	"strings"

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
	if err != nil || parsed.Name == "" {
		return PURL{}, fault.New(fault.Invalid, "bad-purl", "%q is not a package URL", s).
			WithHint("Write it as pkg:maven/example.skerry.berth/berth-planner@1.4.0; the version may be left out.").
			WithCause(err)
	}
	return PURL{Ecosystem: parsed.Type, Namespace: parsed.Namespace, Name: parsed.Name,
		Version: parsed.Version, Qualifiers: parsed.Qualifiers.Map()}, nil
}

// String writes the package URL in its canonical form.
func (p PURL) String() string {
	return packageurl.NewPackageURL(p.Ecosystem, p.Namespace, p.Name, p.Version,
		packageurl.QualifiersFromMap(p.Qualifiers), "").ToString()
}

// Package is p without version and qualifiers.
func (p PURL) Package() PURL {
	p.Version, p.Qualifiers = "", nil
	return p
}

// Coordinates is the name as people of the ecosystem write it: for Maven
// groupId:artifactId, elsewhere namespace/name.
func (p PURL) Coordinates() string {
	switch {
	case p.Namespace == "":
		return p.Name
	case p.Ecosystem == "maven":
		return p.Namespace + ":" + p.Name
	default:
		return p.Namespace + "/" + p.Name
	}
}

// Match tells whether p fits a pattern: a package URL in which * stands for
// any run of characters, within one part (type, namespace and name together,
// or version). A pattern without @ fits every version. A malformed pattern
// fits nothing.
func (p PURL) Match(pattern string) bool {
	rest, ok := strings.CutPrefix(pattern, "pkg:")
	if !ok {
		return false
	}
	names, version := rest, "*"
	// An @ that opens a scope follows a slash; one that opens a version does not.
	if at := strings.LastIndexByte(rest, '@'); at > 0 && rest[at-1] != '/' {
		names, version = rest[:at], rest[at+1:]
	}
	own := p.Ecosystem + "/" + p.Name
	if p.Namespace != "" {
		own = p.Ecosystem + "/" + p.Namespace + "/" + p.Name
	}
	return glob(names, own) && glob(version, p.Version)
}

// glob matches * against any characters, slashes too.
func glob(pattern, s string) bool {
	const slash = "\x00"
	flat := func(s string) string { return strings.ReplaceAll(s, "/", slash) }
	quoted := strings.NewReplacer("?", `\?`, "[", `\[`, `\`, `\\`).Replace(flat(pattern))
	ok, err := path.Match(quoted, flat(s))
	return err == nil && ok
}
