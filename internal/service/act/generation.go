package act

import (
	"hash/maphash"
	"sync/atomic"
	"time"

	"crelvo/internal/core/catalog"
)

// Aged is a cached value with the generation it was read in.
type Aged[T any] struct {
	Value      T
	Generation uint64
	Until      time.Time // where time ends it too
}

// generation counts the changes of all packages of a name, in whichever
// repository: chains put several together.
func (s *Act) generation(key catalog.PackageKey) *atomic.Uint64 {
	key.RepositoryID, key.AsOf, key.Sight = 0, 0, ""
	return &s.generations[maphash.Comparable(s.seed, key)%uint64(len(s.generations))]
}

// Age is the generation of what is known of a package now. It grows with every
// change of the package and of any repository's settings.
func (s *Act) Age(key catalog.PackageKey) uint64 {
	return s.generation(key).Load() + s.settled.Load()
}

// AnyAge is the generation of everything: of all packages, settings and claims.
func (s *Act) AnyAge() uint64 { return s.anything.Load() + s.settled.Load() }

// SettingsChanged notes that the settings of some repository, or a claim, are not as they were.
func (s *Act) SettingsChanged() { s.settled.Add(1) }

// AccessAge is the generation of who may do what.
func (s *Act) AccessAge() uint64 { return s.accessGeneration.Load() }

// AccessChanged notes that somebody may do more, or less, than before.
func (s *Act) AccessChanged() { s.accessGeneration.Add(1) }

// Changed notes that a package is not as it was, and so its namespace and its ecosystem.
func (s *Act) Changed(key catalog.PackageKey) {
	s.anything.Add(1)
	s.generation(key).Add(1)
	key.Name = ""
	s.generation(key).Add(1)
	if key.Namespace != "" {
		key.Namespace = ""
		s.generation(key).Add(1)
	}
}
