package npm

import (
	"github.com/tidwall/gjson"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.Installs = NPM{}

// RunsAtInstall implements ecosystem.Installs.
func (NPM) RunsAtInstall(d *catalog.Details) bool {
	return gjson.GetBytes(d.Native[nativeInstall], "hasInstallScript").Bool()
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
