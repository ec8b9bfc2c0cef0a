// Package onefile is for ecosystems in which one archive is one version: what the archive
// says of itself decides where it belongs, what is known of it, and when it is whole.
// An ecosystem embeds a Kind, and has placing, finding, addresses, completeness, folders
// and what a mirror must know of places by that.
package onefile

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
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
	Called    string // its title
	Archive   string // as people call it: a .crate file
	Extension string // without the dot
	MakeIt    string // how such an archive is made, as a hint
	// Read tells what an archive is and says of itself. It reads all of it, so that one
	// that was cut is noticed. Errors are in words, of an archive that cannot be one; one
	// that is NotMine says that it is of another kind with the same ending.
	Read func(ctx context.Context, file ecosystem.SizedReaderAt) (purl.PURL, catalog.Details, error)
	// IsName tells whether a namespace and name can be those of a package.
	IsName func(namespace, name string) bool

	// What follows may be left out.

	// Named is the name of a file of a version; nil is NAME-VERSION.EXTENSION.
	Named func(name, version, extension string) string
	// Beside are extensions of files that may come with the archive, such as symbols. Read
	// tells of which version they are.
	Beside []string
	// Ending is another one that names of such archives may have: .tar.gz.
	Ending string
	// Check looks at an archive once more when it is published.
	Check func(ctx context.Context, file ecosystem.SizedReaderAt) error
	// Bad, Disagrees and NotOne are the codes of refusals.
	Bad, Disagrees, NotOne string
}

// otherKind is why an archive is of another kind.
type otherKind struct{ error }

// Is implements the method that errors.Is asks.
func (otherKind) Is(target error) bool { return target == ecosystem.ErrNotMine }

// NotMine says that an archive is of another kind with the same ending, and why.
func NotMine(err error) error { return otherKind{err} }

// At is where a file of a version belongs.
func (k Kind) At(namespace, name, version, extension string) ecosystem.Place {
	name, version = purl.NormalName(k.Type, name), purl.NormalVersion(k.Type, version)
	return ecosystem.Place{Namespace: namespace, Name: name, Version: version,
		Snapshot: purl.IsSnapshot(k.Type, version), FileName: k.fileName(name, version, extension), Extension: extension}
}

// FileName is the name of the archive of a version.
func (k Kind) FileName(name, version string) string { return k.fileName(name, version, k.Extension) }

func (k Kind) fileName(name, version, extension string) string {
	name = purl.NormalName(k.Type, name)
	if k.Named != nil {
		return k.Named(name, version, extension)
	}
	return name + "-" + version + "." + extension
}

// extension is that of a file of this kind; "" if it is none.
func (k Kind) extension(name string) string {
	extension := strings.TrimPrefix(strings.ToLower(path.Ext(name)), ".")
	switch {
	case extension == k.Extension || slices.Contains(k.Beside, extension):
		return extension
	case k.Ending != "" && strings.HasSuffix(name, k.Ending):
		return k.Extension
	}
	return ""
}

// read reads an archive whose name and version are possible.
func (k Kind) read(ctx context.Context, file ecosystem.SizedReaderAt) (purl.PURL, catalog.Details, error) {
	is, details, err := k.Read(ctx, file)
	switch {
	case err != nil:
	case !k.IsName(is.Namespace, is.Name):
		err = fmt.Errorf("%.80q cannot be the name of a package", is.Name)
	case !purl.IsVersion(k.Type, is.Version):
		err = fmt.Errorf("%.80q is not a version such as %s", is.Version, purl.SampleVersion(k.Type))
	}
	return is, details, err
}

// Name implements ecosystem.Ecosystem.
func (k Kind) Name() string { return k.Type }

// Title implements ecosystem.Ecosystem.
func (k Kind) Title() string { return k.Called }

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

// Refused is the refusal of an archive that cannot be one.
func (k Kind) Refused(name string, err error) error {
	var told *fault.Error
	if errors.As(err, &told) {
		return told
	}
	return fault.New(fault.Invalid, cmp.Or(k.Bad, "bad-archive"), "%s is not %s: %v", name, k.Archive, err).
		WithHint("%s; the file may have been cut.", k.MakeIt)
}

// Place implements ecosystem.Ecosystem: an archive says itself what it is.
func (k Kind) Place(ctx context.Context, files []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	named := as.Name != ""
	ours := !slices.ContainsFunc(files, func(h ecosystem.Handed) bool { return k.extension(h.Name) == "" }) &&
		len(files) <= 1+len(k.Beside)
	if named && as.Ecosystem != k.Type || !named && !ours {
		return nil, ecosystem.ErrNotMine
	}
	if len(files) > 1+len(k.Beside) || len(k.Beside) > 0 && !ours {
		return nil, fault.New(fault.Invalid, cmp.Or(k.NotOne, "not-one-file"), "a version is %s, and these are not",
			k.Archive).WithHint("%s.", k.MakeIt)
	}
	var placed []ecosystem.Placed
	for i, h := range files {
		is, _, err := k.read(ctx, h)
		if !named && errors.Is(err, ecosystem.ErrNotMine) {
			return nil, ecosystem.ErrNotMine
		}
		if err != nil {
			return nil, k.Refused(h.Name, err)
		}
		p := k.At(is.Namespace, is.Name, is.Version, cmp.Or(k.extension(h.Name), k.Extension))
		if i > 0 && (!same(p, placed[0].Place) || p.Extension == placed[0].Place.Extension) {
			return nil, fault.New(fault.Invalid, "several-versions", "%s and %s are not of the same version", files[0].Name,
				h.Name).WithHint("Publish them one after the other.")
		}
		if named && (as.Namespace != p.Namespace || purl.NormalName(k.Type, as.Name) != p.Name ||
			as.Version != "" && as.Version != p.Version) {
			return nil, fault.New(fault.Invalid, cmp.Or(k.Disagrees, "archive-disagrees"), "%s says that it is %s, not %s",
				h.Name, p.PURL(k.Type), as).WithHint("Leave out what it should be, or change what it says of itself.")
		}
		placed = append(placed, ecosystem.Placed{Place: p, File: i})
	}
	return placed, nil
}

// same tells whether two places are of the same version.
func same(a, b ecosystem.Place) bool {
	return a.Namespace == b.Namespace && a.Name == b.Name && a.Version == b.Version
}

// Arrived is the place of an archive that was sent, and what it says of itself.
func (k Kind) Arrived(
	ctx context.Context, name string, file ecosystem.SizedReaderAt,
) (ecosystem.Place, catalog.Details, error) {
	is, details, err := k.read(ctx, file)
	if err != nil {
		return ecosystem.Place{}, details, k.Refused(name, err)
	}
	return k.At(is.Namespace, is.Name, is.Version, k.Extension), details, nil
}

// Inspect implements ecosystem.Ecosystem.
func (k Kind) Inspect(
	ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt,
) (catalog.Details, error) {
	if place.Extension != k.Extension && !slices.Contains(k.Beside, place.Extension) {
		return catalog.Details{}, nil
	}
	is, details, err := k.read(ctx, file)
	if err == nil && k.Check != nil {
		err = k.Check(ctx, file)
	}
	if err != nil {
		return catalog.Details{}, k.Refused(place.FileName, err)
	}
	if p := k.At(is.Namespace, is.Name, is.Version, place.Extension); !same(p, place) {
		return catalog.Details{}, fault.New(fault.Invalid, cmp.Or(k.Disagrees, "archive-disagrees"),
			"what is in it says %s, but it was sent as %s", p.PURL(k.Type), place.PURL(k.Type)).
			WithHint("Publish it under its own name and version.")
	}
	if place.Extension != k.Extension {
		return catalog.Details{}, nil
	}
	return details, nil
}

// PlaceOf implements ecosystem.Mirrored.
func (k Kind) PlaceOf(q catalog.FileQuestion) (ecosystem.Place, error) {
	if !k.IsName(q.Key.Namespace, q.Key.Name) || !purl.IsVersion(k.Type, q.Version) {
		return ecosystem.Place{}, fault.New(fault.Invalid, "bad-name", "%.60q %.60q cannot be a package", q.Key.Name,
			q.Version)
	}
	extension := cmp.Or(q.Extension, k.Extension)
	if q.Extension == "" && q.Name != "" {
		extension = k.extension(q.Name)
	}
	p := k.At(q.Key.Namespace, q.Key.Name, q.Version, extension)
	if q.Name != "" && q.Name != p.FileName || k.extension(p.FileName) != extension {
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

// Only is the archive of a version that is sent on. The error is of a version that has
// more or others.
func (k Kind) Only(s ecosystem.Shipment) (catalog.File, error) {
	if len(s.Files) != 1 || s.Files[0].Extension != k.Extension {
		return catalog.File{}, &ecosystem.Rejection{Final: true,
			Said: fmt.Sprintf("the version has %d files instead of %s", len(s.Files), k.Archive)}
	}
	return s.Files[0], nil
}
