package pypi

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// The extensions of files: distributions, what is beside them, and both.
const (
	wheel, sdist            = "whl", "tar.gz"
	zipped, short, bzipped  = "zip", "tgz", "tar.bz2" // of old source distributions
	signature, metadataFile = "asc", "metadata"
)

var (
	// wheelForm is the name of a wheel
	// (https://packaging.python.org/specifications/binary-distribution-format/).
	wheelForm = regexp.MustCompile(
		`^([A-Za-z0-9](?:[A-Za-z0-9._]*[A-Za-z0-9])?)-([A-Za-z0-9._+!]+)(?:-(\d[A-Za-z0-9_.]*))?-([A-Za-z0-9_.]+)-([A-Za-z0-9_.]+)-([A-Za-z0-9_.]+)$`)
	// sdistForm is that of a source distribution; old ones have dashes in the
	// name, and old tools in the version.
	sdistForm = regexp.MustCompile(`^([A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?)-([A-Za-z0-9._+!-]+)$`)
	nameForm  = regexp.MustCompile(`^[A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?$`)
)

const maxName = 240

// parseName reads the name of a file. For a source distribution, project says
// where the name ends, if it is known.
func parseName(file, project string) (ecosystem.Place, bool) {
	if len(file) > maxName || file != path.Base(file) {
		return ecosystem.Place{}, false
	}
	stem, beside := file, ""
	for _, ending := range []string{signature, metadataFile} {
		if cut, ok := strings.CutSuffix(stem, "."+ending); ok {
			stem, beside = cut, "."+ending
			break
		}
	}
	for _, extension := range []string{wheel, sdist, zipped, short, bzipped} {
		base, ok := strings.CutSuffix(stem, "."+extension)
		if !ok {
			continue
		}
		name, version, ok := "", "", false
		if extension == wheel {
			if m := wheelForm.FindStringSubmatch(base); m != nil {
				name, version, ok = m[1], strings.ReplaceAll(m[2], "_", "-"), true
			}
		} else {
			name, version, ok = splitSource(base, project)
		}
		if !ok || !purl.IsPython(version) {
			return ecosystem.Place{}, false
		}
		version = purl.NormalVersion(Name, version)
		return ecosystem.Place{Name: purl.NormalName(Name, name), Version: version, Snapshot: purl.IsSnapshot(Name, version),
			FileName: file, Extension: extension + beside}, true
	}
	return ecosystem.Place{}, false
}

// splitSource parts name and version of a source distribution.
func splitSource(base, project string) (name, version string, ok bool) {
	if project != "" {
		// Every dash may be the one.
		for i := range base {
			if base[i] == '-' && purl.NormalName(Name, base[:i]) == project {
				return base[:i], base[i+1:], true
			}
		}
		return "", "", false
	}
	m := sdistForm.FindStringSubmatch(base)
	if m == nil {
		return "", "", false
	}
	// The version begins at the first dash before a digit from which on it is one.
	for i := range base {
		if base[i] == '-' && i > 0 && purl.IsPython(base[i+1:]) {
			return base[:i], base[i+1:], true
		}
	}
	return "", "", false
}

// isDistribution tells whether a file can be installed.
func isDistribution(extension string) bool {
	return slices.Contains([]string{wheel, sdist, zipped, short, bzipped}, extension)
}

func badFile(file string) error {
	return fault.New(fault.Invalid, "bad-file-name", "%.100q is no name of a Python distribution", file).
		WithHint("Wheels are named name-version-python-abi-platform.whl, source distributions name-version.tar.gz.")
}

// UploadName implements ecosystem.Ecosystem: the version with a local label.
func (PyPI) UploadName(version string, at time.Time, n int) string {
	return ecosystem.StampedUpload(version, at, n)
}

// Address implements ecosystem.Ecosystem. Uploads of a snapshot have addresses
// of their own, since their files have the same names.
func (PyPI) Address(p purl.PURL, upload string, f catalog.File) string {
	return address(p.Name, p.Version, upload, f.Name)
}

func address(name, version, upload, file string) string {
	if upload == "" {
		return "files/" + name + "/" + version + "/" + file
	}
	return "files/" + name + "/" + version + "/" + ecosystem.StampOf(version, upload) + "/" + file
}

// Place implements ecosystem.Ecosystem: distributions say in their names what
// they are.
func (PyPI) Place(ctx context.Context, files []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Name != "" && as.Ecosystem != Name {
		return nil, ecosystem.ErrNotMine
	}
	var placed []ecosystem.Placed
	for i, h := range files {
		p, ok := parseName(path.Base(h.Name), as.Name)
		if !ok || strings.HasSuffix(p.Extension, metadataFile) {
			if as.Name != "" {
				return nil, badFile(path.Base(h.Name))
			}
			return nil, ecosystem.ErrNotMine
		}
		// Other things are named like that too; only these say that they are not.
		if as.Name == "" && p.Extension != wheel && isDistribution(p.Extension) {
			if raw, err := readMetadata(ctx, p, h); err != nil || raw == nil {
				return nil, ecosystem.ErrNotMine
			}
		}
		if i > 0 && (p.Name != placed[0].Place.Name || p.Version != placed[0].Place.Version) {
			return nil, fault.New(fault.Invalid, "several-versions", "%s and %s are not of the same version", files[0].Name,
				h.Name).
				WithHint("Publish them one after the other.")
		}
		if as.Version != "" && as.Version != p.Version {
			return nil, fault.New(fault.Invalid, "name-disagrees", "%s is of version %s, not %s", h.Name, p.Version, as.Version)
		}
		placed = append(placed, ecosystem.Placed{Place: p, File: i})
	}
	return placed, nil
}
