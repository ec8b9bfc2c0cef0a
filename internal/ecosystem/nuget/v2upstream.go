package nuget

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Upstreams of the v2 protocol have no service index: their lists are feeds (Atom,
// RFC 4287) of OData 2.0.

// Older implements ecosystem.Guided.
func (NuGet) Older(p purl.PURL) (listing, tells, accepts string) {
	return "FindPackagesById()?id='" + url.QueryEscape(p.Name) + "'&semVerLevel=2.0.0", "$metadata",
		"application/atom+xml, application/xml;q=0.9"
}

// ReadOlder implements ecosystem.Guided.
func (NuGet) ReadOlder(r ecosystem.Reading) error {
	var metadata struct {
		Types []struct {
			Name string `xml:"Name,attr"`
		} `xml:"DataServices>Schema>EntityType"`
	}
	if err := ecosystem.DecodeXML(io.LimitReader(r, maxNuspec), &metadata); err != nil {
		return err
	}
	if len(metadata.Types) == 0 {
		return errors.New("it tells of no packages")
	}
	return nil
}

// feedV2 is a page of a list.
type feedV2 struct {
	Entries []entryV2  `xml:"entry"`
	Links   []atomLink `xml:"link"`
}

// entryV2 is a version in it. The properties stand beside the content, or in it.
type entryV2 struct {
	Title   string `xml:"title"`
	Summary string `xml:"summary"`
	Author  string `xml:"author>name"`
	Content struct {
		Src    string       `xml:"src,attr"`
		Inside propertiesV2 `xml:"properties"`
	} `xml:"content"`
	Beside propertiesV2 `xml:"properties"`
}

type propertiesV2 struct {
	Version, Title, Description, Summary, Tags, Authors, Dependencies, Language, Published, Listed string
	ProjectURL                                                                                     string `xml:"ProjectUrl"`
	IconURL                                                                                        string `xml:"IconUrl"`
	LicenseURL                                                                                     string `xml:"LicenseUrl"`
	MinClient                                                                                      string `xml:"MinClientVersion"`
	MustAccept                                                                                     string `xml:"RequireLicenseAcceptance"`
	Hash                                                                                           string `xml:"PackageHash"`
	Algorithm                                                                                      string `xml:"PackageHashAlgorithm"`
	Size                                                                                           int64  `xml:"PackageSize"`
	NamedID                                                                                        string `xml:"Id"`
}

// startsXML tells whether a document is XML, by its first letter.
func startsXML(r io.Reader) (io.Reader, bool) {
	read := bufio.NewReader(r)
	for n := 1; n < 64; n++ {
		seen, err := read.Peek(n)
		if len(seen) < n || err != nil {
			break
		}
		if c := seen[n-1]; !strings.ContainsRune(" \t\r\n\ufeff", rune(c)) && c < 0x80 {
			return read, c == '<'
		}
	}
	return read, false
}

// readFeed reads a list of the v2 protocol, with its further pages.
func readFeed(ctx context.Context, p purl.PURL, r ecosystem.Reading) (l catalog.Listing, err error) {
	from, address := io.NopCloser(r.Reader), r.Address
	for n := 0; ; n++ {
		var page feedV2
		err := ecosystem.DecodeXML(from, &page)
		if err = errors.Join(err, from.Close()); err != nil {
			return l, err
		}
		if err := budget.Of(ctx).Elements(len(page.Entries)); err != nil {
			return l, err
		}
		at := ecosystem.Reading{Address: address}
		for _, e := range page.Entries {
			if v, ok := e.leaf().listed(p, at); ok {
				l.Versions = append(l.Versions, v)
			}
		}
		next := ""
		for _, link := range page.Links {
			if link.Rel == "next" {
				next = link.Href
			}
		}
		if next == "" {
			return l, nil
		}
		if n >= maxPages {
			return l, fmt.Errorf("it has more than %d pages", maxPages)
		}
		if next, err = at.Resolve(next); err != nil {
			return l, err
		}
		if from, err = r.More(next); err != nil {
			return l, fmt.Errorf("its page %s cannot be had: %w", next, err)
		}
		address = next
	}
}

// leaf is the entry in the form of the v3 protocol.
func (e entryV2) leaf() leaf {
	of := e.Beside
	if of.Version == "" {
		of = e.Content.Inside
	}
	trim := strings.TrimSpace
	l := leaf{Content: e.Content.Src}
	l.Entry = entry{ID: trim(of.NamedID), Version: trim(of.Version), Authors: strings.Split(of.Authors, ","),
		Description: of.Description, IconURL: of.IconURL,
		Language: of.Language, LicenseURL: of.LicenseURL, MinClient: of.MinClient, ProjectURL: of.ProjectURL,
		MustAccept: trim(of.MustAccept) == "true",
		Summary:    of.Summary, Tags: split(of.Tags), Title: of.Title, Hash: of.Hash, Algorithm: of.Algorithm, Size: of.Size}
	if l.Entry.ID == "" {
		l.Entry.ID = trim(e.Title) // where the protocol is older
	}
	if of.Authors == "" {
		l.Entry.Authors = strings.Split(e.Author, ",")
	}
	if l.Entry.Summary == "" {
		l.Entry.Summary = e.Summary
	}
	published := trim(of.Published)
	// The protocol marks versions that are not listed by a year; later servers say it.
	is := trim(of.Listed) != "false" && !strings.HasPrefix(published, "1900-")
	l.Entry.Listed = &is
	if published != "" && !strings.HasSuffix(published, "Z") &&
		!strings.Contains(published[min(10, len(published)):], "+") {
		published += "Z"
	}
	l.Entry.Published = published
	groups := map[string]int{}
	for _, one := range strings.Split(of.Dependencies, "|") {
		parts := strings.SplitN(one, ":", 3)
		if len(parts) < 2 {
			continue
		}
		framework := ""
		if len(parts) == 3 {
			framework = parts[2]
		}
		i, ok := groups[framework]
		if !ok {
			i = len(l.Entry.Groups)
			groups[framework] = i
			l.Entry.Groups = append(l.Entry.Groups, entryGroup{Framework: framework})
		}
		if parts[0] != "" {
			l.Entry.Groups[i].Dependencies = append(l.Entry.Groups[i].Dependencies,
				entryDependency{ID: parts[0], Range: parts[1]})
		}
	}
	return l
}
