// Package holdings is about what one repository itself keeps of a package: remembered,
// and rendered into documents.
package holdings

import (
	"golang.org/x/sync/singleflight"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Holdings remembers packages and the documents that are made of them. It is safe for use by several at once.
type Holdings struct {
	*act.Act

	packages  *act.Weighted[catalog.PackageKey, act.Aged[record.Known]] // as one repository keeps them
	composed  *act.Weighted[catalog.PackageKey, act.Aged[record.Known]] // as a mirror or chain puts them together
	rendered  *act.Weighted[renderedKey, rendered]
	rendering singleflight.Group
	reading   singleflight.Group
}

// New makes the room.
func New(a *act.Act) *Holdings {
	return &Holdings{
		Act:      a,
		packages: act.NewWeighted[catalog.PackageKey](a.Remembered, 20_000, weightOf),
		composed: act.NewWeighted[catalog.PackageKey](a.Remembered, 20_000, weightOf),
		rendered: act.NewWeighted[renderedKey](a.Remembered, 20_000, func(r rendered) int64 {
			return r.document.Weight()
		}),
	}
}
