package attest

import (
	"bytes"
	"io"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// SignedBy tells whether an armored detached signature (RFC 9580, 10.4) over content was made by one of the
// armored OpenPGP keys in a text, as of a moment. Errors are those of reading content.
func SignedBy(keys string, content io.ReadSeeker, signature []byte, now time.Time) (bool, error) {
	ring, err := openpgp.ReadArmoredKeyRing(strings.NewReader(keys))
	if err != nil {
		return false, nil
	}
	for _, ahead := range []time.Duration{0, clocksApart} {
		if _, err := content.Seek(0, io.SeekStart); err != nil {
			return false, err
		}
		at := now.Add(ahead)
		if _, err = openpgp.CheckArmoredDetachedSignature(ring, content, bytes.NewReader(signature),
			&packet.Config{Time: func() time.Time { return at }}); err == nil {
			return true, nil
		}
	}
	return false, nil
}

// clocksApart is how far the clock of who signed may be ahead.
const clocksApart = 24 * time.Hour

// IsSignature tells whether a text is an armored OpenPGP signature, by whomever.
func IsSignature(text []byte) bool {
	block, err := armor.Decode(bytes.NewReader(text))
	if err != nil || block.Type != openpgp.SignatureType {
		return false
	}
	p, err := packet.Read(block.Body)
	_, ok := p.(*packet.Signature)
	return err == nil && ok
}
