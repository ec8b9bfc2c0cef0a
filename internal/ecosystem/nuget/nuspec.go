package nuget

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"regexp"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// The limits of what is read of a package, in bytes.
const maxNuspec, maxReadme = 2 << 20, catalog.MaxReadme

// nuspec is the manifest of a package
// (https://learn.microsoft.com/nuget/reference/nuspec).
type nuspec struct {
	texts    ecosystem.LicenceTexts // of the file that it names as its licence
	Metadata struct {
		MinClient   string `xml:"minClientVersion,attr"`
		ID          string `xml:"id"`
		Version     string `xml:"version"`
		Title       string `xml:"title"`
		Authors     string `xml:"authors"`
		Description string `xml:"description"`
		Summary     string `xml:"summary"`
		ProjectURL  string `xml:"projectUrl"`
		IconURL     string `xml:"iconUrl"`
		LicenseURL  string `xml:"licenseUrl"`
		License     struct {
			Type string `xml:"type,attr"`
			Text string `xml:",chardata"`
		} `xml:"license"`
		Repository struct {
			URL string `xml:"url,attr"`
		} `xml:"repository"`
		Readme       string        `xml:"readme"`
		Tags         string        `xml:"tags"`
		Language     string        `xml:"language"`
		MustAccept   string        `xml:"requireLicenseAcceptance"`
		Icon         string        `xml:"icon"`
		PackageType  []packageType `xml:"packageTypes>packageType"`
		Dependencies struct {
			Groups []struct {
				Framework string       `xml:"targetFramework,attr"`
				All       []dependency `xml:"dependency"`
			} `xml:"group"`
			All []dependency `xml:"dependency"`
		} `xml:"dependencies"`
	} `xml:"metadata"`
}

type packageType struct {
	Name string `xml:"name,attr"`
}

type dependency struct {
	ID      string `xml:"id,attr"`
	Version string `xml:"version,attr"`
}

// facts are what Native keeps of a package, for the documents.
type facts struct {
	ID         string   `json:"id"`
	Version    string   `json:"version"` // as it was written
	Title      string   `json:"title,omitempty"`
	Summary    string   `json:"summary,omitempty"`
	IconURL    string   `json:"iconUrl,omitempty"`
	LicenseURL string   `json:"licenseUrl,omitempty"`
	License    string   `json:"licenseExpression,omitempty"`
	Language   string   `json:"language,omitempty"`
	MinClient  string   `json:"minClientVersion,omitempty"`
	MustAccept bool     `json:"requireLicenseAcceptance,omitempty"`
	Tags       []string `json:"tags,omitempty"`
	Types      []string `json:"types,omitempty"`
	// Icon, LicenceFile and Readme are names of files in the package.
	Icon        string  `json:"icon,omitempty"`
	LicenceFile string  `json:"licenceFile,omitempty"`
	Readme      string  `json:"readme,omitempty"`
	Groups      []group `json:"groups,omitempty"`
}

type group struct {
	Framework    string   `json:"targetFramework,omitempty"`
	Dependencies []needed `json:"dependencies,omitempty"`
}

type needed struct {
	ID    string `json:"id"`
	Range string `json:"range"`
}

const nativeFacts = "nuspec"

var idForm = regexp.MustCompile(`^[A-Za-z0-9_]+(?:[.-][A-Za-z0-9_]+)*$`)

const maxID = 100

func isID(id string) bool { return len(id) <= maxID && idForm.MatchString(id) }

// readPackage finds and reads the manifest at the root of a package, and its
// README.
func readPackage(ctx context.Context, file ecosystem.SizedReaderAt) (*nuspec, []byte, *catalog.Readme, error) {
	archive, err := ecosystem.OpenZip(ctx, file)
	if err != nil {
		return nil, nil, nil, err
	}
	var raw []byte
	for _, entry := range archive.File {
		if path.Ext(strings.ToLower(entry.Name)) == ".nuspec" && !strings.Contains(entry.Name, "/") {
			if raw, err = ecosystem.ReadZipEntry(ctx, entry, maxNuspec); err != nil {
				return nil, nil, nil, err
			}
			break
		}
	}
	if raw == nil {
		return nil, nil, nil, errors.New("it has no .nuspec at its root")
	}
	n := new(nuspec)
	if err := ecosystem.DecodeXML(bytes.NewReader(raw), n); err != nil {
		return nil, nil, nil, fmt.Errorf("its .nuspec cannot be read: %w", err)
	}
	m := &n.Metadata
	m.ID, m.Version = strings.TrimSpace(m.ID), strings.TrimSpace(m.Version)
	if !isID(m.ID) {
		return nil, nil, nil, fmt.Errorf("its id %.60q cannot be that of a package", m.ID)
	}
	if len(m.Version) > 64 || !purl.IsNuGet(m.Version) {
		return nil, nil, nil, fmt.Errorf("its version %.60q is none", m.Version)
	}
	if m.License.Type == "file" {
		n.texts.ReadZip(ctx, archive, func(name string) bool { return strings.EqualFold(name, inside(m.License.Text)) })
	}
	return n, raw, readmeIn(ctx, archive, m.Readme), nil
}

// checkPackage compares the checksums inside a package: lists do not state
// digests, so these are all there is.
func checkPackage(ctx context.Context, file ecosystem.SizedReaderAt) error {
	archive, err := ecosystem.OpenZip(ctx, file)
	if err != nil {
		return err
	}
	return ecosystem.CheckZip(ctx, archive, file.Size())
}

// inside is the name of a file in a package as archives have it.
func inside(named string) string {
	return strings.TrimPrefix(strings.ReplaceAll(strings.TrimSpace(named), "\\", "/"), "/")
}

func readmeIn(ctx context.Context, archive *zip.Reader, named string) *catalog.Readme {
	named = inside(named)
	for _, entry := range archive.File {
		if named == "" || !strings.EqualFold(entry.Name, named) || entry.UncompressedSize64 > maxReadme {
			continue
		}
		if raw, err := ecosystem.ReadZipEntry(ctx, entry, maxReadme); err == nil {
			return &catalog.Readme{Text: string(raw), Format: "text/markdown"}
		}
	}
	return nil
}

// details is what the manifest tells.
func (n *nuspec) details() catalog.Details {
	m := &n.Metadata
	trim := strings.TrimSpace
	f := facts{ID: m.ID, Version: m.Version, Title: trim(m.Title), Summary: trim(m.Summary),
		IconURL: ecosystem.WebOnly(m.IconURL), LicenseURL: ecosystem.WebOnly(m.LicenseURL),
		Language: trim(m.Language), MinClient: trim(m.MinClient), MustAccept: trim(m.MustAccept) == "true",
		Tags: split(m.Tags)}
	switch m.License.Type {
	case "expression":
		f.License = trim(m.License.Text)
	case "file":
		f.LicenceFile = inside(m.License.Text)
	}
	f.Icon, f.Readme = inside(m.Icon), inside(m.Readme)
	for _, t := range m.PackageType {
		f.Types = append(f.Types, t.Name)
	}
	add := func(framework string, all []dependency) {
		g := group{Framework: framework}
		for _, d := range all {
			if isID(d.ID) {
				g.Dependencies = append(g.Dependencies, needed{d.ID, rangeOf(d.Version)})
			}
		}
		f.Groups = append(f.Groups, g)
	}
	if len(m.Dependencies.All) > 0 {
		add("", m.Dependencies.All)
	}
	for _, g := range m.Dependencies.Groups {
		add(g.Framework, g.All)
	}
	d := f.details(trim(m.Description), trim(m.Authors), ecosystem.WebOnly(m.ProjectURL),
		ecosystem.WebOnly(m.Repository.URL))
	if read := n.texts.Or(nil); f.License == "" && read != nil { // an address beside it is one that tools write
		d.Licences = read
	}
	return d
}

// details puts together what is known of a package.
func (f facts) details(description, authors, homepage, source string) catalog.Details {
	d := catalog.Details{Title: f.ID, Description: description, Homepage: homepage, Source: source}
	for author := range strings.SplitSeq(authors, ",") {
		if author = strings.TrimSpace(author); author != "" {
			d.Authors = append(d.Authors, author)
		}
	}
	switch {
	case f.License != "":
		d.Licences = []catalog.Licence{{Name: f.License}}
	case f.LicenseURL != "":
		d.Licences = []catalog.Licence{{Name: f.LicenseURL, URL: f.LicenseURL}}
	}
	for _, g := range f.Groups {
		for _, needs := range g.Dependencies {
			d.Dependencies = append(d.Dependencies, catalog.Dependency{PURL: purl.PURL{Ecosystem: Name,
				Name: strings.ToLower(needs.ID)}.String(),
				Version: needs.Range, Scope: g.Framework})
		}
	}
	raw, err := json.Marshal(f)
	if err != nil {
		panic(err) // strings can be written
	}
	d.Native = map[string]json.RawMessage{nativeFacts: raw}
	return d
}

func factsOf(d catalog.Details, id, version string) facts {
	f := facts{}
	if raw := d.Native[nativeFacts]; raw == nil || json.Unmarshal(raw, &f) != nil || f.ID == "" {
		f.ID, f.Version = id, version
	}
	return f
}

func split(tags string) []string {
	return strings.FieldsFunc(tags, func(r rune) bool {
		return r == ' ' || r == ',' || r == ';' || r == '\n' || r == '\t'
	})
}

// rangeOf writes a range as documents have it: "1.0" means 1.0 or later.
func rangeOf(version string) string {
	version = strings.TrimSpace(version)
	switch {
	case version == "":
		return "(, )"
	case strings.ContainsAny(version, "[(,"):
		return version
	case purl.IsNuGet(version):
		return "[" + purl.NormalVersion(Name, version) + ", )"
	}
	return version
}
