package pypi

import (
	"encoding/json"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.Attested = PyPI{}

// AttestedAt implements ecosystem.Attested.
func (PyPI) AttestedAt(_ catalog.PackageKey, v *catalog.Version, file string) string {
	return factsOf(v, file).Provenance
}

const bundleType = "application/vnd.dev.sigstore.bundle.v0.3+json"

// Bundles implements ecosystem.Attested. An attestation object (PEP 740) has the parts of a bundle by other
// names.
func (PyPI) Bundles(raw []byte) (all []json.RawMessage, err error) {
	var provenance struct {
		Bundles []struct {
			Attestations []struct {
				Material struct {
					Certificate string          `json:"certificate"` // DER, in base64
					Entries     json.RawMessage `json:"transparency_entries"`
				} `json:"verification_material"`
				Envelope struct {
					Statement string `json:"statement"` // in base64
					Signature string `json:"signature"`
				} `json:"envelope"`
			} `json:"attestations"`
		} `json:"attestation_bundles"`
	}
	if err := json.Unmarshal(raw, &provenance); err != nil {
		return nil, err
	}
	for _, b := range provenance.Bundles {
		for _, a := range b.Attestations {
			bundle, err := json.Marshal(map[string]any{
				"mediaType": bundleType,
				"verificationMaterial": map[string]any{
					"certificate": map[string]string{"rawBytes": a.Material.Certificate},
					"tlogEntries": a.Material.Entries},
				"dsseEnvelope": map[string]any{"payload": a.Envelope.Statement,
					"payloadType": "application/vnd.in-toto+json",
					"signatures":  []map[string]string{{"sig": a.Envelope.Signature}}}})
			if err != nil {
				return nil, err
			}
			all = append(all, bundle)
		}
	}
	return all, nil
}
