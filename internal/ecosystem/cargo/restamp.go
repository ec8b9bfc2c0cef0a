package cargo

import (
	"cmp"
	"context"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// Restamp implements ecosystem.Restamping: the name of the folder, and in Cargo.toml, what
// it was made of (Cargo.toml.orig) and Cargo.lock the version, and those of dependencies
// that are restamped too, with their digests in the lock. .cargo_vcs_info.json names a commit, which stays what it is.
func (k Cargo) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	return ecosystem.RestampFolder(ctx, f, k.FileName(f.Stamp.Name, f.Stamp.To),
		ecosystem.Statement{Document: ecosystem.InFolder("Cargo.toml", "Cargo.toml.orig"),
			Places: ecosystem.ParseTOMLPlaces, Whose: inManifest},
		ecosystem.Statement{Document: ecosystem.InFolder("Cargo.lock"), Places: ecosystem.ParseTOMLPlaces, Whose: inLock})
}

// inManifest: dependencies stand in tables whose names end so, by their name or with
// another one beside it.
func inManifest(p ecosystem.TextPlace) (ecosystem.Stated, bool) {
	n := len(p.Path)
	if p.Is("package", "version") {
		return ecosystem.Stated{Own: true, What: "version"}, true
	}
	name := p.Key()
	if n > 2 && name == "version" {
		n--
		name = cmp.Or(p.Beside("package"), p.Path[n-1])
	}
	if n < 2 || !strings.HasSuffix(p.Path[n-2], "dependencies") {
		return ecosystem.Stated{}, false
	}
	return ecosystem.Stated{Name: strings.ToLower(name)}, true
}

func inLock(p ecosystem.TextPlace) (ecosystem.Stated, bool) {
	name := strings.ToLower(p.Beside("name"))
	switch {
	case p.Is("package", "*", "version"):
		return ecosystem.Stated{Name: name, What: "version of " + name}, true
	case p.Is("package", "*", "checksum"):
		return ecosystem.Stated{Name: name, What: "digest of " + name,
			Digest: func(d catalog.Digests) string { return d.Hex("sha256") }}, true
	case p.Is("package", "*", "dependencies", "*"):
		name, _, _ := strings.Cut(p.Value, " ")
		return ecosystem.Stated{Name: strings.ToLower(name)}, true
	}
	return ecosystem.Stated{}, false
}
