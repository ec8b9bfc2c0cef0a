package oci

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"regexp"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// Signatures of images, as cosign keeps them: a layer with what is signed, and the signature
// in its annotations, in an artifact with a tag that names the image
// (https://github.com/sigstore/cosign/blob/main/specs/SIGNATURE_SPEC.md); or a bundle, in an
// artifact that says that it is about the image
// (https://github.com/sigstore/cosign/blob/main/specs/BUNDLE_SPEC.md).
const (
	signedType    = "application/vnd.dev.cosign.simplesigning.v1+json"
	signatureNote = "dev.cosignproject.cosign/signature"
	bundleType    = "application/vnd.dev.sigstore.bundle"
)

// aboutTag is the tag of an artifact that is about the image which it names.
var aboutTag = regexp.MustCompile(`^sha256-([0-9a-f]{64})\.(?:sig|att|sbom)$`)

// aboutBy is the image that a tag says an artifact is about; "" if it says none.
func aboutBy(tag string) string {
	if m := aboutTag.FindStringSubmatch(tag); m != nil {
		return "sha256:" + m[1]
	}
	return ""
}

// maxSigned is how long what is signed, or a bundle, may be, in bytes.
const maxSigned = 256 << 10

// Endorsements implements ecosystem.Endorsed.
func (OCI) Endorsements(
	ctx context.Context, raw []byte, mediaType, subject string, part func(catalog.Sum) ([]byte, error),
) (all []ecosystem.Endorsement, err error) {
	m, err := readManifest(ctx, raw, mediaType)
	if err != nil {
		return nil, nil // it is no manifest that says anything
	}
	for _, layer := range m.Layers {
		sum, ok := catalog.ParseSum(string(layer.Digest))
		isBundle := strings.HasPrefix(layer.MediaType, bundleType)
		if !ok || layer.Size > maxSigned || layer.MediaType != signedType && !isBundle {
			continue
		}
		content, err := part(sum)
		if err != nil {
			return nil, err
		}
		if isBundle {
			var bundle struct {
				Envelope json.RawMessage `json:"dsseEnvelope"`
			}
			if json.Unmarshal(content, &bundle) == nil && bundle.Envelope != nil {
				all = append(all, ecosystem.Endorsement{Envelope: bundle.Envelope})
			}
			continue
		}
		var payload struct {
			Critical struct {
				Image struct {
					Digest string `json:"docker-manifest-digest"`
				} `json:"image"`
			} `json:"critical"`
		}
		signature, err := base64.StdEncoding.DecodeString(layer.Annotations[signatureNote])
		if err == nil && json.Unmarshal(content, &payload) == nil && payload.Critical.Image.Digest == subject {
			all = append(all, ecosystem.Endorsement{Message: content, Signature: signature})
		}
	}
	return all, nil
}
