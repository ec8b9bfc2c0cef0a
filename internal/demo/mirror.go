package demo

import (
	"crypto/sha1"
	"encoding/hex"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// MavenTree is where Debian keeps a Maven repository of its own.
const MavenTree = "/usr/share/maven-repo"

// MavenPublic stands in for a public Maven repository: the files below dir,
// symbolic links followed, with a SHA-1 for each.
func MavenPublic(dir string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := filepath.Join(dir, filepath.FromSlash(path.Clean("/"+r.URL.Path)))
		base, wantsSum := strings.CutSuffix(name, ".sha1")
		if stat, err := os.Stat(base); err != nil || stat.IsDir() {
			http.NotFound(w, r)
			return
		}
		if !wantsSum {
			http.ServeFile(w, r, base)
			return
		}
		f, err := os.Open(base)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		defer f.Close()
		sum := sha1.New()
		if _, err := io.Copy(sum, f); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		_, _ = io.WriteString(w, hex.EncodeToString(sum.Sum(nil))) // the client may be gone
	})
}
