package demo

import (
	"io"
	"net/http"
	"strings"
)

// Landing is where the stand-in for the public sources takes what others publish:
// below this path, from who signs in as LandingUser. Web is where they may put and
// remove files as they like, as on plain web space.
const (
	Landing       = "public/"
	Web           = "web/"
	LandingUser   = "skerry-line"
	LandingSecret = "gangway-down"
)

// maxLanded is how large a file may be that the stand-in takes, in bytes.
const maxLanded = 64 << 20

// land takes an upload, as a plain file server does: but for web space, what is there is
// replaced only if it is a list of versions.
func (u *Upstream) land(w http.ResponseWriter, r *http.Request) {
	user, secret, ok := r.BasicAuth()
	if !ok || user != LandingUser || secret != LandingSecret {
		w.Header().Set("WWW-Authenticate", `Basic realm="the public shore"`)
		http.Error(w, "sign in first", http.StatusUnauthorized)
		return
	}
	name := strings.TrimPrefix(r.URL.Path, "/")
	if r.Method == http.MethodDelete {
		u.mu.Lock()
		defer u.mu.Unlock()
		delete(u.landed, name)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	content, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxLanded))
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if before, there := u.landed[name]; there && string(before) != string(content) &&
		!strings.Contains(name, "maven-metadata.xml") && !strings.HasPrefix(name, Web) {
		http.Error(w, name+" is there already, with other bytes", http.StatusConflict)
		return
	}
	if u.landed == nil {
		u.landed = Files{}
	}
	u.landed[name] = content
	w.WriteHeader(http.StatusCreated)
}

// Landed is what was published to the stand-in, by path.
func (u *Upstream) Landed() Files {
	u.mu.Lock()
	defer u.mu.Unlock()
	all := Files{}
	for name, content := range u.landed {
		all[name] = content
	}
	return all
}
