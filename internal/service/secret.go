package service

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"

	"crelvo/internal/core/catalog"
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
	aead, err := s.cipher()
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(plain)+aead.Overhead())
	rand.Read(nonce) // it never fails
	return aead.Seal(nonce, nonce, plain, secretUse), nil
}

var errOtherKey = errors.New("the credentials of a mirror were encrypted with another key than the server has now")

// unseal decrypts what seal made into m.
func (s *Service) unseal(sealed []byte, m *catalog.MirrorSettings) error {
	if len(sealed) == 0 || m == nil {
		return nil
	}
	aead, err := s.cipher()
	if err != nil {
		return err
	}
	if len(sealed) < aead.NonceSize() {
		return errOtherKey
	}
	plain, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], secretUse)
	if err != nil {
		return errOtherKey
	}
	var secret upstreamSecret
	if err := json.Unmarshal(plain, &secret); err != nil {
		return err
	}
	m.User, m.Secret, m.Proxy = secret.User, secret.Secret, secret.Proxy
	return nil
}
