// Package cargo is Crelvo's Cargo: the sparse index and the web API of a registry, as
// cargo speaks them (https://doc.rust-lang.org/cargo/reference/registry-index.html and
// registry-web-api.html). The index is made from records: what counts is what the
// Cargo.toml in the archive says, and not what is sent beside it.
package cargo

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"

	"github.com/pelletier/go-toml/v2"
)

// Name is the purl type.
const Name = "cargo"

// Cargo implements ecosystem.Ecosystem.
type Cargo struct{ onefile.Kind }

// New makes the ecosystem.
func New() Cargo {
	return Cargo{onefile.Kind{Type: Name, Called: "Cargo", Archive: "a .crate file", Extension: "crate",
		MakeIt: "Make it with cargo package", Read: readCrate,
		IsName: func(namespace, name string) bool { return namespace == "" && nameForm.MatchString(name) }}}
}

func init() {
	purl.Register(Name, purl.Rules{OSV: "crates.io", Snapshot: purl.SnapshotSemver, Compare: purl.CompareSemver,
		Name: strings.ToLower,
		Is:   purl.IsSemver, Sample: "1.5.0", Development: "-dev.1", Fits: fits})
}

var _ interface {
	ecosystem.Mirrored
	ecosystem.Rooted
	ecosystem.Restamping
	ecosystem.Sending
	ecosystem.Keyed
} = Cargo{}

// nameForm is a crate's name as registries take them; cargo itself takes more.
var nameForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_-]{0,63}$`)

// fits reads a requirement (https://doc.rust-lang.org/cargo/reference/specifying-dependencies.html):
// a bare version is a caret requirement, and commas join several.
func fits(wanted, version string) (bool, bool) {
	terms := strings.Split(wanted, ",")
	for i, term := range terms {
		if term = strings.TrimSpace(term); term != "" && term[0] >= '0' && term[0] <= '9' && !strings.Contains(term, "*") {
			term = "^" + term
		}
		terms[i] = term
	}
	return purl.FitsSemver(strings.Join(terms, " "), version)
}

// maxManifest is the longest Cargo.toml that is read, in bytes.
const maxManifest = 1 << 20

// readCrate reads an archive: its only folder is NAME-VERSION, and has the Cargo.toml
// that cargo has written anew for it.
func readCrate(ctx context.Context, file ecosystem.SizedReaderAt) (purl.PURL, catalog.Details, error) {
	t, err := ecosystem.ReadTarball(ctx, file, "Cargo.toml", maxManifest)
	if t.Other != "" {
		err = fmt.Errorf("it has two folders, %s and %s", t.Folder, t.Other)
	}
	if err != nil {
		return purl.PURL{}, catalog.Details{}, err
	}
	var m manifest
	if err := toml.Unmarshal(t.Manifest, &m); err != nil {
		return purl.PURL{}, catalog.Details{}, fmt.Errorf("its Cargo.toml cannot be read: %w", err)
	}
	if want := m.Package.Name + "-" + m.Package.Version; t.Folder != want {
		return purl.PURL{}, catalog.Details{}, fmt.Errorf("its folder is %q, and must be %q", t.Folder, want)
	}
	details, err := m.details()
	details.Readme, details.Licences = t.Readme, t.Licences.Or(details.Licences)
	return purl.PURL{Ecosystem: Name, Name: strings.ToLower(m.Package.Name), Version: m.Package.Version}, details, err
}
