package act

import (
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

// hearing notes the generation at which it was told of a change.
type hearing struct {
	a   *Act
	key catalog.PackageKey
	at  uint64
}

func (h *hearing) Hear(record.Change) error {
	h.at = h.a.Age(h.key)
	return nil
}

// TestForgottenFirst: whoever puts something together after a generation was raised must find
// no part that still remembers what was before.
func TestForgottenFirst(t *testing.T) {
	key := catalog.PackageKey{Ecosystem: "npm", Name: "kelp-colors"}
	for _, c := range []record.Change{{Kind: record.OfAdvisory, Ecosystem: "npm", Name: "kelp-colors"},
		{Kind: record.OfAdvisory}, {Kind: record.OfWaiver}} {
		a := new(Act)
		part := &hearing{a: a, key: key}
		a.Add(part)
		before := a.Age(key)
		a.heard(c)
		if part.at != before || a.Age(key) <= before {
			t.Errorf("%+v: the part is told at %d, before it was %d, then %d", c, part.at, before, a.Age(key))
		}
	}
}
