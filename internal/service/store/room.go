// Package store is about bytes on their way to a record, and out of it again.
package store

import (
	"crelvo/internal/service/act"
	bytestore "crelvo/internal/store"
)

// Store takes in bytes, and gives out those that are recorded. It is safe for use by several at once.
type Store struct {
	*act.Act
	bytes bytestore.Store

	small   *act.Weighted[[32]byte, []byte] // contents of small files
	keeping keeping
	unasked unasked
}

// New makes the room.
func New(a *act.Act, bytes bytestore.Store) *Store {
	return &Store{
		Act: a, bytes: bytes,
		small: act.NewWeighted[[32]byte](a.Remembered, smallCount, func(content []byte) int64 {
			return 200 + int64(len(content))
		}),
	}
}
