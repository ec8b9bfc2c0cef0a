package npm

import (
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
)

const tarball = "tgz"

// New makes the ecosystem.
func New() NPM {
	return NPM{onefile.Kind{Type: Name, Called: "npm", Archive: "an npm package, one .tgz file", Extension: tarball,
		Ending: ".tar.gz",
		MakeIt: "Make it with npm pack", Read: readPackage,
		IsName: func(scope, base string) bool {
			_, _, ok := splitName(joinName(scope, base))
			return ok
		},
		Bad: "bad-tarball", Disagrees: "manifest-disagrees", NotOne: "not-one-tarball"}}
}

// Address implements ecosystem.Ecosystem. Uploads of a snapshot have addresses
// of their own, so that what a lock file holds stays what it was.
func (NPM) Address(p purl.PURL, upload string, f catalog.File) string {
	return address(joinName(p.Namespace, p.Name), p.Version, upload, f.Name)
}

func address(name, version, upload, file string) string {
	if upload == "" {
		return name + "/-/" + file
	}
	return name + "/-/" + ecosystem.StampOf(version, upload) + "/" + file
}

// Labels implements ecosystem.Labelling: the newest release is the latest.
func (NPM) Labels(p *catalog.Package, version string) []string {
	latest, ok := p.Labels[latestTag]
	if purl.IsSnapshot(Name, version) || ok && !purl.IsSnapshot(Name, latest) && purl.Compare(Name, version, latest) < 0 {
		return nil
	}
	return []string{latestTag}
}
