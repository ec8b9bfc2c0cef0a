package symbols

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"path"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
)

// ListingPath implements ecosystem.Mirrored: no upstream lists what it has.
func (Symbols) ListingPath(purl.PURL) string { return "" }

// Accepts implements ecosystem.Mirrored.
func (Symbols) Accepts() string { return "*/*" }

// ReadListing implements ecosystem.Mirrored.
func (Symbols) ReadListing(context.Context, purl.PURL, ecosystem.Reading) (catalog.Listing, error) {
	return catalog.Listing{}, errors.New("there are no lists of symbols")
}

// PlaceOf implements ecosystem.Mirrored.
func (Symbols) PlaceOf(q catalog.FileQuestion) (ecosystem.Place, error) {
	name := path.Base(q.Version)
	if !idForm.MatchString(q.Key.Name) || q.Key.Namespace != "" || !isVersion(q.Version) ||
		cmp.Or(q.Name, name) != name {
		return ecosystem.Place{}, fault.New(fault.Invalid, "bad-name", "%.130q of %.130q cannot be symbols", q.Version,
			q.Key.Name).WithHint("Ask for debuginfo, executable, section/NAME or source/PATH of a build id: " +
			"pkg:symbols/BUILD-ID@debuginfo.")
	}
	return ecosystem.Place{Name: q.Key.Name, Version: q.Version, FileName: name}, nil
}

// Companions implements ecosystem.Mirrored.
func (d Symbols) Companions(p purl.PURL, _ catalog.Details, _ []catalog.File) []catalog.FileQuestion {
	return []catalog.FileQuestion{d.Marker(p, "")}
}

// FilePath implements ecosystem.ByPath.
func (Symbols) FilePath(p ecosystem.Place) string { return "buildid/" + p.Name + "/" + p.Version }

// Checksums implements ecosystem.ByPath: no upstream has any.
func (Symbols) Checksums(string) []ecosystem.Checksum { return nil }

// Marker implements ecosystem.ByPath: a version is one file.
func (Symbols) Marker(p purl.PURL, _ string) catalog.FileQuestion {
	return catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: Name, Name: p.Name}, Version: p.Version,
		Name: path.Base(p.Version)}
}

// SaidBeside implements ecosystem.Described: debuginfod tells which file it is, and of which package.
func (Symbols) SaidBeside(h http.Header) (d catalog.Details) {
	d.Description = h.Get(fileHeader)
	if in := h.Get(archiveHeader); d.Description != "" && in != "" {
		d.Description += ", of " + path.Base(in)
	}
	d.Description = text.Clean(d.Description, false, text.MaxName)
	return d
}
