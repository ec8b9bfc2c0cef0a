package purl

import (
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/mod/semver"
)

// Fits tells whether a version is what a dependency asks for, in the form of the
// ecosystem: an npm range (https://github.com/npm/node-semver#ranges), a PEP 440
// specifier, a Maven or NuGet version or interval. known is false for what says
// nothing of versions: a tag, an address, a property.
func Fits(ecosystem, wanted, version string) (fits, known bool) {
	wanted = strings.TrimSpace(wanted)
	if r := byEcosystem[ecosystem]; r.Fits != nil {
		return r.Fits(wanted, version)
	}
	return wanted == version, true
}

var npmTerm = regexp.MustCompile(
	`^(\^|~>?|>=|<=|>|<|=)?\s*v?(\d+|[xX*])?(?:\.(\d+|[xX*]))?(?:\.(\d+|[xX*]))?(-[0-9A-Za-z.-]+)?(?:\+[0-9A-Za-z.-]+)?$`)

var (
	npmHyphen = regexp.MustCompile(`^(\S+)\s+-\s+(\S+)$`)
	npmGap    = regexp.MustCompile(`([<>=~^])\s+`)
)

// FitsSemver tells whether a version fits a range as npm writes them
// (https://github.com/npm/node-semver#ranges), and other ecosystems much alike.
func FitsSemver(wanted, version string) (fits, known bool) {
	for either := range strings.SplitSeq(wanted, "||") {
		either = strings.TrimSpace(either)
		if m := npmHyphen.FindStringSubmatch(either); m != nil {
			either = ">=" + m[1] + " <=" + m[2]
		}
		all := true
		// A pre-release fits only where one is asked for.
		if semver.Prerelease("v"+version) != "" && !strings.Contains(either, "-") {
			all = false
		}
		for term := range strings.FieldsSeq(npmGap.ReplaceAllString(either, "$1")) {
			m := npmTerm.FindStringSubmatch(term)
			if m == nil {
				return false, false
			}
			all = all && withinNPM(m, version)
		}
		fits = fits || all
	}
	return fits, true
}

// withinNPM tells whether a version lies in what one term of a range stands for.
func withinNPM(m []string, version string) bool {
	var n [3]int
	given := 0
	for i, part := range m[2:5] {
		number, err := strconv.Atoi(part)
		if err != nil {
			break
		}
		n[i], given = number, i+1
	}
	write := func(n [3]int) string {
		return "v" + strconv.Itoa(n[0]) + "." + strconv.Itoa(n[1]) + "." + strconv.Itoa(n[2])
	}
	low := write(n) + m[5]
	// above is the first version after those that begin with the first so many
	// numbers.
	above := func(count int) string {
		if count == 0 {
			return ""
		}
		up := n
		up[count-1]++
		for i := count; i < 3; i++ {
			up[i] = 0
		}
		return write(up) + "-0"
	}
	from := func(at string) bool { return semver.Compare("v"+version, at) >= 0 }
	below := func(at string) bool { return at == "" || semver.Compare("v"+version, at) < 0 }
	switch m[1] {
	case ">=":
		return from(low)
	case "<":
		return below(low)
	case ">":
		if given < 3 {
			end := above(given)
			return end != "" && from(end)
		}
		return semver.Compare("v"+version, low) > 0
	case "<=":
		if given < 3 {
			return below(above(given))
		}
		return semver.Compare("v"+version, low) <= 0
	case "^":
		count := 1
		for count < given && n[count-1] == 0 {
			count++
		}
		return from(low) && below(above(min(count, given)))
	case "~", "~>":
		return from(low) && below(above(min(2, given)))
	}
	if given < 3 {
		return from(low) && below(above(given))
	}
	return semver.Compare("v"+version, low) == 0
}

var pythonTerm = regexp.MustCompile(`^(===|==|~=|!=|>=|<=|>|<)\s*(\S+)$`)

func fitsPython(wanted, version string) (fits, known bool) {
	fits = true
	for term := range strings.SplitSeq(strings.Trim(wanted, "()"), ",") {
		term = strings.TrimSpace(term)
		if term == "" {
			continue
		}
		m := pythonTerm.FindStringSubmatch(term)
		if m == nil {
			return false, false
		}
		fits = fits && withinPython(m[1], m[2], version)
	}
	// A pre-release fits only where one is asked for.
	if snapshotPyPI(version) && !pythonMarked.MatchString(wanted) {
		fits = false
	}
	return fits, true
}

var pythonMarked = regexp.MustCompile(`(?i)(a|b|c|rc|dev)\d`)

func withinPython(operator, at, version string) bool {
	order := comparePyPI(version, at)
	switch operator {
	case "===":
		return version == at
	case "==", "!=":
		prefix, any := strings.CutSuffix(at, ".*")
		same := order == 0
		if any {
			same = underPython(prefix, version)
		}
		return same == (operator == "==")
	case "~=":
		cut := strings.LastIndexByte(at, '.')
		return cut > 0 && order >= 0 && underPython(at[:cut], version)
	case ">=":
		return order >= 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	}
	return order < 0
}

// underPython tells whether the numbers of a version begin with those of prefix.
func underPython(prefix, version string) bool {
	p, ok1 := parsePython(prefix)
	v, ok2 := parsePython(version)
	if !ok1 || !ok2 || p.epoch != v.epoch {
		return false
	}
	for i, number := range p.release {
		if i >= len(v.release) && number != "0" || i < len(v.release) && v.release[i] != number {
			return false
		}
	}
	return true
}

// fitsInterval reads 1.0, [1.0], [1.0,2.0), (,1.5] and lists of them. A bare
// version means itself to Maven, and itself or any higher one to NuGet.
func fitsInterval(compare func(a, b string) int, lowest bool, wanted, version string) (fits, known bool) {
	if wanted == "" || strings.Contains(wanted, "${") {
		return false, false
	}
	if !strings.ContainsAny(wanted, "[(") {
		order := compare(version, wanted)
		return order == 0 || lowest && order > 0, true
	}
	rest := wanted
	for rest != "" {
		end := strings.IndexAny(rest, "])")
		if end < 2 || !strings.ContainsRune("[(", rune(rest[0])) {
			return false, false
		}
		low, high, two := strings.Cut(rest[1:end], ",")
		low, high = strings.TrimSpace(low), strings.TrimSpace(high)
		if !two {
			high = low
		}
		above := low == "" || compare(version, low) > 0 || rest[0] == '[' && compare(version, low) == 0
		below := high == "" || compare(version, high) < 0 || rest[end] == ']' && compare(version, high) == 0
		fits = fits || above && below
		rest = strings.TrimLeft(rest[end+1:], ", ")
	}
	return fits, true
}
