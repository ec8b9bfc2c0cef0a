// Package store is about bytes on their way to a record, and out of it again.
package store

import (
	lru "github.com/hashicorp/golang-lru/v2"

	"crelvo/internal/service/act"
	bytestore "crelvo/internal/store"
)

// Store takes in bytes, and gives out those that are recorded. It is safe for use by several at once.
type Store struct {
	*act.Act
	bytes bytestore.Store

	small   *lru.Cache[[32]byte, []byte] // contents of small files
	keeping keeping
	unasked unasked
}

// New makes the room.
func New(a *act.Act, bytes bytestore.Store) *Store {
	return &Store{
		Act: a, bytes: bytes,
		small: act.NewCache[[32]byte, []byte](smallCount),
	}
}
