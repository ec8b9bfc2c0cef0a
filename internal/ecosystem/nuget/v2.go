package nuget

import (
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// The v2 protocol is OData 2.0 in Atom, which older clients, and script and machine
// package managers on Windows speak: what they ask for, and no more of OData.

const (
	doorV2 = "v2/"
	// entriesTop is how many entries an answer has at most.
	entriesTop = 100
	// scannedHits is how many packages are looked through for one answer.
	scannedHits = 2_000
	v2Time      = "2006-01-02T15:04:05.000Z"
)

// listed is an entry of the v2 protocol.
type listed struct {
	facts
	name, version    string
	description      string
	authors, project string
	published        time.Time
	downloads        int64
	unlisted         bool
	latest, absolute bool // the highest release; the highest of all
	content          string
	hash             string
	size             int64
}

// property is the value of one that filters may ask for.
func (e *listed) property(name string) (value any, ok bool) {
	switch name {
	case "Id":
		return e.ID, true
	case "Version", "NormalizedVersion":
		return e.version, true
	case "Title":
		return e.Title, true
	case "Description":
		return e.description, true
	case "Summary":
		return e.Summary, true
	case "Tags":
		return " " + strings.Join(e.Tags, " ") + " ", true
	case "Authors":
		return e.authors, true
	case "Dependencies":
		return e.dependencies(), true
	case "IsLatestVersion":
		return e.latest, true
	case "IsAbsoluteLatestVersion":
		return e.absolute, true
	case "IsPrerelease":
		return isPrerelease(e.version), true
	case "Listed":
		return !e.unlisted, true
	case "DownloadCount", "VersionDownloadCount":
		return e.downloads, true
	case "Published", "Created", "LastUpdated":
		return e.published, true
	}
	return nil, false
}

func isPrerelease(version string) bool { return strings.Contains(version, "-") }

// dependencies are written as id:range:framework, with bars between.
func (e *listed) dependencies() string {
	var all []string
	for _, g := range e.Groups {
		if len(g.Dependencies) == 0 && g.Framework != "" {
			all = append(all, "::"+g.Framework)
		}
		for _, d := range g.Dependencies {
			one := d.ID + ":" + d.Range
			if g.Framework != "" {
				one += ":" + g.Framework
			}
			all = append(all, one)
		}
	}
	return strings.Join(all, "|")
}

// getV2 answers the questions of the v2 protocol.
func (n NuGet) getV2(c *ecosystem.Call) error {
	at := strings.TrimPrefix(c.Rest, "v2")
	at = strings.TrimPrefix(at, "/")
	path, counts := strings.CutSuffix(at, "/$count")
	switch {
	case at == "":
		return sendXML(c, c.Repository.ChangedAt, serviceDocument(c.Base()+doorV2))
	case at == "$metadata":
		return sendXML(c, c.Repository.ChangedAt, v2Metadata)
	case strings.HasPrefix(at, "package/"):
		return n.downloadV2(c, strings.Split(strings.TrimPrefix(at, "package/"), "/"))
	case path == "Packages" || path == "Packages()":
		return n.listV2(c, "", counts)
	case path == "Search" || path == "Search()":
		return n.listV2(c, unquoted(c.QueryParam("searchTerm")), counts)
	case path == "FindPackagesById" || path == "FindPackagesById()":
		return n.packageV2(c, unquoted(c.QueryParam("id")), counts)
	case strings.HasPrefix(at, "Packages(") && strings.HasSuffix(at, ")"):
		return n.entryV2(c, strings.TrimSuffix(strings.TrimPrefix(at, "Packages("), ")"))
	}
	return missing(c)
}

func unquoted(text string) string {
	if len(text) >= 2 && text[0] == '\'' && text[len(text)-1] == '\'' {
		text = text[1 : len(text)-1]
	}
	return strings.ReplaceAll(text, "''", "'")
}

// versionsOf are the entries of a package, the oldest first.
func versionsOf(p *catalog.Package, base string) []*listed {
	w := writer{p, base}
	var all []*listed
	var names []string
	for _, v := range ordered(p) {
		e := &listed{facts: factsOf(v.Details, p.Key.Name, v.Version), name: p.Key.Name, version: v.Version,
			description: v.Details.Description,
			authors:     strings.Join(v.Details.Authors, ", "), project: v.Details.Homepage, published: v.PublishedAt.UTC(),
			unlisted: v.Withdrawn != nil, content: w.content(v)}
		e.IconURL, e.LicenseURL = w.embedded(v, e.facts)
		for _, f := range v.Files {
			if f.Extension == packed && f.Digests.Has("sha512") {
				e.hash, e.size = base64.StdEncoding.EncodeToString(f.Digests.SHA512[:]), f.Digests.Size
			}
		}
		if !e.unlisted {
			names = append(names, v.Version)
		}
		all = append(all, e)
	}
	markLatest(all, names)
	return all
}

// markLatest marks the highest of the versions that are listed.
func markLatest(all []*listed, names []string) {
	latest, absolute := "", ""
	for _, name := range names {
		if absolute == "" || purl.Compare(Name, name, absolute) > 0 {
			absolute = name
		}
		if !isPrerelease(name) && (latest == "" || purl.Compare(Name, name, latest) > 0) {
			latest = name
		}
	}
	for _, e := range all {
		e.latest, e.absolute = e.version == latest, e.version == absolute
	}
}

// ofHit are the entries of a package that a search found, the newest first. What it
// says besides is that of the version which arrived last.
func ofHit(h ecosystem.Hit, base string) []*listed {
	var all []*listed
	for _, version := range h.Versions {
		f := factsOf(h.Details, h.Name, h.Latest)
		if version != h.Latest {
			f.Groups = nil
		}
		all = append(all, &listed{facts: f, name: h.Name, version: version, description: h.Details.Description,
			authors: strings.Join(h.Details.Authors, ", "),
			project: h.Details.Homepage, published: h.PublishedAt.UTC(), downloads: h.Downloads, content: base + doorV2 +
				"package/" + h.Name + "/" + version})
	}
	markLatest(all, h.Versions)
	slices.SortFunc(all, func(a, b *listed) int { return purl.Compare(Name, b.version, a.version) })
	return all
}

// idIn finds the id that a filter asks for, where it asks for one.
func idIn(filter string) string {
	for _, begin := range []string{"tolower(Id) eq '", "Id eq '"} {
		if _, rest, ok := strings.Cut(filter, begin); ok && !strings.Contains(filter, " or ") {
			id, _, _ := strings.Cut(rest, "'")
			return id
		}
	}
	return ""
}

// listV2 lists versions of all packages, by their ids; those that are not listed are
// left out.
func (n NuGet) listV2(c *ecosystem.Call, term string, counts bool) error {
	filter := c.QueryParam("$filter")
	if id := idIn(filter); id != "" && term == "" {
		return n.packageV2(c, id, counts)
	}
	fits, err := parseFilter(filter)
	if err != nil {
		return err
	}
	prerelease := c.QueryParam("includePrerelease") == "true" || strings.Contains(filter, "IsAbsoluteLatestVersion") ||
		!strings.HasPrefix(c.Rest, doorV2+"Search")
	skip, top := c.Number("$skip", 0, 100_000), c.Number("$top", entriesTop, entriesTop)
	var found []*listed
	total := 0
	for from := 0; from < scannedHits; from += 200 {
		hits, all, err := c.Desk.Hits(c.Request().Context(), c.Repository, Name,
			ecosystem.Search{Text: strings.ToLower(term), Skip: from, Limit: 200, Snapshots: prerelease})
		if err != nil {
			return err
		}
		for _, h := range hits {
			for _, e := range ofHit(h, c.Base()) {
				if !fits.fits(e) {
					continue
				}
				if total++; total > skip && len(found) < top {
					found = append(found, e)
				}
			}
		}
		if from+200 >= all {
			break
		}
	}
	return n.feed(c, found, total, skip, counts)
}

// packageV2 lists the versions of one package, those that are not listed too.
func (n NuGet) packageV2(c *ecosystem.Call, id string, counts bool) error {
	fits, err := parseFilter(c.QueryParam("$filter"))
	if err != nil {
		return err
	}
	p, err := n.find(c, id)
	if err != nil && !fault.Is(err, fault.NotFound) {
		return err
	}
	var found []*listed
	if p != nil {
		for _, e := range versionsOf(p, c.Base()) {
			// Ids are compared in any case; filters compare letter by letter.
			asked := *e
			asked.ID = id
			if fits.fits(&asked) || fits.fits(e) {
				found = append(found, e)
			}
		}
	}
	if order := c.QueryParam("$orderby"); strings.Contains(order, "desc") {
		slices.Reverse(found)
	}
	total, skip := len(found), c.Number("$skip", 0, 100_000)
	found = found[min(skip, total):]
	return n.feed(c, found[:min(len(found), c.Number("$top", entriesTop, entriesTop))], total, skip, counts)
}

// entryV2 answers Packages(Id='…',Version='…').
func (n NuGet) entryV2(c *ecosystem.Call, key string) error {
	var id, version string
	for part := range strings.SplitSeq(key, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch name {
		case "Id":
			id = unquoted(value)
		case "Version":
			version = purl.NormalVersion(Name, unquoted(value))
		}
	}
	p, err := n.find(c, id)
	if err != nil {
		return err
	}
	for _, e := range versionsOf(p, c.Base()) {
		if e.version == version {
			x := e.entry(c.Base() + doorV2)
			x.Xmlns, x.D, x.M = atomNamespace, dataNamespace, metadataNamespace
			return sendXML(c, p.Changed, x)
		}
	}
	return c.Absent(p.Key, version, missing(c))
}

// downloadV2 leads to the package itself: of a version, or the highest release.
func (n NuGet) downloadV2(c *ecosystem.Call, of []string) error {
	p, err := n.find(c, of[0])
	if err != nil {
		return err
	}
	wanted := ""
	if len(of) > 1 {
		wanted = purl.NormalVersion(Name, of[1])
	}
	for _, e := range versionsOf(p, c.Base()) {
		if len(of) <= 2 && e.content != "" && (e.version == wanted || wanted == "" && e.latest) {
			return c.Redirect(http.StatusFound, e.content)
		}
	}
	return c.Absent(p.Key, wanted, missing(c))
}

// feed answers with entries, or with how many there are.
func (n NuGet) feed(c *ecosystem.Call, found []*listed, total, skip int, counts bool) error {
	if counts {
		return c.String(http.StatusOK, strconv.Itoa(total))
	}
	base := c.Base() + doorV2
	f := atomFeed{Base: base, Xmlns: atomNamespace, D: dataNamespace, M: metadataNamespace, ID: c.Base() + c.Rest,
		Title: "Packages", Updated: c.Repository.ChangedAt.UTC().Format(v2Time)}
	if c.QueryParam("$inlinecount") == "allpages" {
		f.Count = strconv.Itoa(total)
	}
	for _, e := range found {
		f.Entries = append(f.Entries, e.entry(base))
	}
	if next := skip + len(found); next < total && len(found) > 0 && c.QueryParam("$top") == "" {
		query := url.Values{}
		for name, values := range c.Request().URL.Query() {
			query[name] = values
		}
		query.Set("$skip", strconv.Itoa(next))
		f.Link = &atomLink{Rel: "next", Href: c.Base() + c.Rest + "?" + query.Encode()}
	}
	return sendXML(c, time.Time{}, f)
}

const (
	atomNamespace     = "http://www.w3.org/2005/Atom"
	dataNamespace     = "http://schemas.microsoft.com/ado/2007/08/dataservices"
	metadataNamespace = "http://schemas.microsoft.com/ado/2007/08/dataservices/metadata"
)

type atomFeed struct {
	XMLName xml.Name    `xml:"feed"`
	Base    string      `xml:"xml:base,attr"`
	Xmlns   string      `xml:"xmlns,attr"`
	D       string      `xml:"xmlns:d,attr"`
	M       string      `xml:"xmlns:m,attr"`
	Count   string      `xml:"m:count,omitempty"`
	ID      string      `xml:"id"`
	Title   string      `xml:"title"`
	Updated string      `xml:"updated"`
	Entries []atomEntry `xml:"entry"`
	Link    *atomLink   `xml:"link"`
}

type atomLink struct {
	Rel  string `xml:"rel,attr"`
	Href string `xml:"href,attr"`
}

type atomEntry struct {
	XMLName  xml.Name `xml:"entry"`
	Xmlns    string   `xml:"xmlns,attr,omitempty"`
	D        string   `xml:"xmlns:d,attr,omitempty"`
	M        string   `xml:"xmlns:m,attr,omitempty"`
	ID       string   `xml:"id"`
	Category struct {
		Term   string `xml:"term,attr"`
		Scheme string `xml:"scheme,attr"`
	} `xml:"category"`
	Title   string `xml:"title"`
	Summary string `xml:"summary"`
	Updated string `xml:"updated"`
	Author  string `xml:"author>name"`
	Content struct {
		Type string `xml:"type,attr"`
		Src  string `xml:"src,attr"`
	} `xml:"content"`
	Properties []property `xml:"m:properties>property"`
}

// property is an element d:Name with the type of its value.
type property struct {
	name, kind, value string
}

// MarshalXML implements xml.Marshaler.
func (p property) MarshalXML(e *xml.Encoder, _ xml.StartElement) error {
	start := xml.StartElement{Name: xml.Name{Local: "d:" + p.name}}
	if p.kind != "" {
		start.Attr = []xml.Attr{{Name: xml.Name{Local: "m:type"}, Value: "Edm." + p.kind}}
	}
	return e.EncodeElement(p.value, start)
}

func (e *listed) entry(base string) atomEntry {
	x := atomEntry{ID: fmt.Sprintf("%sPackages(Id='%s',Version='%s')", base, e.ID, e.version), Title: e.ID,
		Summary: e.Summary, Updated: e.published.Format(v2Time), Author: e.authors}
	x.Category.Term, x.Category.Scheme = "V2.Package", "http://schemas.microsoft.com/ado/2007/08/dataservices/scheme"
	x.Content.Type, x.Content.Src = "application/zip", e.content
	published := e.published
	if e.unlisted {
		published = time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC) // the protocol's mark of unlisted versions
	}
	yes := strconv.FormatBool
	x.Properties = []property{{"Id", "", e.ID}, {"Version", "", e.version}, {"NormalizedVersion", "", e.version},
		{"Title", "", e.Title}, {"Authors", "", e.authors},
		{"Description", "", e.description}, {"Summary", "", e.Summary}, {"Tags", "", strings.Join(e.Tags, " ")},
		{"Dependencies", "", e.dependencies()},
		{"ProjectUrl", "", e.project}, {"IconUrl", "", e.IconURL}, {"LicenseUrl", "", e.LicenseURL},
		{"Language", "", e.Language}, {"MinClientVersion", "", e.MinClient},
		{"RequireLicenseAcceptance", "Boolean", yes(e.MustAccept)}, {"IsLatestVersion", "Boolean", yes(e.latest)},
		{"IsAbsoluteLatestVersion", "Boolean", yes(e.absolute)},
		{"IsPrerelease", "Boolean", yes(isPrerelease(e.version))}, {"Listed", "Boolean", yes(!e.unlisted)},
		{"Published", "DateTime", published.Format(v2Time)},
		{"Created", "DateTime", e.published.Format(v2Time)}, {"LastUpdated", "DateTime", e.published.Format(v2Time)},
		{"DownloadCount", "Int32", strconv.FormatInt(e.downloads, 10)},
		{"VersionDownloadCount", "Int32", strconv.FormatInt(e.downloads, 10)}}
	if e.hash != "" {
		x.Properties = append(x.Properties, property{"PackageHash", "", e.hash},
			property{"PackageHashAlgorithm", "", "SHA512"}, property{"PackageSize", "Int64", strconv.FormatInt(e.size, 10)})
	}
	return x
}

func sendXML(c *ecosystem.Call, changed time.Time, v any) error {
	raw, ok := v.(string)
	if !ok {
		made, err := xml.Marshal(v)
		if err != nil {
			return err
		}
		raw = string(made)
	}
	contentType := "application/xml; charset=utf-8"
	if !ok {
		contentType = "application/atom+xml; charset=utf-8"
	}
	return c.SendDocument(ecosystem.NewDocument(contentType, []byte(xml.Header+raw), changed), nil)
}

func serviceDocument(base string) string {
	return `<service xml:base="` + base +
		`" xmlns="http://www.w3.org/2007/app" xmlns:atom="http://www.w3.org/2005/Atom"><workspace><atom:title>Default</atom:title>` +
		`<collection href="Packages"><atom:title>Packages</atom:title></collection></workspace></service>`
}

// v2Metadata tells clients which questions they may ask.
var v2Metadata = func() string {
	var b strings.Builder
	b.WriteString(
		`<edmx:Edmx Version="1.0" xmlns:edmx="http://schemas.microsoft.com/ado/2007/06/edmx"><edmx:DataServices m:DataServiceVersion="2.0" m:MaxDataServiceVersion="2.0" xmlns:m="` + metadataNamespace + `">` +
			`<Schema Namespace="V2" xmlns="http://schemas.microsoft.com/ado/2006/04/edm"><EntityType Name="Package" m:HasStream="true"><Key><PropertyRef Name="Id" /><PropertyRef Name="Version" /></Key>`)
	for _, p := range new(listed).entry("").Properties {
		kind := p.kind
		if kind == "" {
			kind = "String"
		}
		fmt.Fprintf(&b, `<Property Name="%s" Type="Edm.%s" Nullable="%t" />`, p.name, kind, p.name != "Id" &&
			p.name != "Version")
	}
	b.WriteString(
		`</EntityType><EntityContainer Name="Feed" m:IsDefaultEntityContainer="true"><EntitySet Name="Packages" EntityType="V2.Package" />`)
	for _, f := range [][]string{{"Search", "searchTerm", "targetFramework", "includePrerelease", "semVerLevel"},
		{"FindPackagesById", "id", "semVerLevel"}} {
		b.WriteString(`<FunctionImport Name="` + f[0] +
			`" ReturnType="Collection(V2.Package)" EntitySet="Packages" m:HttpMethod="GET">`)
		for _, parameter := range f[1:] {
			kind := "String"
			if parameter == "includePrerelease" {
				kind = "Boolean"
			}
			b.WriteString(`<Parameter Name="` + parameter + `" Type="Edm.` + kind + `" />`)
		}
		b.WriteString("</FunctionImport>")
	}
	b.WriteString("</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>")
	return b.String()
}()
