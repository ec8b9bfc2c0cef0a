package client

import (
	"fmt"
	"slices"
	"testing"
)

// TestTogether: files of one version stay together where a folder has many, and all of them stay.
func TestTogether(t *testing.T) {
	var paths []string
	for i := range 150 {
		for _, end := range []string{"-py3-none-any.whl", ".tar.gz", ".tar.gz.asc"} {
			paths = append(paths, fmt.Sprintf("/x/sounding%c%c-1.0%s", 'a'+i/26, 'a'+i%26, end))
		}
	}
	heaps := together(slices.Clone(paths))
	var all []string
	for i, heap := range heaps {
		if len(heap) > mostTogether || i > 0 && alike(heaps[i-1][len(heaps[i-1])-1][3:], heap[0][3:]) {
			t.Errorf("heap %d has %d, from %s on", i, len(heap), heap[0])
		}
		all = append(all, heap...)
	}
	slices.Sort(paths)
	if !slices.Equal(all, paths) || len(heaps) < 5 {
		t.Errorf("%d of %d are left, in %d heaps", len(all), len(paths), len(heaps))
	}
	// Of one version there may be more than fit.
	paths = nil
	for i := range 250 {
		paths = append(paths, fmt.Sprintf("/x/brine-1.0-part%03d.jar", i))
	}
	if heaps := together(paths); len(heaps) != 3 || len(heaps[0]) != mostTogether {
		t.Errorf("%d heaps", len(heaps))
	}
}

func TestMavenVersion(t *testing.T) {
	for _, c := range []struct {
		paths []string
		want  bool
	}{
		{[]string{"/m2/org/brine/1.0/brine-1.0.jar", "/m2/org/brine/1.0/brine-1.0.pom"}, true},
		{[]string{"/m2/org/brine/1.0/brine-1.0-sources.jar", "/m2/org/brine/1.0/brine-1.0.pom"}, true},
		{[]string{"/m2/org/brine/1.0/brine-1.0.jar"}, false},
		{[]string{"/m2/org/brine/1.0/brine-1.0.pom", "/m2/org/brine/1.0/other-2.0.jar"}, false},
		{[]string{"/heap/brine-1.0.jar", "/heap/brine-1.0.pom"}, false},
	} {
		if got := isMavenVersion(c.paths); got != c.want {
			t.Errorf("%v: %t", c.paths, got)
		}
	}
}
