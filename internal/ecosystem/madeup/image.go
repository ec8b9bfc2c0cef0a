package madeup

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"strings"

	"github.com/opencontainers/go-digest"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// Image is a container image: its manifest, and the blobs that this names, by their digests.
type Image struct {
	MediaType string
	Manifest  []byte
	Blobs     map[string][]byte
	layers    [][]byte
	history   []v1.History
	platform  v1.Platform
}

// Digest is that of bytes, as manifests write it.
func Digest(content []byte) string {
	sum := sha256.Sum256(content)
	return "sha256:" + hex.EncodeToString(sum[:])
}

func descriptor(mediaType string, content []byte) v1.Descriptor {
	return v1.Descriptor{MediaType: mediaType, Digest: digest.Digest(Digest(content)), Size: int64(len(content))}
}

// Image is the package as an image for a platform such as linux/amd64, with its files in a
// layer upon those of base; nil for an image of its own.
func (p Package) Image(platform string, base *Image) Image {
	system, architecture, _ := strings.Cut(platform, "/")
	i := Image{MediaType: v1.MediaTypeImageManifest, Blobs: map[string][]byte{},
		platform: v1.Platform{OS: system, Architecture: architecture}}
	if base != nil {
		i.layers, i.history = append(i.layers, base.layers...), append(i.history, base.history...)
	}
	files := append([]Entry{{"usr/bin/" + p.Name, p.Name + " " + p.Version + " for " + platform + "\n"}}, p.Files...)
	i.layers = append(i.layers, TarGz(files...))
	i.history = append(i.history, v1.History{Created: &built, CreatedBy: "COPY " + p.Name + " /usr/bin/" + p.Name},
		v1.History{Created: &built, CreatedBy: "ENV SHORE_VERSION=" + p.Version, EmptyLayer: true})
	config := v1.Image{Created: &built, Author: p.Author, Platform: i.platform, History: i.history,
		Config: v1.ImageConfig{Entrypoint: []string{"/usr/bin/" + p.Name}, User: "1000", Labels: p.notes(),
			Env: []string{"PATH=/usr/bin", "SHORE_VERSION=" + p.Version}}}
	config.RootFS.Type = "layers"
	m := v1.Manifest{MediaType: v1.MediaTypeImageManifest, Annotations: p.notes()}
	m.SchemaVersion = 2
	for _, layer := range i.layers {
		unzipped, err := gzip.NewReader(bytes.NewReader(layer))
		must(err)
		plain, err := io.ReadAll(unzipped)
		must(err)
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, digest.Digest(Digest(plain)))
		m.Layers = append(m.Layers, descriptor(v1.MediaTypeImageLayerGzip, layer))
		i.Blobs[Digest(layer)] = layer
	}
	raw, err := json.Marshal(config)
	must(err)
	i.Blobs[Digest(raw)] = raw
	m.Config = descriptor(v1.MediaTypeImageConfig, raw)
	i.Manifest, err = json.Marshal(m)
	must(err)
	return i
}

// notes are the annotations that say what the package is.
func (p Package) notes() map[string]string {
	const prefix = "org.opencontainers.image."
	notes := map[string]string{prefix + "title": p.Name, prefix + "version": p.Version}
	for name, text := range map[string]string{"description": p.Description, "licenses": p.Licence, "url": p.Homepage,
		"authors": p.Author} {
		if text != "" {
			notes[prefix+name] = text
		}
	}
	return notes
}

// Index is the package as an index of images, for their platforms.
func (p Package) Index(images ...Image) Image {
	m := v1.Index{MediaType: v1.MediaTypeImageIndex, Annotations: p.notes()}
	m.SchemaVersion = 2
	for _, i := range images {
		d := descriptor(i.MediaType, i.Manifest)
		d.Platform = &i.platform
		m.Manifests = append(m.Manifests, d)
	}
	raw, err := json.Marshal(m)
	must(err)
	return Image{MediaType: m.MediaType, Manifest: raw}
}

// Referrer is an artifact with one blob that is about an image, such as an SBOM.
func (i Image) Referrer(artifactType, mediaType string, content []byte) Image {
	subject := descriptor(i.MediaType, i.Manifest)
	m := v1.Manifest{MediaType: v1.MediaTypeImageManifest, ArtifactType: artifactType, Config: v1.DescriptorEmptyJSON,
		Layers: []v1.Descriptor{descriptor(mediaType, content)}, Subject: &subject}
	m.SchemaVersion = 2
	raw, err := json.Marshal(m)
	must(err)
	empty := v1.DescriptorEmptyJSON.Data
	return Image{MediaType: m.MediaType, Manifest: raw, Blobs: map[string][]byte{Digest(content): content,
		Digest(empty): empty}}
}
