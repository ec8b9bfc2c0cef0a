package pypi

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path"
	"strings"
	"time"

	"golang.org/x/net/html"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.Mirrored = PyPI{}

// ListingPath implements ecosystem.Mirrored: the page of a project.
func (PyPI) ListingPath(p purl.PURL) string {
	if p.Name == "" {
		return ""
	}
	return p.Name + "/"
}

// Accepts implements ecosystem.Mirrored.
func (PyPI) Accepts() string { return typeJSON + ", " + typeHTML + ";q=0.2, " + plainHTML + ";q=0.1" }

var _ ecosystem.Rooted = PyPI{}

// Root implements ecosystem.Rooted: the page of all projects.
func (PyPI) Root() (path, what string) { return "", "its page of all projects" }

// rootPeek is how much of the page of all projects is looked at, in bytes.
const rootPeek = 64 << 10

// ReadRoot implements ecosystem.Rooted.
func (PyPI) ReadRoot(r ecosystem.Reading) error {
	raw, err := io.ReadAll(io.LimitReader(r, rootPeek))
	if err != nil {
		return err
	}
	begin := strings.TrimSpace(string(raw))
	isJSON := strings.HasPrefix(begin, "{") && strings.Contains(begin, `"api-version"`)
	if isJSON || strings.Contains(begin, "pypi:repository-version") || strings.Contains(begin, "<title>Simple") {
		return nil
	}
	said := fault.New(fault.Invalid, "no-index", "what stands there is no list of projects")
	if !strings.HasSuffix(strings.TrimSuffix(r.Address, "/"), "/simple") {
		said.Message += "; the list is usually at " + strings.TrimSuffix(r.Address, "/") + "/simple/"
	}
	return said
}

// maxFiles is up to how many files a page may list.
const maxFiles = 500_000

// ReadListing implements ecosystem.Mirrored. Either form of the page is read.
func (PyPI) ReadListing(ctx context.Context, p purl.PURL, r ecosystem.Reading) (catalog.Listing, error) {
	body := bufio.NewReader(r)
	l := &lister{project: p.Name, reading: r, at: map[string]int{}}
	first, err := body.Peek(1)
	for err == nil && strings.ContainsRune(" \t\r\n", rune(first[0])) {
		if _, err = body.Discard(1); err == nil {
			first, err = body.Peek(1)
		}
	}
	switch {
	case err == io.EOF:
		return catalog.Listing{}, errors.New("it is empty")
	case err != nil:
		return catalog.Listing{}, err
	case first[0] == '{':
		err = l.readJSON(body)
	default:
		err = l.readHTML(body)
	}
	return l.listing, err
}

// lister puts a listing together, file by file.
type lister struct {
	project string
	reading ecosystem.Reading
	listing catalog.Listing
	at      map[string]int // by version
	files   int
}

func (l *lister) readJSON(r io.Reader) error {
	d := json.NewDecoder(r)
	token, err := d.Token()
	if err != nil || token != json.Delim('{') {
		return errors.Join(errors.New("it is no object"), err)
	}
	found := false
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		switch key {
		case "files":
			found = true
			if token, err := d.Token(); err != nil || token != json.Delim('[') {
				return errors.Join(errors.New("its files are no list"), err)
			}
			for d.More() {
				var f file
				if err := d.Decode(&f); err != nil {
					return err
				}
				if err := l.add(f); err != nil {
					return err
				}
			}
			if _, err := d.Token(); err != nil {
				return err
			}
		case "meta":
			var m meta
			if err := d.Decode(&m); err != nil {
				return err
			}
			if err := understood(m.Version); err != nil {
				return err
			}
		case "name":
			var name string
			if err := d.Decode(&name); err != nil {
				return err
			}
			if purl.NormalName(Name, name) != l.project {
				return fmt.Errorf("it is about %.100q", name)
			}
		default:
			var other json.RawMessage
			if err := d.Decode(&other); err != nil {
				return err
			}
		}
	}
	if _, err := d.Token(); err != nil {
		return err
	}
	if !found {
		return errors.New("it has no files")
	}
	return nil
}

func (l *lister) readHTML(r io.Reader) error {
	tokens := html.NewTokenizer(r)
	tokens.SetMaxBuf(1 << 20)
	anchors := false
	for {
		switch tokens.Next() {
		case html.ErrorToken:
			if err := tokens.Err(); err != io.EOF {
				return err
			}
			if !anchors {
				return errors.New("it is a page without a single link")
			}
			return nil
		case html.StartTagToken, html.SelfClosingTagToken:
			token := tokens.Token()
			if token.Data == "meta" {
				if err := understood(versionIn(token.Attr)); err != nil {
					return err
				}
			}
			if token.Data != "a" {
				continue
			}
			anchors = true
			if err := l.add(fileOf(token.Attr)); err != nil {
				return err
			}
		}
	}
}

// understood refuses a page of a later major version than is known (PEP 629);
// one that says none is of the first.
func understood(version string) error {
	if major, _, _ := strings.Cut(version, "."); version != "" && major != "1" {
		return fmt.Errorf("it is written in version %.20q of the simple repository API, and only 1.x is known", version)
	}
	return nil
}

// versionIn is what an element meta says of the API's version.
func versionIn(attributes []html.Attribute) (version string) {
	says := false
	for _, a := range attributes {
		says = says || a.Key == "name" && a.Val == "pypi:repository-version"
		if a.Key == "content" {
			version = a.Val
		}
	}
	if !says {
		return ""
	}
	return version
}

// fileOf reads an anchor (PEP 503, 592, 658, 714).
func fileOf(attributes []html.Attribute) file {
	f := file{Hashes: map[string]string{}}
	for _, a := range attributes {
		switch a.Key {
		case "href":
			f.URL = a.Val
			if u, err := url.Parse(a.Val); err == nil {
				f.Filename = path.Base(u.Path)
				if algorithm, sum, ok := strings.Cut(u.Fragment, "="); ok {
					f.Hashes[algorithm] = sum
				}
				u.Fragment = ""
				f.URL = u.String()
			}
		case "data-requires-python":
			f.RequiresPython = a.Val
		case "data-provenance":
			f.Provenance = a.Val
		case "data-yanked":
			f.Yanked.string = &a.Val
		case "data-gpg-sig":
			f.Signed = a.Val == "true"
		case "data-core-metadata", "data-dist-info-metadata":
			if algorithm, sum, ok := strings.Cut(a.Val, "="); ok {
				f.CoreMetadata = hashes{there: true, by: map[string]string{algorithm: sum}}
			}
		}
	}
	return f
}

// add takes a file in. What cannot be installed here, as eggs and installers of
// old, is passed over.
func (l *lister) add(f file) error {
	if l.files++; l.files > maxFiles {
		return fmt.Errorf("it lists more than %d files", maxFiles)
	}
	place, ok := parseName(f.Filename, l.project)
	if !ok || place.Name != l.project || !isDistribution(place.Extension) {
		return nil
	}
	address, err := l.reading.Resolve(f.URL)
	if err != nil {
		return nil
	}
	i, known := l.at[place.Version]
	if !known {
		i = len(l.listing.Versions)
		l.at[place.Version] = i
		l.listing.Versions = append(l.listing.Versions,
			catalog.ListedVersion{Version: place.Version, Details: new(catalog.Details)})
	}
	v := &l.listing.Versions[i]
	listed := catalog.ListedFile{Name: f.Filename, Extension: place.Extension, Address: address, Size: f.Size,
		Digests: map[string]string{}}
	for algorithm, sum := range f.Hashes {
		var d catalog.Digests
		if d.ParseHex(algorithm, sum) {
			listed.Digests[strings.ToLower(algorithm)] = strings.ToLower(sum)
		}
	}
	v.Files = append(v.Files, listed)
	if f.Signed {
		v.Files = append(v.Files, catalog.ListedFile{Name: f.Filename + "." + signature, Extension: place.Extension + "." +
			signature, Address: address + "." + signature})
	}
	facts := fileFacts{RequiresPython: f.RequiresPython, Yanked: f.Yanked.string}
	if f.Provenance != "" {
		if at, err := l.reading.Resolve(f.Provenance); err == nil {
			facts.Provenance = at
		}
	}
	meta := f.CoreMetadata
	if meta.by == nil {
		meta = f.DistInfo
	}
	if sum := strings.ToLower(meta.by["sha256"]); len(sum) == 64 {
		facts.Metadata = sum
		v.Files = append(v.Files, catalog.ListedFile{Name: f.Filename + "." + metadataFile, Extension: place.Extension + "." +
			metadataFile,
			Address: address + "." + metadataFile, Digests: map[string]string{"sha256": sum}})
	}
	*v.Details = withFacts(*v.Details, f.Filename, facts)
	if at, err := time.Parse(time.RFC3339, f.UploadTime); err == nil && at.After(v.UploadedAt) {
		v.UploadedAt = at.UTC()
	}
	// A version is withdrawn if all of its files are.
	switch {
	case f.Yanked.string == nil:
		v.Withdrawn = nil
	case !known || v.Withdrawn != nil:
		v.Withdrawn = &catalog.Withdrawal{Reason: *f.Yanked.string}
	}
	return nil
}

// PlaceOf implements ecosystem.Mirrored.
func (PyPI) PlaceOf(q catalog.FileQuestion) (ecosystem.Place, error) {
	p, ok := parseName(q.Name, q.Key.Name)
	if !ok || p.Name != q.Key.Name || p.Version != q.Version {
		return ecosystem.Place{}, badFile(q.Name)
	}
	return p, nil
}

// Companions implements ecosystem.Mirrored: the wheels for every machine, or,
// where there are none, everything.
func (PyPI) Companions(p purl.PURL, _ catalog.Details, like []catalog.File) []catalog.FileQuestion {
	var everywhere, all []catalog.FileQuestion
	for _, f := range like {
		if !isDistribution(f.Extension) {
			continue
		}
		q := catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: Name, Name: p.Name}, Version: p.Version, Name: f.Name}
		all = append(all, q)
		if strings.HasSuffix(f.Name, "-none-any."+wheel) {
			everywhere = append(everywhere, q)
		}
	}
	if everywhere != nil {
		return everywhere
	}
	return all
}
