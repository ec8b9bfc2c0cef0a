package maven

import (
	"bytes"
	"encoding/xml"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const maxMetadata = 8 << 20

// repositoryMetadata is maven-metadata.xml
// (https://maven.apache.org/ref/3.8.7/maven-repository-metadata/repository-metadata.html).
type repositoryMetadata struct {
	XMLName      xml.Name    `xml:"metadata"`
	ModelVersion string      `xml:"modelVersion,attr,omitempty"`
	GroupID      string      `xml:"groupId,omitempty"`
	ArtifactID   string      `xml:"artifactId,omitempty"`
	Version      string      `xml:"version,omitempty"`
	Versioning   *versioning `xml:"versioning,omitempty"`
	Plugins      *pluginList `xml:"plugins,omitempty"`
}

type versioning struct {
	Latest           string            `xml:"latest,omitempty"`
	Release          string            `xml:"release,omitempty"`
	Snapshot         *snapshot         `xml:"snapshot,omitempty"`
	Versions         *versionList      `xml:"versions,omitempty"`
	LastUpdated      string            `xml:"lastUpdated,omitempty"`
	SnapshotVersions *snapshotVersions `xml:"snapshotVersions,omitempty"`
}

type versionList struct {
	Version []string `xml:"version"`
}

type snapshot struct {
	Timestamp   string `xml:"timestamp"`
	BuildNumber int    `xml:"buildNumber"`
}

type snapshotVersions struct {
	All []snapshotVersion `xml:"snapshotVersion"`
}

type snapshotVersion struct {
	Classifier string `xml:"classifier,omitempty"`
	Extension  string `xml:"extension"`
	Value      string `xml:"value"`
	Updated    string `xml:"updated"`
}

type pluginList struct {
	All []pluginEntry `xml:"plugin"`
}

type pluginEntry struct {
	Name       string `xml:"name"`
	Prefix     string `xml:"prefix"`
	ArtifactID string `xml:"artifactId"`
}

const updatedLayout = "20060102150405"

func (m repositoryMetadata) document(changed time.Time) (ecosystem.Document, error) {
	var b bytes.Buffer
	b.WriteString(xml.Header)
	encoder := xml.NewEncoder(&b)
	encoder.Indent("", "  ")
	if err := encoder.Encode(m); err != nil {
		return ecosystem.Document{}, err
	}
	b.WriteByte('\n')
	return ecosystem.NewDocument("text/xml; charset=utf-8", b.Bytes(), changed), nil
}

// artifactMetadata lists the versions of a package.
func artifactMetadata(p *catalog.Package) repositoryMetadata {
	names := ecosystem.VersionNames(p)
	v := &versioning{Versions: &versionList{Version: names}}
	var updated time.Time
	withdrawn := map[string]bool{}
	for i := range p.Versions {
		version := &p.Versions[i]
		if version.Withdrawn != nil {
			withdrawn[version.Version] = true
		}
		if version.PublishedAt.After(updated) {
			updated = version.PublishedAt
		}
	}
	for _, name := range names {
		if withdrawn[name] && len(withdrawn) < len(names) {
			continue // what was withdrawn is no latest, unless all is
		}
		v.Latest = name
		if !purl.IsSnapshot(Name, name) {
			v.Release = name
		}
	}
	v.LastUpdated = updated.UTC().Format(updatedLayout)
	return repositoryMetadata{GroupID: p.Key.Namespace, ArtifactID: p.Key.Name, Versioning: v}
}

// snapshotMetadata tells the newest upload of each file of a snapshot. ok is
// false if there is none.
func snapshotMetadata(p *catalog.Package, version string) (m repositoryMetadata, changed time.Time, ok bool) {
	var newest *catalog.Version
	type kind struct{ classifier, extension string }
	latest := map[kind]*catalog.Version{}
	for i := range p.Versions {
		v := &p.Versions[i]
		if v.Version != version || v.Upload == "" {
			continue
		}
		if newest == nil || v.Newer(*newest) {
			newest = v
		}
		if v.PublishedAt.After(changed) {
			changed = v.PublishedAt
		}
		for _, f := range v.Files {
			k := kind{f.Classifier, f.Extension}
			if known := latest[k]; known == nil || v.Newer(*known) {
				latest[k] = v
			}
		}
	}
	if newest == nil {
		return m, changed, false
	}
	all := make([]snapshotVersion, 0, len(latest))
	for k, v := range latest {
		all = append(all, snapshotVersion{Classifier: k.classifier, Extension: k.extension,
			Value: v.Upload, Updated: v.UploadedAt.UTC().Format(updatedLayout)})
	}
	slices.SortFunc(all, func(a, b snapshotVersion) int {
		return strings.Compare(a.Classifier+"\x00"+a.Extension, b.Classifier+"\x00"+b.Extension)
	})
	return repositoryMetadata{ModelVersion: "1.1.0", GroupID: p.Key.Namespace, ArtifactID: p.Key.Name, Version: version,
		Versioning: &versioning{
			Snapshot:         &snapshot{Timestamp: newest.UploadedAt.UTC().Format(stampLayout), BuildNumber: newest.UploadCount},
			LastUpdated:      newest.UploadedAt.UTC().Format(updatedLayout),
			SnapshotVersions: &snapshotVersions{All: all},
		}}, changed, true
}

// pluginMetadata lists the plugins of a group.
func pluginMetadata(plugins []ecosystem.Plugin) *pluginList {
	if len(plugins) == 0 {
		return nil
	}
	l := new(pluginList)
	for _, p := range plugins {
		entry := pluginEntry{Name: p.Title, Prefix: p.Prefix, ArtifactID: p.Name}
		if entry.Name == "" {
			entry.Name = p.Name
		}
		if entry.Prefix == "" {
			// The rule of the plugin tools for plugins that state none.
			entry.Prefix = strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(p.Name, "maven-"), "plugin-"), "-plugin")
			entry.Prefix = strings.TrimSuffix(entry.Prefix, "-maven")
		}
		l.All = append(l.All, entry)
	}
	return l
}

// parseMetadata reads what a client uploads. Only which versions it speaks of
// is of use.
func parseMetadata(r io.Reader) (*repositoryMetadata, error) {
	limited := &io.LimitedReader{R: r, N: maxMetadata + 1}
	m := new(repositoryMetadata)
	err := ecosystem.DecodeXML(limited, m)
	if limited.N <= 0 {
		return nil, fault.New(fault.TooLarge, "metadata-too-large", "the metadata has more than %d bytes", maxMetadata)
	}
	if err != nil {
		return nil, fault.New(fault.Invalid, "bad-metadata", "the metadata cannot be read: %s", trimXML(err)).
			WithHint("Crelvo makes this file itself; what is sent only tells that a deployment is complete.")
	}
	return m, nil
}

// completes tells which open versions an uploaded metadata file speaks of.
func (m *repositoryMetadata) completes(version, upload string) bool {
	if m.Versioning == nil {
		return false
	}
	if m.Version != "" { // of one snapshot
		s := m.Versioning.Snapshot
		return s != nil && version == m.Version &&
			upload == strings.TrimSuffix(version, snapshotSuffix)+s.Timestamp+"-"+strconv.Itoa(s.BuildNumber)
	}
	if upload != "" {
		return false // the snapshot's own metadata completes it
	}
	return m.Versioning.Release == version || m.Versioning.Latest == version ||
		m.Versioning.Versions != nil && slices.Contains(m.Versioning.Versions.Version, version)
}
