package cargo

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// public is how dependencies on the public registry name it; nativeEntry keeps an entry.
const public, nativeEntry = "https://github.com/rust-lang/crates.io-index", "entry"

// manifest is the Cargo.toml of an archive, as far as it matters here
// (https://doc.rust-lang.org/cargo/reference/manifest.html).
type manifest struct {
	Package struct {
		Name, Version, Description, Homepage, Repository, License, Links string
		LicenseFile                                                      string `toml:"license-file"`
		RustVersion                                                      string `toml:"rust-version"`
		Authors, Keywords, Categories                                    []string
	}
	tables
	Target   map[string]tables
	Features map[string][]string
}

// tables are those of dependencies; each is a version or a table.
type tables struct {
	Dependencies map[string]any
	Dev          map[string]any `toml:"dev-dependencies"`
	Build        map[string]any `toml:"build-dependencies"`
}

// entry is a line of the index. Cksum and yanked are of the record, and of no archive.
type entry struct {
	Name        string              `json:"name"`
	Vers        string              `json:"vers"`
	Deps        []dependency        `json:"deps"`
	Cksum       string              `json:"cksum"`
	Features    map[string][]string `json:"features"`
	Yanked      bool                `json:"yanked"`
	Links       string              `json:"links,omitempty"`
	V           int                 `json:"v,omitempty"`
	Features2   map[string][]string `json:"features2,omitempty"`
	RustVersion string              `json:"rust_version,omitempty"`
	Pubtime     string              `json:"pubtime,omitempty"`
}

// dependency is one of an index entry. Package is the true name where Name is another;
// Registry is where it is, nil in the same one.
type dependency struct {
	Name            string   `json:"name"`
	Req             string   `json:"req"`
	Features        []string `json:"features"`
	Optional        bool     `json:"optional"`
	DefaultFeatures bool     `json:"default_features"`
	Target          *string  `json:"target"`
	Kind            string   `json:"kind"`
	Registry        string   `json:"registry,omitempty"`
	Package         string   `json:"package,omitempty"`
}

// entry makes the line of the index for the manifest.
func (m manifest) entry() (e entry, err error) {
	e = entry{Name: m.Package.Name, Vers: m.Package.Version, Deps: []dependency{}, Features: map[string][]string{},
		RustVersion: m.Package.RustVersion, Links: m.Package.Links}
	add := func(target *string, kind string, of map[string]any) {
		for _, name := range slices.Sorted(maps.Keys(of)) {
			n, wrong := needed(name, of[name])
			e.Deps, err = append(e.Deps, n.dependency(name, kind, target)), cmp.Or(err, wrong)
		}
	}
	of := func(target *string, t tables) {
		add(target, "normal", t.Dependencies)
		add(target, "dev", t.Dev)
		add(target, "build", t.Build)
	}
	of(nil, m.tables)
	for _, target := range slices.Sorted(maps.Keys(m.Target)) {
		of(&target, m.Target[target])
	}
	for name, of := range m.Features {
		if newer := slices.ContainsFunc(of, func(f string) bool {
			return strings.HasPrefix(f, "dep:") || strings.Contains(f, "?/")
		}); !newer {
			e.Features[name] = of
			continue
		}
		if e.Features2 == nil {
			e.V, e.Features2 = 2, map[string][]string{}
		}
		e.Features2[name] = of
	}
	return e, err
}

// needs is a dependency as a manifest has it: a version, or a table.
type needs struct {
	Version, Package string
	RegistryIndex    string `toml:"registry-index"`
	DefaultFeatures  *bool  `toml:"default-features"`
	Optional         bool
	Features         []string
}

// needed reads a dependency.
func needed(name string, value any) (n needs, err error) {
	switch v := value.(type) {
	case string:
		return needs{Version: v}, nil
	case map[string]any:
		raw, err := toml.Marshal(v)
		if err == nil {
			err = toml.Unmarshal(raw, &n)
		}
		return n, err
	}
	return n, fmt.Errorf("the dependency %s is neither a version nor a table", name)
}

func (n needs) dependency(name, kind string, target *string) dependency {
	return dependency{Name: name, Req: cmp.Or(n.Version, "*"), Kind: kind, Target: target, Package: n.Package,
		Registry: cmp.Or(n.RegistryIndex, public), Optional: n.Optional, Features: append([]string{}, n.Features...),
		DefaultFeatures: n.DefaultFeatures == nil || *n.DefaultFeatures}
}

// details are what is told of a version; the entry of the index is kept in them.
func (m manifest) details() (d catalog.Details, err error) {
	e, err := m.entry()
	if err == nil {
		d, err = e.details()
	}
	if err != nil {
		return d, err
	}
	d.Description, d.Homepage, d.Source = m.Package.Description, ecosystem.WebOnly(m.Package.Homepage),
		ecosystem.WebOnly(m.Package.Repository)
	d.Authors = m.Package.Authors
	if licence := cmp.Or(m.Package.License, m.Package.LicenseFile); licence != "" {
		// The older form of either is a slash.
		d.Licences = []catalog.Licence{{Name: strings.ReplaceAll(licence, "/", " OR ")}}
	}
	if words := append(slices.Clone(m.Package.Keywords), m.Package.Categories...); len(words) > 0 {
		d.Native["keywords"], err = json.Marshal(words)
	}
	return d, err
}

func (e entry) details() (d catalog.Details, err error) {
	e.Cksum, e.Yanked, e.Pubtime = "", false, ""
	raw, err := json.Marshal(e)
	d = catalog.Details{Title: e.Name, Native: map[string]json.RawMessage{nativeEntry: raw}}
	for _, n := range e.Deps {
		of := purl.PURL{Ecosystem: Name, Name: strings.ToLower(cmp.Or(n.Package, n.Name))}
		d.Dependencies = append(d.Dependencies, catalog.Dependency{PURL: of.String(), Version: n.Req,
			Scope: strings.TrimPrefix(n.Kind, "normal"), Optional: n.Optional})
	}
	return d, err
}

// below tells which indexes are of repositories below an address.
func below(at string) func(index string) bool {
	return func(index string) bool {
		return strings.HasPrefix(index, sparse+at) && strings.HasSuffix(index, "/"+Name+"/")
	}
}

// entryOf is the line of the index for a version, as seen by clients at an address: what
// is needed from this very server is in whichever repository the client asks.
func entryOf(v *catalog.Version, own func(index string) bool) (e entry, err error) {
	if err := json.Unmarshal(v.Details.Native[nativeEntry], &e); err != nil {
		return e, errors.New("its record has no entry of the index")
	}
	for i := range e.Deps {
		if own(e.Deps[i].Registry) {
			e.Deps[i].Registry = ""
		}
	}
	e.Vers, e.Yanked = v.Version, v.Withdrawn != nil
	for _, f := range v.Files {
		if f.Extension == "crate" {
			e.Cksum = f.Digests.Hex("sha256")
		}
	}
	if !v.PublishedAt.IsZero() {
		e.Pubtime = v.PublishedAt.UTC().Format("2006-01-02T15:04:05Z")
	}
	return e, nil
}
