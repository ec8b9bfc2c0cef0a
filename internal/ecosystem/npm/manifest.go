package npm

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// The limits of what is read of a package, in bytes.
const maxManifest = 2 << 20

// What Native keeps of a manifest: what the abbreviated form of package
// documents has (https://github.com/npm/registry/blob/main/docs/responses/package-metadata.md),
// the rest of it, and what stands in dist besides the tarball and its digests.
const nativeInstall, nativeRest, nativeDist = "install", "rest", "dist"

var installFields = []string{"name", "version", "dependencies", "optionalDependencies", "peerDependencies",
	"peerDependenciesMeta",
	"bundleDependencies", "bundledDependencies", "acceptDependencies", "bin", "directories", "engines", "cpu", "os",
	"libc", "funding",
	"_hasShrinkwrap", "hasInstallScript"}

// Fields that are made from records, or kept apart.
var madeFields = []string{"dist", "_id", "deprecated", "readme", "readmeFilename", "_rev", "_attachments"}

// manifest is what is read of a package.json, or of a version in a package
// document.
type manifest struct {
	Name, Version                      string
	Description, Homepage, Readme      text
	Repository, License, Licenses      json.RawMessage
	Author, Maintainers, Scripts       json.RawMessage
	Deprecated, Dist                   json.RawMessage
	Dependencies, OptionalDependencies dependencies
	PeerDependencies, DevDependencies  dependencies
	fields                             map[string]json.RawMessage
}

// text takes a string, and passes over anything else: old manifests are full of
// surprises.
type text string

// UnmarshalJSON implements json.Unmarshaler.
func (t *text) UnmarshalJSON(raw []byte) error {
	var s string
	if json.Unmarshal(raw, &s) == nil {
		*t = text(s)
	}
	return nil
}

// dependencies takes an object of strings, and passes over anything else.
type dependencies map[string]string

// UnmarshalJSON implements json.Unmarshaler.
func (d *dependencies) UnmarshalJSON(raw []byte) error {
	var all map[string]text
	if json.Unmarshal(raw, &all) == nil {
		*d = dependencies{}
		for name, version := range all {
			(*d)[name] = string(version)
		}
	}
	return nil
}

// dist is what a package document says of a version's tarball.
type dist struct {
	Tarball   text `json:"tarball"`
	Shasum    text `json:"shasum"`
	Integrity text `json:"integrity"`
}

// names of packages, as the clients accept them for new ones, and as old ones
// may still be.
var nameForm = regexp.MustCompile(`^(?:(@[A-Za-z0-9~-][A-Za-z0-9._~-]*)/)?([A-Za-z0-9~_-][A-Za-z0-9._~-]*)$`)

const maxName = 214

// splitName takes the scope off a name.
func splitName(name string) (scope, base string, ok bool) {
	m := nameForm.FindStringSubmatch(name)
	if m == nil || len(name) > maxName {
		return "", "", false
	}
	return m[1], m[2], true
}

func joinName(scope, base string) string {
	if scope == "" {
		return base
	}
	return scope + "/" + base
}

// parseManifest reads a manifest, and checks its name and version. lean leaves
// out the dependencies.
func parseManifest(raw []byte, lean bool) (*manifest, error) {
	m := new(manifest)
	if err := json.Unmarshal(bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf")), &m.fields); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	for name, into := range map[string]*string{"name": &m.Name, "version": &m.Version} {
		if value, ok := m.fields[name]; ok && json.Unmarshal(value, into) != nil {
			return nil, fmt.Errorf("its %s is no text", name)
		}
	}
	if _, _, ok := splitName(m.Name); !ok {
		return nil, fmt.Errorf("its name %.60q cannot be that of a package", m.Name)
	}
	m.Version = strings.TrimPrefix(strings.TrimSpace(m.Version), "v")
	if len(m.Version) > 256 || !purl.IsSemver(m.Version) {
		return nil, fmt.Errorf("its version %.60q is none by Semantic Versioning", m.Version)
	}
	for name, value := range m.fields {
		m.read(name, value, lean)
	}
	return m, nil
}

// read takes a field in. What is not of the kind that it should be is passed
// over.
func (m *manifest) read(name string, value json.RawMessage, lean bool) {
	var list *dependencies
	switch name {
	case "description":
		m.Description = textOf(value)
	case "homepage":
		m.Homepage = textOf(value)
	case "readme":
		m.Readme = textOf(value)
	case "repository":
		m.Repository = value
	case "license":
		m.License = value
	case "licenses":
		m.Licenses = value
	case "author":
		m.Author = value
	case "maintainers":
		m.Maintainers = value
	case "scripts":
		m.Scripts = value
	case "deprecated":
		m.Deprecated = value
	case "dist":
		m.Dist = value
	case "dependencies":
		list = &m.Dependencies
	case "optionalDependencies":
		list = &m.OptionalDependencies
	case "peerDependencies":
		list = &m.PeerDependencies
	case "devDependencies":
		list = &m.DevDependencies
	}
	if list != nil && !lean {
		_ = json.Unmarshal(value, list) // it never fails
	}
}

func textOf(raw json.RawMessage) (t text) {
	_ = t.UnmarshalJSON(raw) // it never fails
	return t
}

// details is what a manifest tells.
func (m *manifest) details() (catalog.Details, error) {
	d := catalog.Details{Description: string(m.Description), Homepage: string(m.Homepage), Source: sourceOf(m.Repository)}
	for _, stated := range []json.RawMessage{m.License, m.Licenses} {
		d.Licences = append(d.Licences, licences(stated)...)
	}
	if d.Authors = people(m.Author); d.Authors == nil {
		d.Authors = people(m.Maintainers)
	}
	for _, group := range []struct {
		of    dependencies
		scope string
	}{{m.Dependencies, ""}, {m.PeerDependencies, "peer"}, {m.OptionalDependencies, "optional"},
		{m.DevDependencies, "dev"}} {
		for name, version := range group.of {
			scope, base, ok := splitName(name)
			if _, also := m.OptionalDependencies[name]; !ok || also && group.scope == "" {
				continue // the optional ones stand among the others too
			}
			d.Dependencies = append(d.Dependencies, catalog.Dependency{PURL: purl.PURL{Ecosystem: Name, Namespace: scope,
				Name: base}.String(),
				Version: version, Scope: group.scope, Optional: group.scope == "optional"})
		}
	}
	slices.SortFunc(d.Dependencies, func(a, b catalog.Dependency) int {
		return cmp.Or(strings.Compare(a.Scope, b.Scope), strings.Compare(a.PURL, b.PURL))
	})
	if m.Readme != "" && !strings.HasPrefix(string(m.Readme), "ERROR:") {
		d.Readme = ecosystem.ReadmeOf("README.md", []byte(m.Readme))
	}
	var err error
	d.Native, err = m.split()
	return d, err
}

// split takes a manifest apart for Native. The same manifest always gives the
// same bytes.
func (m *manifest) split() (map[string]json.RawMessage, error) {
	version, err := json.Marshal(m.Version)
	if err != nil {
		return nil, err
	}
	m.fields["version"] = version
	if runsAtInstall(m.Scripts) {
		m.fields["hasInstallScript"] = json.RawMessage("true")
	}
	install, rest := object{'{'}, object{'{'}
	for _, name := range slices.Sorted(maps.Keys(m.fields)) {
		switch {
		case slices.Contains(madeFields, name):
		case slices.Contains(installFields, name):
			install.add(name, m.fields[name])
		default: // also what is not understood here
			rest.add(name, m.fields[name])
		}
	}
	native := map[string]json.RawMessage{nativeInstall: install.end(), nativeRest: rest.end()}
	var about map[string]json.RawMessage
	if json.Unmarshal(m.Dist, &about) == nil && about != nil {
		dist := object{'{'}
		for _, name := range slices.Sorted(maps.Keys(about)) {
			if name != "tarball" && name != "shasum" && name != "integrity" {
				dist.add(name, about[name])
			}
		}
		native[nativeDist] = dist.end()
	}
	return native, nil
}

// object is a JSON object that is being written.
type object []byte

func (o *object) add(name string, value json.RawMessage) {
	if len(*o) > 1 {
		*o = append(*o, ',')
	}
	w := writer{*o}
	w.quote(name)
	*o = append(append(w.b, ':'), value...)
}

func (o object) end() json.RawMessage { return json.RawMessage(slices.Clip(append(o, '}'))) }

func runsAtInstall(scripts json.RawMessage) bool {
	var named map[string]json.RawMessage
	if json.Unmarshal(scripts, &named) != nil {
		return false
	}
	for _, name := range []string{"preinstall", "install", "postinstall"} {
		if _, ok := named[name]; ok {
			return true
		}
	}
	return false
}

// sourceOf reads repository, which is a string or an object with an url.
func sourceOf(raw json.RawMessage) string {
	var short string
	var long struct {
		URL text `json:"url"`
	}
	if json.Unmarshal(raw, &short) != nil && json.Unmarshal(raw, &long) == nil {
		short = string(long.URL)
	}
	short = strings.TrimSuffix(strings.TrimPrefix(short, "git+"), ".git")
	if strings.HasPrefix(short, "http://") || strings.HasPrefix(short, "https://") {
		return short
	}
	return ""
}

// licences reads an SPDX expression, or one of the older forms.
func licences(raw json.RawMessage) []catalog.Licence {
	var name string
	if json.Unmarshal(raw, &name) == nil {
		if name == "" {
			return nil
		}
		return []catalog.Licence{{Name: name}}
	}
	var one struct{ Type, URL text }
	if json.Unmarshal(raw, &one) == nil && one.Type != "" {
		return []catalog.Licence{{Name: string(one.Type), URL: string(one.URL)}}
	}
	var several []json.RawMessage
	var all []catalog.Licence
	if json.Unmarshal(raw, &several) == nil {
		for _, each := range several {
			if !bytes.HasPrefix(bytes.TrimSpace(each), []byte("[")) {
				all = append(all, licences(each)...)
			}
		}
	}
	return all
}

// people reads "Name <mail> (address)", an object, or a list of either.
func people(raw json.RawMessage) (names []string) {
	var one string
	if json.Unmarshal(raw, &one) == nil {
		if one, _, _ = strings.Cut(one, "<"); strings.TrimSpace(one) != "" {
			one, _, _ = strings.Cut(one, "(")
			return []string{strings.TrimSpace(one)}
		}
		return nil
	}
	var object struct{ Name text }
	if json.Unmarshal(raw, &object) == nil && object.Name != "" {
		return []string{string(object.Name)}
	}
	var several []json.RawMessage
	if json.Unmarshal(raw, &several) == nil {
		for _, each := range several[:min(len(several), 50)] {
			if !bytes.HasPrefix(bytes.TrimSpace(each), []byte("[")) {
				names = append(names, people(each)...)
			}
		}
	}
	return names
}

// deprecation is the text that a manifest is deprecated with; nil if it is not.
func (m *manifest) deprecation() *string {
	var reason string
	var yes bool
	switch {
	case json.Unmarshal(m.Deprecated, &reason) == nil && reason != "":
		return &reason
	case json.Unmarshal(m.Deprecated, &yes) == nil && yes:
		reason = "deprecated"
		return &reason
	}
	return nil
}
