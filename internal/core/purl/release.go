package purl

import (
	"cmp"
	"strconv"
	"strings"
)

// ReleaseOf proposes the release that a snapshot leads to: 1.4.0-SNAPSHOT and
// 1.4.0-dev.7 to 1.4.0, 1.4.0.dev7 to 1.4.0. It is "" where none follows from
// the version, as from one that is no snapshot.
func ReleaseOf(ecosystem, version string) string {
	if !IsSnapshot(ecosystem, version) {
		return ""
	}
	release, _, _ := strings.Cut(version, "+")
	release, _, _ = strings.Cut(release, "-")
	if r := byEcosystem[ecosystem]; r.Release != nil {
		release = r.Release(version)
	}
	if release == "" || release == version || IsSnapshot(ecosystem, release) {
		return ""
	}
	return release
}

// NextDevelopment proposes the version to work on after a release: the second
// number is raised, and what follows it set to zero.
func NextDevelopment(ecosystem, release string) string {
	core, _, _ := strings.Cut(release, "-")
	core, _, _ = strings.Cut(core, "+")
	parts := strings.Split(core, ".")
	at := min(1, len(parts)-1)
	n, err := strconv.ParseUint(parts[at], 10, 32)
	if err != nil {
		return ""
	}
	parts[at] = strconv.FormatUint(n+1, 10)
	for i := at + 1; i < len(parts); i++ {
		parts[i] = "0"
	}
	return strings.Join(parts, ".") + cmp.Or(byEcosystem[ecosystem].Development, "-dev.1")
}
