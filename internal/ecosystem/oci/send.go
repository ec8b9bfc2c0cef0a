package oci

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	registry "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/partial"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
	"github.com/google/go-containerregistry/pkg/v1/types"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.Sending = OCI{}

// Send implements ecosystem.Sending: by the distribution specification, the parts that are not there, then the
// manifest under its digest, then its labels. What an index names must be there before.
func (OCI) Send(ctx context.Context, s ecosystem.Shipment) error {
	to, err := addressOf(s)
	if err != nil {
		return &ecosystem.Rejection{Said: err.Error(), Final: true}
	}
	options := []remote.Option{remote.WithContext(ctx), remote.WithUserAgent(s.Agent)}
	switch {
	case s.User != "":
		options = append(options, remote.WithAuth(&authn.Basic{Username: s.User, Password: s.Secret}))
	case s.Secret != "":
		options = append(options, remote.WithAuth(&authn.Basic{Username: "token", Password: s.Secret}))
	}
	if s.Client.Transport != nil {
		options = append(options, remote.WithTransport(s.Client.Transport))
	}
	var own *catalog.File
	for i, f := range s.Files {
		if f.Extension == manifestFile && f.Name == strings.Replace(s.Version, ":", "-", 1) {
			own = &s.Files[i]
			continue
		}
		if f.Extension == manifestFile {
			continue // what an index names is a version of its own
		}
		layer, err := partial.CompressedToLayer(part{f, s.Open})
		if err == nil {
			err = remote.WriteLayer(to, layer, options...)
		}
		if err != nil {
			return rejection(err)
		}
	}
	if own == nil {
		return &ecosystem.Rejection{Said: "its manifest is not there", Final: true}
	}
	raw, err := read(s, *own)
	if err != nil {
		return err
	}
	of := manifestBytes{raw, typeOf(raw)}
	if err := remote.Put(to.Digest(s.Version), of, options...); err != nil {
		return rejection(err)
	}
	for _, label := range s.Labels {
		if err := remote.Put(to.Tag(label), of, options...); err != nil {
			return rejection(err)
		}
	}
	return nil
}

// addressOf is where the images of a package are at a registry, whose address ends with /v2/ and what all names
// begin with.
func addressOf(s ecosystem.Shipment) (name.Repository, error) {
	u, err := url.Parse(s.URL)
	if err != nil {
		return name.Repository{}, err
	}
	var options []name.Option
	if u.Scheme == "http" {
		options = append(options, name.Insecure)
	}
	prefix := strings.TrimPrefix(strings.TrimPrefix(u.Path, "/"), "v2/")
	if s.Namespace != "" {
		prefix += s.Namespace + "/"
	}
	return name.NewRepository(u.Host+"/"+prefix+s.Name, options...)
}

func read(s ecosystem.Shipment, f catalog.File) ([]byte, error) {
	file, err := s.Open(f)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.NewSectionReader(file, 0, f.Digests.Size))
}

// typeOf is the media type of a manifest: its own word, or what it looks like.
func typeOf(raw []byte) types.MediaType {
	var said struct {
		MediaType string            `json:"mediaType"`
		Manifests []json.RawMessage `json:"manifests"`
	}
	_ = json.Unmarshal(raw, &said) // it was read when it was published
	switch {
	case said.MediaType != "":
		return types.MediaType(said.MediaType)
	case said.Manifests != nil:
		return v1.MediaTypeImageIndex
	}
	return v1.MediaTypeImageManifest
}

// manifestBytes are a manifest as it is sent.
type manifestBytes struct {
	raw  []byte
	kind types.MediaType
}

// RawManifest implements remote.Taggable.
func (m manifestBytes) RawManifest() ([]byte, error) { return m.raw, nil }

// MediaType tells the registry what it is.
func (m manifestBytes) MediaType() (types.MediaType, error) { return m.kind, nil }

// part is a config or a layer as it is sent.
type part struct {
	catalog.File
	open func(f catalog.File) (ecosystem.SeekableFile, error)
}

// Digest implements partial.CompressedLayer.
func (p part) Digest() (registry.Hash, error) {
	return registry.NewHash("sha256:" + p.Digests.Hex("sha256"))
}

// Size implements partial.CompressedLayer.
func (p part) Size() (int64, error) { return p.Digests.Size, nil }

// MediaType implements partial.CompressedLayer.
func (p part) MediaType() (types.MediaType, error) { return types.MediaType(p.File.MediaType), nil }

// Compressed implements partial.CompressedLayer.
func (p part) Compressed() (io.ReadCloser, error) { return p.open(p.File) }

// rejection tells whether to try again after a registry's answer.
func rejection(err error) error {
	var said *transport.Error
	if !errors.As(err, &said) {
		return err
	}
	final := said.StatusCode >= 400 && said.StatusCode < 500 && said.StatusCode != http.StatusUnauthorized &&
		said.StatusCode != http.StatusForbidden && said.StatusCode != http.StatusRequestTimeout &&
		said.StatusCode != http.StatusTooManyRequests && said.StatusCode != http.StatusNotFound
	return &ecosystem.Rejection{Status: said.StatusCode, Said: said.Error(), Final: final}
}
