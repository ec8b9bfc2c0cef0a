package purl

import (
	"strconv"
	"strings"
)

// IsSnapshot tells whether a version is a development version, which may be
// published again, by the rules of the ecosystem.
func IsSnapshot(ecosystem, version string) bool {
	switch ecosystem {
	case "maven":
		return strings.HasSuffix(version, "-SNAPSHOT") || version == "SNAPSHOT"
	}
	return false
}

// Compare orders two versions of an ecosystem: negative if a comes before b.
func Compare(ecosystem, a, b string) int {
	switch ecosystem {
	case "maven":
		return compareMaven(a, b)
	}
	return strings.Compare(a, b)
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
