// Package attest reads statements about software: in-toto statements in signed
// envelopes (DSSE), and bills of materials (CycloneDX, SPDX). It verifies
// signatures against keys that are given, and decides nothing.
package attest

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
)

// Document is what a statement says, as far as Crelvo uses it.
type Document struct {
	// Kind is "in-toto", "cyclonedx" or "spdx".
	Kind string
	// Type is the predicate type of an in-toto statement, or the version of a
	// bill of materials.
	Type string
	// Subjects are the SHA-256 digests, in hexadecimal, of what it is about.
	Subjects []string
	// Builder is who built it, by its SLSA provenance.
	Builder string
	// SignedBy names the keys whose signature is right.
	SignedBy []string
	// Signed: it stands in an envelope with signatures.
	Signed bool
}

// Key is a public key by which somebody signs statements.
type Key struct {
	Name   string
	Public crypto.PublicKey
}

// Provenance is where something was built, as the certificate says by whose key the statement about it is
// signed.
type Provenance struct {
	By     string // the trust root by which it was verified
	Source string // the address of the repository with the sources
	Ref    string // which state of them, such as refs/tags/v1.2.0; "" if it does not say
}

const intotoPayload = "application/vnd.in-toto+json"

// envelope is a DSSE envelope
// (https://github.com/secure-systems-lab/dsse/blob/master/envelope.md).
type envelope struct {
	PayloadType string `json:"payloadType"`
	Payload     string `json:"payload"`
	Signatures  []struct {
		Sig string `json:"sig"`
	} `json:"signatures"`
}

// statement is an in-toto statement, version 0.1 or 1
// (https://github.com/in-toto/attestation/blob/main/spec/v1/statement.md).
type statement struct {
	Type    string `json:"_type"`
	Subject []struct {
		Digest map[string]string `json:"digest"`
	} `json:"subject"`
	PredicateType string `json:"predicateType"`
	Predicate     struct {
		Builder struct {
			ID string `json:"id"`
		} `json:"builder"`
		RunDetails struct {
			Builder struct {
				ID string `json:"id"`
			} `json:"builder"`
		} `json:"runDetails"`
	} `json:"predicate"`
}

// Read reads a document. Errors say what is wrong with it. A signature by none
// of the keys is no error: SignedBy is empty.
func Read(raw []byte, keys []Key) (Document, error) {
	var probe struct {
		PayloadType string `json:"payloadType"`
		Type        string `json:"_type"`
		BOMFormat   string `json:"bomFormat"`
		SpecVersion string `json:"specVersion"`
		SPDXVersion string `json:"spdxVersion"`
	}
	if err := json.Unmarshal(raw, &probe); err != nil {
		return Document{}, fmt.Errorf("it is no JSON: %w", err)
	}
	switch {
	case probe.PayloadType != "":
		return readEnvelope(raw, keys)
	case strings.HasPrefix(probe.Type, "https://in-toto.io/Statement/"):
		return readStatement(raw)
	case probe.BOMFormat == "CycloneDX":
		return Document{Kind: "cyclonedx", Type: probe.SpecVersion}, nil
	case strings.HasPrefix(probe.SPDXVersion, "SPDX-"):
		return Document{Kind: "spdx", Type: probe.SPDXVersion}, nil
	}
	return Document{}, errors.New("it is neither a DSSE envelope, an in-toto statement, CycloneDX nor SPDX")
}

func readEnvelope(raw []byte, keys []Key) (Document, error) {
	var e envelope
	if err := json.Unmarshal(raw, &e); err != nil {
		return Document{}, fmt.Errorf("its envelope cannot be read: %w", err)
	}
	if e.PayloadType != intotoPayload {
		return Document{}, fmt.Errorf("its payload is %.100q, not %s", e.PayloadType, intotoPayload)
	}
	payload, err := decode64(e.Payload)
	if err != nil {
		return Document{}, errors.New("its payload is not in base64")
	}
	d, err := readStatement(payload)
	if err != nil {
		return d, err
	}
	d.Signed = true
	signed := fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(e.PayloadType), e.PayloadType, len(payload), payload)
	for _, k := range keys {
		for _, s := range e.Signatures {
			if sig, err := decode64(s.Sig); err == nil && verify(k.Public, signed, sig) {
				d.SignedBy = append(d.SignedBy, k.Name)
				break
			}
		}
	}
	return d, nil
}

// decode64 takes both alphabets, as the envelope's specification asks.
func decode64(text string) ([]byte, error) {
	text = strings.NewReplacer("-", "+", "_", "/").Replace(strings.TrimRight(text, "="))
	return base64.RawStdEncoding.DecodeString(text)
}

func readStatement(raw []byte) (Document, error) {
	var s statement
	if err := json.Unmarshal(raw, &s); err != nil {
		return Document{}, fmt.Errorf("its statement cannot be read: %w", err)
	}
	if !strings.HasPrefix(s.Type, "https://in-toto.io/Statement/") || s.PredicateType == "" {
		return Document{}, errors.New("it is no in-toto statement")
	}
	d := Document{Kind: "in-toto", Type: s.PredicateType, Builder: s.Predicate.Builder.ID}
	if id := s.Predicate.RunDetails.Builder.ID; id != "" {
		d.Builder = id
	}
	for _, subject := range s.Subject {
		if sum := strings.ToLower(subject.Digest["sha256"]); sum != "" {
			d.Subjects = append(d.Subjects, sum)
		}
	}
	return d, nil
}

// Bill gives a bill of materials: raw itself, or what the statement that raw is says, in an envelope
// or not, whoever signed it; and which files it is about by their SHA-256 digests, in hexadecimal, as
// far as a statement says. It is nil if raw is something else.
func Bill(raw []byte) (bill []byte, subjects []string) {
	var e envelope
	if json.Unmarshal(raw, &e) == nil && e.PayloadType == intotoPayload {
		payload, err := decode64(e.Payload)
		if err != nil {
			return nil, nil
		}
		raw = payload
	}
	var s struct {
		Type      string          `json:"_type"`
		Predicate json.RawMessage `json:"predicate"`
	}
	if json.Unmarshal(raw, &s) == nil && s.Type != "" {
		d, err := readStatement(raw)
		if err != nil {
			return nil, nil
		}
		raw, subjects = s.Predicate, d.Subjects
	}
	if d, err := Read(raw, nil); err != nil || d.Kind == "in-toto" {
		return nil, nil
	}
	return raw, subjects
}

// Signers names the keys whose signature of a message is right.
func Signers(keys []Key, message, signature []byte) (by []string) {
	for _, k := range keys {
		if verify(k.Public, message, signature) {
			by = append(by, k.Name)
		}
	}
	return by
}

func verify(key crypto.PublicKey, message, signature []byte) bool {
	sum := sha256.Sum256(message)
	switch key := key.(type) {
	case ed25519.PublicKey:
		return ed25519.Verify(key, message, signature)
	case *ecdsa.PublicKey:
		return ecdsa.VerifyASN1(key, sum[:], signature)
	case *rsa.PublicKey:
		return rsa.VerifyPKCS1v15(key, crypto.SHA256, sum[:], signature) == nil ||
			rsa.VerifyPSS(key, crypto.SHA256, sum[:], signature, nil) == nil
	}
	return false
}

// ParseKey reads a public key in PEM (RFC 7468): Ed25519, ECDSA or RSA.
func ParseKey(text string) (crypto.PublicKey, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil || block.Type != "PUBLIC KEY" {
		return nil, errors.New(`it is no public key in PEM, which begins with "-----BEGIN PUBLIC KEY-----"`)
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the public key cannot be read: %w", err)
	}
	switch key.(type) {
	case ed25519.PublicKey, *ecdsa.PublicKey, *rsa.PublicKey:
		return key, nil
	}
	return nil, fmt.Errorf("keys of this kind (%T) are not known", key)
}
