package purl

import (
	"cmp"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/mod/semver"
)

// SnapshotSemver tells whether a version of Semantic Versioning 2.0 (https://semver.org)
// is a pre-release.
func SnapshotSemver(version string) bool { return semver.Prerelease("v"+version) != "" }

// CompareSemver is the order of Semantic Versioning. What is no version comes before
// all that is.
func CompareSemver(a, b string) int {
	return cmp.Or(semver.Compare("v"+a, "v"+b), strings.Compare(a, b))
}

// IsSemver tells whether a version is a whole one by Semantic Versioning:
// three numbers, and perhaps a pre-release and build metadata.
func IsSemver(version string) bool {
	core, _, _ := strings.Cut(version, "+")
	core, _, _ = strings.Cut(core, "-")
	return strings.Count(core, ".") == 2 && semver.IsValid("v"+version)
}

// nugetForm is a NuGet version
// (https://learn.microsoft.com/nuget/concepts/package-versioning): two to four
// numbers, and what Semantic Versioning 2.0 adds.
var nugetForm = regexp.MustCompile(
	`^(\d{1,10})(?:\.(\d{1,10}))?(?:\.(\d{1,10}))?(?:\.(\d{1,10}))?(?:-([0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*))?(?:\+[0-9A-Za-z.-]+)?$`)

type nugetVersion struct {
	numbers [4]uint64
	label   string
}

func parseNuGet(version string) (v nugetVersion, ok bool) {
	m := nugetForm.FindStringSubmatch(strings.TrimSpace(version))
	if m == nil {
		return v, false
	}
	for i := range v.numbers {
		v.numbers[i], _ = strconv.ParseUint(m[i+1], 10, 64) // "" is 0
	}
	v.label = strings.ToLower(m[5])
	return v, true
}

// IsNuGet tells whether a version can be one of NuGet.
func IsNuGet(version string) bool {
	_, ok := parseNuGet(version)
	return ok
}

func snapshotNuGet(version string) bool {
	v, ok := parseNuGet(version)
	return ok && v.label != ""
}

// normalNuGet writes three numbers, a fourth one only if it is not 0, and the
// pre-release label in lower case; build metadata does not count.
func normalNuGet(version string) string {
	v, ok := parseNuGet(version)
	if !ok {
		return version
	}
	n := v.numbers
	s := strconv.FormatUint(n[0], 10) + "." + strconv.FormatUint(n[1], 10) + "." + strconv.FormatUint(n[2], 10)
	if n[3] != 0 {
		s += "." + strconv.FormatUint(n[3], 10)
	}
	if v.label != "" {
		s += "-" + v.label
	}
	return s
}

func compareNuGet(a, b string) int {
	va, aok := parseNuGet(a)
	vb, bok := parseNuGet(b)
	if !aok || !bok {
		return cmp.Or(boolCompare(aok, bok), strings.Compare(a, b))
	}
	for i := range va.numbers {
		if c := cmp.Compare(va.numbers[i], vb.numbers[i]); c != 0 {
			return c
		}
	}
	// Labels are ordered as those of Semantic Versioning.
	return semver.Compare("v0.0.0"+dashed(va.label), "v0.0.0"+dashed(vb.label))
}

func dashed(label string) string {
	if label == "" {
		return ""
	}
	return "-" + label
}

func boolCompare(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}
