package purl

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// Rules are what an ecosystem says of names and versions. What is nil is as
// it is written.
type Rules struct {
	// Snapshot tells whether a version is a development version.
	Snapshot func(version string) bool
	// Compare orders versions: negative if a comes before b.
	Compare func(a, b string) int
	// Name and Version give the one form that all spellings of a name or
	// version share; what cannot be read stays as it is.
	Name    func(string) string
	Version func(string) string
	// Is tells whether a text is a version; nil: any is. Sample is one.
	Is     func(string) bool
	Sample string
	// Fits tells whether a version is what a dependency asks for; nil: if it is the very
	// text. known is false for what says nothing of versions.
	Fits func(wanted, version string) (fits, known bool)
	// Lowest: of the versions that fit, clients take the lowest.
	Lowest bool
	// ByTime: versions have no order but that of their coming.
	ByTime bool
	// Release is the release that a snapshot leads to, if one follows from it; nil: what
	// stands before the first hyphen or plus sign.
	Release func(snapshot string) string
	// Development is what follows the numbers of a development version.
	Development string
	// OSV is the name of the ecosystem in the OSV schema
	// (https://ossf.github.io/osv-schema/#affectedpackage-field); "" is that it has none.
	// OSVBetween is what stands there between namespace and name.
	OSV, OSVBetween string
}

var byEcosystem = map[string]Rules{
	"maven": {OSV: "Maven", OSVBetween: ":",
		Snapshot: snapshotMaven, Compare: compareMaven, Sample: "1.5.0", Development: "-SNAPSHOT",
		Fits:    func(wanted, version string) (bool, bool) { return fitsInterval(compareMaven, false, wanted, version) },
		Release: func(snapshot string) string { return strings.TrimSuffix(snapshot, "-SNAPSHOT") }},
	"npm": {OSV: "npm", OSVBetween: "/", Snapshot: SnapshotSemver, Compare: CompareSemver, Is: IsSemver,
		Sample: "1.5.0", Development: "-dev.1",
		Fits: FitsSemver},
	"nuget": {OSV: "NuGet", Snapshot: snapshotNuGet, Compare: compareNuGet, Name: strings.ToLower,
		Version: normalNuGet, Is: IsNuGet,
		Sample: "1.5.0", Development: "-dev.1",
		Fits: func(wanted, version string) (bool, bool) {
			return fitsInterval(compareNuGet, true, wanted, version)
		}, Lowest: true},
	"pypi": {OSV: "PyPI", Snapshot: snapshotPyPI, Compare: comparePyPI, Name: normalPyPIName, Version: normalPyPI,
		Is:          IsPython,
		Sample:      "1.5.0 or 1.5.0rc1",
		Development: ".dev1", Fits: fitsPython, Release: releasePython},
}

// Register adds the rules of an ecosystem, before anything else is done: an ecosystem
// calls it from its init. Those of the first four stand here, since the core is tested
// with them.
func Register(ecosystem string, r Rules) {
	if _, known := byEcosystem[ecosystem]; known {
		panic("the rules of " + ecosystem + " are registered twice")
	}
	byEcosystem[ecosystem] = r
}

// ByTime tells whether versions of an ecosystem have no order but that of their coming.
func ByTime(ecosystem string) bool { return byEcosystem[ecosystem].ByTime }

// TakesLowest tells whether the clients of an ecosystem take the lowest of the versions
// that fit.
func TakesLowest(ecosystem string) bool { return byEcosystem[ecosystem].Lowest }

// IsSnapshot tells whether a version is a development version, which may be
// published again, by the rules of the ecosystem.
func IsSnapshot(ecosystem, version string) bool {
	if r := byEcosystem[ecosystem]; r.Snapshot != nil {
		return r.Snapshot(version)
	}
	return false
}

// IsVersion tells whether a text is a version by the rules of the ecosystem.
func IsVersion(ecosystem, text string) bool {
	r := byEcosystem[ecosystem]
	return text != "" && (r.Is == nil || r.Is(text))
}

// ShortVersion is a version for people: a digest is cut, any other is as it is.
func ShortVersion(version string) string {
	if algorithm, hex, ok := strings.Cut(version, ":"); ok && strings.HasPrefix(algorithm, "sha") && len(hex) >= 64 {
		return algorithm + ":" + hex[:12]
	}
	return version
}

// SampleVersion is a version as the ecosystem writes them.
func SampleVersion(ecosystem string) string { return byEcosystem[ecosystem].Sample }

// Compare orders two versions of an ecosystem: negative if a comes before b.
func Compare(ecosystem, a, b string) int {
	if order := compareNumbers(a, b); order != 0 {
		return order
	}
	if r := byEcosystem[ecosystem]; r.Compare != nil {
		return r.Compare(a, b)
	}
	return strings.Compare(a, b)
}

// compareNumbers tells the order of versions that differ first in one of the
// numbers between dots that both begin with, as most do: that decides in every
// ecosystem. 0 is that it cannot tell.
func compareNumbers(a, b string) int {
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		if (a[i] < '0' || a[i] > '9') && a[i] != '.' {
			return 0
		}
		i++
	}
	begin := i
	for begin > 0 && a[begin-1] != '.' {
		begin--
	}
	x, y := leadingDigits(a[begin:]), leadingDigits(b[begin:])
	// A zero in front, or what no number is, is for the ecosystem to say.
	if x == "" || y == "" || x[0] == '0' && len(x) > 1 || y[0] == '0' && len(y) > 1 || len(x) > 9 || len(y) > 9 ||
		epoch(a) || epoch(b) {
		return 0
	}
	return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y))
}

func leadingDigits(s string) string {
	end := 0
	for end < len(s) && s[end] >= '0' && s[end] <= '9' {
		end++
	}
	return s[:end]
}

// epoch tells whether a version may begin with an epoch, which counts first.
func epoch(version string) bool { return strings.IndexByte(version, '!') >= 0 }

// NormalName is the one form of a name that the ecosystem takes for the same.
func NormalName(ecosystem, name string) string {
	if r := byEcosystem[ecosystem]; r.Name != nil {
		return r.Name(name)
	}
	return name
}

// NormalVersion is the one form of a version that the ecosystem takes for the
// same.
func NormalVersion(ecosystem, version string) string {
	if r := byEcosystem[ecosystem]; r.Version != nil {
		return r.Version(version)
	}
	return version
}

// NextFree proposes the first version after version that taken does not know:
// the last number in it is raised until it is free; a version without a number
// gets ".1".
func NextFree(version string, taken func(string) bool) string {
	end := len(version)
	for end > 0 && (version[end-1] < '0' || version[end-1] > '9') {
		end--
	}
	start := end
	for start > 0 && version[start-1] >= '0' && version[start-1] <= '9' {
		start--
	}
	head, tail := version[:start], version[end:]
	number, err := strconv.ParseUint(version[start:end], 10, 63)
	if err != nil {
		head, number, tail = version+".", 0, ""
	}
	width := end - start
	for {
		number++
		digits := strconv.FormatUint(number, 10)
		if version[start:end] != "" && version[start] == '0' {
			digits = strings.Repeat("0", max(0, width-len(digits))) + digits
		}
		if next := head + digits + tail; !taken(next) {
			return next
		}
	}
}

// OSVName is the name of an ecosystem in the OSV schema; "" if it has none.
func OSVName(ecosystem string) string { return byEcosystem[ecosystem].OSV }

// OSVEcosystems are the names of all ecosystems that have one in the OSV schema.
func OSVEcosystems() (names []string) {
	for _, r := range byEcosystem {
		if r.OSV != "" {
			names = append(names, r.OSV)
		}
	}
	slices.Sort(names)
	return names
}

// OfOSV is the package that the OSV schema names so; ok is false for an ecosystem that is not
// known, and for what is no name there.
func OfOSV(ecosystem, name string) (p PURL, ok bool) {
	for kind, r := range byEcosystem {
		if r.OSV == "" || r.OSV != ecosystem {
			continue
		}
		p = PURL{Ecosystem: kind, Name: name}
		if r.OSVBetween != "" {
			if at := strings.LastIndex(name, r.OSVBetween); at >= 0 {
				p.Namespace, p.Name = name[:at], name[at+len(r.OSVBetween):]
			}
		}
		p.Name = NormalName(kind, p.Name)
		read, err := Parse(p.String())
		return p, err == nil && read.String() == p.String()
	}
	return p, false
}

// OSV is the name of the package in the OSV schema.
func (p PURL) OSV() string {
	if p.Namespace == "" {
		return p.Name
	}
	return p.Namespace + byEcosystem[p.Ecosystem].OSVBetween + p.Name
}
