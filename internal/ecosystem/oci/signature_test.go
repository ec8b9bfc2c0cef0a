package oci

import (
	"fmt"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem/madeup"
)

// TestEndorsements: signatures are found in the forms in which they are kept, and those of
// other images are none.
func TestEndorsements(t *testing.T) {
	image := madeup.Digest([]byte("an image"))
	payload := func(of string) []byte {
		return fmt.Appendf(nil, `{"critical":{"image":{"docker-manifest-digest":%q},"type":"cosign"}}`, of)
	}
	blobs := map[string][]byte{}
	layer := func(kind string, content []byte, notes string) string {
		blobs[madeup.Digest(content)] = content
		return fmt.Sprintf(`{"mediaType":%q,"digest":%q,"size":%d,"annotations":{%s}}`, kind, madeup.Digest(content),
			len(content), notes)
	}
	const note = `"dev.cosignproject.cosign/signature":"c2lnbmVk"`
	manifest := fmt.Sprintf(`{"schemaVersion":2,"mediaType":%q,"config":%s,"layers":[%s]}`, v1.MediaTypeImageManifest,
		layer("application/vnd.oci.image.config.v1+json", []byte("{}"), ""), strings.Join([]string{
			layer(signedType, payload(image), note), layer(signedType, payload(madeup.Digest([]byte("another"))), note),
			layer(signedType, []byte("no JSON"), note), layer(signedType, append(payload(image), ' '), `"x":"y"`),
			layer(bundleType+".v0.3+json", []byte(`{"dsseEnvelope":{"payload":""}}`), ""),
			layer(bundleType+".v0.3+json", []byte(`{}`), ""), layer("application/spdx+json", []byte(`[]`), "")}, ","))
	all, err := New().Endorsements(t.Context(), []byte(manifest), v1.MediaTypeImageManifest, image,
		func(sum catalog.Sum) ([]byte, error) { return blobs[sum.String()], nil })
	if err != nil || len(all) != 3 || string(all[0].Signature) != "signed" ||
		string(all[0].Message) != string(payload(image)) || len(all[1].Signature) != 0 || string(all[2].Envelope) != `{"payload":""}` {
		t.Errorf("%q, %v", all, err)
	}
	if all, err := New().Endorsements(t.Context(), []byte("{"), v1.MediaTypeImageManifest, image, nil); err != nil ||
		all != nil {
		t.Errorf("%q, %v", all, err)
	}
	hex := strings.TrimPrefix(image, "sha256:")
	for tag, want := range map[string]string{"sha256-" + hex + ".sig": image, "sha256-" + hex + ".att": image,
		"sha256-" + hex: "", "sha256-" + hex + ".x": "", "1.5.0": ""} {
		if got := aboutBy(tag); got != want {
			t.Errorf("%s is about %q", tag, got)
		}
	}
}
