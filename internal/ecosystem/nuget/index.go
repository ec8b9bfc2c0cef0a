package nuget

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"slices"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// What the doors of the protocol are named
// (https://learn.microsoft.com/nuget/api/overview).
const doorFlat, doorRegistration, doorSearch, doorComplete, doorPackage, doorSymbols = "flat/", "registration/",
	"search", "autocomplete", "package", "symbols"

// A registration index has its pages inside up to inlineVersions; a page has at
// most pageVersions.
const inlineVersions, pageVersions = 128, 64

type resource struct {
	ID   string `json:"@id"`
	Type string `json:"@type"`
}

// serviceIndex is what the clients begin with. They look for several names of
// one thing, newer ones first.
// Where nothing is known of vulnerabilities, that is not offered; nor, where there are
// plain files alone, what only a server can answer.
func serviceIndex(base string, advised, plain bool) any {
	var all []resource
	for _, r := range []struct {
		path    string
		answers bool
		types   []string
	}{
		{doorFlat, false, []string{"PackageBaseAddress/3.0.0"}},
		{doorRegistration, false, []string{"RegistrationsBaseUrl", "RegistrationsBaseUrl/3.0.0-beta",
			"RegistrationsBaseUrl/3.0.0-rc", "RegistrationsBaseUrl/3.4.0", "RegistrationsBaseUrl/3.6.0",
			"RegistrationsBaseUrl/Versioned"}},
		{doorSearch, true, []string{"SearchQueryService", "SearchQueryService/3.0.0-beta", "SearchQueryService/3.0.0-rc",
			"SearchQueryService/3.4.0", "SearchQueryService/3.5.0", "SearchQueryService/3.6.0", "SearchQueryService/Versioned"}},
		{doorComplete, true, []string{"SearchAutocompleteService", "SearchAutocompleteService/3.0.0-beta",
			"SearchAutocompleteService/3.0.0-rc", "SearchAutocompleteService/3.5.0"}},
		{doorPackage, true, []string{"PackagePublish/2.0.0"}},
		{doorSymbols, true, []string{"SymbolPackagePublish/4.9.0"}},
		{doorV2, true, []string{"LegacyGallery", "LegacyGallery/2.0.0"}},
		{doorFlat + "{lower_id}/{lower_version}/readme", false, []string{"ReadmeUriTemplate/6.13.0"}},
	} {
		if plain && r.answers {
			continue
		}
		for _, t := range r.types {
			all = append(all, resource{base + r.path, t})
		}
	}
	if advised {
		all = append(all, resource{base + doorAdvised + "index.json", "VulnerabilityInfo/6.7.0"})
	}
	return map[string]any{"version": "3.0.0", "resources": all}
}

type registration struct {
	ID    string   `json:"@id"`
	Type  []string `json:"@type,omitempty"`
	Count int      `json:"count"`
	Items []page   `json:"items"`
}

type page struct {
	ID     string `json:"@id"`
	Type   string `json:"@type,omitempty"`
	Parent string `json:"parent,omitempty"`
	Count  int    `json:"count"`
	Lower  string `json:"lower"`
	Upper  string `json:"upper"`
	Items  []leaf `json:"items,omitempty"`
}

type leaf struct {
	ID           string `json:"@id"`
	Entry        entry  `json:"catalogEntry"`
	Content      string `json:"packageContent"`
	Registration string `json:"registration"`
}

type entry struct {
	AtID        string       `json:"@id"`
	ID          string       `json:"id"`
	Version     string       `json:"version"`
	Authors     authors      `json:"authors"`
	Description string       `json:"description"`
	Groups      []entryGroup `json:"dependencyGroups,omitempty"`
	Deprecation *deprecation `json:"deprecation,omitempty"`
	IconURL     string       `json:"iconUrl"`
	Language    string       `json:"language"`
	License     string       `json:"licenseExpression"`
	LicenseURL  string       `json:"licenseUrl"`
	Listed      *bool        `json:"listed"`
	MinClient   string       `json:"minClientVersion"`
	Content     string       `json:"packageContent"`
	ProjectURL  string       `json:"projectUrl"`
	Published   string       `json:"published"`
	MustAccept  bool         `json:"requireLicenseAcceptance"`
	Summary     string       `json:"summary"`
	Tags        tags         `json:"tags"`
	Title       string       `json:"title"`
	Hash        string       `json:"packageHash,omitempty"`
	Algorithm   string       `json:"packageHashAlgorithm,omitempty"`
	Size        int64        `json:"packageSize,omitempty"`
}

type entryGroup struct {
	Framework    string            `json:"targetFramework,omitempty"`
	Dependencies []entryDependency `json:"dependencies,omitempty"`
}

type entryDependency struct {
	ID           string `json:"id"`
	Range        string `json:"range"`
	Registration string `json:"registration,omitempty"`
}

type deprecation struct {
	Message string   `json:"message"`
	Reasons []string `json:"reasons"`
}

const timeForm = "2006-01-02T15:04:05.000Z"

// writer makes the documents of a package; base is the address of the door.
type writer struct {
	p    *catalog.Package
	base string
}

func (w writer) registration() string { return w.base + doorRegistration + w.p.Key.Name + "/" }

func (w writer) content(v *catalog.Version) string {
	for _, f := range v.Files {
		if f.Extension == packed {
			return w.base + NuGet{}.Address(purl.PURL{Ecosystem: Name, Name: w.p.Key.Name, Version: v.Version}, v.Upload, f)
		}
	}
	return ""
}

// embedded are the addresses of a version's icon and licence, of those in the package
// where there are some.
func (w writer) embedded(v *catalog.Version, f facts) (icon, licence string) {
	at := w.base + doorFlat + w.p.Key.Name + "/" + v.Version + "/"
	icon, licence = f.IconURL, f.LicenseURL
	if f.Icon != "" {
		icon = at + embeddedIcon
	}
	if f.LicenceFile != "" {
		licence = at + embeddedLicence
	}
	return icon, licence
}

func (w writer) leaf(v *catalog.Version) leaf {
	at := w.registration() + v.Version + ".json"
	f := factsOf(v.Details, w.p.Key.Name, v.Version)
	listed, published := v.Withdrawn == nil, v.PublishedAt.UTC().Format(timeForm)
	l := leaf{ID: at, Content: w.content(v), Registration: w.registration() + "index.json"}
	e := &l.Entry
	*e = entry{AtID: at, ID: f.ID, Version: v.Version, Authors: authors(v.Details.Authors),
		Description: v.Details.Description, IconURL: f.IconURL,
		Language: f.Language, License: f.License, LicenseURL: f.LicenseURL, Listed: &listed, MinClient: f.MinClient,
		Content:    l.Content,
		ProjectURL: v.Details.Homepage, Published: published, MustAccept: f.MustAccept, Summary: f.Summary,
		Tags: tags(f.Tags), Title: f.Title}
	e.IconURL, e.LicenseURL = w.embedded(v, f)
	if !listed {
		e.Published = time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC).Format(timeForm) // the protocol's mark of unlisted versions
		if v.Withdrawn.Reason != "" {
			e.Deprecation = &deprecation{Message: v.Withdrawn.Reason, Reasons: []string{"Other"}}
		}
	}
	for _, file := range v.Files {
		if file.Extension == packed && file.Digests.Has("sha512") {
			e.Hash, e.Algorithm, e.Size = base64.StdEncoding.EncodeToString(file.Digests.SHA512[:]), "SHA512", file.Digests.Size
		}
	}
	for _, g := range f.Groups {
		shown := entryGroup{Framework: g.Framework}
		for _, d := range g.Dependencies {
			shown.Dependencies = append(shown.Dependencies, entryDependency{ID: d.ID, Range: d.Range})
		}
		e.Groups = append(e.Groups, shown)
	}
	return l
}

// ordered are the newest uploads of all versions, the oldest version first.
func ordered(p *catalog.Package) []*catalog.Version {
	all := ecosystem.Newest(p)
	slices.SortFunc(all, func(a, b *catalog.Version) int { return purl.Compare(Name, a.Version, b.Version) })
	return all
}

// pages parts the versions; with all, their leaves are inside.
func (w writer) pages(versions []*catalog.Version, all bool) []page {
	var pages []page
	size := pageVersions
	if all && len(versions) <= inlineVersions {
		size = inlineVersions
	}
	for part := range slices.Chunk(versions, size) {
		lower, upper := part[0].Version, part[len(part)-1].Version
		p := page{ID: w.registration() + "page/" + lower + "/" + upper + ".json", Type: "catalog:CatalogPage",
			Parent: w.registration() + "index.json",
			Count:  len(part), Lower: lower, Upper: upper}
		if all {
			for _, v := range part {
				p.Items = append(p.Items, w.leaf(v))
			}
		}
		pages = append(pages, p)
	}
	return pages
}

func jsonDocument(v any, changed time.Time) (ecosystem.Document, error) {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(v)
	return ecosystem.NewDocument("application/json", b.Bytes(), changed), err
}

// index is the registration index.
func (w writer) index() (ecosystem.Document, error) {
	versions := ordered(w.p)
	r := registration{ID: w.registration() + "index.json",
		Type: []string{"catalog:CatalogRoot", "PackageRegistration", "catalog:Permalink"}}
	r.Items = w.pages(versions, len(versions) <= inlineVersions)
	r.Count = len(r.Items)
	return jsonDocument(r, w.p.Changed)
}

// page is a page that does not stand in the index; ok is false if there is none
// of that name.
func (w writer) page(lower, upper string) (d ecosystem.Document, ok bool, err error) {
	versions := ordered(w.p)
	from := slices.IndexFunc(versions, func(v *catalog.Version) bool { return v.Version == lower })
	to := slices.IndexFunc(versions, func(v *catalog.Version) bool { return v.Version == upper })
	// The bounds are those of an index that may be older than what is here now.
	if from < 0 || to < from || to-from >= 4*pageVersions {
		return d, false, nil
	}
	p := page{ID: w.registration() + "page/" + lower + "/" + upper + ".json", Type: "catalog:CatalogPage",
		Parent: w.registration() + "index.json",
		Count:  to - from + 1, Lower: lower, Upper: upper}
	for _, v := range versions[from : to+1] {
		p.Items = append(p.Items, w.leaf(v))
	}
	d, err = jsonDocument(p, w.p.Changed)
	return d, true, err
}

// flat is the list of versions of the flat container, unlisted ones included.
func flat(p *catalog.Package) (ecosystem.Document, error) {
	names := []string{}
	for _, v := range ordered(p) {
		names = append(names, v.Version)
	}
	return jsonDocument(map[string]any{"versions": names}, p.Changed)
}

type found struct {
	ID           string              `json:"@id"`
	Type         string              `json:"@type"`
	Registration string              `json:"registration"`
	Name         string              `json:"id"`
	Version      string              `json:"version"`
	Description  string              `json:"description"`
	Summary      string              `json:"summary"`
	Title        string              `json:"title"`
	IconURL      string              `json:"iconUrl"`
	LicenseURL   string              `json:"licenseUrl"`
	ProjectURL   string              `json:"projectUrl"`
	Tags         []string            `json:"tags"`
	Authors      []string            `json:"authors"`
	Downloads    int64               `json:"totalDownloads"`
	Verified     bool                `json:"verified"`
	Types        []map[string]string `json:"packageTypes"`
	Versions     []foundVersion      `json:"versions"`
}

type foundVersion struct {
	ID        string `json:"@id"`
	Version   string `json:"version"`
	Downloads int64  `json:"downloads"`
}

// answerOf is what a search finds.
func answerOf(hits []ecosystem.Hit, total int, base string) any {
	data := []found{}
	for _, h := range hits {
		f := factsOf(h.Details, h.Name, h.Latest)
		at := base + doorRegistration + h.Name + "/"
		one := found{ID: at + "index.json", Type: "Package", Registration: at + "index.json", Name: f.ID,
			Description: h.Details.Description,
			Summary:     f.Summary, Title: f.Title, IconURL: f.IconURL, LicenseURL: f.LicenseURL, ProjectURL: h.Details.Homepage,
			Tags: append([]string{}, f.Tags...), Authors: append([]string{}, h.Details.Authors...), Downloads: h.Downloads}
		for _, t := range f.Types {
			one.Types = append(one.Types, map[string]string{"name": t})
		}
		if one.Types == nil {
			one.Types = []map[string]string{{"name": "Dependency"}}
		}
		slices.SortFunc(h.Versions, func(a, b string) int { return purl.Compare(Name, a, b) })
		for _, v := range h.Versions {
			one.Versions = append(one.Versions, foundVersion{ID: at + v + ".json", Version: v})
			one.Version = v
		}
		data = append(data, one)
	}
	return map[string]any{"totalHits": total, "data": data}
}
