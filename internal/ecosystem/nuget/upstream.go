package nuget

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

var (
	_ ecosystem.Mirrored = NuGet{}
	_ ecosystem.Guided   = NuGet{}
)

const registrations = "registrations"

// Entrance implements ecosystem.Guided: the service index.
func (NuGet) Entrance() string { return "index.json" }

// wanted are the names under which registrations are offered, the best first:
// those with all versions, and compressed ones.
var wanted = []string{"RegistrationsBaseUrl/3.6.0", "RegistrationsBaseUrl/Versioned", "RegistrationsBaseUrl/3.4.0",
	"RegistrationsBaseUrl/3.0.0-rc",
	"RegistrationsBaseUrl/3.0.0-beta", "RegistrationsBaseUrl"}

// ReadEntrance implements ecosystem.Guided.
func (NuGet) ReadEntrance(r ecosystem.Reading) (map[string]string, error) {
	address, err := resourceIn(r, wanted...)
	if err != nil {
		return nil, err
	}
	return map[string]string{registrations: address}, nil
}

// resourceIn finds the address of the first of some types of resources that a
// service index offers.
func resourceIn(r ecosystem.Reading, wanted ...string) (string, error) {
	var index struct {
		Version   string
		Resources []struct {
			ID   string          `json:"@id"`
			Type json.RawMessage `json:"@type"`
		}
	}
	if err := json.NewDecoder(io.LimitReader(r, maxNuspec)).Decode(&index); err != nil {
		return "", err
	}
	for _, want := range wanted {
		for _, offered := range index.Resources {
			var one string
			if json.Unmarshal(offered.Type, &one) != nil || one != want {
				continue
			}
			return r.Resolve(offered.ID)
		}
	}
	return "", errors.New("it offers no " + wanted[0])
}

// ListingPath implements ecosystem.Mirrored: the registration index.
func (NuGet) ListingPath(p purl.PURL) string {
	if p.Name == "" {
		return ""
	}
	return "{" + registrations + "}" + strings.ToLower(p.Name) + "/index.json"
}

// Accepts implements ecosystem.Mirrored.
func (NuGet) Accepts() string { return "application/json" }

// maxPages is up to how many pages a registration may have.
const maxPages = 2_000

// authors and tags are lists, or texts with commas or blanks.
type (
	authors []string
	tags    []string
)

// MarshalJSON implements json.Marshaler.
func (a authors) MarshalJSON() ([]byte, error) { return json.Marshal(strings.Join(a, ", ")) }

// UnmarshalJSON implements json.Unmarshaler.
func (a *authors) UnmarshalJSON(raw []byte) error {
	var text string
	var list []string
	switch {
	case json.Unmarshal(raw, &text) == nil:
		*a = strings.Split(text, ",")
	case json.Unmarshal(raw, &list) == nil:
		*a = list
	}
	return nil
}

// MarshalJSON implements json.Marshaler.
func (t tags) MarshalJSON() ([]byte, error) { return json.Marshal(append([]string{}, t...)) }

// UnmarshalJSON implements json.Unmarshaler.
func (t *tags) UnmarshalJSON(raw []byte) error {
	var text string
	var list []string
	switch {
	case json.Unmarshal(raw, &text) == nil:
		*t = split(text)
	case json.Unmarshal(raw, &list) == nil:
		*t = list
	}
	return nil
}

// ReadListing implements ecosystem.Mirrored: a registration, or a feed of the v2
// protocol. Pages that do not stand in the
// index are fetched.
func (NuGet) ReadListing(ctx context.Context, p purl.PURL, r ecosystem.Reading) (catalog.Listing, error) {
	var l catalog.Listing
	var index registration
	body, isXML := startsXML(r.Reader)
	if r.Reader = body; isXML {
		return readFeed(ctx, p, r)
	}
	if err := json.NewDecoder(r).Decode(&index); err != nil {
		return l, err
	}
	if index.Items == nil {
		return l, errors.New("it has no pages")
	}
	if len(index.Items) > maxPages {
		return l, fmt.Errorf("it has more than %d pages", maxPages)
	}
	for _, part := range index.Items {
		if part.Items == nil && part.Count > 0 {
			address, err := r.Resolve(part.ID)
			if err != nil {
				return l, err
			}
			if part.Items, err = readPage(r, address); err != nil {
				return l, fmt.Errorf("its page %s cannot be had: %w", part.ID, err)
			}
		}
		for _, each := range part.Items {
			if v, ok := each.listed(p, r); ok {
				l.Versions = append(l.Versions, v)
			}
		}
	}
	return l, nil
}

func readPage(r ecosystem.Reading, address string) ([]leaf, error) {
	body, err := r.More(address)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	var whole page
	err = json.NewDecoder(body).Decode(&whole)
	return whole.Items, err
}

// listed makes a version of a leaf; ok is false if it is none of the package.
func (l leaf) listed(p purl.PURL, r ecosystem.Reading) (v catalog.ListedVersion, ok bool) {
	e := l.Entry
	if !strings.EqualFold(e.ID, p.Name) || !isID(e.ID) || !purl.IsNuGet(e.Version) {
		return v, false
	}
	content := l.Content
	if content == "" {
		content = e.Content
	}
	address, err := r.Resolve(content)
	if content == "" || err != nil {
		return v, false
	}
	place := New().At("", e.ID, e.Version, packed)
	file := catalog.ListedFile{Name: place.FileName, Extension: packed, Address: address, Size: e.Size,
		Digests: map[string]string{}}
	if raw, err := base64.StdEncoding.DecodeString(e.Hash); err == nil && strings.EqualFold(e.Algorithm, "SHA512") &&
		len(raw) == 64 {
		file.Digests["sha512"] = hex.EncodeToString(raw)
	}
	f := facts{ID: e.ID, Version: e.Version, Title: e.Title, Summary: e.Summary, IconURL: ecosystem.WebOnly(e.IconURL),
		LicenseURL: ecosystem.WebOnly(e.LicenseURL),
		License:    e.License, Language: e.Language, MinClient: e.MinClient, MustAccept: e.MustAccept, Tags: e.Tags}
	for _, g := range e.Groups {
		kept := group{Framework: g.Framework}
		for _, d := range g.Dependencies {
			if isID(d.ID) {
				kept.Dependencies = append(kept.Dependencies, needed{d.ID, rangeOf(d.Range)})
			}
		}
		f.Groups = append(f.Groups, kept)
	}
	details := f.details(e.Description, strings.Join(e.Authors, ","), ecosystem.WebOnly(e.ProjectURL), "")
	v = catalog.ListedVersion{Version: place.Version, Files: []catalog.ListedFile{file}, Details: &details}
	if at, err := time.Parse(time.RFC3339, e.Published); err == nil && at.Year() > 1900 {
		v.UploadedAt = at.UTC()
	}
	if e.Listed != nil && !*e.Listed {
		v.Withdrawn = &catalog.Withdrawal{}
		if e.Deprecation != nil {
			v.Withdrawn.Reason = e.Deprecation.Message
		}
	}
	return v, true
}
