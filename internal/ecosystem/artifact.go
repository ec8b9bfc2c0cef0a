package ecosystem

import (
	"context"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// AsArtifact is an ecosystem whose packages clients also push and pull as OCI artifacts: by
// a tag for each version, with a manifest that names the files of the version. What is
// pushed so and what is published in the ecosystem's own form are the same packages.
type AsArtifact interface {
	Ecosystem
	// ConfigType is the media type of the configs of their manifests.
	ConfigType() string
	// IsImage tells whether an image of that name can be a package, and which.
	IsImage(namespace, name string) (purl.PURL, bool)
	// TagOf is the tag of a version.
	TagOf(version string) string
	// ArtifactOf gives the manifest of a version whose files are known, the same each time;
	// ok is false if it has none.
	ArtifactOf(v *catalog.Version) (a Artifact, ok bool, err error)
	// FromArtifact makes a publication of what a manifest names, layer by layer. It keeps
	// what ArtifactOf needs to give that very manifest again.
	FromArtifact(ctx context.Context, a Artifact, layers []Staged) (Publication, error)
}

// Artifact is a version as a manifest has it.
type Artifact struct {
	Manifest, Config []byte
	// Layers are the files of the version that the manifest names, in its order.
	Layers []catalog.File
}
