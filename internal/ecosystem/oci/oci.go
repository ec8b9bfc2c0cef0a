// Package oci is Crelvo's container images and other OCI artifacts: the distribution
// specification 1.1 (https://github.com/opencontainers/distribution-spec/blob/v1.1.1/spec.md).
// A version is a manifest, named by its digest; tags are labels. Configurations, layers and
// other blobs are parts of the image, and files of the versions whose manifests name them.
package oci

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

// Name is the purl type.
const Name = "oci"

// OCI implements ecosystem.Ecosystem.
type OCI struct {
	// others are those whose packages are pushed and pulled by this door too.
	others []ecosystem.AsArtifact
}

// New makes the ecosystem; others are those whose packages are pushed and pulled by its door
// too.
func New(others ...ecosystem.AsArtifact) OCI { return OCI{others} }

func init() {
	purl.Register(Name, purl.Rules{Name: strings.ToLower, Compare: compare, ByTime: true,
		Is: func(version string) bool {
			_, ok := catalog.ParseSum(version)
			return ok
		}, Sample: "sha256:…", Release: releaseOf, Development: "-dev.1"})
}

// compare is the order of tags that are versions. Digests have none: when they came
// decides.
func compare(a, b string) int {
	a, b = strings.TrimPrefix(a, "v"), strings.TrimPrefix(b, "v")
	if purl.IsSemver(a) && purl.IsSemver(b) {
		return purl.CompareSemver(a, b)
	}
	return 0
}

// releaseOf: a digest is what it is, whatever becomes of its tags.
func releaseOf(digest string) string { return digest }

var _ interface {
	ecosystem.Doored
	ecosystem.Maturing
} = OCI{}

// Name implements ecosystem.Ecosystem.
func (OCI) Name() string { return Name }

// Title implements ecosystem.Ecosystem.
func (OCI) Title() string { return "OCI images" }

// LabelMaturity implements ecosystem.Maturing: a tag that is a version, with a v in front
// or not, is of that version's maturity; of others the repository may say that they are
// releases.
func (OCI) LabelMaturity(r catalog.Repository, tag string) (release, snapshot bool) {
	version := strings.TrimPrefix(tag, "v")
	if !purl.IsSemver(version) {
		return slices.ContainsFunc(r.ReleaseTags, func(p string) bool { return purl.Glob(p, tag) }), false
	}
	snapshot = purl.SnapshotSemver(version)
	return !snapshot, snapshot
}

// IsLabel implements ecosystem.Maturing.
func (OCI) IsLabel(tag string) bool { return tagForm.MatchString(tag) }

// UploadName implements ecosystem.Ecosystem; no version is named twice.
func (OCI) UploadName(version string, at time.Time, n int) string {
	return ecosystem.StampedUpload(version, at, n)
}

// The extensions of an image's files say what they are.
const manifestFile, configFile, layerFile = "manifest", "config", "layer"

// place is where the manifest of an image belongs.
func place(namespace, name string, sum catalog.Sum) ecosystem.Place {
	return ecosystem.Place{Namespace: namespace, Name: name, Version: sum.String(), FileName: sum.FileName(),
		Extension: manifestFile}
}

// Whole implements ecosystem.Ecosystem: a version arrives with its manifest, when all that
// it names is there.
func (OCI) Whole(_ catalog.Details, files []catalog.File) bool {
	return slices.ContainsFunc(files, func(f catalog.File) bool { return f.Extension == manifestFile })
}

// Place implements ecosystem.Ecosystem.
func (OCI) Place(_ context.Context, _ []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Ecosystem != Name {
		return nil, ecosystem.ErrNotMine
	}
	return nil, fault.New(fault.Invalid, "not-by-hand", "images are pushed by their own clients").
		WithHint("Push it with docker, podman, skopeo, crane or oras to HOST/REPOSITORY/%s.", as.Name)
}

// Address implements ecosystem.Ecosystem.
func (OCI) Address(p purl.PURL, _ string, f catalog.File) string {
	return path.Join(p.Namespace, p.Name, p.Version, f.Name)
}

// Folder implements ecosystem.Ecosystem: images stand below the segments of their names,
// with a folder for each manifest.
func (OCI) Folder(
	ctx context.Context, desk ecosystem.Shelves, repository catalog.Repository, at string,
) (ecosystem.Folder, error) {
	at = strings.Trim(at, "/")
	f := ecosystem.Folder{Path: at}
	segments := strings.Split(at, "/")
	last := segments[len(segments)-1]
	if _, isDigest := catalog.ParseSum(last); isDigest && len(segments) > 1 {
		namespace, name := split(strings.Join(segments[:len(segments)-1], "/"))
		return entriesOf(ctx, desk, repository.Key(Name, namespace, name), f,
			func(p *catalog.Package) []ecosystem.Entry { return ecosystem.FileEntries(p, last) })
	}
	branches, packages, err := desk.Below(ctx, repository, Name, at, "/")
	if err != nil {
		return f, err
	}
	for _, b := range branches {
		f.Entries = append(f.Entries, ecosystem.Entry{Name: b.Segment, Folder: true, Size: b.Bytes, ChangedAt: b.ChangedAt})
	}
	for _, p := range packages {
		f.Entries = append(f.Entries, ecosystem.Entry{Name: p.Name, Folder: true, Size: p.Bytes, ChangedAt: p.ChangedAt,
			PURL: purl.PURL{Ecosystem: Name, Namespace: at, Name: p.Name}})
	}
	if at == "" {
		return f, nil
	}
	// A name may be an image, and begin those of others.
	namespace, name := split(at)
	with, err := entriesOf(ctx, desk, repository.Key(Name, namespace, name), f, ecosystem.VersionEntries)
	if err == ecosystem.ErrNoFolder && len(f.Entries) > 0 {
		return f, nil
	}
	return with, err
}

// entriesOf adds entries about an image to a folder; ErrNoFolder if there are none.
func entriesOf(
	ctx context.Context, desk ecosystem.Shelves, key catalog.PackageKey, f ecosystem.Folder,
	entries func(p *catalog.Package) []ecosystem.Entry,
) (ecosystem.Folder, error) {
	p, err := desk.Package(ctx, key)
	if err == ecosystem.ErrNoPackage {
		return f, ecosystem.ErrNoFolder
	}
	if err != nil {
		return f, err
	}
	f.Entries = append(f.Entries, entries(p)...)
	if len(f.Entries) == 0 {
		return f, ecosystem.ErrNoFolder
	}
	return f, nil
}

// The grammar of names and tags: distribution specification, "Pulling manifests".
var (
	nameForm = regexp.MustCompile(`^[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*(/[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*)*$`)
	tagForm  = regexp.MustCompile(`^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}$`)
)

// split is the namespace and name of an image as clients name it.
func split(image string) (namespace, name string) {
	if i := strings.LastIndexByte(image, '/'); i >= 0 {
		return image[:i], image[i+1:]
	}
	return "", image
}

// imageKey names an image in a repository.
func imageKey(r catalog.Repository, image string) (catalog.PackageKey, error) {
	if len(image) > 255 || !nameForm.MatchString(image) {
		return catalog.PackageKey{}, fault.New(fault.Invalid, "bad-name", "%.80q cannot be the name of an image", image).
			WithHint("Small letters and digits, with single dots, dashes or underscores between them, and slashes.")
	}
	namespace, name := split(image)
	return r.Key(Name, namespace, name), nil
}
