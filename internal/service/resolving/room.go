// Package resolving is about who answers a question: a house, a mirror, or a chain by
// asking its members; and why.
package resolving

import (
	lru "github.com/hashicorp/golang-lru/v2"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/mirrors"
)

// Resolving finds files and packages in repositories of any kind. It is safe for use by several at once.
type Resolving struct {
	*act.Act
	counting  *counting.Counting
	directory *directory.Directory
	holdings  *holdings.Holdings
	mirrors   *mirrors.Mirrors

	files   *lru.Cache[catalog.FileQuestion, act.Aged[ecosystem.Found]]
	folders *lru.Cache[folderKey, act.Aged[ecosystem.Folder]]
	plugins *lru.Cache[catalog.PackageKey, act.Aged[map[int64][]ecosystem.Plugin]]
}

// New makes the room.
func New(
	a *act.Act,
	counting *counting.Counting,
	directory *directory.Directory,
	holdings *holdings.Holdings,
	mirrors *mirrors.Mirrors,
) *Resolving {
	return &Resolving{
		Act: a, counting: counting, directory: directory, holdings: holdings, mirrors: mirrors,
		files:   act.NewCache[catalog.FileQuestion, act.Aged[ecosystem.Found]](50_000),
		plugins: act.NewCache[catalog.PackageKey, act.Aged[map[int64][]ecosystem.Plugin]](10_000),
		folders: act.NewCache[folderKey, act.Aged[ecosystem.Folder]](200),
	}
}
