// Package rights is about people, robots, teams and tokens: who somebody is, what they
// were granted, and the record of what was done.
package rights

import (
	"crypto/rand"
	"sync/atomic"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"crelvo/internal/core/access"
	"crelvo/internal/service/act"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/secret"
)

// Rights finds out who calls, and changes who may do what. It is safe for use by several at once.
type Rights struct {
	*act.Act
	counting  *counting.Counting
	directory *directory.Directory
	safe      secret.Safe

	nobodys  atomic.Pointer[act.Aged[[]access.Grant]] // what who did not sign in may do
	brake    *brake
	refusals refusals
	callers  *lru.Cache[[32]byte, act.Aged[knownCaller]]
	hashing  chan struct{} // how many passwords are hashed at once
	// nobodysHash belongs to no password: whoever names a user who is not there waits as
	// long as others.
	nobodysHash string
	trying      singleflight.Group
}

// New makes the room.
func New(a *act.Act, safe secret.Safe, counting *counting.Counting, directory *directory.Directory) *Rights {
	return &Rights{
		Act: a, counting: counting, directory: directory, safe: safe,
		brake:   onRecord(a.DB),
		callers: act.NewCache[[32]byte, act.Aged[knownCaller]](10_000),
		hashing: make(chan struct{}, 2), nobodysHash: hashPassword(rand.Text()),
	}
}
