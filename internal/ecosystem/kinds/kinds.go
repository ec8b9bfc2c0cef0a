// Package kinds lists the ecosystems that Crelvo knows. Adding one is a folder
// beside this one and a line here.
package kinds

import (
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/cargo"
	"crelvo/internal/ecosystem/generic"
	"crelvo/internal/ecosystem/helm"
	"crelvo/internal/ecosystem/maven"
	"crelvo/internal/ecosystem/npm"
	"crelvo/internal/ecosystem/nuget"
	"crelvo/internal/ecosystem/oci"
	"crelvo/internal/ecosystem/pypi"
	"crelvo/internal/ecosystem/symbols"
)

// All are the ecosystems, in the order in which they are shown.
func All() []ecosystem.Ecosystem {
	return []ecosystem.Ecosystem{
		maven.Maven{},
		npm.New(),
		pypi.PyPI{},
		nuget.New(),
		cargo.New(),
		oci.New(helm.New()),
		helm.New(),
		generic.Generic{},
		symbols.Symbols{},
	}
}
