package pypi

import (
	"bytes"
	"encoding/json"
	"html"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// The media types of the simple repository API
// (https://packaging.python.org/specifications/simple-repository-api/).
const (
	typeJSON   = "application/vnd.pypi.simple.v1+json"
	typeHTML   = "application/vnd.pypi.simple.v1+html"
	plainHTML  = "text/html"
	apiVersion = "1.1"
	// sizelessVersion is that of a page with a file whose size is not known: from
	// 1.1 on every file has one (PEP 700).
	sizelessVersion = "1.0"
	// trackingVersion is that of a page that tells what it is a copy of (PEP 708).
	trackingVersion = "1.2"
)

// project is the answer about a project (PEP 691, 700).
type project struct {
	Meta     meta     `json:"meta"`
	Name     string   `json:"name"`
	Versions []string `json:"versions"`
	Files    []file   `json:"files"`
}

type meta struct {
	Version string `json:"api-version"`
	// Tracks are the pages of the same project elsewhere (PEP 708).
	Tracks []string `json:"tracks,omitempty"`
}

// file is a file of a project, and of an upstream's.
type file struct {
	Filename       string            `json:"filename"`
	URL            string            `json:"url"`
	Hashes         map[string]string `json:"hashes"`
	RequiresPython string            `json:"requires-python,omitempty"`
	Size           int64             `json:"size,omitempty"`
	UploadTime     string            `json:"upload-time,omitempty"`
	Yanked         yanked            `json:"yanked"`
	Provenance     string            `json:"provenance,omitempty"` // PEP 740
	CoreMetadata   hashes            `json:"core-metadata"`
	// DistInfo is an older name of CoreMetadata, which upstreams still say. It is
	// read and never written: pip 23.0 fails over it in this form (PEP 714).
	DistInfo hashes `json:"dist-info-metadata,omitzero"`
	Signed   bool   `json:"gpg-sig,omitempty"`
}

// yanked is false, true or a reason (PEP 592).
type yanked struct{ *string }

// MarshalJSON implements json.Marshaler.
func (y yanked) MarshalJSON() ([]byte, error) {
	switch {
	case y.string == nil:
		return []byte("false"), nil
	case *y.string == "":
		return []byte("true"), nil
	}
	return json.Marshal(*y.string)
}

// UnmarshalJSON implements json.Unmarshaler.
func (y *yanked) UnmarshalJSON(raw []byte) error {
	var reason string
	var is bool
	if json.Unmarshal(raw, &reason) == nil && string(raw) != "null" || json.Unmarshal(raw, &is) == nil && is {
		y.string = &reason
	}
	return nil
}

// hashes is false, true or the digests by algorithm.
type hashes struct {
	there bool
	by    map[string]string
}

// MarshalJSON implements json.Marshaler.
func (h hashes) MarshalJSON() ([]byte, error) {
	if h.by == nil {
		return json.Marshal(h.there)
	}
	return json.Marshal(h.by)
}

// UnmarshalJSON implements json.Unmarshaler.
func (h *hashes) UnmarshalJSON(raw []byte) error {
	var by map[string]string
	if json.Unmarshal(raw, &by) == nil && by != nil {
		h.there, h.by = true, by
		return nil
	}
	_ = json.Unmarshal(raw, &h.there) // anything else is no
	return nil
}

const timeForm = "2006-01-02T15:04:05.000000Z"

// projectOf makes the answer from what is known of a package. Of a snapshot, the
// newest upload of each file counts. Addresses are relative to the project's
// page.
func projectOf(p *catalog.Package) project {
	out := project{Meta: meta{Version: apiVersion}, Name: p.Key.Name, Versions: ecosystem.VersionNames(p), Files: []file{}}
	newest := map[string]*catalog.Version{}
	for i := range p.Versions {
		v := &p.Versions[i]
		for _, f := range v.Files {
			if was := newest[f.Name]; was == nil || v.Newer(*was) {
				newest[f.Name] = v
			}
		}
	}
	for i := range p.Versions {
		v := &p.Versions[i]
		for _, f := range v.Files {
			if newest[f.Name] != v || !isDistribution(f.Extension) {
				continue
			}
			facts := factsOf(v, f.Name)
			at := f.AddedAt
			if at.IsZero() {
				at = v.PublishedAt
			}
			shown := file{Filename: f.Name, URL: "../../" + address(p.Key.Name, v.Version, v.Upload, f.Name),
				Hashes:         map[string]string{},
				RequiresPython: facts.RequiresPython, Size: f.Digests.Size, UploadTime: at.UTC().Format(timeForm)}
			if f.Digests.Has("sha256") {
				shown.Hashes["sha256"] = f.Digests.Hex("sha256")
			}
			if facts.Metadata != "" {
				shown.CoreMetadata = hashes{there: true, by: map[string]string{"sha256": facts.Metadata}}
			}
			shown.Yanked.string = facts.Yanked
			if v.Withdrawn != nil {
				shown.Yanked.string = &v.Withdrawn.Reason
			}
			if shown.Size == 0 {
				out.Meta.Version = sizelessVersion
			}
			shown.Signed = slices.ContainsFunc(v.Files, func(s catalog.File) bool { return s.Name == f.Name+"."+signature })
			out.Files = append(out.Files, shown)
		}
	}
	slices.SortFunc(out.Files, func(a, b file) int { return strings.Compare(a.Filename, b.Filename) })
	return out
}

// tracking tells of which page elsewhere the project is a copy: a mirror has nothing of
// its own. Addresses of private networks are nobody's business, and what a chain puts
// together is not one project's copy.
func (p project) tracking(r catalog.Repository) project {
	if !r.Fetches() || r.Mirror == nil || len(r.Mirror.Upstreams) == 0 || r.Mirror.Upstreams[0].Private ||
		p.Meta.Version != apiVersion {
		return p
	}
	p.Meta = meta{Version: trackingVersion, Tracks: []string{r.Mirror.Upstreams[0].URL + p.Name + "/"}}
	return p
}

// document writes the answer in one of the forms.
func (p project) document(form string, changed time.Time) (ecosystem.Document, error) {
	if form == typeJSON {
		raw, err := json.Marshal(p)
		return ecosystem.NewDocument(typeJSON, append(raw, '\n'), changed), err
	}
	var b bytes.Buffer
	b.WriteString(htmlHead(p.Name, p.Meta))
	for _, f := range p.Files {
		b.WriteString("    <a href=\"" + html.EscapeString(f.URL))
		if sum := f.Hashes["sha256"]; sum != "" {
			b.WriteString("#sha256=" + sum)
		}
		b.WriteByte('"')
		if f.RequiresPython != "" {
			b.WriteString(` data-requires-python="` + html.EscapeString(f.RequiresPython) + `"`)
		}
		if sum := f.CoreMetadata.by["sha256"]; sum != "" {
			b.WriteString(` data-core-metadata="sha256=` + sum + `" data-dist-info-metadata="sha256=` + sum + `"`)
		}
		if f.Yanked.string != nil {
			b.WriteString(` data-yanked="` + html.EscapeString(*f.Yanked.string) + `"`)
		}
		if f.Signed {
			b.WriteString(` data-gpg-sig="true"`)
		}
		b.WriteString(">" + html.EscapeString(f.Filename) + "</a><br>\n")
	}
	b.WriteString("  </body>\n</html>\n")
	return ecosystem.NewDocument(form+"; charset=utf-8", b.Bytes(), changed), nil
}

func htmlHead(title string, of meta) string {
	tracks := ""
	for _, at := range of.Tracks {
		tracks += "    <meta name=\"pypi:tracks\" content=\"" + html.EscapeString(at) + "\">\n"
	}
	return "<!DOCTYPE html>\n<html>\n  <head>\n    <meta name=\"pypi:repository-version\" content=\"" + of.Version +
		"\">\n" + tracks + "    <title>" +
		html.EscapeString(title) + "</title>\n  </head>\n  <body>\n"
}

// allProjects is the answer about which projects there are.
func allProjects(names []string, form string, now time.Time) (ecosystem.Document, error) {
	if form == typeJSON {
		type one struct {
			Name string `json:"name"`
		}
		all := struct {
			Meta     meta  `json:"meta"`
			Projects []one `json:"projects"`
		}{Meta: meta{Version: apiVersion}, Projects: []one{}}
		for _, name := range names {
			all.Projects = append(all.Projects, one{name})
		}
		raw, err := json.Marshal(all)
		return ecosystem.NewDocument(typeJSON, append(raw, '\n'), now), err
	}
	var b bytes.Buffer
	b.WriteString(htmlHead("Projects", meta{Version: apiVersion}))
	for _, name := range names {
		name = html.EscapeString(purl.NormalName(Name, name))
		b.WriteString("    <a href=\"" + name + "/\">" + name + "</a><br>\n")
	}
	b.WriteString("  </body>\n</html>\n")
	return ecosystem.NewDocument(form+"; charset=utf-8", b.Bytes(), now), nil
}
