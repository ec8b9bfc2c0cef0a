package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/big"
	"net/url"
	"slices"
	"testing"
	"time"

	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	bundles "github.com/sigstore/protobuf-specs/gen/pb-go/bundle/v1"
	common "github.com/sigstore/protobuf-specs/gen/pb-go/common/v1"
	envelopes "github.com/sigstore/protobuf-specs/gen/pb-go/dsse"
	rekor "github.com/sigstore/protobuf-specs/gen/pb-go/rekor/v1"
	"github.com/sigstore/sigstore-go/pkg/root"
	"github.com/sigstore/sigstore-go/pkg/testing/ca"
	"github.com/sigstore/sigstore-go/pkg/tlog"
	"google.golang.org/protobuf/encoding/protojson"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/repositories"
)

// certifier certifies builds, and has a log that witnesses it.
type certifier struct {
	log  *ca.VirtualSigstore
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	root string // as JSON
}

func newCertifier(t testing.TB) *certifier {
	t.Helper()
	c := new(certifier)
	var err error
	if c.log, err = ca.NewVirtualSigstore(); err != nil {
		t.Fatal(err)
	}
	above, aboveKey, err := ca.GenerateRootCa()
	if err != nil {
		t.Fatal(err)
	}
	if c.cert, c.key, err = ca.GenerateFulcioIntermediate(above, aboveKey); err != nil {
		t.Fatal(err)
	}
	logs := c.log.RekorLogs()
	for id, l := range logs {
		if l.ID, err = hex.DecodeString(id); err != nil {
			t.Fatal(err)
		}
	}
	trusted, err := root.NewTrustedRoot(root.TrustedRootMediaType01, []root.CertificateAuthority{
		&root.FulcioCertificateAuthority{Root: above, Intermediates: []*x509.Certificate{c.cert},
			ValidityPeriodStart: above.NotBefore, ValidityPeriodEnd: above.NotAfter}}, nil, nil, logs)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := trusted.MarshalJSON()
	if err != nil {
		t.Fatal(err)
	}
	c.root = string(raw)
	return c
}

// attests makes a bundle that says that some bytes were built from some sources.
func (c *certifier) attests(t testing.TB, sources string, content []byte) *bundles.Bundle {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(7), NotBefore: time.Now().Add(-time.Minute),
		NotAfter: time.Now().Add(time.Minute), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning},
		URIs:        []*url.URL{{Scheme: "https", Host: "code.example", Path: "/build.yml"}}}
	// The extensions of Fulcio: who signed in, and the address and state of the sources.
	for last, text := range map[int]string{8: "https://code.example", 12: sources, 14: "refs/tags/v1"} {
		value, err := asn1.MarshalWithParams(text, "utf8")
		if err != nil {
			t.Fatal(err)
		}
		template.ExtraExtensions = append(template.ExtraExtensions,
			pkix.Extension{Id: asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 57264, 1, last}, Value: value})
	}
	der, err := x509.CreateCertificate(rand.Reader, template, c.cert, &key.PublicKey, c.key)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha512.Sum512(content)
	short := sha256.Sum256(content)
	const kind = "application/vnd.in-toto+json"
	statement := fmt.Appendf(nil, `{"_type": "https://in-toto.io/Statement/v1", "subject": [{"name": "x", "digest": `+
		`{"sha512": "%x", "sha256": "%x"}}], "predicateType": "https://slsa.dev/provenance/v1", "predicate": {}}`, sum, short)
	message := sha256.Sum256(dsse.PAE(kind, statement))
	signature, err := ecdsa.SignASN1(rand.Reader, key, message[:])
	if err != nil {
		t.Fatal(err)
	}
	envelope := &dsse.Envelope{PayloadType: kind, Payload: base64.StdEncoding.EncodeToString(statement),
		Signatures: []dsse.Signature{{Sig: base64.StdEncoding.EncodeToString(signature)}}}
	entry, err := c.log.GenerateTlogEntry(leaf, envelope, signature, time.Now().Unix(), true)
	if err != nil {
		t.Fatal(err)
	}
	witnessed := entry.TransparencyLogEntry()
	witnessed.KindVersion = &rekor.KindVersion{Kind: "dsse", Version: "0.0.1"}
	promise, err := c.log.RekorSignPayload(tlog.RekorPayload{Body: witnessed.CanonicalizedBody,
		IntegratedTime: witnessed.IntegratedTime, LogIndex: witnessed.LogIndex,
		LogID: hex.EncodeToString(witnessed.LogId.KeyId)})
	if err != nil {
		t.Fatal(err)
	}
	witnessed.InclusionPromise = &rekor.InclusionPromise{SignedEntryTimestamp: promise}
	return &bundles.Bundle{MediaType: "application/vnd.dev.sigstore.bundle.v0.3+json",
		VerificationMaterial: &bundles.VerificationMaterial{
			Content:     &bundles.VerificationMaterial_Certificate{Certificate: &common.X509Certificate{RawBytes: der}},
			TlogEntries: []*rekor.TransparencyLogEntry{witnessed}},
		Content: &bundles.Bundle_DsseEnvelope{DsseEnvelope: &envelopes.Envelope{Payload: statement, PayloadType: kind,
			Signatures: []*envelopes.Signature{{Sig: signature}}}}}
}

// asNPM and asPyPI are bundles as these registries tell of them.
func asNPM(t *testing.T, b *bundles.Bundle) string {
	t.Helper()
	raw, err := protojson.Marshal(b)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf(`{"attestations": [{"bundle": {}}, {"predicateType": "y", "bundle": %s}]}`, raw)
}

func asPyPI(t *testing.T, b *bundles.Bundle) string {
	t.Helper()
	entry, err := protojson.Marshal(b.VerificationMaterial.TlogEntries[0])
	if err != nil {
		t.Fatal(err)
	}
	envelope := b.GetDsseEnvelope()
	raw, err := json.Marshal(map[string]any{"version": 1, "attestation_bundles": []any{map[string]any{
		"publisher": map[string]string{"kind": "x"}, "attestations": []any{map[string]any{"version": 1,
			"verification_material": map[string]any{"certificate": b.VerificationMaterial.GetCertificate().RawBytes,
				"transparency_entries": []json.RawMessage{entry}},
			"envelope": map[string]any{"statement": envelope.Payload, "signature": envelope.Signatures[0].Sig}}}}}})
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

// TestBuiltFrom: a rule lets in what was verifiably built from somebody's sources, as long as what verifies
// it is trusted; not what is about other bytes, from elsewhere, or certified by others.
func TestBuiltFrom(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	const ours = "https://code.example/openshore/kelp"
	trusted, other := newCertifier(t), newCertifier(t)
	files := kelp(t, "kelp", nil, map[string]int{"1.0.0": 90, "1.1.0": 60, "1.2.0": 30, "1.3.0": 20, "1.4.0": 10})
	archive := func(version string) []byte { return []byte(files["kelp/-/kelp-"+version+".tgz"]) }
	for version, b := range map[string]*bundles.Bundle{
		"1.0.0": trusted.attests(t, ours, archive("1.0.0")),
		"1.1.0": trusted.attests(t, ours, archive("1.0.0")),
		"1.2.0": trusted.attests(t, "https://code.example/somebody/kelp", archive("1.2.0")),
		"1.3.0": other.attests(t, ours, archive("1.3.0")),
	} {
		files["-/npm/v1/attestations/kelp@"+version] = asNPM(t, b)
	}
	var document map[string]any
	if err := json.Unmarshal([]byte(files["kelp"]), &document); err != nil {
		t.Fatal(err)
	}
	for _, of := range document["versions"].(map[string]any) {
		of.(map[string]any)["dist"].(map[string]any)["attestations"] = map[string]string{"url": "https://shore.example/x"}
	}
	raw, err := json.Marshal(document)
	if err != nil {
		t.Fatal(err)
	}
	files["kelp"] = string(raw)
	sound := madeup.Package{Name: "soundings", Version: "1.0.0"}
	sum := sha256.Sum256(sound.Wheel())
	files["simple/soundings/"] = fmt.Sprintf(`<!DOCTYPE html><html><body><a href="/files/%s#sha256=%s" `+
		`data-provenance="/integrity/soundings">%[1]s</a></body></html>`, sound.WheelName(), hex.EncodeToString(sum[:]))
	files["files/"+sound.WheelName()] = string(sound.Wheel())
	files["integrity/soundings"] = asPyPI(t, trusted.attests(t, ours, sound.Wheel()))
	shore := newElsewhere(t, files)

	rule, err := core.ParseAcceptance("built-from https://code.example/openshore/*")
	if err != nil || rule.String() != "built-from https://code.example/openshore/*" {
		t.Fatal(rule, err)
	}
	add := func(name, ecosystemName, path string) catalog.Repository {
		t.Helper()
		r, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
			Repository: catalog.Repository{Name: name, Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: ecosystemName,
				Safety: core.Rules{Vets: true, Accepts: []core.Acceptance{rule}},
				Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: shore.URL + path}}}}})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	npm, pypi := add("shore-npm", "npm", "/"), add("shore-py", "pypi", "/simple/")

	// says is the fact by which a version is let in or not, once somebody looked.
	says := func(r catalog.Repository, p purl.PURL) string {
		t.Helper()
		if _, err := n.Vetting.LookInside(ctx, n.admin, r.Name, p); err != nil {
			t.Fatal(p, err)
		}
		a, err := n.Vetting.Assess(ctx, n.admin, r.Name, p)
		if err != nil {
			t.Fatal(p, err)
		}
		return a.Tried[0][0].Fact
	}
	const nothing = "nothing that is trusted here says where it was built"
	version := func(version string) purl.PURL { return purl.PURL{Ecosystem: "npm", Name: "kelp", Version: version} }
	if got := says(npm, version("1.0.0")); got != nothing {
		t.Errorf("without a root that is trusted: %s", got)
	}
	err = n.Keys.AddKey(ctx, n.admin, keys.NewKey{Name: "shore-trust", Public: "{}"})
	if fault.Of(err).Code != "bad-key" {
		t.Errorf("a root that says nothing: %v", err)
	}
	if err := n.Keys.AddKey(ctx, access.Caller{ID: n.admin.ID + 1, Name: "reader"},
		keys.NewKey{Name: "shore-trust", Public: trusted.root}); err == nil {
		t.Error("anybody may say what is trusted")
	}
	if err := n.Keys.AddKey(ctx, n.admin, keys.NewKey{Name: "shore-trust", Public: trusted.root}); err != nil {
		t.Fatal(err)
	}
	for of, want := range map[string]string{
		"1.0.0": "shore-trust verifies that it was built from " + ours,
		"1.1.0": nothing, "1.2.0": "it was built from https://code.example/somebody/kelp", "1.3.0": nothing, "1.4.0": nothing,
	} {
		if got := says(npm, version(of)); got != want {
			t.Errorf("%s: %s, not %s", of, got, want)
		}
	}
	if got := (outside{n, npm}).has(t, "npm", "", "kelp"); !slices.Equal(got, []string{"1.0.0"}) {
		t.Errorf("there are %v", got)
	}
	// Who wants it has it looked into.
	o := outside{n, pypi}
	code, f := o.file(t, "pypi", "", "soundings", "1.0.0", sound.WheelName())
	if code != ecosystem.KeptOut {
		t.Errorf("nobody looked, and it is answered with %q", code)
	}
	n.Vetting.Wanted(ctx, n.admin, f)
	for end := time.Now().Add(10 * time.Second); code != "" && time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		code, f = o.file(t, "pypi", "", "soundings", "1.0.0", sound.WheelName())
	}
	if code != "" {
		t.Errorf("it is still kept out: %v", f)
	}
	if err := n.Keys.RemoveKey(ctx, n.admin, "shore-trust"); err != nil {
		t.Fatal(err)
	}
	if got := (outside{n, npm}).has(t, "npm", "", "kelp"); got != nil {
		t.Errorf("it is trusted no more, and there are %v", got)
	}
}

// FuzzProvenance: whatever an upstream says of where something was built, it is verified or it says nothing.
func FuzzProvenance(f *testing.F) {
	c := newCertifier(f)
	content := []byte("kelp")
	good, err := protojson.Marshal(c.attests(f, "https://code.example/openshore/kelp", content))
	if err != nil {
		f.Fatal(err)
	}
	trusted, err := keys.ReadTrustRoot("shore-trust", c.root)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add([]byte(`{"mediaType": "application/vnd.dev.sigstore.bundle.v0.3+json"}`))
	other := catalog.Digests{Size: 1, SHA256: sha256.Sum256([]byte("other")), SHA512: sha512.Sum512([]byte("other"))}
	f.Fuzz(func(t *testing.T, raw []byte) {
		if all := keys.Provenance([]keys.TrustRoot{trusted}, []json.RawMessage{raw}, other); all != nil {
			t.Errorf("other bytes were built from %v", all)
		}
	})
}
