package search

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// TestChoose: page after page has every version once, in the order of the ecosystem, in
// however many repositories and in whichever order they stand there.
func TestChoose(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	var all []string
	distinct := map[string]bool{}
	holdings := make([]Holding, 3)
	for i := range holdings {
		holdings[i].Package = new(catalog.Package)
	}
	for range 400 {
		v := catalog.Version{Version: fmt.Sprintf("%d.%d.0", random.IntN(12), random.IntN(12))}
		if random.IntN(4) == 0 {
			v.Version += "-SNAPSHOT"
			v.Upload = fmt.Sprint(v.Version, random.IntN(9))
		}
		p := holdings[random.IntN(3)].Package
		if p.Versions = append(p.Versions, v); !distinct[v.Version] && v.Version[0] != '3' {
			distinct[v.Version] = true
			all = append(all, v.Version)
		}
	}
	order := func(a, b string) int {
		if c := purl.Compare("maven", b, a); c != 0 {
			return c
		}
		return strings.Compare(b, a)
	}
	slices.SortFunc(all, order)
	fits := func(v *catalog.Version) bool { return v.Version[0] != '3' }
	for _, limit := range []int{1, 7, 50, len(all) - 1, len(all), 1000} {
		var names []string
		for after, pages := "", 0; pages == 0 || after != ""; pages++ {
			on, paged := VersionPage{After: after, Limit: limit}.choose("maven", holdings, fits)
			if paged.Total != len(all) || len(on) > limit || pages > len(all) {
				t.Fatalf("by %d, page %d: %d of %d", limit, pages, len(on), paged.Total)
			}
			var page []string
			for name := range on {
				page = append(page, name)
			}
			slices.SortFunc(page, order)
			names, after = append(names, page...), paged.Next
		}
		if !slices.Equal(names, all) {
			t.Errorf("by %d: %q, want %q", limit, names, all)
		}
	}
	if on, paged := (VersionPage{}).choose("maven", holdings, fits); on != nil || paged.Total != len(all) || paged.Next != "" {
		t.Errorf("all: %v, %+v", on, paged)
	}
}
