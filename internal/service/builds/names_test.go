package builds

import (
	"strings"
	"testing"

	"crelvo/internal/core/fault"
)

// TestSplitBuild: a name is that of a project and perhaps of a workflow in it, of a hundred
// letters at most.
func TestSplitBuild(t *testing.T) {
	for text, want := range map[string][2]string{
		"berth-planner#118":             {"berth-planner", "118"},
		"skerry/berth / nightly#7.1":    {"skerry/berth / nightly", "7.1"},
		strings.Repeat("a", 100) + "#1": {strings.Repeat("a", 100), "1"},
		strings.Repeat("a", 101) + "#1": {},
		"a/#1":                          {},
		" a#1":                          {},
		"a":                             {},
		"#1":                            {},
		"a#":                            {},
		"a#" + strings.Repeat("1", 41):  {},
		"a\n#1":                         {},
		"berth\x00planner#1":            {},
		"two#hashes#3":                  {},
	} {
		name, number, err := SplitBuild(text)
		if got := [2]string{name, number}; got != want || (err != nil) != (want == [2]string{}) {
			t.Errorf("%q: %q, %v; want %q", text, got, err, want)
		}
		if err != nil && fault.Of(err).Code != "bad-build" {
			t.Errorf("%q: %v", text, err)
		}
	}
}
