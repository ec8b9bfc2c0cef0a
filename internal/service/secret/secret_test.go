package secret

import (
	"bytes"
	"encoding/hex"
	"errors"
	"testing"

	"crelvo/internal/core/catalog"
)

func TestSafe(t *testing.T) {
	safe, other := New([32]byte{1}), New([32]byte{2})
	plain := []byte("gangway")
	sealed, err := safe.Seal(plain, Target)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := safe.Seal(plain, Target); err != nil || bytes.Equal(again, sealed) {
		t.Errorf("sealed twice it looks the same: %v", err)
	}
	if got, err := safe.Open(sealed, Target); err != nil || !bytes.Equal(got, plain) {
		t.Errorf("%q, %v", got, err)
	}
	for name, c := range map[string]struct {
		safe   Safe
		sealed []byte
		use    Use
	}{
		"another key":  {other, sealed, Target},
		"another use":  {safe, sealed, SigningKey},
		"damaged":      {safe, append(bytes.Clone(sealed[:len(sealed)-1]), sealed[len(sealed)-1]^1), Target},
		"cut":          {safe, sealed[:5], Target},
		"nothing left": {safe, nil, Target},
	} {
		if got, err := c.safe.Open(c.sealed, c.use); !errors.Is(err, ErrOtherKey) {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	if safe.Shut(nil, Upstream) || safe.Shut(sealed, Target) || !other.Shut(sealed, Target) {
		t.Error("what can be opened is told wrong")
	}
}

// TestSafeOfBefore opens what an earlier program sealed: the texts of uses and the form
// stay what they were.
func TestSafeOfBefore(t *testing.T) {
	sealed, err := hex.DecodeString(before)
	if err != nil {
		t.Fatal(err)
	}
	var m catalog.MirrorSettings
	if err := New([32]byte{7}).OpenMirror(sealed, &m); err != nil || m.User != "skerry" || m.Secret != "low-tide" ||
		m.Proxy != "" {
		t.Errorf("%+v, %v", m, err)
	}
	if nothing, err := New([32]byte{7}).SealMirror(&catalog.MirrorSettings{}); err != nil || nothing != nil {
		t.Errorf("nothing is sealed as %x, %v", nothing, err)
	}
}

// before was sealed by the first program that could.
const before = "a10707f84dce6fbc0b4ac28301b85eb3b1f5e61fa40c2a6257478a1af74dcc7abd4d707cd52b999fc3f02912d65e3806d0bcf697374d122b2bf867c2d5bf14458b"
