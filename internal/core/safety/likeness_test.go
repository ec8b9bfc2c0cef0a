package safety

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"crelvo/internal/core/text"
)

func TestLikeness(t *testing.T) {
	l := NewLikeness([]string{"kelp-colors", "@skerry/deck-ui", "tidecast", "org.openshore:brine-http", "moon"})
	for name, want := range map[string]string{
		"kelp-colors": "", "kelp-colours": "kelp-colors", "klep-colors": "kelp-colors", "kelp-color": "kelp-colors",
		"kelp_colors": "kelp-colors", "kelpcolors": "kelp-colors", "Kelp-Colors": "kelp-colors", "kelp-c0lors": "kelp-colors",
		"kelp-coIors": "kelp-colors", "kеlp-colors": "kelp-colors", "kelp-colors-more": "", "help-dolors": "",
		"skerry-deck-ui": "@skerry/deck-ui", "@skery/deck-ui": "@skerry/deck-ui", "@skerry/deck-uj": "@skerry/deck-ui",
		"@other/deck-ui": "", "tlidecast": "tidecast", "org.openshore:brine-htpp": "org.openshore:brine-http",
		"moor": "", "m00n": "moon", "": "",
	} {
		if got := l.Of(name); got != want {
			t.Errorf("%q looks like %q, not %q", name, got, want)
		}
	}
}

// TestLikenessFindsAll: whatever is one letter away is found, and nothing that is further.
func TestLikenessFindsAll(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 5))
	word := func() string {
		b := make([]byte, 5+random.IntN(3))
		for i := range b {
			b[i] = "abcde"[random.IntN(5)]
		}
		return string(b)
	}
	var names []string
	for range 200 {
		names = append(names, word())
	}
	l := NewLikeness(names)
	near := 0
	for range 2000 {
		name := word()
		is, least := false, 9
		for _, other := range names {
			d := text.Distance(name, other)
			is, least = is || d == 0, min(least, d)
		}
		if is {
			least = 0
		}
		if got := l.Of(name); (got != "") != (least == 1) {
			t.Fatalf("%q looks like %q; the nearest is %d away", name, got, least)
		} else if got != "" {
			near++
		}
	}
	if near < 100 {
		t.Error(fmt.Sprint("only ", near, " were near"))
	}
}
