// Package secret seals what is kept encrypted: how mirrors and targets sign in
// elsewhere, and the keys that releases are signed with. What is sealed for one use
// cannot be opened for another.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"

	"crelvo/internal/core/catalog"
)

// Use binds what is sealed to what it is for. The texts are in what is sealed already.
type Use string

// The uses that there are.
const (
	Upstream    Use = "crelvo: how a mirror signs in to its upstream"
	Target      Use = "crelvo: how promotions sign in to where they go on to"
	SigningKey  Use = "crelvo: a key that signs releases"
	Pass        Use = "crelvo: a pass of a package client"
	ObjectStore Use = "crelvo: how a store signs in to its object store"
	Backup      Use = "crelvo: the key of a server in a backup"
)

// ErrOtherKey is returned for what was sealed with another key, for another use, or is
// damaged.
var ErrOtherKey = errors.New("what is kept secret was encrypted with another key than the server has now")

// Safe seals with the server's key. Its methods may be called at the same time.
type Safe struct{ key [32]byte }

// New makes a Safe with a key of 256 bits.
func New(key [32]byte) Safe { return Safe{key} }

// aead is AES-256-GCM (NIST SP 800-38D).
func (s Safe) aead() (cipher.AEAD, error) {
	block, err := aes.NewCipher(s.key[:])
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// Seal encrypts for one use; the nonce stands first in what it gives.
func (s Safe) Seal(plain []byte, use Use) ([]byte, error) {
	aead, err := s.aead()
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(plain)+aead.Overhead())
	rand.Read(nonce) // it never fails
	return aead.Seal(nonce, nonce, plain, []byte(use)), nil
}

// Open gives what Seal got for the same use, or ErrOtherKey.
func (s Safe) Open(sealed []byte, use Use) ([]byte, error) {
	aead, err := s.aead()
	if err != nil {
		return nil, err
	}
	if len(sealed) < aead.NonceSize() {
		return nil, ErrOtherKey
	}
	plain, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], []byte(use))
	if err != nil {
		return nil, ErrOtherKey
	}
	return plain, nil
}

// Shut tells whether there is something sealed that cannot be opened for that use.
func (s Safe) Shut(sealed []byte, use Use) bool {
	if len(sealed) == 0 {
		return false
	}
	_, err := s.Open(sealed, use)
	return err != nil
}

// SignIn is how one signs in elsewhere.
type SignIn struct {
	User   string `json:"user,omitempty"`
	Secret string `json:"secret,omitempty"`
	Proxy  string `json:"proxy,omitempty"` // with its password
}

// SealSignIn seals how one signs in; nil if one does not.
func (s Safe) SealSignIn(is SignIn, use Use) ([]byte, error) {
	if is == (SignIn{}) {
		return nil, nil
	}
	plain, err := json.Marshal(is)
	if err != nil {
		return nil, err
	}
	return s.Seal(plain, use)
}

// OpenSignIn gives what SealSignIn sealed for the same use; nothing if that was nothing.
func (s Safe) OpenSignIn(sealed []byte, use Use) (is SignIn, err error) {
	if len(sealed) == 0 {
		return is, nil
	}
	plain, err := s.Open(sealed, use)
	if err != nil {
		return is, err
	}
	err = json.Unmarshal(plain, &is)
	return is, err
}

// SealMirror seals how a mirror signs in; nil if it does not.
func (s Safe) SealMirror(m *catalog.MirrorSettings) ([]byte, error) {
	if m == nil {
		return nil, nil
	}
	return s.SealSignIn(SignIn{m.User, m.Secret, m.Proxy}, Upstream)
}

// OpenMirror puts into m what SealMirror sealed, if there is anything.
func (s Safe) OpenMirror(sealed []byte, m *catalog.MirrorSettings) error {
	if len(sealed) == 0 || m == nil {
		return nil
	}
	is, err := s.OpenSignIn(sealed, Upstream)
	if err == nil {
		m.User, m.Secret, m.Proxy = is.User, is.Secret, is.Proxy
	}
	return err
}
