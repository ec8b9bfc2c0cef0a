// Package cargo is Crelvo's Cargo: the sparse index and the web API of a registry, as
// cargo speaks them (https://doc.rust-lang.org/cargo/reference/registry-index.html and
// registry-web-api.html). The index is made from records: what counts is what the
// Cargo.toml in the archive says, and not what is sent beside it.
package cargo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
)

// Name is the purl type.
const Name = "cargo"

// Cargo implements ecosystem.Ecosystem.
type Cargo struct{ onefile.Kind }

// New makes the ecosystem.
func New() Cargo {
	return Cargo{onefile.Kind{Type: Name, Archive: "a .crate file", Extension: "crate",
		MakeIt: "Make it with cargo package", Read: readCrate,
		IsName: func(namespace, name string) bool { return namespace == "" && nameForm.MatchString(name) }}}
}

func init() {
	purl.Register(Name, purl.Rules{Snapshot: purl.SnapshotSemver, Compare: purl.CompareSemver, Name: strings.ToLower,
		Is:     purl.IsSemver,
		Sample: "1.5.0", Development: "-dev.1", Fits: fits})
}

var _ interface {
	ecosystem.Mirrored
	ecosystem.Rooted
	ecosystem.Restamping
	ecosystem.Sending
	ecosystem.Keyed
} = Cargo{}

// Title implements ecosystem.Ecosystem.
func (Cargo) Title() string { return "Cargo" }

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

// The largest Cargo.toml and README that are read, in bytes.
const maxManifest, maxReadme = 1 << 20, 512 << 10

// readCrate reads an archive: its only folder is NAME-VERSION, and has the Cargo.toml
// that cargo has written anew for it.
func readCrate(ctx context.Context, file ecosystem.SizedReaderAt) (purl.PURL, catalog.Details, error) {
	var raw []byte
	var readme *catalog.Readme
	root := ""
	err := ecosystem.WalkTarGz(ctx, file, func(name string, size int64, r io.Reader) error {
		folder, base := path.Split(path.Clean(name))
		if folder = strings.TrimSuffix(folder, "/"); folder == "" || strings.Contains(folder, "/") {
			return nil
		}
		if root == "" {
			root = folder
		}
		var err error
		switch lower := strings.ToLower(base); {
		case folder != root:
			return fmt.Errorf("it has two folders, %s and %s", root, folder)
		case base == "Cargo.toml" && raw == nil:
			raw, err = ecosystem.ReadAtMost(r, maxManifest)
		case readme == nil && (lower == "readme" || strings.HasPrefix(lower, "readme.")):
			var text []byte
			text, err = io.ReadAll(io.LimitReader(r, maxReadme))
			readme = &catalog.Readme{Text: string(text), Format: "text/plain"}
			if strings.HasSuffix(lower, ".md") {
				readme.Format = "text/markdown"
			}
		}
		return err
	})
	if raw != nil && errors.Is(err, ecosystem.ErrUnseen) {
		err = nil // the rest is read when it arrives
	}
	if err == nil && raw == nil {
		err = errors.New("it has no Cargo.toml in its folder")
	}
	if err != nil {
		return purl.PURL{}, catalog.Details{}, err
	}
	m, err := parseManifest(raw)
	if err != nil {
		return purl.PURL{}, catalog.Details{}, err
	}
	if want := m.Package.Name + "-" + m.Package.Version; root != want {
		return purl.PURL{}, catalog.Details{}, fmt.Errorf("its folder is %q, and must be %q", root, want)
	}
	details, err := m.details()
	details.Readme = readme
	return purl.PURL{Ecosystem: Name, Name: strings.ToLower(m.Package.Name), Version: m.Package.Version}, details, err
}

// variants are the spellings of a name that registries take for the same.
func variants(name string) []string {
	return slices.DeleteFunc([]string{strings.ReplaceAll(name, "_", "-"), strings.ReplaceAll(name, "-", "_")},
		func(v string) bool { return v == name })
}
