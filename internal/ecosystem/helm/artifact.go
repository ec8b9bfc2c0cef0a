package helm

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.AsArtifact = Helm{}

// The media types of charts as artifacts
// (https://helm.sh/docs/topics/registries/#helm-chart-manifest).
const (
	configType          = "application/vnd.cncf.helm.config.v1+json"
	chartLayerType      = "application/vnd.cncf.helm.chart.content.v1.tar+gzip"
	provenanceLayerType = "application/vnd.cncf.helm.chart.provenance.v1.prov"
)

// nativeArtifact keeps the manifest and the config with which a chart was pushed; others
// get one that is made of their Chart.yaml.
const nativeArtifact = "artifact"

type pushed struct {
	Manifest string `json:"manifest"`
	Config   string `json:"config"`
}

// maxPushed is how long manifest and config may be together, in bytes: they say no more
// than the Chart.yaml does.
const maxPushed = 512 << 10

// ConfigType implements ecosystem.AsArtifact.
func (Helm) ConfigType() string { return configType }

// IsImage implements ecosystem.AsArtifact: a chart has no namespace.
func (k Helm) IsImage(namespace, name string) (purl.PURL, bool) {
	return purl.PURL{Ecosystem: Name, Name: name}, k.IsName(namespace, name)
}

// TagOf implements ecosystem.AsArtifact: tags have no plus sign, for which helm writes an
// underscore.
func (Helm) TagOf(version string) string { return strings.ReplaceAll(version, "+", "_") }

// ArtifactOf implements ecosystem.AsArtifact.
func (k Helm) ArtifactOf(v *catalog.Version) (a ecosystem.Artifact, ok bool, err error) {
	for _, extension := range []string{archive, provenance} {
		for _, f := range v.Files {
			// Of what is listed elsewhere and not kept, the size is not known.
			if f.Extension == extension && f.Digests.SHA256 != [32]byte{} && f.Digests.Size > 0 {
				a.Layers = append(a.Layers, f)
			}
		}
	}
	if len(a.Layers) == 0 || a.Layers[0].Extension != archive {
		return a, false, nil
	}
	if kept, ok := v.Details.Native[nativeArtifact]; ok {
		var p pushed
		if err := json.Unmarshal(kept, &p); err != nil {
			return a, false, err
		}
		a.Manifest, a.Config = []byte(p.Manifest), []byte(p.Config)
		return a, true, nil
	}
	c, err := chartOf(v)
	if err != nil {
		return a, false, err
	}
	if a.Config, err = json.Marshal(c); err != nil {
		return a, false, err
	}
	m := v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest,
		Config: v1.Descriptor{MediaType: configType, Digest: digest.FromBytes(a.Config), Size: int64(len(a.Config))},
		Annotations: map[string]string{v1.AnnotationTitle: c.Name, v1.AnnotationVersion: c.Version,
			v1.AnnotationCreated: v.PublishedAt.UTC().Format(time.RFC3339)}}
	if c.Description != "" {
		m.Annotations[v1.AnnotationDescription] = c.Description
	}
	for _, f := range a.Layers {
		kind := chartLayerType
		if f.Extension == provenance {
			kind = provenanceLayerType
		}
		m.Layers = append(m.Layers, v1.Descriptor{MediaType: kind, Size: f.Digests.Size,
			Digest: digest.NewDigestFromEncoded(digest.SHA256, hex.EncodeToString(f.Digests.SHA256[:]))})
	}
	a.Manifest, err = json.Marshal(m)
	return a, err == nil, err
}

// FromArtifact implements ecosystem.AsArtifact.
func (k Helm) FromArtifact(
	ctx context.Context, a ecosystem.Artifact, layers []ecosystem.Staged,
) (p ecosystem.Publication, err error) {
	if len(a.Manifest)+len(a.Config) > maxPushed {
		return p, fault.New(fault.Invalid, "bad-manifest", "manifest and config of the chart have more than %d KiB",
			maxPushed>>10)
	}
	if !utf8.Valid(a.Manifest) || !utf8.Valid(a.Config) {
		return p, fault.New(fault.Invalid, "bad-manifest", "manifest or config of the chart are no UTF-8")
	}
	var said chart
	if err := json.Unmarshal(a.Config, &said); err != nil {
		return p, fault.New(fault.Invalid, "bad-manifest", "the config of the chart cannot be read: %v", err)
	}
	raw, err := json.Marshal(pushed{string(a.Manifest), string(a.Config)})
	if err != nil {
		return p, err
	}
	for _, layer := range layers {
		f, err := k.arrived(ctx, "a layer", layer)
		if err != nil {
			return p, err
		}
		if f.Place.Extension == archive {
			f.Details.Native = map[string]json.RawMessage{nativeArtifact: raw}
		}
		p.Files = append(p.Files, f)
	}
	if i := slices.IndexFunc(p.Files, func(f ecosystem.StagedFile) bool {
		return f.Place.Extension == archive
	}); i < 0 {
		err = errors.New("it has no layer with a chart")
	}
	if err == nil {
		err = oneVersion(p.Files)
	}
	if err == nil && (said.Name != p.Files[0].Place.Name || said.Version != p.Files[0].Place.Version) {
		err = fmt.Errorf("its config says %s %s, and the chart %s %s", said.Name, said.Version, p.Files[0].Place.Name,
			p.Files[0].Place.Version)
	}
	if err != nil {
		return p, fault.New(fault.Invalid, "bad-manifest", "the manifest is of no chart: %v", err)
	}
	return p, provenOf(p.Files)
}

// oneVersion tells why files are not a chart, perhaps with its provenance.
func oneVersion(files []ecosystem.StagedFile) error {
	for _, f := range files[min(1, len(files)):] {
		if of := files[0].Place; f.Place.Name != of.Name || f.Place.Version != of.Version ||
			f.Place.Extension == of.Extension {
			return fmt.Errorf("%s and %s are no chart and its provenance", of.FileName, f.Place.FileName)
		}
	}
	return nil
}
