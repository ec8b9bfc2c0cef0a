package maven

import (
	"context"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.ByPath = Maven{}

// ListingPath implements ecosystem.Mirrored: the three levels of
// maven-metadata.xml.
func (Maven) ListingPath(p purl.PURL) string {
	parts := []string{strings.ReplaceAll(p.Namespace, ".", "/")}
	if p.Name != "" {
		parts = append(parts, p.Name)
	}
	if purl.IsSnapshot(Name, p.Version) {
		parts = append(parts, p.Version)
	}
	return strings.Join(append(parts, metadataName), "/")
}

// Accepts implements ecosystem.Mirrored.
func (Maven) Accepts() string { return "" }

// ReadListing implements ecosystem.Mirrored. The same document may be about an
// artifact and a group, so both are read.
func (Maven) ReadListing(ctx context.Context, p purl.PURL, r ecosystem.Reading) (catalog.Listing, error) {
	m, err := parseMetadata(r)
	if err != nil {
		return catalog.Listing{}, err
	}
	var l catalog.Listing
	if m.Plugins != nil {
		for _, plugin := range m.Plugins.All {
			if fitsPath(plugin.ArtifactID) && plugin.Prefix != "" {
				l.Plugins = append(l.Plugins, catalog.ListedPlugin{Name: plugin.ArtifactID, Prefix: plugin.Prefix,
					Title: plugin.Name})
			}
		}
	}
	switch {
	case m.Versioning == nil:
	case purl.IsSnapshot(Name, p.Version):
		l.Versions = listedUploads(p, m.Versioning)
	case m.Versioning.Versions != nil:
		// It says when the last one came, and of no other.
		last, _ := time.Parse(updatedLayout, strings.TrimSpace(m.Versioning.LastUpdated)) // "" where nobody knows
		for _, version := range m.Versioning.Versions.Version {
			if version = strings.TrimSpace(version); fitsPath(version) {
				listed := catalog.ListedVersion{Version: version}
				if version == m.Versioning.Release || version == m.Versioning.Latest {
					listed.UploadedAt = last
				}
				l.Versions = append(l.Versions, listed)
			}
		}
	}
	return l, nil
}

// listedUploads reads which upload of a snapshot has which file. Only the
// newest of each is listed.
func listedUploads(p purl.PURL, v *versioning) []catalog.ListedVersion {
	if v.SnapshotVersions == nil {
		return nil
	}
	byUpload := map[string]*catalog.ListedVersion{}
	for _, f := range v.SnapshotVersions.All {
		t := target{segments: []string{p.Namespace, p.Name, p.Version, fileName(p.Name, f.Value, f.Classifier, f.Extension)}}
		if t.parseArtifact() != nil || t.place.Upload == "" {
			continue
		}
		u := byUpload[t.place.Upload]
		if u == nil {
			u = &catalog.ListedVersion{Version: p.Version, Upload: t.place.Upload, UploadedAt: t.place.UploadedAt,
				UploadCount: t.place.UploadCount}
			byUpload[t.place.Upload] = u
		}
		u.Files = append(u.Files, catalog.ListedFile{Name: t.place.FileName, Classifier: t.place.Classifier,
			Extension: t.place.Extension})
	}
	var all []catalog.ListedVersion
	for _, u := range byUpload {
		all = append(all, *u)
	}
	slices.SortFunc(all, func(a, b catalog.ListedVersion) int { return strings.Compare(a.Upload, b.Upload) })
	return all
}

// PlaceOf implements ecosystem.Mirrored.
func (Maven) PlaceOf(q catalog.FileQuestion) (ecosystem.Place, error) {
	name := q.Name
	if name == "" {
		version := q.Version
		if q.Upload != "" {
			version = q.Upload
		}
		name = fileName(q.Key.Name, version, q.Classifier, q.Extension)
	}
	t := target{segments: append(strings.Split(q.Key.Namespace, "."), q.Key.Name, q.Version, name)}
	if err := checkSegments(t.segments); err != nil {
		return ecosystem.Place{}, err
	}
	err := t.parseArtifact()
	return t.place, err
}

// FilePath implements ecosystem.ByPath.
func (Maven) FilePath(p ecosystem.Place) string {
	return folderOf(p.Namespace, p.Name, p.Version) + "/" + p.FileName
}

// Checksums implements ecosystem.ByPath. SHA-1 is the one that every
// repository has.
func (Maven) Checksums(path string) []ecosystem.Checksum {
	return []ecosystem.Checksum{{Path: path + ".sha1", Algorithm: "sha1"}, {Path: path + ".md5", Algorithm: "md5"}}
}

// Marker implements ecosystem.ByPath: the pom.
func (Maven) Marker(p purl.PURL, upload string) catalog.FileQuestion {
	q := catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: Name, Namespace: p.Namespace, Name: p.Name},
		Version: p.Version, Upload: upload}
	if exact := p.Version; !purl.IsSnapshot(Name, exact) || upload != "" {
		if upload != "" {
			exact = upload
		}
		all := stems(p.Name)
		q.Name = fileName(all[len(all)-1], exact, "", "pom") // plugins of sbt always have the short one
	} else {
		q.Extension = "pom"
	}
	return q
}

// Companions implements ecosystem.Mirrored: the pom, the main artifact, and
// classifiers that were wanted before.
func (m Maven) Companions(p purl.PURL, details catalog.Details, like []catalog.File) []catalog.FileQuestion {
	marker := m.Marker(p, "")
	wanted := []catalog.FileQuestion{marker}
	add := func(classifier, extension string) {
		q := marker
		if q.Name == "" {
			q.Classifier, q.Extension = classifier, extension
		} else {
			q.Name = fileName(p.Name, p.Version, classifier, extension)
		}
		if !slices.Contains(wanted, q) {
			wanted = append(wanted, q)
		}
	}
	switch details.Packaging {
	case "pom":
	case "war", "ear", "aar", "zip", "rar":
		add("", details.Packaging)
	default: // bundle, maven-plugin, test-jar and the like are jars
		add("", "jar")
	}
	for _, f := range like {
		if !isSignature(f.Extension) {
			add(f.Classifier, f.Extension)
		}
	}
	return wanted
}
