package spdx

import (
	"net/url"
	"path"
	"strings"

	"github.com/github/go-spdx/v2/spdxexp/spdxlicenses"

	"crelvo/internal/core/purl"
)

// Read is the expression that a package states: one that is written as such, or a licence by
// its identifier or a usual name; anything else is a licence of that name.
func Read(stated string) Expression {
	name := Identifier(stated)
	if e, err := Parse(name); err == nil {
		return e
	}
	return Expression{licence: strings.ToLower(name)}
}

// Fits tells whether a licence, by its identifier and its exception if it has one, is meant by
// a pattern with * for any run of characters, whatever the case.
func Fits(pattern, licence string) bool {
	return purl.Glob(strings.ToLower(pattern), strings.ToLower(licence))
}

// Known tells whether SPDX has an identifier, also if it advises against it, and how it is
// written.
func Known(id string) (string, bool) {
	if ok, name := spdxlicenses.IsActiveLicense(id); ok {
		return name, true
	}
	ok, name := spdxlicenses.IsDeprecatedLicense(id)
	return name, ok
}

// Identifier is the identifier of a licence by the name or address that a package writes;
// what is not known stays as it is.
func Identifier(name string) string {
	name = strings.TrimSpace(name)
	if id, ok := Known(name); ok {
		return id
	}
	if at, err := url.Parse(name); err == nil && (at.Scheme == "http" || at.Scheme == "https") {
		if id := ofAddress(at); id != "" {
			return id
		}
		return name
	}
	if id, ok := spoken[plain(name)]; ok {
		return id
	}
	return name
}

// ofAddress is the identifier of the licence at an address, which often ends with it; "" if
// it is not known.
func ofAddress(at *url.URL) string {
	last := path.Base(at.Path)
	last = strings.TrimSuffix(last, path.Ext(last))
	for _, name := range []string{path.Base(at.Path), last} {
		if id, ok := Known(name); ok {
			return id
		}
	}
	if host := at.Hostname(); (host == "apache.org" || strings.HasSuffix(host, ".apache.org")) &&
		strings.EqualFold(strings.TrimSuffix(path.Base(at.Path), path.Ext(at.Path)), "LICENSE-2.0") ||
		strings.EqualFold(path.Base(at.Path), "LICENSE-2.0") {
		return "Apache-2.0"
	}
	return ""
}

// filler are words that say nothing of which licence it is.
var filler = map[string]bool{"the": true, "license": true, "licence": true, "version": true, "software": true,
	"public": true, "general": true, "gnu": true, "osi": true, "approved": true, "project": true, "v": true}

// plain is the name of a licence without what people write one way or the other.
func plain(name string) string {
	if at := strings.IndexByte(name, '('); at > 0 {
		name = name[:at] // what follows says it again, in short
	}
	var words []string
	for word := range strings.FieldsFuncSeq(strings.ToLower(name), func(r rune) bool {
		return r == ' ' || r == ',' || r == '-' || r == ':' || r == '_' || r == '"' || r == '/'
	}) {
		if len(word) > 1 && word[0] == 'v' && word[1] >= '0' && word[1] <= '9' {
			word = word[1:]
		}
		if !filler[word] {
			words = append(words, strings.TrimSuffix(word, ".0"))
		}
	}
	return strings.Join(words, " ")
}

// spoken are names that packages write instead of identifiers, as plain gives them.
var spoken = map[string]string{
	"apache": "Apache-2.0", "apache 2": "Apache-2.0", "apache2": "Apache-2.0", "asl 2": "Apache-2.0",
	"apache foundation 2": "Apache-2.0",
	"mit":                 "MIT", "expat": "MIT", "mit expat": "MIT", "isc": "ISC", "unlicense": "Unlicense",
	"bsd 2 clause": "BSD-2-Clause", "simplified bsd": "BSD-2-Clause",
	"bsd 3 clause": "BSD-3-Clause", "new bsd": "BSD-3-Clause", "revised bsd": "BSD-3-Clause", "modified bsd": "BSD-3-Clause",
	"zero clause bsd": "0BSD",
	"eclipse 1":       "EPL-1.0", "eclipse 2": "EPL-2.0", "epl 1": "EPL-1.0", "epl 2": "EPL-2.0",
	"mozilla 1.1": "MPL-1.1", "mozilla 2": "MPL-2.0", "mpl 2": "MPL-2.0",
	"2 only": "GPL-2.0-only", "3 only": "GPL-3.0-only", "gpl 2": "GPL-2.0-only", "gpl 3": "GPL-3.0-only",
	"2": "GPL-2.0-only", "3": "GPL-3.0-only", "2 or later": "GPL-2.0-or-later", "3 or later": "GPL-3.0-or-later",
	"lesser 2.1": "LGPL-2.1-only", "lesser 3": "LGPL-3.0-only", "lgpl 2.1": "LGPL-2.1-only", "lgpl 3": "LGPL-3.0-only",
	"lesser 2.1 or later": "LGPL-2.1-or-later", "lesser 3 or later": "LGPL-3.0-or-later",
	"affero 3": "AGPL-3.0-only", "affero 3 or later": "AGPL-3.0-or-later", "agpl 3": "AGPL-3.0-only",
	"python foundation": "PSF-2.0", "zlib": "Zlib", "boost 1": "BSL-1.0", "cc0 1 universal": "CC0-1.0",
	"common development and distribution 1": "CDDL-1.0", "cddl 1": "CDDL-1.0", "w3c": "W3C",
}
