package oci

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// An upstream's address has its /v2/ in it, and what all names of its images begin with, if
// they are to be left out: https://images.openshore.example/v2/.

var _ ecosystem.ByContent = OCI{}

// imageOf is the name of an image as clients write it.
func imageOf(namespace, name string) string { return strings.TrimPrefix(namespace+"/"+name, "/") }

// ListingPath implements ecosystem.Mirrored: upstreams list tags, and not what there is.
func (OCI) ListingPath(purl.PURL) string { return "" }

// Accepts implements ecosystem.Mirrored.
func (OCI) Accepts() string {
	return strings.Join([]string{v1.MediaTypeImageIndex, v1.MediaTypeImageManifest, dockerList, dockerManifest, "*/*"}, ", ")
}

// ReadListing implements ecosystem.Mirrored.
func (OCI) ReadListing(context.Context, purl.PURL, ecosystem.Reading) (catalog.Listing, error) {
	return catalog.Listing{}, errors.New("upstreams of images have no list of manifests")
}

// PlaceOf implements ecosystem.Mirrored: a question without a version is for a blob.
func (OCI) PlaceOf(q catalog.FileQuestion) (ecosystem.Place, error) {
	bad := fault.New(fault.Invalid, "bad-file-name", "%.100q is no file of %.60q", q.Name, q.Key.Name)
	if _, err := imageKey(catalog.Repository{}, imageOf(q.Key.Namespace, q.Key.Name)); err != nil {
		return ecosystem.Place{}, err
	}
	sum, ok := catalog.ParseSum(strings.Replace(q.Name, "-", ":", 1))
	switch {
	case !ok:
		return ecosystem.Place{}, bad
	case q.Version == "":
		return ecosystem.Place{Namespace: q.Key.Namespace, Name: q.Key.Name, FileName: sum.FileName(),
			Extension: layerFile}, nil
	case q.Version != sum.String():
		return ecosystem.Place{}, bad
	}
	return place(q.Key.Namespace, q.Key.Name, sum), nil
}

// Companions implements ecosystem.Mirrored: what a version has besides is fetched when it
// is asked for.
func (o OCI) Companions(p purl.PURL, _ catalog.Details, _ []catalog.File) []catalog.FileQuestion {
	return []catalog.FileQuestion{o.Marker(p, "")}
}

// FilePath implements ecosystem.ByPath.
func (o OCI) FilePath(p ecosystem.Place) string {
	sum, _ := o.SumOf(p)
	kind := "/blobs/"
	if p.Extension == manifestFile {
		kind = "/manifests/"
	}
	return imageOf(p.Namespace, p.Name) + kind + sum.String()
}

// Checksums implements ecosystem.ByPath: the name is one.
func (OCI) Checksums(string) []ecosystem.Checksum { return nil }

// Marker implements ecosystem.ByPath.
func (o OCI) Marker(p purl.PURL, _ string) catalog.FileQuestion {
	sum, _ := catalog.ParseSum(p.Version)
	return o.FileOf(catalog.PackageKey{Ecosystem: Name, Namespace: p.Namespace, Name: p.Name}, sum)
}

// SumOf implements ecosystem.ByContent.
func (OCI) SumOf(p ecosystem.Place) (catalog.Sum, bool) {
	return catalog.ParseSum(strings.Replace(p.FileName, "-", ":", 1))
}

// FileOf implements ecosystem.ByContent.
func (OCI) FileOf(key catalog.PackageKey, sum catalog.Sum) catalog.FileQuestion {
	return catalog.FileQuestion{Key: key, Version: sum.String(), Name: sum.FileName()}
}

// LabelPath implements ecosystem.ByContent.
func (OCI) LabelPath(key catalog.PackageKey, label string) string {
	return imageOf(key.Namespace, key.Name) + "/manifests/" + label
}

// LabelsPath implements ecosystem.ByContent.
func (OCI) LabelsPath(key catalog.PackageKey) string {
	return imageOf(key.Namespace, key.Name) + "/tags/list"
}

// maxTags is how many tags an upstream may list.
const maxTags = 1_000_000

// ReadLabels implements ecosystem.ByContent.
func (OCI) ReadLabels(r ecosystem.Reading) ([]string, error) {
	var list struct {
		Tags []string `json:"tags"`
	}
	if err := json.NewDecoder(io.LimitReader(r, 64<<20)).Decode(&list); err != nil {
		return nil, err
	}
	if len(list.Tags) > maxTags {
		return nil, fmt.Errorf("it has more than %d tags", maxTags)
	}
	var good []string
	for _, tag := range list.Tags {
		if tagForm.MatchString(tag) {
			good = append(good, tag)
		}
	}
	return good, nil
}

// AboutPaths implements ecosystem.ByContent: the list of referrers, or the tag under which
// upstreams keep it that know no such list (distribution specification, "Referrers Tag
// Schema").
func (OCI) AboutPaths(key catalog.PackageKey, version string) []string {
	image := imageOf(key.Namespace, key.Name)
	return []string{image + "/referrers/" + version, image + "/manifests/" + strings.Replace(version, ":", "-", 1)}
}

// ReadAbout implements ecosystem.ByContent.
func (OCI) ReadAbout(r ecosystem.Reading) (all []catalog.Version, err error) {
	raw, err := ecosystem.ReadAtMost(r, maxManifest)
	if err != nil {
		return nil, err
	}
	var index v1.Index
	if err := json.Unmarshal(raw, &index); err != nil {
		return nil, err
	}
	for _, d := range index.Manifests {
		if _, ok := catalog.ParseSum(string(d.Digest)); !ok || d.Size < 0 || notesLength(d.Annotations) > maxNotes {
			continue
		}
		native := map[string]json.RawMessage{}
		for name, value := range map[string]any{nativeType: d.MediaType, nativeArtifact: d.ArtifactType,
			nativeNotes: d.Annotations} {
			if native[name], err = json.Marshal(value); err != nil {
				return nil, err
			}
		}
		all = append(all, catalog.Version{Version: string(d.Digest), Details: catalog.Details{Native: native},
			Files: []catalog.File{{ID: 1, MediaType: d.MediaType, Digests: catalog.Digests{Size: d.Size}}}})
	}
	return all, nil
}

// Names implements ecosystem.ByContent.
func (OCI) Names(
	ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt, contentType string,
) ([]ecosystem.NamedPart, string, error) {
	if place.Extension != manifestFile {
		return nil, "", nil
	}
	raw, err := load(ctx, file)
	if err != nil {
		return nil, "", err
	}
	m, err := readManifest(ctx, raw, "")
	if err != nil {
		return nil, "", err
	}
	// Many do not say it, and static servers do not know it.
	if said, _, err := mime.ParseMediaType(contentType); m.guessed && err == nil {
		if names, _ := named(said); names || m.MediaType == "" && strings.Contains(said, "json") {
			m.MediaType = said
		}
	}
	return m.parts(), m.MediaType, nil
}
