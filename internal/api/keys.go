package api

import (
	"time"
)

// Key is a public key: of others, or of one that Crelvo signs with.
type Key struct {
	Name        string    `json:"name"`
	Form        string    `json:"form" enum:"openpgp,pem,trusted-root"`
	Signs       bool      `json:"signs" doc:"Crelvo signs with it"`
	Fingerprint string    `json:"fingerprint,omitempty"`
	Public      string    `json:"public"`
	Address     string    `json:"address" doc:"where anybody gets the public key"`
	By          string    `json:"by"`
	At          time.Time `json:"at"`
}

// NewKey is a key to be added; without texts, a new one to sign with is made.
type NewKey struct {
	Name       string `json:"name" minLength:"1" maxLength:"63"`
	Public     string `json:"public,omitempty" maxLength:"100000" doc:"a public key of others: armored OpenPGP, PEM for statements, or a Sigstore trusted root as JSON"`
	Secret     string `json:"secret,omitempty" maxLength:"100000" doc:"an armored OpenPGP secret key to sign with"`
	Passphrase string `json:"passphrase,omitempty" maxLength:"1000" doc:"of that"`
	Owner      string `json:"owner,omitempty" maxLength:"200" doc:"of a new key: Name <address>"`
}
