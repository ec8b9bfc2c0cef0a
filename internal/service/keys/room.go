// Package keys is about the public keys of others, and our own keys that sign.
package keys

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/secret"
)

// Keys knows the keys; those that sign are sealed. It is safe for use by several at once.
type Keys struct {
	*act.Act
	safe      secret.Safe
	directory *directory.Directory
}

// New makes the room.
func New(a *act.Act, safe secret.Safe, directory *directory.Directory) *Keys {
	return &Keys{Act: a, safe: safe, directory: directory}
}
