package holdings

import (
	"encoding/json"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// TestWeight: what versions share weighs once, and what each has weighs for each.
func TestWeight(t *testing.T) {
	weigh := func(details func(i int) catalog.Details) int64 {
		p := &catalog.Package{Versions: make([]catalog.Version, 100)}
		for i := range p.Versions {
			p.Versions[i].Details = details(i)
		}
		return weightOf(act.Aged[record.Known]{Value: record.Known{Package: p}})
	}
	made := func() catalog.Details {
		return catalog.Details{Description: strings.Repeat("tide ", 40),
			Dependencies: make([]catalog.Dependency, 10),
			Native:       map[string]json.RawMessage{"rest": json.RawMessage(strings.Repeat(" ", 320))}}
	}
	shared := made()
	none := weigh(func(int) catalog.Details { return catalog.Details{} })
	once := weigh(func(int) catalog.Details { return shared })
	each := weigh(func(int) catalog.Details { return made() })
	const own, of = 400, 200 + 10*56 + 320 // the map of each version; the texts and lists
	if none != 500+100*420 || once-none != 100*own+of || each-none != 100*(own+of) {
		t.Errorf("nothing %d, shared %d more, each its own %d more", none, once-none, each-none)
	}
}
