package e2e

import (
	"cmp"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"crelvo/internal/ecosystem/madeup"
)

// pushMade pushes a made-up image, with a tag if one is given, and gives its digest.
func pushMade(t *testing.T, to string, image madeup.Image, tag string, headers ...string) string {
	t.Helper()
	for sum, content := range image.Blobs {
		if a := ask(t, http.MethodPost, "/v2/"+to+"/blobs/uploads/?digest="+url.QueryEscape(sum), string(content),
			headers...); a.Status != 201 {
			t.Fatalf("%d %s", a.Status, a.Body)
		}
	}
	digest := madeup.Digest(image.Manifest)
	if a := ask(t, http.MethodPut, "/v2/"+to+"/manifests/"+cmp.Or(tag, digest), string(image.Manifest),
		append(headers, "Content-Type", image.MediaType)...); a.Status != 201 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	return digest
}

// TestImageGates: an image crosses a hop if it comes with an SBOM, and is signed by a key that
// is known, in the form that cosign gives signatures or in a bundle; what is about it goes
// along.
func TestImageGates(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	public, err := x509.MarshalPKIXPublicKey(&secret.PublicKey)
	if err != nil {
		t.Fatal(err)
	}
	w := newWorkshop(t)
	w.write("key.pem", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public}))
	key, track := releases+"-key", releases+"-track"
	run := func(want int, args ...string) string {
		t.Helper()
		out, said, code := crelvoAsAdmin(t, args...)
		if code != want {
			t.Fatalf("%q: %d, want %d\n%s%s", args, code, want, out, said)
		}
		return out + said
	}
	run(0, "key", "add", key, w.dir+"/key.pem")
	run(0, "track", "add", track, "--stages", snapshots+","+releases)
	run(0, "track", "edit", track, "--into", releases, "--gate", "signed-by "+key, "--gate",
		"comes-with application/spdx+json")
	push := func(image madeup.Image, tag string) string {
		t.Helper()
		return pushMade(t, snapshots+"/berth", image, tag)
	}
	sign := func(message []byte) string {
		t.Helper()
		sum := sha256.Sum256(message)
		signature, err := ecdsa.SignASN1(rand.Reader, secret, sum[:])
		if err != nil {
			t.Fatal(err)
		}
		return base64.StdEncoding.EncodeToString(signature)
	}
	// cosign keeps a signature in an artifact whose tag names the image.
	cosign := func(of, signature string) {
		t.Helper()
		payload := fmt.Appendf(nil, `{"critical":{"identity":{"docker-reference":""},"image":{"docker-manifest-digest":%q},`+
			`"type":"cosign container image signature"},"optional":null}`, of)
		if signature == "" {
			signature = sign(payload)
		}
		manifest := fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":"application/vnd.oci.image.manifest.v1+json","config":`+
			`{"mediaType":"application/vnd.oci.image.config.v1+json","digest":%q,"size":2},"layers":[{"mediaType":`+
			`"application/vnd.dev.cosign.simplesigning.v1+json","digest":%q,"size":%d,"annotations":`+
			`{"dev.cosignproject.cosign/signature":%q}}]}`, madeup.Digest([]byte("{}")), madeup.Digest(payload), len(payload),
			signature)
		push(madeup.Image{MediaType: "application/vnd.oci.image.manifest.v1+json", Manifest: manifest,
			Blobs: map[string][]byte{madeup.Digest([]byte("{}")): []byte("{}"), madeup.Digest(payload): payload}},
			strings.Replace(of, ":", "-", 1)+".sig")
	}
	image := func(version string) madeup.Image {
		return madeup.Package{Name: "berth", Version: version}.Image("linux/amd64", nil)
	}
	promote := func(want int, tag string) string {
		t.Helper()
		return run(want, "promote", "pkg:oci/berth?tag="+tag, "--along", track, "--to", releases, "--yes")
	}
	first := image("1.5.0-dev.1")
	digest := push(first, "1.5.0-dev.1")
	says(t, promote(1, "1.5.0-dev.1"), "is not signed by any of them", "comes with nothing")
	sbom := []byte(`{"spdxVersion":"SPDX-2.3"}`)
	push(first.Referrer("application/spdx+json", "application/spdx+json", sbom), "")
	cosign(digest, base64.StdEncoding.EncodeToString([]byte("no signature")))
	says(t, promote(1, "1.5.0-dev.1"), "is not signed by any of them")
	cosign(digest, "")
	promote(0, "1.5.0-dev.1")
	// All of it is there.
	for _, what := range []string{"1.5.0", digest, strings.Replace(digest, ":", "-", 1) + ".sig"} {
		must(t, http.MethodGet, "/v2/"+releases+"/berth/manifests/"+what, "", 200)
	}
	if a := must(t, http.MethodGet, "/v2/"+releases+"/berth/referrers/"+digest, "", 200); !strings.Contains(string(a.Body),
		"application/spdx+json") {
		t.Errorf("what is about it: %s", a.Body)
	}

	// A signature of another image is none; a bundle with a statement about this one is.
	second := image("1.6.0-dev.1")
	digest = push(second, "1.6.0-dev.1")
	push(second.Referrer("application/spdx+json", "application/spdx+json", sbom), "")
	bundle := func(of string) {
		t.Helper()
		const kind = "application/vnd.in-toto+json"
		statement := fmt.Sprintf(`{"_type":"https://in-toto.io/Statement/v1","subject":[{"digest":{"sha256":%q}}],`+
			`"predicateType":"https://skerry.example/signed/v1","predicate":{}}`, strings.TrimPrefix(of, "sha256:"))
		content := fmt.Appendf(nil, `{"mediaType":"application/vnd.dev.sigstore.bundle.v0.3+json","dsseEnvelope":`+
			`{"payload":%q,"payloadType":%q,"signatures":[{"sig":%q}]}}`, base64.StdEncoding.EncodeToString([]byte(statement)),
			kind, sign(fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(kind), kind, len(statement), statement)))
		const bundled = "application/vnd.dev.sigstore.bundle.v0.3+json"
		push(second.Referrer(bundled, bundled, content), "")
	}
	bundle(madeup.Digest(first.Manifest))
	says(t, promote(1, "1.6.0-dev.1"), "is not signed by any of them")
	bundle(digest)
	promote(0, "1.6.0-dev.1")
	must(t, http.MethodGet, "/v2/"+releases+"/berth/manifests/1.6.0", "", 200)
}
