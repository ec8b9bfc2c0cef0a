package maven

import (
	"archive/zip"
	"context"
	"encoding/xml"
	"io"
	"regexp"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const maxPOM = 4 << 20

// pom is what Crelvo reads of a project object model
// (https://maven.apache.org/pom.html).
type pom struct {
	XMLName     xml.Name   `xml:"project"`
	GroupID     string     `xml:"groupId"`
	ArtifactID  string     `xml:"artifactId"`
	Version     string     `xml:"version"`
	Packaging   string     `xml:"packaging"`
	Name        string     `xml:"name"`
	Description string     `xml:"description"`
	URL         string     `xml:"url"`
	SCM         string     `xml:"scm>url"`
	Parent      *pomParent `xml:"parent"`
	Licences    []struct {
		Name string `xml:"name"`
		URL  string `xml:"url"`
	} `xml:"licenses>license"`
	Developers []struct {
		Name string `xml:"name"`
	} `xml:"developers>developer"`
	Properties struct {
		All []struct {
			XMLName xml.Name
			Value   string `xml:",chardata"`
		} `xml:",any"`
	} `xml:"properties"`
	Dependencies []struct {
		GroupID    string `xml:"groupId"`
		ArtifactID string `xml:"artifactId"`
		Version    string `xml:"version"`
		Scope      string `xml:"scope"`
		Optional   string `xml:"optional"`
	} `xml:"dependencies>dependency"`
}

type pomParent struct {
	GroupID    string `xml:"groupId"`
	ArtifactID string `xml:"artifactId"`
	Version    string `xml:"version"`
}

// parsePOM reads a pom.
func parsePOM(r io.Reader) (*pom, error) {
	p := new(pom)
	if err := ecosystem.DecodeXML(r, p); err != nil {
		return nil, fault.New(fault.Invalid, "bad-pom", "the pom cannot be read: %s", trimXML(err)).
			WithHint("A pom is an XML document whose root element is <project>.")
	}
	p.resolve()
	return p, nil
}

func trimXML(err error) string {
	return strings.TrimPrefix(err.Error(), "XML syntax error on ")
}

var propertyForm = regexp.MustCompile(`\$\{([^${}]+)\}`)

// resolve takes what is inherited from the parent and fills in properties that
// the pom itself defines. What it cannot know stays as it is written.
func (p *pom) resolve() {
	trim := func(fields ...*string) {
		for _, f := range fields {
			*f = strings.TrimSpace(*f)
		}
	}
	trim(&p.GroupID, &p.ArtifactID, &p.Version, &p.Packaging, &p.Name, &p.Description, &p.URL, &p.SCM)
	if p.Parent != nil {
		trim(&p.Parent.GroupID, &p.Parent.ArtifactID, &p.Parent.Version)
		if p.GroupID == "" {
			p.GroupID = p.Parent.GroupID
		}
		if p.Version == "" {
			p.Version = p.Parent.Version
		}
	}
	if p.Packaging == "" {
		p.Packaging = "jar"
	}
	properties := map[string]string{}
	for _, property := range p.Properties.All {
		properties[property.XMLName.Local] = strings.TrimSpace(property.Value)
	}
	fill := func(fields ...*string) {
		for _, f := range fields {
			// Properties may name properties; a few rounds are plenty, and a circle ends.
			for range 4 {
				*f = expand(*f, properties)
			}
		}
	}
	fill(&p.GroupID, &p.ArtifactID, &p.Version)
	for name, value := range map[string]string{"groupId": p.GroupID, "artifactId": p.ArtifactID, "version": p.Version} {
		properties["project."+name], properties["pom."+name] = value, value
	}
	fill(&p.Name, &p.Description, &p.URL, &p.SCM, &p.Packaging)
	for i := range p.Dependencies {
		d := &p.Dependencies[i]
		trim(&d.GroupID, &d.ArtifactID, &d.Version, &d.Scope, &d.Optional)
		fill(&d.GroupID, &d.ArtifactID, &d.Version)
	}
}

// maxExpanded is how long a text may become by its properties, in bytes; from
// there on they stay as they are written.
const maxExpanded = 16 << 10

// expand puts the values of properties in their places.
func expand(text string, properties map[string]string) string {
	if !strings.Contains(text, "${") {
		return text
	}
	var b strings.Builder
	at := 0
	for _, found := range propertyForm.FindAllStringSubmatchIndex(text, 1000) {
		value, ok := properties[text[found[2]:found[3]]]
		if !ok || b.Len()+len(value) > maxExpanded {
			continue
		}
		b.WriteString(text[at:found[0]] + value)
		at = found[1]
	}
	return b.String() + text[at:]
}

// disagrees tells whether a coordinate of a pom contradicts what is wanted;
// one with an open property might still be the same.
func disagrees(stated, wanted string) bool {
	return stated != wanted && !strings.Contains(stated, "${")
}

func (p *pom) details() catalog.Details {
	d := catalog.Details{Title: p.Name, Description: p.Description, Homepage: p.URL, Source: p.SCM, Packaging: p.Packaging}
	if p.Parent != nil {
		d.Parent = purl.PURL{Ecosystem: Name, Namespace: p.Parent.GroupID, Name: p.Parent.ArtifactID,
			Version: p.Parent.Version}.String()
	}
	for _, l := range p.Licences {
		d.Licences = append(d.Licences, catalog.Licence{Name: strings.TrimSpace(l.Name), URL: strings.TrimSpace(l.URL)})
	}
	for _, a := range p.Developers {
		if name := strings.TrimSpace(a.Name); name != "" {
			d.Authors = append(d.Authors, name)
		}
	}
	for _, dep := range p.Dependencies {
		if dep.GroupID == "" || dep.ArtifactID == "" {
			continue
		}
		d.Dependencies = append(d.Dependencies, catalog.Dependency{
			PURL:    purl.PURL{Ecosystem: Name, Namespace: dep.GroupID, Name: dep.ArtifactID}.String(),
			Version: dep.Version, Scope: dep.Scope, Optional: dep.Optional == "true"})
	}
	return d
}

// Inspect implements ecosystem.Ecosystem.
func (m Maven) Inspect(
	ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt,
) (catalog.Details, error) {
	switch {
	case place.Extension == "pom" && place.Classifier == "":
		if file.Size() > maxPOM {
			return catalog.Details{}, fault.New(fault.Invalid, "bad-pom", "the pom has %d bytes; at most %d are accepted",
				file.Size(), maxPOM)
		}
		p, err := parsePOM(io.NewSectionReader(file, 0, file.Size()))
		if err != nil {
			return catalog.Details{}, err
		}
		if disagrees(p.GroupID, place.Namespace) || !slices.ContainsFunc(stems(place.Name), func(stem string) bool {
			return !disagrees(p.ArtifactID, stem)
		}) || disagrees(p.Version, place.Version) {
			return catalog.Details{}, fault.New(fault.Invalid, "pom-disagrees",
				"the pom says %s:%s:%s, but it was sent as %s:%s:%s",
				p.GroupID, p.ArtifactID, p.Version, place.Namespace, place.Name, place.Version).
				WithHint("Send it to the path of its own coordinates.").WithCause(ecosystem.ErrDisagrees)
		}
		return p.details(), nil
	case slices.Contains(zipExtensions, place.Extension):
		entries, err := ecosystem.ZipEntries(file)
		if err != nil {
			return catalog.Details{}, fault.New(fault.Invalid, "bad-archive", "%s is not a zip archive: %v", place.FileName,
				err).
				WithHint("A .%s must be one; the file may have been cut.", place.Extension)
		}
		if place.Extension == "jar" && place.Classifier == "" && entries <= ecosystem.MaxEntries {
			return jarDetails(ctx, file), nil
		}
	}
	return catalog.Details{}, nil
}

var zipExtensions = []string{"jar", "war", "ear", "aar", "zip"}

// jarDetails is what a jar says of itself: the goal prefix of a plugin, and under which licence it is, by the
// texts in it, where its pom does not say so.
func jarDetails(ctx context.Context, file ecosystem.SizedReaderAt) (d catalog.Details) {
	archive, err := zip.NewReader(file, file.Size())
	if err != nil {
		return d
	}
	d.PluginPrefix = pluginPrefix(archive)
	var texts ecosystem.LicenceTexts
	texts.ReadZip(ctx, archive, func(name string) bool {
		return ecosystem.IsLicenceFile(strings.TrimPrefix(name, "META-INF/"))
	})
	d.Licences = texts.Or(nil)
	return d
}

// pluginPrefix is the goal prefix that a plugin's jar states, or "".
func pluginPrefix(archive *zip.Reader) string {
	entry, err := archive.Open("META-INF/maven/plugin.xml")
	if err != nil {
		return ""
	}
	defer entry.Close()
	var plugin struct {
		XMLName    xml.Name `xml:"plugin"`
		GoalPrefix string   `xml:"goalPrefix"`
	}
	if ecosystem.DecodeXML(io.LimitReader(entry, maxPOM), &plugin) != nil {
		return ""
	}
	return strings.TrimSpace(plugin.GoalPrefix)
}

// Whole implements ecosystem.Ecosystem: a pom, and the main artifact that the
// pom promises.
func (m Maven) Whole(details catalog.Details, files []catalog.File) bool {
	var hasPOM, hasMain bool
	for _, f := range files {
		hasPOM = hasPOM || f.Extension == "pom" && f.Classifier == ""
		hasMain = hasMain || f.Extension != "pom" && f.Classifier == "" && !isSignature(f.Extension)
	}
	return hasPOM && (hasMain || details.Packaging == "pom")
}

func isSignature(extension string) bool {
	return slices.ContainsFunc(signatureEndings, func(ending string) bool {
		return strings.HasSuffix("."+extension, ending)
	})
}
