// Package resolving is about who answers a question: a house, a mirror, or a chain by
// asking its members; and why.
package resolving

import (
	"golang.org/x/sync/singleflight"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/safety"
)

// Resolving finds files and packages in repositories of any kind. It is safe for use by several at once.
type Resolving struct {
	*act.Act
	counting  *counting.Counting
	directory *directory.Directory
	holdings  *holdings.Holdings
	mirrors   *mirrors.Mirrors
	safety    *safety.Safety

	admittances *act.Weighted[catalog.PackageKey, act.Aged[admittedPackage]]

	files   *act.Weighted[catalog.FileQuestion, act.Aged[ecosystem.Found]]
	folders *act.Weighted[folderKey, act.Aged[ecosystem.Folder]]
	plugins *act.Weighted[catalog.PackageKey, act.Aged[map[int64][]ecosystem.Plugin]]
	wholes  *act.Weighted[wholeKey, act.Aged[ecosystem.Whole]]
	making  singleflight.Group // of wholes
	shelves ecosystem.Shelves  // what folders ask
}

// FoldersAsk says what ecosystems ask for what stands in folders; until then, this room.
func (s *Resolving) FoldersAsk(shelves ecosystem.Shelves) { s.shelves = shelves }

// New makes the room.
func New(
	a *act.Act,
	counting *counting.Counting,
	directory *directory.Directory,
	holdings *holdings.Holdings,
	mirrors *mirrors.Mirrors,
	safety *safety.Safety,
) *Resolving {
	s := &Resolving{
		Act: a, counting: counting, directory: directory, holdings: holdings, mirrors: mirrors, safety: safety,
		admittances: act.NewWeighted[catalog.PackageKey](a.Remembered, 10_000, weightOfAdmitted),
		files: act.NewWeighted[catalog.FileQuestion](a.Remembered, 50_000, func(f act.Aged[ecosystem.Found]) int64 {
			return 1000 + int64(len(f.Value.Name)) // the question with it
		}),
		wholes: act.NewWeighted[wholeKey](a.Remembered, 200, func(w act.Aged[ecosystem.Whole]) int64 {
			return 100*int64(len(w.Value.Parts())) + w.Value.Weight()
		}),
		plugins: act.NewWeighted[catalog.PackageKey](a.Remembered, 10_000, weightOfPlugins),
		folders: act.NewWeighted[folderKey](a.Remembered, 200, func(f act.Aged[ecosystem.Folder]) int64 {
			weight := int64(300)
			for i := range f.Value.Entries {
				weight += 300 + int64(len(f.Value.Entries[i].Name)) // what its PURL says it shares with its package
			}
			return weight
		}),
	}
	s.shelves = s
	return s
}

// weightOfAdmitted is without what its versions share with the package that it was made of.
func weightOfAdmitted(known act.Aged[admittedPackage]) int64 {
	if known.Value.value == nil {
		return 300
	}
	return 800 + 420*int64(len(known.Value.value.Versions))
}

func weightOfPlugins(known act.Aged[map[int64][]ecosystem.Plugin]) int64 {
	weight := int64(500)
	for _, some := range known.Value {
		weight += 100 + 150*int64(len(some))
	}
	return weight
}
