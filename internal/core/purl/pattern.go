package purl

import (
	"net/url"
	"strings"

	"crelvo/internal/core/fault"
)

// Pattern is a package URL with * for any run of characters:
// pkg:npm/@skerry/*, pkg:maven/example.skerry.*/*, pkg:*/*@*-dev*. Without a
// version it means every version; a version may also be a range in the vers
// notation (https://github.com/package-url/vers-spec).
type Pattern struct {
	text    string
	name    string // type/namespace/name, decoded
	version string
	ranges  *Range
}

// maxPattern bounds what matching one may cost.
const maxPattern = 300

// ParsePattern reads a pattern. The error says what is wrong with it.
func ParsePattern(text string) (Pattern, error) {
	wrong := func(why string) error {
		return fault.New(fault.Invalid, "bad-pattern", "%q is not a pattern: %s", text, why).
			WithHint("Write it as pkg:maven/example.skerry.*/*, with * for any run of characters.")
	}
	if len(text) > maxPattern {
		return Pattern{}, wrong("it is too long")
	}
	rest, ok := strings.CutPrefix(text, "pkg:")
	if !ok {
		return Pattern{}, wrong("it does not begin with pkg:")
	}
	p := Pattern{text: text}
	name, version, _ := strings.Cut(rest, "@vers:")
	if len(name) < len(rest) {
		ranges, err := ParseRange("vers:" + version)
		if err != nil {
			return Pattern{}, wrong(err.Error())
		}
		p.ranges = &ranges
	} else if at := strings.LastIndexByte(rest, '@'); at > 0 && rest[at-1] != '/' {
		// An @ that begins a segment belongs to the name: @skerry/deck-ui.
		name, version = rest[:at], rest[at+1:]
		decoded, err := url.PathUnescape(version)
		if err != nil || decoded == "" {
			return Pattern{}, wrong("its version cannot be read")
		}
		p.version = decoded
	}
	decoded, err := url.PathUnescape(name)
	if err != nil {
		return Pattern{}, wrong("its escapes cannot be read")
	}
	kind, rest, ok := strings.Cut(decoded, "/")
	if !ok || kind == "" || strings.Trim(rest, "/") == "" {
		return Pattern{}, wrong("it has no name")
	}
	kind = strings.ToLower(kind)
	p.name = kind + "/" + NormalName(kind, strings.Trim(rest, "/"))
	if !strings.Contains(p.version, "*") {
		p.version = NormalVersion(kind, p.version)
	}
	return p, nil
}

// String is the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Canonical is the pattern in the form in which package URLs are written
// (https://github.com/package-url/purl-spec), with * as it is, and without a
// version.
func (p Pattern) Canonical() string {
	kind, rest, _ := strings.Cut(p.name, "/")
	segments := strings.Split(rest, "/")
	for i, s := range segments {
		segments[i] = strings.ReplaceAll(strings.ReplaceAll(url.QueryEscape(s), "+", "%20"), "%2A", "*")
		segments[i] = strings.ReplaceAll(segments[i], "%3A", ":")
	}
	return "pkg:" + kind + "/" + strings.Join(segments, "/")
}

// MatchName tells whether some version of the package could fit.
func (p Pattern) MatchName(of PURL) bool {
	if !strings.HasPrefix(p.name, "*") {
		return Glob(p.name, of.path())
	}
	// A pattern for any ecosystem is read by the rules of each.
	_, rest, _ := strings.Cut(p.name, "/")
	kind, _, _ := strings.Cut(p.name, "/")
	return Glob(kind+"/"+NormalName(of.Ecosystem, rest), of.path())
}

// Match tells whether the version fits. A package URL without a version fits a
// pattern without one only.
func (p Pattern) Match(of PURL) bool {
	if !p.MatchName(of) {
		return false
	}
	if p.ranges != nil {
		return of.Version != "" && p.ranges.Contains(of.Ecosystem, of.Version)
	}
	return p.version == "" || of.Version != "" && Glob(p.version, of.Version)
}

// Whole tells whether the pattern is about every version of the names it fits.
func (p Pattern) Whole() bool { return p.version == "" && p.ranges == nil }

// Ranged tells whether the version is a range.
func (p Pattern) Ranged() bool { return p.ranges != nil }

// Parts gives the type, the rest of the name with its namespace, and the
// version, each with * for any run of characters; the version may be "".
func (p Pattern) Parts() (kind, name, version string) {
	kind, name, _ = strings.Cut(p.name, "/")
	return kind, name, p.version
}

// Exact gives the package that the pattern names, if it names just one.
func (p Pattern) Exact() (PURL, bool) {
	if strings.Contains(p.name, "*") {
		return PURL{}, false
	}
	kind, rest, _ := strings.Cut(p.name, "/")
	of := PURL{Ecosystem: kind, Name: rest}
	if at := strings.LastIndexByte(rest, '/'); at >= 0 {
		of.Namespace, of.Name = rest[:at], rest[at+1:]
	}
	return of, true
}

// path is type/namespace/name.
func (p PURL) path() string {
	if p.Namespace == "" {
		return p.Ecosystem + "/" + p.Name
	}
	return p.Ecosystem + "/" + p.Namespace + "/" + p.Name
}

// Glob matches with * for any run of characters, in time that grows with the
// product of the lengths at most.
func Glob(pattern, text string) bool {
	star, mark, i, j := -1, 0, 0, 0
	for j < len(text) {
		switch {
		case i < len(pattern) && pattern[i] == '*':
			star, mark = i, j
			i++
		case i < len(pattern) && pattern[i] == text[j]:
			i++
			j++
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(pattern[i:], "*") == ""
}
