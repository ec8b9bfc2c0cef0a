package promotion

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"strings"

	"crelvo/internal/core/promotion"
	"crelvo/internal/upstream"
)

// outsideQuestion is what an outside check is sent.
type outsideQuestion struct {
	Promotion int64             `json:"promotion,omitempty"` // 0 before it is asked for
	DryRun    bool              `json:"dryRun"`
	Track     string            `json:"track"`
	From      string            `json:"from"`
	To        string            `json:"to"`
	Build     string            `json:"build,omitempty"`
	AskedBy   string            `json:"askedBy"`
	Versions  []outsideVersions `json:"versions"`
}

type outsideVersions struct {
	PURL string `json:"purl"`
	To   string `json:"to"`
}

// outsideAnswer is what it answers with 200. 202 means that it is not decided.
type outsideAnswer struct {
	Pass bool   `json:"pass"`
	Fact string `json:"fact"`
}

// keyOfChecks signs the requests to outside checks. It follows from the server's
// secret, so that all nodes have the same.
func (s *Promotion) keyOfChecks() ed25519.PrivateKey {
	seed := sha256.Sum256(append([]byte("crelvo: requests to outside checks\x00"), s.Settings.SecretKey[:]...))
	return ed25519.NewKeyFromSeed(seed[:])
}

// CheckKey is the public key, in PEM, by which outside checks know that a request
// is from here.
func (s *Promotion) CheckKey() (string, error) {
	der, err := x509.MarshalPKIXPublicKey(s.keyOfChecks().Public())
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})), err
}

// signRequest signs a request by HTTP Message Signatures (RFC 9421): its method,
// its address and the digest of its content (RFC 9530).
func (s *Promotion) signRequest(r *http.Request, body []byte) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	parameters := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid="crelvo";alg="ed25519"`,
		s.Now().Unix())
	signed := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		r.Method, r.URL, digest, parameters)
	r.Header.Set("Content-Digest", digest)
	r.Header.Set("Signature-Input", "crelvo="+parameters)
	r.Header.Set("Signature", "crelvo=:"+base64.StdEncoding.EncodeToString(ed25519.Sign(s.keyOfChecks(), []byte(signed)))+":")
}

// askOutside asks an outside check. Whatever goes wrong is an answer too.
func (s *Promotion) askOutside(ctx context.Context, g promotion.Gate, q outsideQuestion) promotion.Outside {
	ctx, cancel := context.WithTimeout(ctx, g.For)
	defer cancel()
	fail := func(format string, args ...any) promotion.Outside {
		return promotion.Outside{State: promotion.Fail, Fact: fmt.Sprintf(format, args...)}
	}
	body, err := json.Marshal(q)
	if err != nil {
		return fail("it could not be asked: %v", err)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, g.URL, bytes.NewReader(body))
	if err != nil {
		return fail("it could not be asked: %v", err)
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", s.Settings.Version)
	s.signRequest(request, body)
	// An admin wrote the address, so it may be one of ours.
	response, err := upstream.Plain(g.URL, true).Do(request)
	if ctx.Err() != nil {
		return fail("it did not answer within %s", g.For)
	}
	if err != nil {
		return fail("it could not be reached: %v", err)
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	if err != nil {
		return fail("its answer was cut")
	}
	var said outsideAnswer
	switch {
	case response.StatusCode == http.StatusAccepted:
		return promotion.Outside{State: promotion.Waiting, Fact: "it has not decided yet"}
	case response.StatusCode != http.StatusOK:
		return fail("it answered %s", response.Status)
	case json.Unmarshal(raw, &said) != nil:
		return fail(`its answer is not {"pass": …, "fact": …}`)
	}
	fact := strings.TrimSpace(said.Fact)
	if len(fact) > 300 {
		fact = fact[:300] + "…"
	}
	if !said.Pass {
		return fail("it says no: %s", fact)
	}
	return promotion.Outside{State: promotion.Pass, Fact: "it says yes: " + fact}
}
