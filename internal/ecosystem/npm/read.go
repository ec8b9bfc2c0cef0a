package npm

import (
	"context"
	"errors"
	"io"
	"path"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// contents is what a tarball holds that is of interest.
type contents struct {
	manifest []byte
	readme   *catalog.Readme
}

// readTarball finds the manifest and the README in the only folder of a
// tarball, whatever that is named. It reads all of it, so that a tarball that
// was cut is noticed.
func readTarball(ctx context.Context, file ecosystem.SizedReaderAt) (contents, error) {
	var c contents
	err := ecosystem.WalkTarGz(ctx, file, func(name string, size int64, r io.Reader) error {
		folder, base := path.Split(path.Clean(name))
		if folder = strings.Trim(folder, "/"); folder == "" || strings.Contains(folder, "/") {
			return nil
		}
		var err error
		switch lower := strings.ToLower(base); {
		case base == "package.json" && c.manifest == nil:
			c.manifest, err = ecosystem.ReadAtMost(r, maxManifest)
		case c.readme == nil && (lower == "readme" || strings.HasPrefix(lower, "readme.")) && size > 0:
			var raw []byte
			raw, err = io.ReadAll(io.LimitReader(r, maxReadme))
			c.readme = readmeOf(base, raw)
		}
		return err
	})
	if c.manifest != nil && errors.Is(err, ecosystem.ErrUnseen) {
		err = nil // the rest is read when it arrives
	}
	if err == nil && c.manifest == nil {
		err = errNoManifest
	}
	return c, err
}

func badTarball(name string, err error) error {
	return fault.New(fault.Invalid, "bad-tarball", "%s is no npm package: %v", name, err).
		WithHint("Make it with npm pack; the file may have been cut.")
}

// Inspect implements ecosystem.Ecosystem.
func (NPM) Inspect(ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt) (catalog.Details, error) {
	if place.Extension != tarball {
		return catalog.Details{}, nil
	}
	c, err := readTarball(ctx, file)
	if err != nil {
		return catalog.Details{}, badTarball(place.FileName, err)
	}
	m, err := parseManifest(c.manifest, false)
	if err != nil {
		return catalog.Details{}, fault.New(fault.Invalid, "bad-manifest", "the package.json in %s is not right: %v",
			place.FileName, err)
	}
	if name := joinName(place.Namespace, place.Name); m.Name != name || m.Version != place.Version {
		return catalog.Details{}, fault.New(fault.Invalid, "manifest-disagrees",
			"the package.json says %s@%s, but it was sent as %s@%s",
			m.Name, m.Version, name, place.Version).WithHint("Publish it under its own name and version.")
	}
	d, err := m.details()
	if err != nil {
		return d, badTarball(place.FileName, err)
	}
	if c.readme != nil {
		d.Readme = c.readme
	}
	return d, nil
}

// Whole implements ecosystem.Ecosystem. Versions arrive whole.
func (NPM) Whole(_ catalog.Details, files []catalog.File) bool {
	for _, f := range files {
		if f.Extension == tarball {
			return true
		}
	}
	return false
}
