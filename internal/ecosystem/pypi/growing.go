package pypi

import (
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
)

// wheelTags are what the name of a wheel says of where it fits
// (https://packaging.python.org/specifications/binary-distribution-format/).
type wheelTags struct {
	build                  string
	pythons, abis, systems []string
}

func tagsOf(name string) (t wheelTags, ok bool) {
	base, isWheel := strings.CutSuffix(name, "."+wheel)
	parts := strings.Split(base, "-")
	if !isWheel || len(parts) != 5 && len(parts) != 6 {
		return t, false
	}
	if len(parts) == 6 {
		t.build = parts[2]
	}
	last := parts[len(parts)-3:]
	t.pythons, t.abis, t.systems = strings.Split(last[0], "."), strings.Split(last[1], "."), strings.Split(last[2], ".")
	return t, true
}

// MayNotGrow implements ecosystem.Growing: wheels for other platforms may follow,
// but none that an installer would choose before one that is there.
func (PyPI) MayNotGrow(there []catalog.File, name, _, extension string) string {
	if extension != wheel {
		return "" // a source distribution is what installers choose last
	}
	t, ok := tagsOf(name)
	if !ok {
		return "its name does not say where it fits"
	}
	for _, f := range there {
		if other, ok := tagsOf(f.Name); ok && t.meets(other) && t.rank() >= other.rank() {
			return "installers would choose it before " + f.Name
		}
	}
	return ""
}

// meets tells whether some machine could take both wheels.
func (t wheelTags) meets(other wheelTags) bool {
	stable := slices.Contains(t.abis, "abi3") || slices.Contains(other.abis, "abi3")
	return anyPair(t.pythons, other.pythons, func(a, b string) bool {
		return samePython(a, b, stable)
	}) && anyPair(t.systems, other.systems, sameSystem)
}

func anyPair(a, b []string, same func(a, b string) bool) bool {
	return slices.ContainsFunc(a, func(x string) bool {
		return slices.ContainsFunc(b, func(y string) bool { return same(x, y) })
	})
}

// samePython tells whether some interpreter takes both tags: py3 is any Python 3,
// and wheels for the stable ABI fit later versions of it too.
func samePython(a, b string, stable bool) bool {
	kindA, versionA := splitPython(a)
	kindB, versionB := splitPython(b)
	if kindA != kindB && kindA != "py" && kindB != "py" {
		return false
	}
	return versionA[:min(1, len(versionA))] == versionB[:min(1, len(versionB))] &&
		(stable || kindA == "py" || kindB == "py" || versionA == versionB)
}

func splitPython(tag string) (kind, version string) {
	i := strings.IndexAny(tag, "0123456789")
	if i < 0 {
		return tag, ""
	}
	return tag[:i], tag[i:]
}

// sameSystem tells whether some system takes both tags.
func sameSystem(a, b string) bool {
	if a == "any" || b == "any" {
		return true
	}
	familyA, machineA := splitSystem(a)
	familyB, machineB := splitSystem(b)
	return familyA == familyB && (machineA == machineB || strings.HasPrefix(machineA, "universal") ||
		strings.HasPrefix(machineB, "universal"))
}

// splitSystem parts manylinux_2_17_x86_64 into manylinux and x86_64.
func splitSystem(tag string) (family, machine string) {
	for _, family := range []string{"manylinux", "musllinux", "macosx", "linux", "win"} {
		rest, ok := strings.CutPrefix(tag, family)
		if !ok {
			continue
		}
		for _, machine := range []string{"x86_64", "aarch64", "arm64", "i686", "armv7l", "armv6l", "ppc64le", "ppc64",
			"s390x", "riscv64", "loongarch64", "universal2", "universal", "amd64", "32"} {
			if strings.HasSuffix(rest, machine) {
				return family, machine
			}
		}
		return family, rest
	}
	return tag, ""
}

// rank is how early an installer chooses a wheel among those that fit: a certain
// platform before any, a certain interpreter before any, its own ABI before none.
func (t wheelTags) rank() (rank int) {
	if !slices.Contains(t.systems, "any") {
		rank += 4
	}
	if !slices.ContainsFunc(t.pythons, func(tag string) bool { return strings.HasPrefix(tag, "py") }) {
		rank += 2
	}
	if !slices.Contains(t.abis, "none") && !slices.Contains(t.abis, "abi3") {
		rank++
	}
	return rank
}
