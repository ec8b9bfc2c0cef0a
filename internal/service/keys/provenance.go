package keys

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"github.com/sigstore/sigstore-go/pkg/bundle"
	"github.com/sigstore/sigstore-go/pkg/root"
	"github.com/sigstore/sigstore-go/pkg/verify"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/text"
)

// rootForm is the form of a key that is a Sigstore trusted root: the certificates of those who certify
// builds, and the keys of the logs and clocks that witness it.
const rootForm = "trusted-root"

// longestSource is how many letters are shown of an address of sources.
const longestSource = 500

// TrustRoot verifies where something was built.
type TrustRoot struct {
	Name     string
	verifier *verify.Verifier
}

// ReadTrustRoot reads a trusted root (sigstore.protobuf-specs, sigstore_trustroot.proto, as JSON). Whatever
// kinds of witnesses it has must have witnessed.
func ReadTrustRoot(name, text string) (TrustRoot, error) {
	trusted, err := root.NewTrustedRootFromJSON([]byte(text))
	if err != nil {
		return TrustRoot{}, err
	}
	if len(trusted.FulcioCertificateAuthorities()) == 0 {
		return TrustRoot{}, errors.New("it has no certificate authority")
	}
	options := []verify.VerifierOption{verify.WithObserverTimestamps(1)}
	if len(trusted.RekorLogs()) > 0 {
		options = append(options, verify.WithTransparencyLog(1))
	}
	if len(trusted.CTLogs()) > 0 {
		options = append(options, verify.WithSignedCertificateTimestamps(1))
	}
	verifier, err := verify.NewVerifier(trusted, options...)
	return TrustRoot{name, verifier}, err
}

// TrustRoots are the trusted roots, by name.
func (s *Keys) TrustRoots(ctx context.Context) ([]TrustRoot, error) {
	trusted, err := s.DB.TrustedKeys(ctx)
	var all []TrustRoot
	for _, k := range trusted {
		if k.Form != rootForm {
			continue
		}
		if r, err := ReadTrustRoot(k.Name, k.Text); err == nil { // it was read when it was added
			all = append(all, r)
		}
	}
	return all, err
}

// Provenance tells where a file was built, by what Sigstore bundles with in-toto statements about it say and
// trusted roots verify. What none of them verifies says nothing.
func Provenance(roots []TrustRoot, bundles []json.RawMessage, file catalog.Digests) (all []attest.Provenance) {
	for _, raw := range bundles {
		var b bundle.Bundle
		if err := b.UnmarshalJSON(raw); err != nil {
			continue
		}
		for _, r := range roots {
			if p, ok := r.provenance(&b, file); ok && !slices.Contains(all, p) {
				all = append(all, p)
			}
		}
	}
	return all
}

// provenance verifies one bundle: that a statement in it is about a file, and that whoever signed it built
// that from some sources.
func (r TrustRoot) provenance(b *bundle.Bundle, file catalog.Digests) (_ attest.Provenance, ok bool) {
	defer func() {
		if bad := recover(); bad != nil { // what comes from elsewhere must not end the service
			ok = false
		}
	}()
	for _, algorithm := range []string{"sha512", "sha256"} {
		digest, err := hex.DecodeString(file.Hex(algorithm))
		if err != nil || !file.Has(algorithm) {
			continue
		}
		result, err := r.verifier.Verify(b, verify.NewPolicy(verify.WithArtifactDigest(algorithm, digest),
			verify.WithoutIdentitiesUnsafe())) // whose it is, is told: the rules say from whom it is taken
		if err != nil || result.Statement == nil || result.Signature == nil || result.Signature.Certificate == nil {
			continue
		}
		c := result.Signature.Certificate
		p := attest.Provenance{By: r.Name,
			Source: strings.TrimSuffix(text.Clean(c.SourceRepositoryURI, false, longestSource), "/"),
			Ref:    text.Clean(c.SourceRepositoryRef, false, longestSource)}
		return p, p.Source != ""
	}
	return attest.Provenance{}, false
}
