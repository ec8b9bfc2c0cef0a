package catalog

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"crelvo/internal/core/text"
)

// What is kept of what packages say of themselves, whatever they say.
const (
	// MaxReadme is how much of a text about a version is kept, in bytes.
	MaxReadme = 512 << 10

	maxTitle        = 300
	maxDescription  = 8 << 10
	maxLink         = 1000
	maxAuthors      = 200
	maxLicences     = 50
	maxDependencies = 3000
	// maxNative bounds what the ecosystem's own documents say besides, in bytes.
	maxNative = 2 << 20
)

// Bounded is d as it may be kept and shown: valid text, bounded, and no more of
// anything than a reader could want. Addresses that are no web addresses are
// left out, since somebody will follow them.
func (d Details) Bounded() Details {
	line := func(s string, max int) string { return text.Clean(strings.TrimSpace(s), false, max) }
	d.Title = line(d.Title, maxTitle)
	d.Description = text.Clean(d.Description, true, maxDescription)
	d.Homepage, d.Source = WebOnly(line(d.Homepage, maxLink)), WebOnly(line(d.Source, maxLink))
	d.Packaging, d.PluginPrefix = line(d.Packaging, text.MaxName), line(d.PluginPrefix, text.MaxName)
	d.Parent = line(d.Parent, maxLink)
	if d.Licences != nil {
		kept := make([]Licence, min(len(d.Licences), maxLicences))
		for i := range kept {
			kept[i] = Licence{Name: line(d.Licences[i].Name, maxTitle), URL: WebOnly(line(d.Licences[i].URL, maxLink))}
		}
		d.Licences = kept
	}
	if d.Authors != nil {
		kept := make([]string, min(len(d.Authors), maxAuthors))
		for i := range kept {
			kept[i] = line(d.Authors[i], maxTitle)
		}
		d.Authors = kept
	}
	if d.Dependencies != nil {
		kept := make([]Dependency, min(len(d.Dependencies), maxDependencies))
		for i, n := range d.Dependencies[:len(kept)] {
			kept[i] = Dependency{PURL: line(n.PURL, maxLink), Version: line(n.Version, maxTitle), Scope: line(n.Scope, maxTitle),
				Optional: n.Optional}
		}
		d.Dependencies = kept
	}
	if d.Readme != nil {
		d.Readme = &Readme{Text: text.Clean(d.Readme.Text, true, MaxReadme), Format: line(d.Readme.Format, text.MaxName)}
	}
	return d
}

// NativeSize is how much the ecosystem's own documents say besides, in bytes, and
// whether that is more than is kept. It cannot be cut without changing what
// clients do, so what has more is refused.
func (d Details) NativeSize() (bytes int, tooMuch bool) {
	for name, raw := range d.Native {
		bytes += len(name) + len(json.RawMessage(raw))
	}
	return bytes, bytes > maxNative
}

// WebOnly is an address of the web; "" for any other text.
func WebOnly(address string) string {
	lower := strings.ToLower(address)
	if strings.HasPrefix(lower, "https://") || strings.HasPrefix(lower, "http://") {
		return address
	}
	return ""
}

// Clean makes a listing fit to be kept and shown: what upstreams say of versions
// is bounded, and versions and files that have no fit names are left out.
func (l *Listing) Clean() {
	fit := func(s string, max int) bool { return len(s) <= max && text.Fit(s, false) }
	l.Versions = slices.DeleteFunc(l.Versions, func(v ListedVersion) bool {
		return v.Version == "" || !fit(v.Version, text.MaxName) || !fit(v.Upload, text.MaxName)
	})
	for i := range l.Versions {
		v := &l.Versions[i]
		v.Files = slices.DeleteFunc(v.Files, func(f ListedFile) bool {
			return text.CheckFileName(f.Name) != nil || !fit(f.Classifier, text.MaxName) || !fit(f.Extension, text.MaxName) ||
				!fit(f.Address, maxAddress)
		})
		if v.Details != nil {
			bounded := v.Details.Bounded()
			v.Details = &bounded
		}
		if v.Withdrawn != nil {
			withdrawn := *v.Withdrawn
			withdrawn.Reason, withdrawn.By = text.Clean(withdrawn.Reason, true, maxLink),
				text.Clean(withdrawn.By, false, text.MaxName)
			v.Withdrawn = &withdrawn
		}
	}
	l.Plugins = slices.DeleteFunc(l.Plugins, func(p ListedPlugin) bool {
		return !fit(p.Name, text.MaxName) || !fit(p.Prefix, text.MaxName) || !fit(p.Title, maxLink)
	})
	maps.DeleteFunc(l.Labels, func(label, version string) bool {
		return !fit(label, text.MaxName) || !fit(version, text.MaxName)
	})
}

// maxAddress is how long the address of a file may be, in bytes.
const maxAddress = 4 << 10
