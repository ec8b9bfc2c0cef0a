package npm

import (
	"context"
	"path"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const tarball = "tgz"

// placeOf is where the tarball of a version belongs.
func placeOf(scope, base, version string) ecosystem.Place {
	return ecosystem.Place{Namespace: scope, Name: base, Version: version, Snapshot: purl.IsSnapshot(Name, version),
		FileName: fileName(base, version), Extension: tarball}
}

func fileName(base, version string) string { return base + "-" + version + "." + tarball }

// UploadName implements ecosystem.Ecosystem: the version with build metadata,
// which does not count in its order.
func (NPM) UploadName(version string, at time.Time, n int) string {
	return ecosystem.StampedUpload(version, at, n)
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

// Place implements ecosystem.Ecosystem: one tarball says itself what it is.
func (NPM) Place(ctx context.Context, files []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Name != "" && as.Ecosystem != Name {
		return nil, ecosystem.ErrNotMine
	}
	if len(files) != 1 || !isTarball(files[0].Name) {
		if as.Name != "" {
			return nil, fault.New(fault.Invalid, "not-one-tarball", "an npm package is one .tgz file").
				WithHint("Make it with npm pack.")
		}
		return nil, ecosystem.ErrNotMine
	}
	c, err := readTarball(ctx, files[0])
	if as.Name == "" && c.manifest == nil {
		return nil, ecosystem.ErrNotMine
	}
	if err != nil {
		return nil, badTarball(files[0].Name, err)
	}
	m, err := parseManifest(c.manifest, true)
	if err != nil {
		return nil, fault.New(fault.Invalid, "bad-manifest", "the package.json in %s is not right: %v", files[0].Name, err)
	}
	scope, base, _ := splitName(m.Name) // parseManifest saw that it is one
	p := placeOf(scope, base, m.Version)
	if as.Name != "" && (as.Namespace != scope || as.Name != base || as.Version != "" && as.Version != m.Version) {
		return nil, fault.New(fault.Invalid, "manifest-disagrees", "%s says that it is %s, not %s", files[0].Name,
			p.PURL(Name), as).
			WithHint("Leave out --as, or change its package.json.")
	}
	return []ecosystem.Placed{{Place: p, File: 0}}, nil
}

func isTarball(name string) bool {
	return path.Ext(name) == "."+tarball || strings.HasSuffix(name, ".tar.gz")
}

// Labels implements ecosystem.Labelling: the newest release is the latest.
func (NPM) Labels(p *catalog.Package, version string) []string {
	latest, ok := p.Labels[latestTag]
	if purl.IsSnapshot(Name, version) || ok && !purl.IsSnapshot(Name, latest) && purl.Compare(Name, version, latest) < 0 {
		return nil
	}
	return []string{latestTag}
}
