package keys

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"crelvo/internal/core/access"
	"crelvo/internal/core/attest"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
)

var KeyName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// NewKey is a key to be added. One of the texts, or none for a new signing key.
type NewKey struct {
	Name string
	// Public is a public key of others, armored OpenPGP or PEM, or a Sigstore trusted root as JSON.
	Public string
	// Secret is an armored OpenPGP secret key to sign with, and Passphrase what
	// opens it.
	Secret, Passphrase string
	// Owner is whom a new signing key is of: Crelvo <crelvo@skerry.example>.
	Owner string
}

// View is a key without its secret.
type View struct {
	record.Key
	Signs       bool // Crelvo signs with it
	Fingerprint string
}

// Keys lists all keys by name.
func (s *Keys) Keys(ctx context.Context) ([]View, error) {
	trusted, err := s.DB.TrustedKeys(ctx)
	if err != nil {
		return nil, err
	}
	signing, err := s.DB.SigningKeys(ctx)
	if err != nil {
		return nil, err
	}
	all := []View{}
	for _, k := range trusted {
		view := View{Key: k}
		if ring, err := openpgp.ReadArmoredKeyRing(strings.NewReader(k.Text)); err == nil && len(ring) > 0 {
			view.Fingerprint = fingerprint(ring[0])
		}
		all = append(all, view)
	}
	for _, k := range signing {
		all = append(all, View{Key: record.Key{Name: k.Name, Form: "openpgp", Text: k.Public, ByName: k.ByName, At: k.At},
			Signs: true, Fingerprint: k.Fingerprint})
	}
	slices.SortFunc(all, func(a, b View) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

func fingerprint(e *openpgp.Entity) string {
	return strings.ToUpper(hex.EncodeToString(e.PrimaryKey.Fingerprint))
}

// AddKey adds a key that others sign with, or one that Crelvo signs with, which
// is made here or brought along.
func (s *Keys) AddKey(ctx context.Context, caller access.Caller, n NewKey) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	if !KeyName.MatchString(n.Name) {
		return act.Invalid("bad-name", "%.80q cannot be the name of a key", n.Name).
			WithHint("Use small letters, digits, points and dashes.")
	}
	event := s.Event(caller, record.EventKeyAdded)
	event.Subject = n.Name
	add := func(tx *record.Tx) (bool, error) {
		form, err := formOf(n.Public)
		if err != nil {
			return false, err
		}
		return tx.AddTrustedKey(ctx, record.Key{Name: n.Name, Form: form, Text: n.Public, ByName: caller.Name, At: s.Now()})
	}
	if n.Public == "" {
		key, err := s.newSigningKey(caller, n)
		if err != nil {
			return err
		}
		event.Detail = map[string]string{"signs": "yes", "fingerprint": key.Fingerprint}
		add = func(tx *record.Tx) (bool, error) { return tx.AddSigningKey(ctx, key) }
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		ok, err := add(tx)
		if err == nil && !ok {
			err = fault.New(fault.Conflict, "name-taken", "there is a key %s already", n.Name)
		}
		if err != nil {
			return err
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfKey})
	})
}

// formOf tells the form of a public key, and refuses what is none.
func formOf(text string) (string, error) {
	switch {
	case strings.Contains(text, "PGP PUBLIC KEY"):
		if ring, err := openpgp.ReadArmoredKeyRing(strings.NewReader(text)); err != nil || len(ring) == 0 {
			return "", act.Invalid("bad-key", "the OpenPGP public key cannot be read: %v", err)
		}
		return "openpgp", nil
	case strings.HasPrefix(strings.TrimSpace(text), "{"):
		if _, err := ReadTrustRoot("", text); err != nil {
			return "", act.Invalid("bad-key", "the Sigstore trusted root cannot be read: %v", err).
				WithHint("It is the file trusted_root.json of whoever certifies the builds.")
		}
		return rootForm, nil
	}
	if _, err := attest.ParseKey(text); err != nil {
		return "", act.Invalid("bad-key", "%v", err).WithHint("An OpenPGP key begins with -----BEGIN PGP PUBLIC " +
			"KEY BLOCK-----, a Sigstore trusted root with {.")
	}
	return "pem", nil
}

// newSigningKey makes a key, or reads the one that was brought.
func (s *Keys) newSigningKey(caller access.Caller, n NewKey) (record.SigningKey, error) {
	var entity *openpgp.Entity
	var err error
	if n.Secret == "" {
		name, address, _ := strings.Cut(strings.TrimSuffix(n.Owner, ">"), "<")
		if name = strings.TrimSpace(name); name == "" {
			name = "Crelvo " + n.Name
		}
		now := s.Now()
		entity, err = openpgp.NewEntity(name, "", strings.TrimSpace(address),
			&packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, Time: func() time.Time { return now }})
	} else {
		var ring openpgp.EntityList
		ring, err = openpgp.ReadArmoredKeyRing(strings.NewReader(n.Secret))
		switch {
		case err != nil:
		case len(ring) != 1 || ring[0].PrivateKey == nil:
			return record.SigningKey{}, act.Invalid("bad-key", "it is not one OpenPGP secret key").
				WithHint("gpg --armor --export-secret-keys KEY writes one.")
		default:
			entity = ring[0]
			err = entity.DecryptPrivateKeys([]byte(n.Passphrase))
		}
	}
	if err != nil {
		return record.SigningKey{}, act.Invalid("bad-key", "the secret key cannot be used: %v", err)
	}
	var public, plain bytes.Buffer
	armored, err := armor.Encode(&public, openpgp.PublicKeyType, nil)
	if err == nil {
		err = entity.Serialize(armored)
	}
	if err == nil {
		err = armored.Close()
	}
	if err == nil {
		err = entity.SerializePrivateWithoutSigning(&plain, nil)
	}
	if err != nil {
		return record.SigningKey{}, err
	}
	public.WriteByte('\n')
	sealed, err := s.safe.Seal(plain.Bytes(), secret.SigningKey)
	return record.SigningKey{Name: n.Name, Fingerprint: fingerprint(entity), Public: public.String(), Secret: sealed,
		ByName: caller.Name, At: s.Now()}, err
}

// RemoveKey removes a key. Tracks that name it fail until they name another.
func (s *Keys) RemoveKey(ctx context.Context, caller access.Caller, name string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		tracks, err := tx.Tracks(ctx)
		if err != nil {
			return err
		}
		for _, t := range tracks {
			for _, stage := range t.Stages {
				if stage.SignWith == name {
					return fault.New(fault.Conflict, "key-in-use", "the track %s signs with %s", t.Name, name).
						WithHint("Have it sign with another key first.")
				}
			}
		}
		done, err := tx.RemoveKey(ctx, name)
		if err == nil && !done {
			err = fault.New(fault.NotFound, "no-such-key", "there is no key %s", name)
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventKeyRemoved)
		event.Subject = name
		return tx.Append(ctx, event, record.Change{Kind: record.OfKey})
	})
}

// StatementKeys are the keys by which statements are signed.
func (s *Keys) StatementKeys(ctx context.Context) ([]attest.Key, error) {
	trusted, err := s.DB.TrustedKeys(ctx)
	var keys []attest.Key
	for _, k := range trusted {
		if k.Form != "pem" {
			continue
		}
		if public, err := attest.ParseKey(k.Text); err == nil {
			keys = append(keys, attest.Key{Name: k.Name, Public: public})
		}
	}
	return keys, err
}

// SignersOf names the keys that made a detached signature over content.
func SignersOf(keys []View, content io.ReadSeeker, signature []byte) ([]string, error) {
	var by []string
	for _, k := range keys {
		if k.Form != "openpgp" {
			continue
		}
		ok, err := attest.SignedBy(k.Text, content, signature, time.Now())
		if err != nil {
			return by, err
		}
		if ok {
			by = append(by, k.Name)
		}
	}
	return by, nil
}

// Signer signs with one key.
type Signer struct {
	entity *openpgp.Entity
	now    func() time.Time
}

// SignerNamed opens a signing key.
func (s *Keys) SignerNamed(ctx context.Context, name string) (*Signer, error) {
	keys, err := s.DB.SigningKeys(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(keys, func(k record.SigningKey) bool { return k.Name == name })
	if i < 0 {
		return nil, fault.New(fault.Conflict, "no-such-key", "there is no key %s to sign with", name).
			WithHint("Make it with crelvo key add %s --sign, or have the track sign with another.", name)
	}
	plain, err := s.safe.Open(keys[i].Secret, secret.SigningKey)
	if errors.Is(err, secret.ErrOtherKey) {
		return nil, fault.New(fault.Conflict, "key-lost", "the secret part of the key %s was lost with the server's key",
			name).WithHint("Add it again: crelvo key remove %s, then crelvo key add %s --sign.", name, name)
	}
	if err != nil {
		return nil, err
	}
	entity, err := openpgp.ReadEntity(packet.NewReader(bytes.NewReader(plain)))
	return &Signer{entity: entity, now: s.Now}, err
}

// Sign gives an armored detached signature (RFC 9580, 10.4).
func (s *Signer) Sign(content io.Reader) ([]byte, error) {
	var b bytes.Buffer
	if err := openpgp.ArmoredDetachSign(&b, s.entity, content, &packet.Config{Time: s.now}); err != nil {
		return nil, err
	}
	b.WriteByte('\n')
	return b.Bytes(), nil
}
