package service

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
)

// upstreamSecret is how a mirror signs in, as it is encrypted.
type upstreamSecret struct {
	User   string `json:"user,omitempty"`
	Secret string `json:"secret,omitempty"`
	Proxy  string `json:"proxy,omitempty"` // with its password
}

// secretUse binds what is encrypted to its use.
var secretUse = []byte("crelvo: how a mirror signs in to its upstream")

func (s *Service) cipher() (cipher.AEAD, error) {
	block, err := aes.NewCipher(s.settings.SecretKey[:])
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// seal encrypts how a mirror signs in (AES-256-GCM, the nonce first); nil if
// it does not.
func (s *Service) seal(m *catalog.MirrorSettings) ([]byte, error) {
	if m == nil || m.User == "" && m.Secret == "" && m.Proxy == "" {
		return nil, nil
	}
	plain, err := json.Marshal(upstreamSecret{User: m.User, Secret: m.Secret, Proxy: m.Proxy})
	if err != nil {
		return nil, err
	}
	return s.encrypt(plain, secretUse)
}

// encrypt encrypts for one use.
func (s *Service) encrypt(plain, use []byte) ([]byte, error) {
	aead, err := s.cipher()
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(plain)+aead.Overhead())
	rand.Read(nonce) // it never fails
	return aead.Seal(nonce, nonce, plain, use), nil
}

var errOtherKey = errors.New("what is kept secret was encrypted with another key than the server has now")

// decrypt gives what encrypt got for the same use.
func (s *Service) decrypt(sealed, use []byte) ([]byte, error) {
	aead, err := s.cipher()
	if err != nil {
		return nil, err
	}
	if len(sealed) < aead.NonceSize() {
		return nil, errOtherKey
	}
	plain, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], use)
	if err != nil {
		return nil, errOtherKey
	}
	return plain, nil
}

// unseal decrypts what seal made into m.
func (s *Service) unseal(sealed []byte, m *catalog.MirrorSettings) error {
	if len(sealed) == 0 || m == nil {
		return nil
	}
	plain, err := s.decrypt(sealed, secretUse)
	if err != nil {
		return err
	}
	var secret upstreamSecret
	if err := json.Unmarshal(plain, &secret); err != nil {
		return err
	}
	m.User, m.Secret, m.Proxy = secret.User, secret.Secret, secret.Proxy
	return nil
}

// knowKey makes sure that what is kept secret can be opened with the server's key.
// With LoseSecrets, what cannot be opened is forgotten, and has to be given again.
func (s *Service) knowKey(ctx context.Context) error {
	repositories, err := s.db.Repositories(ctx)
	if err != nil {
		return err
	}
	destinations, err := s.db.Destinations(ctx)
	if err != nil {
		return err
	}
	keys, err := s.db.SigningKeys(ctx)
	if err != nil {
		return err
	}
	var lost record.LostSecrets
	var names []string
	shut := func(sealed, use []byte) bool {
		_, err := s.decrypt(sealed, use)
		return len(sealed) > 0 && err != nil
	}
	for _, r := range repositories {
		if shut(r.Secret, secretUse) {
			lost.Repositories, names = append(lost.Repositories, r.ID), append(names, "the credentials of the mirror "+r.Name)
		}
	}
	for _, d := range destinations {
		if shut(d.Secret, destinationUse) {
			lost.Destinations, names = append(lost.Destinations, d.Name), append(names, "those of the destination "+d.Name)
		}
	}
	for _, k := range keys {
		if shut(k.Secret, keyUse) {
			lost.Keys, names = append(lost.Keys, k.Name), append(names, "the key "+k.Name)
		}
	}
	const most = 5
	if len(names) > most {
		names = append(names[:most], fmt.Sprintf("%d more", len(names)-most))
	}
	switch {
	case names == nil:
		return nil
	case !s.settings.LoseSecrets:
		return fault.New(fault.Internal, "other-key", "the server's key cannot open what was encrypted: %s", strings.Join(names, ", ")).
			WithHint("Give the key that it was encrypted with (--key-file). If that was lost, start once with --lose-secrets; then set these again.")
	}
	s.log.Warn("what another key encrypted is forgotten, and has to be set again", "what", strings.Join(names, ", "))
	return s.db.ForgetSecrets(ctx, lost)
}
