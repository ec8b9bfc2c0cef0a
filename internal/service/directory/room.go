// Package directory is about which repositories there are, what a caller sees of them
// and what they may do there. Every question about a right is asked here.
package directory

import (
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
)

// Directory knows the repositories, and who may do what with them. It is safe for use by several at once.
type Directory struct {
	*act.Act
	safe secret.Safe

	repositories atomic.Pointer[State]
	loading      sync.Mutex
	loaded       time.Time            // when what is known was read; guarded by loading
	tellLoaded   []func(*State) error // before it counts
	sights       *lru.Cache[catalog.Sight, seen]
	admins       atomic.Pointer[act.Aged[[]access.Grant]]
}

// New makes the room.
func New(a *act.Act, safe secret.Safe) *Directory {
	return &Directory{
		Act: a, safe: safe,
		sights: act.NewCache[catalog.Sight, seen](10_000),
	}
}
