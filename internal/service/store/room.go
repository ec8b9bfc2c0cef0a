// Package store is about bytes on their way to a record, and out of it again.
package store

import (
	lru "github.com/hashicorp/golang-lru/v2"

	"crelvo/internal/blob"
	"crelvo/internal/service/act"
)

// Store takes in bytes, and gives out those that are recorded. It is safe for use by several at once.
type Store struct {
	*act.Act
	blobs blob.Store

	small   *lru.Cache[[32]byte, []byte] // contents of small files
	keeping keeping
	unasked unasked
}

// New makes the room.
func New(a *act.Act, blobs blob.Store) *Store {
	return &Store{
		Act: a, blobs: blobs,
		small: act.NewCache[[32]byte, []byte](smallCount),
	}
}
