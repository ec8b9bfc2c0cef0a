package npm

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"

	"github.com/tidwall/gjson"
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
	Deprecated                         json.RawMessage
	Dependencies, OptionalDependencies dependencies
	PeerDependencies, DevDependencies  dependencies
	fields                             []member // by their names
	dist                               []member // of a package document; nil if it has none
}

// member is a member of an object.
type member struct {
	name  string
	value json.RawMessage
}

// named compares its name with another.
func (m member) named(name string) int { return strings.Compare(m.name, name) }

// members takes apart an object that is known to be valid JSON, without a copy of its
// values; ok is false of anything else. They are in the order of their names; of those with
// the same name the last counts.
func members(object json.RawMessage) (all []member, ok bool) {
	of := gjson.ParseBytes(object)
	if !of.IsObject() {
		return nil, false
	}
	all = make([]member, 0, 24)
	sorted := true
	of.ForEach(func(name, value gjson.Result) bool {
		sorted = sorted && (len(all) == 0 || all[len(all)-1].name < name.Str)
		all = append(all, member{name.Str, object[value.Index : value.Index+len(value.Raw)]})
		return true
	})
	if sorted {
		return all, true
	}
	slices.SortStableFunc(all, func(a, b member) int { return strings.Compare(a.name, b.name) })
	kept := all[:0]
	for i, m := range all {
		if i+1 == len(all) || all[i+1].name != m.name {
			kept = append(kept, m)
		}
	}
	return kept, true
}

// find gives the value of a member; nil if there is none.
func find(all []member, name string) json.RawMessage {
	if i, found := slices.BinarySearchFunc(all, name, member.named); found {
		return all[i].value
	}
	return nil
}

// set puts a member where it belongs.
func (m *manifest) set(name string, value json.RawMessage) {
	i, found := slices.BinarySearchFunc(m.fields, name, member.named)
	if !found {
		m.fields = slices.Insert(m.fields, i, member{name: name})
	}
	m.fields[i].value = value
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

// parseManifest reads a manifest, and checks its name and version. lean is of one that is
// known to be valid JSON, and leaves out the dependencies.
func parseManifest(raw []byte, lean bool) (*manifest, error) {
	raw = bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf"))
	if !lean && !json.Valid(raw) {
		var whatever any
		return nil, fmt.Errorf("it cannot be read: %w", json.Unmarshal(raw, &whatever))
	}
	m, ok := new(manifest), false
	if m.fields, ok = members(raw); !ok {
		return nil, errors.New("it cannot be read: it is no object")
	}
	for _, f := range m.fields {
		var into *string
		switch f.name {
		case "name":
			into = &m.Name
		case "version":
			into = &m.Version
		default:
			m.read(f.name, f.value, lean)
			continue
		}
		if bytes.HasPrefix(f.value, []byte(`"`)) {
			*into = string(textOf(f.value))
		} else if string(f.value) != "null" {
			return nil, fmt.Errorf("its %s is no text", f.name)
		}
	}
	if !lean { // whose name is compared with that of its package
		if _, _, ok := splitName(m.Name); !ok {
			return nil, fmt.Errorf("its name %.60q cannot be that of a package", m.Name)
		}
	}
	m.Version = strings.TrimPrefix(strings.TrimSpace(m.Version), "v")
	if len(m.Version) > 256 || !purl.IsSemver(m.Version) {
		return nil, fmt.Errorf("its version %.60q is none by Semantic Versioning", m.Version)
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
		m.dist, _ = members(value)
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

// textOf reads a string; anything else is "".
func textOf(raw json.RawMessage) (t text) {
	if len(raw) < 2 || raw[0] != '"' {
		return ""
	}
	if inside := string(raw[1 : len(raw)-1]); plain(inside) {
		return text(inside)
	}
	_ = t.UnmarshalJSON(raw) // it never fails
	return t
}

// memberText is a member of an object, if it is a string.
func memberText(object json.RawMessage, name string) string {
	return string(textOf([]byte(gjson.GetBytes(object, name).Raw)))
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
	m.set("version", version)
	if runsAtInstall(m.Scripts) {
		m.set("hasInstallScript", json.RawMessage("true"))
	}
	install, rest := scratch.Get().(*writer), scratch.Get().(*writer)
	defer scratch.Put(install)
	defer scratch.Put(rest)
	install.b, rest.b = append(install.b[:0], '{'), append(rest.b[:0], '{')
	for _, f := range m.fields {
		switch {
		case slices.Contains(madeFields, f.name):
		case slices.Contains(installFields, f.name):
			install.member(f)
		default: // also what is not understood here
			rest.member(f)
		}
	}
	native := map[string]json.RawMessage{nativeInstall: install.object(), nativeRest: rest.object()}
	if m.dist != nil {
		rest.b = append(rest.b[:0], '{')
		for _, f := range m.dist {
			if f.name != "tarball" && f.name != "shasum" && f.name != "integrity" {
				rest.member(f)
			}
		}
		native[nativeDist] = rest.object()
	}
	return native, nil
}

// member writes a member of an object.
func (w *writer) member(m member) {
	if w.b[len(w.b)-1] != '{' {
		w.b = append(w.b, ',')
	}
	w.quote(m.name)
	w.b = append(append(w.b, ':'), m.value...)
}

// object ends the object that is all that was written, and gives it.
func (w *writer) object() json.RawMessage {
	w.b = append(w.b, '}')
	return bytes.Clone(w.b)
}

func runsAtInstall(scripts json.RawMessage) (runs bool) {
	gjson.ParseBytes(scripts).ForEach(func(name, _ gjson.Result) bool {
		runs = name.Str == "preinstall" || name.Str == "install" || name.Str == "postinstall"
		return !runs
	})
	return runs
}

// sourceOf reads repository, which is a string or an object with an url.
func sourceOf(raw json.RawMessage) string {
	short := string(textOf(raw))
	if len(raw) > 0 && raw[0] == '{' {
		short = memberText(raw, "url")
	}
	short = strings.TrimSuffix(strings.TrimPrefix(short, "git+"), ".git")
	if strings.HasPrefix(short, "http://") || strings.HasPrefix(short, "https://") {
		return short
	}
	return ""
}

// licences reads an SPDX expression, or one of the older forms.
func licences(raw json.RawMessage) []catalog.Licence {
	if len(raw) == 0 {
		return nil
	}
	switch raw[0] {
	case '"':
		if name := textOf(raw); name != "" {
			return []catalog.Licence{{Name: string(name)}}
		}
	case '{':
		if name := memberText(raw, "type"); name != "" {
			return []catalog.Licence{{Name: name, URL: memberText(raw, "url")}}
		}
	}
	var several []json.RawMessage
	var all []catalog.Licence
	if raw[0] == '[' && json.Unmarshal(raw, &several) == nil {
		for _, each := range several {
			if each[0] != '[' {
				all = append(all, licences(each)...)
			}
		}
	}
	return all
}

// people reads "Name <mail> (address)", an object, or a list of either.
func people(raw json.RawMessage) (names []string) {
	if len(raw) == 0 {
		return nil
	}
	switch raw[0] {
	case '"':
		one, _, _ := strings.Cut(string(textOf(raw)), "<")
		if one, _, _ = strings.Cut(one, "("); strings.TrimSpace(one) != "" {
			return []string{strings.TrimSpace(one)}
		}
	case '{':
		if name := memberText(raw, "name"); name != "" {
			return []string{name}
		}
	}
	var several []json.RawMessage
	if raw[0] == '[' && json.Unmarshal(raw, &several) == nil {
		for _, each := range several[:min(len(several), 50)] {
			if each[0] != '[' {
				names = append(names, people(each)...)
			}
		}
	}
	return names
}

// deprecation is the text that a manifest is deprecated with; nil if it is not.
func (m *manifest) deprecation() *string {
	reason := string(textOf(m.Deprecated))
	if string(m.Deprecated) == "true" {
		reason = "deprecated"
	}
	if reason == "" {
		return nil
	}
	return &reason
}
