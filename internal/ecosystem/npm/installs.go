package npm

import (
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

var (
	_ ecosystem.Installs = NPM{}
	_ ecosystem.Telling  = NPM{}
)

// RunsAtInstall implements ecosystem.Installs.
func (NPM) RunsAtInstall(d *catalog.Details) bool {
	return gjson.GetBytes(d.Native[nativeInstall], "hasInstallScript").Bool()
}

// Maintainers implements ecosystem.Telling: maintainers, and who published it
// (https://github.com/npm/registry/blob/main/docs/responses/package-metadata.md).
func (NPM) Maintainers(d *catalog.Details) (names []string) {
	rest := d.Native[nativeRest]
	add := func(person gjson.Result) {
		// Old ones are written as text: Ada Reed <ada@skerry.example>
		name, _, _ := strings.Cut(person.String(), "<")
		if person.IsObject() {
			name = person.Get("name").String()
		}
		if name = strings.TrimSpace(name); name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	add(gjson.GetBytes(rest, "_npmUser"))
	gjson.GetBytes(rest, "maintainers").ForEach(func(_, person gjson.Result) bool {
		add(person)
		return true
	})
	slices.Sort(names)
	return names
}

// Unpacked implements ecosystem.Telling.
func (NPM) Unpacked(d *catalog.Details) int64 {
	return max(0, gjson.GetBytes(d.Native[nativeDist], "unpackedSize").Int())
}

// NeededBy implements ecosystem.Installs. What is read of a list has it only as it is written.
func (NPM) NeededBy(d *catalog.Details) []catalog.Dependency {
	if d.Dependencies != nil || d.Native[nativeInstall] == nil {
		return d.Dependencies
	}
	m, err := parseManifest(d.Native[nativeInstall], false)
	if err != nil {
		return nil
	}
	read, err := m.details()
	if err != nil {
		return nil
	}
	return read.Dependencies
}
