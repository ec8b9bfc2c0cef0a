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
