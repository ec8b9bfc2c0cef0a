// Package plain is about plain trees: which files of one are written and removed, and in which order, so that a
// reader never meets a document that names what is not there.
package plain

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/text"
)

// File is one of a tree: where it is, and a sum that is the same for the same content.
type File struct {
	Path string
	Sum  [32]byte
}

// Steps are what makes one state of a tree of another: first all that is written, in that order, then all that is
// removed.
type Steps struct {
	Write  []int    // indexes of what is wanted
	Remove []string // paths
}

// Between tells the steps from what a tree holds to what is wanted. Both are in the order in which they are
// written: each file after those that it names. What is wanted twice at one path is there as it was wanted first.
func Between(holds, wanted []File) (s Steps) {
	held := make(map[string][32]byte, len(holds))
	for _, f := range holds {
		held[f.Path] = f.Sum
	}
	there := make(map[string]bool, len(wanted))
	for i, f := range wanted {
		if there[f.Path] {
			continue
		}
		there[f.Path] = true
		if sum, ok := held[f.Path]; !ok || sum != f.Sum {
			s.Write = append(s.Write, i)
		}
	}
	for _, f := range slices.Backward(holds) {
		if !there[f.Path] {
			s.Remove = append(s.Remove, f.Path)
		}
	}
	return s
}

// longestPath is how many bytes a path may have.
const longestPath = 900

// Marker is the file by which a tree is known again.
const Marker = "crelvo-tree.json"

// Check refuses paths that do not stay below a tree, or that not every system can hold.
func Check(at string) error {
	if at == "" || len(at) > longestPath || path.Clean(at) != at || strings.HasPrefix(at, "/") || at == Marker {
		return fmt.Errorf("%.200q is no path of a tree", at)
	}
	for name := range strings.SplitSeq(at, "/") {
		if err := text.CheckFileName(name); err != nil {
			return err
		}
	}
	return nil
}
