package nuget

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

// The extensions of files: packages, and their symbols.
const packed, symbols = "nupkg", "snupkg"

// placeOf is where a file of a version belongs.
func placeOf(id, version, extension string) ecosystem.Place {
	id, version = strings.ToLower(id), purl.NormalVersion(Name, version)
	return ecosystem.Place{Name: id, Version: version, Snapshot: purl.IsSnapshot(Name, version),
		FileName: fileName(id, version, extension), Extension: extension}
}

func fileName(id, version, extension string) string { return id + "." + version + "." + extension }

// UploadName implements ecosystem.Ecosystem: the version with build metadata.
func (NuGet) UploadName(version string, at time.Time, n int) string {
	return ecosystem.StampedUpload(version, at, n)
}

// Address implements ecosystem.Ecosystem.
func (NuGet) Address(p purl.PURL, upload string, f catalog.File) string {
	if upload == "" {
		return "flat/" + p.Name + "/" + p.Version + "/" + f.Name
	}
	return "flat/" + p.Name + "/" + p.Version + "/" + ecosystem.StampOf(p.Version, upload) + "/" + f.Name
}

func badPackage(name string, err error) error {
	return fault.New(fault.Invalid, "bad-nupkg", "%s is no NuGet package: %v", name, err).
		WithHint("Make it with nuget pack or dotnet pack; the file may have been cut.")
}

// Place implements ecosystem.Ecosystem: packages say themselves what they are.
func (NuGet) Place(ctx context.Context, files []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Name != "" && as.Ecosystem != Name {
		return nil, ecosystem.ErrNotMine
	}
	var placed []ecosystem.Placed
	for i, h := range files {
		extension := strings.TrimPrefix(strings.ToLower(path.Ext(h.Name)), ".")
		if extension != packed && extension != symbols {
			if as.Name != "" {
				return nil, fault.New(fault.Invalid, "not-a-package", "%s is neither a .nupkg nor a .snupkg", h.Name)
			}
			return nil, ecosystem.ErrNotMine
		}
		n, _, _, err := readPackage(ctx, h)
		if err != nil {
			return nil, badPackage(h.Name, err)
		}
		p := placeOf(n.Metadata.ID, n.Metadata.Version, extension)
		if i > 0 && (p.Name != placed[0].Place.Name || p.Version != placed[0].Place.Version) {
			return nil, fault.New(fault.Invalid, "several-versions", "%s and %s are not of the same version", files[0].Name,
				h.Name).
				WithHint("Publish them one after the other.")
		}
		if as.Name != "" && (as.Name != p.Name || as.Version != "" && as.Version != p.Version) {
			return nil, fault.New(fault.Invalid, "nuspec-disagrees", "%s says that it is %s, not %s", h.Name, p.PURL(Name), as)
		}
		placed = append(placed, ecosystem.Placed{Place: p, File: i})
	}
	return placed, nil
}

// Inspect implements ecosystem.Ecosystem.
func (NuGet) Inspect(
	ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt,
) (catalog.Details, error) {
	n, _, readme, err := readPackage(ctx, file)
	if err == nil {
		err = checkPackage(ctx, file)
	}
	if err != nil {
		return catalog.Details{}, badPackage(place.FileName, err)
	}
	if is := placeOf(n.Metadata.ID, n.Metadata.Version, place.Extension); is.Name != place.Name ||
		is.Version != place.Version {
		return catalog.Details{}, fault.New(fault.Invalid, "nuspec-disagrees",
			"the .nuspec says %s %s, but it was sent as %s %s",
			n.Metadata.ID, n.Metadata.Version, place.Name, place.Version)
	}
	if place.Extension == symbols {
		return catalog.Details{}, nil
	}
	d := n.details()
	d.Readme = readme
	return d, nil
}

// Whole implements ecosystem.Ecosystem. Versions arrive whole.
func (NuGet) Whole(_ catalog.Details, files []catalog.File) bool {
	for _, f := range files {
		if f.Extension == packed {
			return true
		}
	}
	return false
}
