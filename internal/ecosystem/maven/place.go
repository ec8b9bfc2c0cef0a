package maven

import (
	"archive/zip"
	"context"
	"encoding/xml"
	"io"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Place implements ecosystem.Ecosystem. Coordinates come from as, from a pom
// that was handed over, or from the pom inside a jar, in this order.
func (m Maven) Place(ctx context.Context, files []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Name != "" && as.Ecosystem != Name {
		return nil, ecosystem.ErrNotMine
	}
	pomFile := slices.IndexFunc(files, func(h ecosystem.Handed) bool { return isPOM(h.Name) })
	var stated *pom
	var made []byte
	switch {
	case pomFile >= 0:
		p, err := parsePOM(io.NewSectionReader(files[pomFile], 0, min(files[pomFile].Size(), maxPOM)))
		if err != nil {
			return nil, err
		}
		stated = p
	default:
		if as.Name == "" && !slices.ContainsFunc(files, func(h ecosystem.Handed) bool { return mayBeMaven(h.Name) }) {
			return nil, ecosystem.ErrNotMine
		}
		inside, content, err := pomInside(ctx, files, as)
		if err != nil {
			return nil, err
		}
		stated, made = inside, content
	}
	coordinates := as
	if as.Name == "" {
		if stated == nil {
			return nil, fault.New(fault.Invalid, "no-coordinates", "nothing in %s says what it is", files[0].Name).
				WithHint("Hand over its pom beside it, or say what it is: --as pkg:maven/group/artifact@version.")
		}
		coordinates = purl.PURL{Ecosystem: Name, Namespace: stated.GroupID, Name: stated.ArtifactID, Version: stated.Version}
	}
	if coordinates.Namespace == "" || coordinates.Version == "" || strings.Contains(coordinates.String(), "$%7B") {
		return nil, fault.New(fault.Invalid, "no-coordinates", "%s does not say group, artifact and version", coordinates).
			WithHint("Say what it is: --as pkg:maven/group/artifact@version.")
	}
	if err := checkSegments([]string{coordinates.Namespace, coordinates.Name, coordinates.Version}); err != nil {
		return nil, err
	}
	if stated == nil {
		var err error
		if made, err = makePOM(coordinates, files); err != nil {
			return nil, err
		}
	}
	var placed []ecosystem.Placed
	for i, h := range files {
		classifier, extension := "", "pom"
		if i != pomFile {
			classifier, extension = partsOf(h.Name, coordinates, as.Qualifiers)
		}
		if err := checkName(coordinates, classifier, extension); err != nil {
			return nil, err
		}
		placed = append(placed, ecosystem.Placed{File: i, Place: placeOf(coordinates, classifier, extension)})
	}
	if made != nil {
		placed = append(placed, ecosystem.Placed{File: -1, Content: made, Place: placeOf(coordinates, "", "pom")})
	}
	return placed, nil
}

// checkName refuses a classifier and an extension that a file of the layout cannot
// have, or that would be read back as others.
func checkName(c purl.PURL, classifier, extension string) error {
	name := fileName(c.Name, c.Version, classifier, extension)
	t := target{segments: append(strings.Split(c.Namespace, "."), c.Name, c.Version, name)}
	if err := checkSegments(t.segments); err != nil {
		return err
	}
	if err := t.parseArtifact(); err != nil {
		return err
	}
	if t.place.Classifier != classifier || t.place.Extension != extension {
		return fault.New(fault.Invalid, "bad-file-name", "%q would be read as the classifier %q and the type %q", name,
			t.place.Classifier, t.place.Extension).
			WithHint("A classifier has no dots, and a type is an extension such as jar or tar.gz.")
	}
	return nil
}

func isPOM(name string) bool { return path.Ext(name) == ".pom" || path.Base(name) == "pom.xml" }

func mayBeMaven(name string) bool {
	return slices.Contains(zipExtensions[:len(zipExtensions)-1], strings.TrimPrefix(path.Ext(name), "."))
}

func placeOf(c purl.PURL, classifier, extension string) ecosystem.Place {
	p := ecosystem.Place{Namespace: c.Namespace, Name: c.Name, Version: c.Version,
		Snapshot: purl.IsSnapshot(Name, c.Version), Classifier: classifier, Extension: extension,
		FileName: fileName(c.Name, c.Version, classifier, extension)}
	if p.Snapshot {
		p.Rename = renamer(p.Name, p)
	}
	return p
}

// partsOf finds classifier and extension of a file: from the qualifiers of its
// purl, else from its name.
func partsOf(name string, c purl.PURL, qualifiers map[string]string) (classifier, extension string) {
	base := path.Base(name)
	if rest, ok := strings.CutPrefix(base, c.Name+"-"+c.Version); ok {
		classifier, extension, _ = splitClassifier(rest)
	}
	if extension == "" {
		stem := strings.TrimSuffix(base, path.Ext(base))
		extension = strings.TrimPrefix(path.Ext(base), ".")
		for _, usual := range []string{"sources", "javadoc", "tests"} {
			if strings.HasSuffix(stem, "-"+usual) {
				classifier = usual
			}
		}
		for _, ending := range compoundEndings {
			if strings.HasSuffix(base, ending) {
				extension = ending[1:]
			}
		}
	}
	if q := qualifiers["classifier"]; q != "" {
		classifier = q
	}
	if q := qualifiers["type"]; q != "" {
		extension = q
	}
	if extension == "" {
		extension = "jar"
	}
	return classifier, extension
}

// pomInside finds the pom in a jar. With several inside, as in a jar that was
// put together from others, the one named like the file is meant. Nothing found
// is no error.
func pomInside(ctx context.Context, files []ecosystem.Handed, as purl.PURL) (*pom, []byte, error) {
	for _, h := range files {
		if !mayBeMaven(h.Name) {
			continue
		}
		entries, err := ecosystem.ZipEntries(h)
		if err != nil {
			return nil, nil, fault.New(fault.Invalid, "bad-archive", "%s is not a zip archive: %v", h.Name, err).
				WithHint("The file may have been cut.")
		}
		if entries > ecosystem.MaxEntries {
			continue
		}
		archive, err := zip.NewReader(h, h.Size())
		if err != nil {
			return nil, nil, fault.New(fault.Invalid, "bad-archive", "%s is not a zip archive: %v", h.Name, err)
		}
		var best *pom
		var content []byte
		found, looked := 0, 0
		for _, entry := range archive.File {
			if ok, err := path.Match("META-INF/maven/*/*/pom.xml", entry.Name); !ok || err != nil {
				continue
			}
			if looked++; looked > maxInside {
				break
			}
			raw, err := readEntry(ctx, entry)
			if err != nil {
				if budget.Of(ctx).Err() != nil {
					return nil, nil, err
				}
				continue
			}
			p, err := parsePOM(strings.NewReader(string(raw)))
			if err != nil {
				continue
			}
			found++
			named := strings.HasPrefix(path.Base(h.Name), p.ArtifactID+"-") ||
				p.ArtifactID == as.Name && p.GroupID == as.Namespace && p.Version == as.Version
			if best == nil || named {
				best, content = p, raw
			}
			if named {
				found = 1
				break
			}
		}
		if as.Name != "" && best != nil && (disagrees(best.ArtifactID, as.Name) || disagrees(best.GroupID, as.Namespace) ||
			disagrees(best.Version, as.Version)) {
			continue // it is to be published as something else
		}
		if found > 1 {
			return nil, nil, fault.New(fault.Invalid, "several-poms",
				"%s has %d poms inside, so it does not say which one it is", h.Name, found).
				WithHint("Say what it is: --as pkg:maven/group/artifact@version.")
		}
		if best != nil {
			return best, content, nil
		}
	}
	return nil, nil, nil
}

// maxInside is how many poms inside a jar are looked at.
const maxInside = 200

func readEntry(ctx context.Context, entry *zip.File) ([]byte, error) {
	r, err := entry.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(budget.Of(ctx).Reader(io.LimitReader(r, maxPOM)))
}

// makePOM writes the least pom for a file that came without one.
func makePOM(c purl.PURL, files []ecosystem.Handed) ([]byte, error) {
	packaging := "jar"
	for _, h := range files {
		if classifier, extension := partsOf(h.Name, c, c.Qualifiers); classifier == "" && !isSignature(extension) {
			packaging = extension
		}
	}
	content, err := xml.MarshalIndent(struct {
		XMLName      xml.Name `xml:"http://maven.apache.org/POM/4.0.0 project"`
		ModelVersion string   `xml:"modelVersion"`
		GroupID      string   `xml:"groupId"`
		ArtifactID   string   `xml:"artifactId"`
		Version      string   `xml:"version"`
		Packaging    string   `xml:"packaging"`
		Description  string   `xml:"description"`
	}{ModelVersion: "4.0.0", GroupID: c.Namespace, ArtifactID: c.Name, Version: c.Version, Packaging: packaging,
		Description: "Published by hand; this pom was made by Crelvo."}, "", "  ")
	return append([]byte(xml.Header), append(content, '\n')...), err
}
