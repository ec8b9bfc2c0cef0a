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

// public is how dependencies on the public registry name it.
const public = "https://github.com/rust-lang/crates.io-index"

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

func parseManifest(raw []byte) (m manifest, err error) {
	if err := toml.Unmarshal(raw, &m); err != nil {
		return m, fmt.Errorf("its Cargo.toml cannot be read: %w", err)
	}
	if !nameForm.MatchString(m.Package.Name) {
		return m, fmt.Errorf("%.80q cannot be the name of a crate", m.Package.Name)
	}
	if !purl.IsSemver(m.Package.Version) {
		return m, fmt.Errorf("%.80q is not a version of the form 1.5.0", m.Package.Version)
	}
	return m, nil
}

// entry is a line of the index. Cksum and yanked are of the record, and of no archive.
type entry struct {
	Name        string              `json:"name"`
	Vers        string              `json:"vers"`
	Deps        []dependency        `json:"deps"`
	Cksum       string              `json:"cksum"`
	Features    map[string][]string `json:"features"`
	Yanked      bool                `json:"yanked"`
	Links       *string             `json:"links,omitempty"`
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
	Registry        *string  `json:"registry,omitempty"`
	Package         *string  `json:"package,omitempty"`
}

// true is the name of the package that is needed.
func (d dependency) crate() string {
	if d.Package != nil {
		return *d.Package
	}
	return d.Name
}

// entry makes the line of the index for the manifest.
func (m manifest) entry() (e entry, err error) {
	e = entry{Name: m.Package.Name, Vers: m.Package.Version, Deps: []dependency{}, Features: map[string][]string{},
		RustVersion: m.Package.RustVersion}
	if m.Package.Links != "" {
		e.Links = &m.Package.Links
	}
	add := func(target *string, t tables) {
		for _, of := range []struct {
			kind string
			all  map[string]any
		}{{"normal", t.Dependencies}, {"dev", t.Dev}, {"build", t.Build}} {
			for _, name := range slices.Sorted(maps.Keys(of.all)) {
				d, depErr := needed(name, of.all[name])
				d.Kind, d.Target = of.kind, target
				e.Deps, err = append(e.Deps, d), cmp.Or(err, depErr)
			}
		}
	}
	add(nil, m.tables)
	for _, target := range slices.Sorted(maps.Keys(m.Target)) {
		add(&target, m.Target[target])
	}
	for name, of := range m.Features {
		newer := slices.ContainsFunc(of, func(f string) bool {
			return strings.HasPrefix(f, "dep:") || strings.Contains(f, "?/")
		})
		if !newer {
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

// needed reads a dependency: a version, or a table.
func needed(name string, value any) (d dependency, err error) {
	registry := public
	d = dependency{Name: name, DefaultFeatures: true, Features: []string{}, Req: "*", Registry: &registry}
	switch v := value.(type) {
	case string:
		d.Req = v
		return d, nil
	case map[string]any:
		text := func(key string, into *string) {
			if s, ok := v[key].(string); ok && s != "" {
				*into = s
			}
		}
		text("version", &d.Req)
		text("registry-index", d.Registry)
		if renamed := ""; v["package"] != nil {
			text("package", &renamed)
			d.Package = &renamed
		}
		if defaults, ok := v["default-features"].(bool); ok {
			d.DefaultFeatures = defaults
		}
		d.Optional, _ = v["optional"].(bool)
		if features, ok := v["features"].([]any); ok {
			for _, f := range features {
				d.Features = append(d.Features, fmt.Sprint(f))
			}
		}
		return d, nil
	}
	return d, fmt.Errorf("the dependency %s is neither a version nor a table", name)
}

const nativeEntry = "entry"

// details are what is told of a version; the entry of the index is kept in them.
func (m manifest) details() (catalog.Details, error) {
	e, err := m.entry()
	if err != nil {
		return catalog.Details{}, err
	}
	d, err := e.details()
	d.Description, d.Homepage, d.Source = m.Package.Description, ecosystem.WebOnly(m.Package.Homepage),
		ecosystem.WebOnly(m.Package.Repository)
	d.Authors = m.Package.Authors
	if licence := cmp.Or(m.Package.License, m.Package.LicenseFile); licence != "" {
		// The older form of either is a slash.
		d.Licences = []catalog.Licence{{Name: strings.ReplaceAll(licence, "/", " OR ")}}
	}
	if words := append(slices.Clone(m.Package.Keywords), m.Package.Categories...); len(words) > 0 && err == nil {
		d.Native["keywords"], err = json.Marshal(words)
	}
	return d, err
}

func (e entry) details() (d catalog.Details, err error) {
	e.Cksum, e.Yanked, e.Pubtime = "", false, ""
	raw, err := json.Marshal(e)
	d = catalog.Details{Title: e.Name, Native: map[string]json.RawMessage{nativeEntry: raw}}
	for _, n := range e.Deps {
		scope := ""
		if n.Kind != "normal" {
			scope = n.Kind
		}
		d.Dependencies = append(d.Dependencies, catalog.Dependency{PURL: purl.PURL{Ecosystem: Name,
			Name: strings.ToLower(n.crate())}.String(), Version: n.Req, Scope: scope, Optional: n.Optional})
	}
	return d, err
}

// entryOf is the line of the index for a version, as seen by clients at an address: what
// is needed from this very server is in whichever repository the client asks.
func entryOf(v *catalog.Version, root string) (e entry, err error) {
	if err := json.Unmarshal(v.Details.Native[nativeEntry], &e); err != nil {
		return e, errors.New("its record has no entry of the index")
	}
	for i := range e.Deps {
		if r := e.Deps[i].Registry; r != nil && strings.HasPrefix(*r, "sparse+"+root) && strings.HasSuffix(*r, "/"+Name+"/") {
			e.Deps[i].Registry = nil
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
