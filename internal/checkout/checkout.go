// Package checkout finds files of the sources, for tests and for what measures: they run somewhere within these, and
// what is compiled does not know where it was compiled.
package checkout

import (
	"os"
	"path/filepath"
)

// Path is where something is in the sources, by its path there. Outside of these it is taken as it is.
func Path(path string) string {
	at, err := os.Getwd()
	for err == nil {
		if _, missing := os.Stat(filepath.Join(at, "console", "console.go")); missing == nil {
			return filepath.Join(at, path)
		}
		above := filepath.Dir(at)
		if above == at {
			break
		}
		at = above
	}
	return path
}
