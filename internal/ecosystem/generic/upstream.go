package generic

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
)

// An upstream of file sets is another Crelvo: https://packages.openshore.example/at/releases/generic/.
var _ interface {
	ecosystem.Mirrored
	ecosystem.Sending
	ecosystem.Filed
	ecosystem.Restamping
} = Generic{}

// ListingPath implements ecosystem.Mirrored.
func (Generic) ListingPath(p purl.PURL) string {
	if p.Name == "" {
		return ""
	}
	return setsDoor + "/" + p.Name
}

// Accepts implements ecosystem.Mirrored.
func (Generic) Accepts() string { return "application/json" }

// maxListing is how long a list of versions may be, in bytes.
const maxListing = 256 << 20

// ReadListing implements ecosystem.Mirrored. Versions that cannot be read are passed over.
func (g Generic) ReadListing(_ context.Context, p purl.PURL, r ecosystem.Reading) (l catalog.Listing, err error) {
	var said struct {
		Name     string            `json:"name"`
		Versions []json.RawMessage `json:"versions"`
	}
	if err := json.NewDecoder(io.LimitReader(r, maxListing)).Decode(&said); err != nil {
		return l, err
	}
	if said.Name != p.Name {
		return l, fmt.Errorf("it lists versions of %.80q", said.Name)
	}
	for _, raw := range said.Versions {
		var one listed
		if json.Unmarshal(raw, &one) != nil || !versionForm.MatchString(one.Version) {
			continue
		}
		v, err := g.listed(p.Name, one, r)
		if err != nil {
			return l, err
		}
		if v.Files == nil {
			continue
		}
		l.Versions = append(l.Versions, v)
		for _, label := range one.Labels {
			if text.Check("a label", label, false, text.MaxName) == nil {
				if l.Labels == nil {
					l.Labels = map[string]string{}
				}
				l.Labels[label] = one.Version
			}
		}
	}
	return l, nil
}

// listed is a version that an upstream lists; one without files is not to be had.
func (Generic) listed(name string, one listed, r ecosystem.Reading) (v catalog.ListedVersion, err error) {
	d := catalog.Details{Description: text.Clean(one.Description, true, text.MaxText)}
	packs := 0
	for _, f := range one.Kept {
		kind := kindOf(f.Name)
		if kind == "" || len(f.SHA256) != 64 {
			return v, nil
		}
		if kind == packKind {
			packs++
		}
		at := url.PathEscape(name) + "/" + url.PathEscape(segment(one.Version, one.Upload)) + "/" + url.PathEscape(f.Name)
		address, err := r.Resolve(at)
		if err != nil {
			return v, err
		}
		v.Files = append(v.Files, catalog.ListedFile{Name: f.Name, Extension: kind, Address: address, Size: f.Size,
			Digests: map[string]string{"sha256": f.SHA256}})
	}
	d.Native = map[string]json.RawMessage{}
	for what, n := range map[string]int64{nativeFiles: one.Files, nativeBytes: one.Bytes, nativePacks: int64(packs)} {
		d.Native[what] = fmt.Append(nil, n)
	}
	v.Version, v.Details, v.UploadedAt = one.Version, &d, one.PublishedAt.UTC()
	if one.Withdrawn != nil {
		v.Withdrawn = &catalog.Withdrawal{Reason: text.Clean(*one.Withdrawn, true, text.MaxText)}
	}
	return v, nil
}

// PlaceOf implements ecosystem.Mirrored.
func (Generic) PlaceOf(q catalog.FileQuestion) (ecosystem.Place, error) {
	if _, err := key(catalog.Repository{}, q.Key.Name, q.Version); err != nil || q.Key.Namespace != "" || q.Version == "" {
		return ecosystem.Place{}, fault.New(fault.Invalid, "bad-name", "%.60q %.60q cannot be a file set", q.Key.Name,
			q.Version)
	}
	name := q.Name
	if name == "" {
		name = manifestFile
	}
	if kindOf(name) == "" {
		return ecosystem.Place{}, fault.New(fault.Invalid, "bad-file-name", "%.100q is no file of %s %s", q.Name, q.Key.Name,
			q.Version)
	}
	return place(q.Key.Name, q.Version, name), nil
}

// Companions implements ecosystem.Mirrored: who uses a version wants all that it is kept as.
func (Generic) Companions(p purl.PURL, _ catalog.Details, like []catalog.File) []catalog.FileQuestion {
	of := catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: Name, Name: p.Name}, Version: p.Version}
	names := []string{manifestFile, layoutFile}
	for _, f := range like {
		if kind := kindOf(f.Name); kind == packKind || kind == signatureKind {
			names = append(names, f.Name)
		}
	}
	all := make([]catalog.FileQuestion, len(names))
	for i, name := range names {
		all[i] = of
		all[i].Name = name
	}
	return all
}

// Restamp implements ecosystem.Restamping: nothing in a set states its version.
func (Generic) Restamp(_ context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	return ecosystem.Rewriting{Name: f.File.Name}, nil
}
