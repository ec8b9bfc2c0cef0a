// Package builds is about what CI made: builds with their files, what they used, and
// the documents about them.
package builds

import (
	"sync/atomic"

	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/keys"
)

// Builds records builds and what belongs to them. It is safe for use by several at once.
type Builds struct {
	*act.Act
	counting  *counting.Counting
	directory *directory.Directory
	keys      *keys.Keys

	buildGeneration atomic.Uint64
	openBuilds      atomic.Pointer[act.Aged[[]record.OpenBuild]]
}

// New makes the room.
func New(a *act.Act, counting *counting.Counting, directory *directory.Directory, keys *keys.Keys) *Builds {
	return &Builds{Act: a, counting: counting, directory: directory, keys: keys}
}
