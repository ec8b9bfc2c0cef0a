package oci

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// maxManifest is the largest manifest that is taken, in bytes: what the specification
// wants of every registry.
const maxManifest = 4 << 20

// The media types of manifests that name other things; Docker's differ in their names alone
// (https://distribution.github.io/distribution/spec/manifest-v2-2/).
const (
	dockerManifest = "application/vnd.docker.distribution.manifest.v2+json"
	dockerList     = "application/vnd.docker.distribution.manifest.list.v2+json"
	dockerConfig   = "application/vnd.docker.container.image.v1+json"
)

// isImage tells whether a media type is that of the configuration of a container image.
func isImage(config string) bool { return config == v1.MediaTypeImageConfig || config == dockerConfig }

// content is a manifest or an index, as far as it matters here.
type content struct {
	SchemaVersion int               `json:"schemaVersion"`
	MediaType     string            `json:"mediaType"`
	ArtifactType  string            `json:"artifactType"`
	Config        *v1.Descriptor    `json:"config"`
	Layers        []v1.Descriptor   `json:"layers"`
	Manifests     []v1.Descriptor   `json:"manifests"`
	Subject       *v1.Descriptor    `json:"subject"`
	Annotations   map[string]string `json:"annotations"`
}

// named tells whether what such a media type is about names other things, and whether
// these are manifests.
func named(mediaType string) (names, index bool) {
	switch mediaType {
	case v1.MediaTypeImageManifest, dockerManifest:
		return true, false
	case v1.MediaTypeImageIndex, dockerList:
		return true, true
	}
	return false, false
}

// manifest is one that was read.
type manifest struct {
	content
	raw   []byte
	index bool
	// aboutBy is the image that it is about by the tag that it is pushed to.
	aboutBy string
	// guessed: it does not say itself of which media type it is.
	guessed bool
}

// load reads the file of a manifest into memory, within the budget.
func load(ctx context.Context, file ecosystem.SizedReaderAt) ([]byte, error) {
	if file.Size() > maxManifest {
		return nil, tooLarge()
	}
	if err := budget.Of(ctx).Hold(file.Size()); err != nil {
		return nil, err
	}
	raw := make([]byte, file.Size())
	if _, err := file.ReadAt(raw, 0); err != nil && err != io.EOF {
		return nil, err
	}
	return raw, nil
}

func tooLarge() *fault.Error {
	return fault.New(fault.TooLarge, "manifest-too-large", "the manifest has more than %d MiB", maxManifest>>20)
}

// readManifest reads what was sent as of a media type; "" is what it says itself. What is
// of a kind that is not known here is nothing but its bytes. Errors are in words.
func readManifest(ctx context.Context, raw []byte, mediaType string) (manifest, error) {
	m := manifest{raw: raw}
	if len(raw) > maxManifest {
		return m, fmt.Errorf("it has more than %d bytes", maxManifest)
	}
	b := budget.Of(ctx)
	if err := b.Bytes(int64(len(raw))); err != nil {
		return m, err
	}
	names, index := named(mediaType)
	if mediaType != "" && !names {
		m.MediaType = mediaType
		return m, nil
	}
	if err := json.Unmarshal(raw, &m.content); err != nil {
		if mediaType == "" {
			return manifest{raw: raw}, nil
		}
		return m, fmt.Errorf("it is not the JSON of a manifest: %w", err)
	}
	if err := b.Elements(len(m.Layers) + len(m.Manifests) + len(m.Annotations)); err != nil {
		return m, err
	}
	if mediaType == "" {
		if m.guessed = m.MediaType == ""; m.guessed {
			m.MediaType = m.guess()
		}
		if names, index = named(m.MediaType); !names {
			return manifest{raw: raw, content: content{MediaType: m.MediaType}, guessed: m.guessed}, nil
		}
	}
	if m.MediaType != "" && mediaType != "" && m.MediaType != mediaType {
		return m, fmt.Errorf("it says that it is %q, and was sent as %q", m.MediaType, mediaType)
	}
	m.MediaType, m.index = cmp.Or(mediaType, m.MediaType), index
	return m, m.check()
}

// guess is the media type of what does not say it, as many manifests do not.
func (c content) guess() string {
	switch {
	case c.SchemaVersion == 2 && c.Config != nil && c.Manifests == nil:
		return v1.MediaTypeImageManifest
	case c.SchemaVersion == 2 && c.Config == nil && c.Manifests != nil:
		return v1.MediaTypeImageIndex
	}
	return ""
}

// check looks at what a manifest names.
func (m manifest) check() error {
	switch {
	case m.SchemaVersion != 2:
		return fmt.Errorf("its schemaVersion is %d, and must be 2", m.SchemaVersion)
	case m.index && (m.Config != nil || m.Layers != nil):
		return errors.New("it is an index, and has a config or layers")
	case !m.index && m.Manifests != nil:
		return errors.New("it is no index, and has manifests")
	case !m.index && m.Config == nil:
		return errors.New("it has no config")
	}
	for _, d := range m.descriptors() {
		if _, ok := catalog.ParseSum(string(d.Digest)); !ok {
			return fmt.Errorf("%.80q is no digest by SHA-256 or SHA-512", d.Digest)
		}
		if d.Size < 0 {
			return fmt.Errorf("the size of %s is %d", d.Digest, d.Size)
		}
	}
	return nil
}

// descriptors are all that it has.
func (m manifest) descriptors() []v1.Descriptor {
	all := slices.Concat(m.Layers, m.Manifests)
	for _, d := range []*v1.Descriptor{m.Config, m.Subject} {
		if d != nil {
			all = append(all, *d)
		}
	}
	return all
}

// elsewhere are the beginnings of media types of layers that a registry need not have.
var elsewhere = []string{"application/vnd.oci.image.layer.nondistributable",
	"application/vnd.docker.image.rootfs.foreign"}

// parts are the blobs that it names.
func (m manifest) parts() (parts []ecosystem.NamedPart) {
	known := map[string]bool{}
	add := func(d v1.Descriptor, extension string) {
		sum, ok := catalog.ParseSum(string(d.Digest))
		if !ok || known[sum.Hex] || slices.ContainsFunc(elsewhere, func(begins string) bool {
			return strings.HasPrefix(d.MediaType, begins)
		}) {
			return
		}
		known[sum.Hex] = true
		parts = append(parts, ecosystem.NamedPart{Sum: sum, Extension: extension, Size: d.Size,
			MediaType: cmp.Or(d.MediaType, "application/octet-stream")})
	}
	if m.Config != nil {
		add(*m.Config, configFile)
	}
	for _, d := range m.Layers {
		add(d, layerFile)
	}
	return parts
}

// children are the manifests that an index names.
func (m manifest) children() (versions []string) {
	for _, d := range m.Manifests {
		versions = append(versions, string(d.Digest))
	}
	slices.Sort(versions)
	return slices.Compact(versions)
}

// What is kept beside a version, by these names.
const (
	nativeType, nativeArtifact, nativeSubject, nativeNotes = "mediaType", "artifactType", "subject", "annotations"
	nativePlatforms, nativeChildren, nativeParts           = "platforms", "children", "parts"
	// nativeLong tells that the annotations are too long to be kept beside it.
	nativeLong = "longAnnotations"
)

// maxNotes is how long annotations may be that are kept beside a version, in bytes.
const maxNotes = 64 << 10

func notesLength(notes map[string]string) (length int) {
	for name, text := range notes {
		length += len(name) + len(text)
	}
	return length
}

// platform is a child of an index.
type platform struct {
	Digest   string `json:"digest"`
	Platform string `json:"platform"` // os/architecture, perhaps with a variant
}

// namedPart is a blob of a manifest, in its order.
type namedPart struct {
	Name      string `json:"name"` // of the file
	Extension string `json:"extension"`
	MediaType string `json:"mediaType"`
	Size      int64  `json:"size"`
}

// details is what a manifest says of itself
// (https://github.com/opencontainers/image-spec/blob/v1.1.1/annotations.md).
func (m manifest) details() (d catalog.Details, err error) {
	note := func(name string) string { return m.Annotations["org.opencontainers.image."+name] }
	d = catalog.Details{Title: note("title"), Description: note("description"), Homepage: ecosystem.WebOnly(note("url")),
		Source: ecosystem.WebOnly(note("source")), Native: map[string]json.RawMessage{}}
	if licence := note("licenses"); licence != "" {
		d.Licences = []catalog.Licence{{Name: licence}}
	}
	if authors := note("authors"); authors != "" {
		d.Authors = []string{authors}
	}
	keep := func(name string, value any) {
		raw, wrong := json.Marshal(value)
		d.Native[name], err = raw, errors.Join(err, wrong)
	}
	if m.MediaType != "" && !m.guessed {
		keep(nativeType, m.MediaType)
	}
	if parts := m.parts(); parts != nil {
		list := make([]namedPart, len(parts))
		for i, p := range parts {
			list[i] = namedPart{p.FileName(), p.Extension, p.MediaType, p.Size}
		}
		keep(nativeParts, list)
	}
	if artifact := m.artifactType(); artifact != "" {
		keep(nativeArtifact, artifact)
	}
	if m.Subject != nil {
		keep(nativeSubject, m.Subject.Digest)
	}
	if long := notesLength(m.Annotations) > maxNotes; long {
		keep(nativeLong, long)
	} else if len(m.Annotations) > 0 {
		keep(nativeNotes, m.Annotations)
	}
	var platforms []platform
	for _, child := range m.Manifests {
		if p := child.Platform; p != nil {
			name := p.OS + "/" + p.Architecture
			if p.Variant != "" {
				name += "/" + p.Variant
			}
			platforms = append(platforms, platform{string(child.Digest), name})
		}
	}
	if children := m.children(); children != nil {
		keep(nativeChildren, children)
	}
	if platforms != nil {
		keep(nativePlatforms, platforms)
	}
	return d, err
}

// artifactType is what a manifest is for: its own word, or the media type of its config.
func (m manifest) artifactType() string {
	if m.ArtifactType != "" || m.Config == nil {
		return m.ArtifactType
	}
	return m.Config.MediaType
}

// Inspect implements ecosystem.Ecosystem: a manifest has the digest that its place says.
func (OCI) Inspect(
	ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt,
) (catalog.Details, error) {
	if place.Extension != manifestFile {
		return catalog.Details{}, nil
	}
	raw, err := load(ctx, file)
	if err != nil {
		return catalog.Details{}, err
	}
	m, err := readManifest(ctx, raw, "")
	if err != nil {
		return catalog.Details{}, badManifest(place.FileName, err)
	}
	return m.details()
}

func badManifest(what string, err error) error {
	var told *fault.Error
	if errors.As(err, &told) {
		return told
	}
	return fault.New(fault.Invalid, "bad-manifest", "%s cannot be read: %v", what, err)
}

func digestsOf(platforms []platform) (digests []string) {
	for _, p := range platforms {
		digests = append(digests, p.Digest)
	}
	return digests
}

// Belongs implements ecosystem.Maturing.
func (OCI) Belongs(d catalog.Details) (parts []ecosystem.VersionPart, about, what string) {
	// What is on record was written by details.
	read := func(name string, into any) {
		if raw := d.Native[name]; raw != nil {
			_ = json.Unmarshal(raw, into)
		}
	}
	var children []string
	var platforms []platform
	read(nativeChildren, &children)
	read(nativeSubject, &about)
	read(nativePlatforms, &platforms)
	of := map[string]string{}
	for _, p := range platforms {
		what, of[p.Digest] = strings.TrimPrefix(what+", "+p.Platform, ", "), p.Platform
	}
	// Those for platforms come first, in the order that the index has.
	known := map[string]bool{}
	for _, child := range slices.Concat(digestsOf(platforms), children) {
		if !known[child] {
			known[child] = true
			parts = append(parts, ecosystem.VersionPart{Version: child, What: of[child]})
		}
	}
	if what == "" {
		if read(nativeArtifact, &what); isImage(what) {
			what = "image"
		}
	}
	return parts, about, what
}
