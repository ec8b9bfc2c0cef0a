package npm

import (
	"context"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
)

func readTarball(ctx context.Context, file ecosystem.SizedReaderAt) (ecosystem.Tarball, error) {
	return ecosystem.ReadTarball(ctx, file, "package.json", maxManifest)
}

// readPackage tells what a tarball is. Others have the same ending: without a package.json
// it is none of ours.
func readPackage(ctx context.Context, file ecosystem.SizedReaderAt) (is purl.PURL, d catalog.Details, err error) {
	t, err := readTarball(ctx, file)
	if err != nil && t.Manifest == nil {
		return is, d, onefile.NotMine(err)
	}
	if err != nil {
		return is, d, err
	}
	m, err := parseManifest(t.Manifest, false)
	if err != nil {
		return is, d, fault.New(fault.Invalid, "bad-manifest", "its package.json is not right: %v", err)
	}
	if d, err = m.details(); err != nil {
		return is, d, err
	}
	d.Licences = t.Licences.Or(d.Licences)
	if t.Readme != nil {
		d.Readme = t.Readme
	}
	scope, base, _ := splitName(m.Name) // parseManifest saw that it is one
	return purl.PURL{Ecosystem: Name, Namespace: scope, Name: base, Version: m.Version}, d, nil
}
