// Package onefile is for ecosystems in which one archive is one version: what the archive
// says of itself decides where it belongs, what is known of it, and when it is whole.
// An ecosystem embeds a Kind, and has placing, finding, addresses, completeness, folders
// and what a mirror must know of places by that.
package onefile

import (
	"context"
	"errors"
	"path"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Kind is what there is to say of such an ecosystem.
type Kind struct {
	Type      string // the purl type
	Archive   string // as people call it: a .crate file
	Extension string // without the dot
	MakeIt    string // how such an archive is made, as a hint
	// Read tells what an archive is and says of itself. It reads all of it, so that one
	// that was cut is noticed. Errors are in words, of an archive that cannot be one.
	Read func(ctx context.Context, file ecosystem.SizedReaderAt) (purl.PURL, catalog.Details, error)
	// IsName tells whether a namespace and name can be those of a package.
	IsName func(namespace, name string) bool
}

// PlaceOf is where the archive of a version belongs.
func (k Kind) place(namespace, name, version string) ecosystem.Place {
	return ecosystem.Place{Namespace: namespace, Name: purl.NormalName(k.Type, name), Version: version,
		Snapshot: purl.IsSnapshot(k.Type, version),
		FileName: k.FileName(name, version), Extension: k.Extension}
}

// FileName is the name of the archive of a version.
func (k Kind) FileName(name, version string) string {
	return purl.NormalName(k.Type, name) + "-" + version + "." + k.Extension
}

// Name implements ecosystem.Ecosystem.
func (k Kind) Name() string { return k.Type }

// UploadName implements ecosystem.Ecosystem.
func (k Kind) UploadName(version string, at time.Time, n int) string {
	return ecosystem.StampedUpload(version, at, n)
}

// Address implements ecosystem.Ecosystem. Uploads of a snapshot have addresses of their
// own.
func (k Kind) Address(p purl.PURL, upload string, f catalog.File) string {
	parts := []string{"files"}
	if p.Namespace != "" {
		parts = append(parts, p.Namespace)
	}
	parts = append(parts, p.Name, p.Version)
	if upload != "" {
		parts = append(parts, ecosystem.StampOf(p.Version, upload))
	}
	return strings.Join(append(parts, f.Name), "/")
}

// Question finds the file at such an address below a repository's door; false if it can
// be none.
func (k Kind) Question(r catalog.Repository, rest string) (q catalog.FileQuestion, ok bool) {
	segments := strings.Split(strings.TrimPrefix(rest, "files/"), "/")
	if n := len(segments); n < 3 || n > 4 {
		return q, false
	}
	q = catalog.FileQuestion{Key: r.Key(k.Type, "", segments[0]), Version: segments[1], Name: segments[len(segments)-1]}
	if len(segments) == 4 {
		q.Upload = ecosystem.UploadWith(q.Version, segments[2])
	}
	_, err := k.PlaceOf(q)
	return q, err == nil
}

// Whole implements ecosystem.Ecosystem: versions arrive whole.
func (k Kind) Whole(_ catalog.Details, files []catalog.File) bool {
	for _, f := range files {
		if f.Extension == k.Extension {
			return true
		}
	}
	return false
}

// Folder implements ecosystem.Ecosystem.
func (k Kind) Folder(
	ctx context.Context, desk ecosystem.Shelves, repository catalog.Repository, at string,
) (ecosystem.Folder, error) {
	return ecosystem.TreeFolder(ctx, desk, repository, k.Type, path.Clean("/" + at)[1:])
}

// Bad is the refusal of an archive that cannot be one.
func (k Kind) Bad(name string, err error) error {
	var told *fault.Error
	if errors.As(err, &told) {
		return told
	}
	return fault.New(fault.Invalid, "bad-archive", "%s is not %s: %v", name, k.Archive, err).
		WithHint("%s; the file may have been cut.", k.MakeIt)
}

// Place implements ecosystem.Ecosystem: an archive says itself what it is.
func (k Kind) Place(ctx context.Context, files []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Name != "" && as.Ecosystem != k.Type ||
		as.Name == "" && (len(files) != 1 || !strings.HasSuffix(files[0].Name, "."+k.Extension)) {
		return nil, ecosystem.ErrNotMine
	}
	if len(files) != 1 {
		return nil, fault.New(fault.Invalid, "not-one-file", "a version is %s alone, and these are %d files", k.Archive,
			len(files)).WithHint("%s.", k.MakeIt)
	}
	is, _, err := k.Read(ctx, files[0])
	if err != nil {
		return nil, k.Bad(files[0].Name, err)
	}
	p := k.place(is.Namespace, is.Name, is.Version)
	if as.Name != "" && (as.Namespace != p.Namespace || purl.NormalName(k.Type, as.Name) != p.Name ||
		as.Version != "" && as.Version != p.Version) {
		return nil, fault.New(fault.Invalid, "archive-disagrees", "%s says that it is %s, not %s", files[0].Name,
			p.PURL(k.Type), as)
	}
	return []ecosystem.Placed{{Place: p, File: 0}}, nil
}

// Arrived is the place of an archive that was sent.
func (k Kind) Arrived(ctx context.Context, name string, file ecosystem.SizedReaderAt) (ecosystem.Place, error) {
	is, _, err := k.Read(ctx, file)
	if err != nil {
		return ecosystem.Place{}, k.Bad(name, err)
	}
	return k.place(is.Namespace, is.Name, is.Version), nil
}

// Inspect implements ecosystem.Ecosystem.
func (k Kind) Inspect(
	ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt,
) (catalog.Details, error) {
	if place.Extension != k.Extension {
		return catalog.Details{}, nil
	}
	is, details, err := k.Read(ctx, file)
	if err != nil {
		return details, k.Bad(place.FileName, err)
	}
	if p := k.place(is.Namespace, is.Name, is.Version); p.Namespace != place.Namespace || p.Name != place.Name ||
		p.Version != place.Version {
		return details, fault.New(fault.Invalid, "archive-disagrees", "what is in it says %s, but it was sent as %s",
			p.PURL(k.Type), place.PURL(k.Type)).
			WithHint("Publish it under its own name and version.")
	}
	return details, nil
}

// PlaceOf implements ecosystem.Mirrored.
func (k Kind) PlaceOf(q catalog.FileQuestion) (ecosystem.Place, error) {
	if !k.IsName(q.Key.Namespace, q.Key.Name) || !purl.IsVersion(k.Type, q.Version) {
		return ecosystem.Place{}, fault.New(fault.Invalid, "bad-name", "%.60q %.60q cannot be a package", q.Key.Name,
			q.Version)
	}
	p := k.place(q.Key.Namespace, q.Key.Name, q.Version)
	if q.Name != "" && q.Name != p.FileName {
		return ecosystem.Place{}, fault.New(fault.Invalid, "bad-file-name", "%.100q is no file of %s %s", q.Name, q.Key.Name,
			q.Version)
	}
	return p, nil
}

// Companions implements ecosystem.Mirrored: the archive is all there is.
func (k Kind) Companions(p purl.PURL, _ catalog.Details, _ []catalog.File) []catalog.FileQuestion {
	return []catalog.FileQuestion{{Key: catalog.PackageKey{Ecosystem: k.Type, Namespace: p.Namespace, Name: p.Name},
		Version: p.Version, Name: k.FileName(p.Name, p.Version)}}
}
