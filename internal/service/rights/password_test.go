package rights

import (
	"strings"
	"testing"

	"crelvo/internal/core/access"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
)

// TestTokenDigits: every slip of the hand is found before anything is asked.
func TestTokenDigits(t *testing.T) {
	secret := newSecret()
	if !access.TokenWhole(secret) {
		t.Fatal(secret)
	}
	for i := len(access.TokenPrefix); i < len(secret); i++ {
		changed := []byte(secret)
		changed[i] ^= 1
		for _, wrong := range []string{string(changed), secret[:i] + secret[i+1:], secret[:i] + "\n" + secret[i:]} {
			if access.TokenWhole(wrong) {
				t.Errorf("%q passes for %q", wrong, secret)
			}
		}
	}
	for _, wrong := range []string{"", access.TokenPrefix, access.TokenPrefix + "short"} {
		if access.TokenWhole(wrong) {
			t.Errorf("%q passes", wrong)
		}
	}
}

// TestHashes: a hash fits its password alone, and a damaged one nothing.
func TestHashes(t *testing.T) {
	s, ctx := New(act.New(nil, nil, act.Settings{}), secret.Safe{}, nil, nil), t.Context()
	phc := hashPassword("low tide at noon")
	if !strings.HasPrefix(phc, "$argon2id$v=19$") || phc == hashPassword("low tide at noon") {
		t.Errorf("the hash %s", phc)
	}
	for password, want := range map[string]bool{"low tide at noon": true, "low tide": false, "": false} {
		if got := s.verifyPassword(ctx, phc, password); got != want {
			t.Errorf("%q: %v", password, got)
		}
	}
	for _, damaged := range []string{"", "$argon2id$", strings.Replace(phc, "$m=", "$x=", 1), phc[:len(phc)-50]} {
		if s.verifyPassword(ctx, damaged, "low tide at noon") {
			t.Errorf("the damaged hash %q fits", damaged)
		}
	}
}
