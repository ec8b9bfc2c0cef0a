package purl

import (
	"cmp"
	"regexp"
	"strings"
)

// Python versions, as PEP 440 has them
// (https://packaging.python.org/specifications/version-specifiers/).

// pep440Form is the PEP's own expression, appendix B.
var pep440Form = regexp.MustCompile(`(?i)^\s*v?(?:(?:(\d+)!)?(\d+(?:\.\d+)*)` +
	`(?:[-_.]?(a|b|c|rc|alpha|beta|pre|preview)[-_.]?(\d*))?` +
	`(?:-(\d+)|[-_.]?(post|rev|r)[-_.]?(\d*))?` +
	`([-_.]?dev[-_.]?(\d*))?)` +
	`(?:\+([a-z0-9]+(?:[-_.][a-z0-9]+)*))?\s*$`)

// python is a version in its parts; numbers are kept as digits, since nothing
// bounds them.
type python struct {
	epoch     string
	release   []string
	pre       string // a, b, rc or ""
	preNumber string
	post      bool
	postNo    string
	dev       bool
	devNumber string
	local     []string
}

func digits(s string) string {
	if s = strings.TrimLeft(s, "0"); s == "" {
		return "0"
	}
	return s
}

func compareDigits(a, b string) int {
	return cmp.Or(cmp.Compare(len(a), len(b)), strings.Compare(a, b))
}

func parsePython(version string) (v python, ok bool) {
	if len(version) > 200 {
		return v, false
	}
	m := pep440Form.FindStringSubmatch(version)
	if m == nil {
		return v, false
	}
	v.epoch = digits(m[1])
	for _, n := range strings.Split(m[2], ".") {
		v.release = append(v.release, digits(n))
	}
	switch pre := strings.ToLower(m[3]); pre {
	case "alpha":
		v.pre = "a"
	case "beta":
		v.pre = "b"
	case "c", "pre", "preview":
		v.pre = "rc"
	default:
		v.pre = pre
	}
	v.preNumber = digits(m[4])
	v.post = m[5] != "" || m[6] != ""
	v.postNo = digits(m[5] + m[7])
	v.dev, v.devNumber = m[8] != "", digits(m[9])
	if m[10] != "" {
		v.local = strings.FieldsFunc(strings.ToLower(m[10]), func(r rune) bool { return r == '.' || r == '-' || r == '_' })
		for i, part := range v.local {
			if isDigits(part) {
				v.local[i] = digits(part)
			}
		}
	}
	return v, true
}

// IsPython tells whether a version is one by PEP 440.
func IsPython(version string) bool {
	_, ok := parsePython(version)
	return ok
}

func snapshotPyPI(version string) bool {
	v, ok := parsePython(version)
	return ok && (v.pre != "" || v.dev)
}

// normalPyPI is the normal form of PEP 440.
func normalPyPI(version string) string {
	v, ok := parsePython(version)
	if !ok {
		return version
	}
	s := strings.Join(v.release, ".")
	if v.epoch != "0" {
		s = v.epoch + "!" + s
	}
	if v.pre != "" {
		s += v.pre + v.preNumber
	}
	if v.post {
		s += ".post" + v.postNo
	}
	if v.dev {
		s += ".dev" + v.devNumber
	}
	if v.local != nil {
		s += "+" + strings.Join(v.local, ".")
	}
	return s
}

// comparePyPI orders what is no version before all that is.
func comparePyPI(a, b string) int {
	va, aok := parsePython(a)
	vb, bok := parsePython(b)
	if !aok || !bok {
		return cmp.Or(boolCompare(aok, bok), strings.Compare(a, b))
	}
	if c := compareDigits(va.epoch, vb.epoch); c != 0 {
		return c
	}
	for i := range max(len(va.release), len(vb.release)) {
		if c := compareDigits(numberAt(va.release, i), numberAt(vb.release, i)); c != 0 {
			return c
		}
	}
	return cmp.Or(cmp.Compare(va.phase(), vb.phase()), compareDigits(va.preNumber, vb.preNumber),
		boolCompare(va.post, vb.post), compareDigits(va.postNo, vb.postNo),
		boolCompare(vb.dev, va.dev), compareDigits(va.devNumber, vb.devNumber),
		compareLocal(va.local, vb.local))
}

func numberAt(release []string, i int) string {
	if i < len(release) {
		return release[i]
	}
	return "0"
}

// phase puts a development version of a release before its pre-releases, and
// those before the release.
func (v python) phase() string {
	switch {
	case v.pre == "" && !v.post && v.dev:
		return ""
	case v.pre == "":
		return "z"
	}
	return v.pre
}

// compareLocal: numbers come after words, and more parts after fewer.
func compareLocal(a, b []string) int {
	for i := range min(len(a), len(b)) {
		an, bn := isDigits(a[i]), isDigits(b[i])
		c := boolCompare(an, bn)
		if an && bn {
			c = compareDigits(a[i], b[i])
		}
		if c = cmp.Or(c, strings.Compare(a[i], b[i])); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(a), len(b))
}

func isDigits(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

var pypiSeparators = regexp.MustCompile(`[-_.]+`)

// normalPyPIName is the normal form of a name (PEP 503).
func normalPyPIName(name string) string {
	return strings.ToLower(pypiSeparators.ReplaceAllString(name, "-"))
}

// releasePython is the final release of a version.
func releasePython(version string) string {
	v, ok := parsePython(version)
	if !ok {
		return ""
	}
	release := strings.Join(v.release, ".")
	if v.epoch != "0" {
		release = v.epoch + "!" + release
	}
	return release
}
