package npm

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"slices"
	"strconv"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const latestTag = "latest"

// timeForm is how the registry protocol writes times.
const timeForm = "2006-01-02T15:04:05.000Z"

// quote writes a string in JSON.
func quote(b *bytes.Buffer, s string) {
	raw, err := json.Marshal(s)
	if err != nil {
		panic(err) // a string can always be written
	}
	b.Write(raw)
}

// members writes the members of an object without its braces, and tells whether
// there were any.
func members(b *bytes.Buffer, object json.RawMessage) bool {
	object = bytes.TrimSpace(object)
	if len(object) < 2 {
		return false
	}
	inside := bytes.TrimSpace(object[1 : len(object)-1])
	b.Write(inside)
	return len(inside) > 0
}

// tags are the dist-tags of a package: its labels, and always a latest.
func tags(p *catalog.Package, newest []*catalog.Version) map[string]string {
	known := make(map[string]bool, len(newest))
	for _, v := range newest {
		known[v.Version] = true
	}
	all := map[string]string{}
	for label, version := range p.Labels {
		if known[version] {
			all[label] = version
		}
	}
	if all[latestTag] == "" {
		compare := func(a, b string) int { return purl.Compare(Name, a, b) }
		if v := p.Newest(compare, func(v catalog.Version) bool { return !v.Snapshot && v.Withdrawn == nil }); v != nil {
			all[latestTag] = v.Version
		}
	}
	return all
}

// packageDocument is what clients read about a package: all that is known, or
// the abbreviated form, which is enough to install. base is the address of the
// door that the tarballs' addresses begin with.
func packageDocument(p *catalog.Package, base string, full bool, readme *catalog.Readme) (ecosystem.Document, error) {
	name := joinName(p.Key.Namespace, p.Key.Name)
	newest := ecosystem.Newest(p)
	slices.SortFunc(newest, func(a, b *catalog.Version) int { return a.PublishedAt.Compare(b.PublishedAt) })
	tagged := tags(p, newest)
	var b bytes.Buffer
	b.Grow(sizeOf(newest, full))
	b.WriteByte('{')
	if full {
		b.WriteString(`"_id":`)
		quote(&b, name)
		b.WriteString(`,"_rev":`)
		quote(&b, revision(p))
		b.WriteByte(',')
	}
	b.WriteString(`"name":`)
	quote(&b, name)
	b.WriteString(`,"dist-tags":`)
	raw, err := json.Marshal(tagged)
	if err != nil {
		return ecosystem.Document{}, err
	}
	b.Write(raw)
	b.WriteString(`,"modified":"` + p.Changed.UTC().Format(timeForm) + `","versions":{`)
	for i, v := range newest {
		if i > 0 {
			b.WriteByte(',')
		}
		quote(&b, v.Version)
		b.WriteByte(':')
		writeVersion(&b, name, v, base, full)
	}
	b.WriteByte('}')
	contentType := "application/vnd.npm.install-v1+json"
	if full {
		contentType = "application/json"
		if err := writeAbout(&b, p, newest, tagged[latestTag], readme); err != nil {
			return ecosystem.Document{}, err
		}
	}
	b.WriteString("}\n")
	return ecosystem.NewDocument(contentType, b.Bytes(), p.Changed), nil
}

// sizeOf is about how long the document will be.
func sizeOf(newest []*catalog.Version, full bool) int {
	size := 4096
	for _, v := range newest {
		size += 500 + len(v.Details.Native[nativeInstall]) + len(v.Details.Native[nativeDist])
		if full {
			size += 200 + len(v.Details.Native[nativeRest])
		}
	}
	return size
}

func revision(p *catalog.Package) string { return strconv.FormatInt(p.Revision, 10) + "-crelvo" }

// writeVersion writes a version of a document.
func writeVersion(b *bytes.Buffer, name string, v *catalog.Version, base string, full bool) {
	b.WriteByte('{')
	if !members(b, v.Details.Native[nativeInstall]) {
		b.WriteString(`"name":`)
		quote(b, name)
		b.WriteString(`,"version":`)
		quote(b, v.Version)
	}
	if full {
		b.WriteString(`,"_id":`)
		quote(b, name+"@"+v.Version)
		if rest := v.Details.Native[nativeRest]; len(bytes.TrimSpace(rest)) > 2 {
			b.WriteByte(',')
			members(b, rest)
		}
	}
	if v.Withdrawn != nil {
		b.WriteString(`,"deprecated":`)
		reason := v.Withdrawn.Reason
		if reason == "" {
			reason = "withdrawn"
		}
		quote(b, reason)
	}
	b.WriteString(`,"dist":{`)
	if members(b, v.Details.Native[nativeDist]) {
		b.WriteByte(',')
	}
	for _, f := range v.Files {
		if f.Extension != tarball {
			continue
		}
		if f.Digests.Has("sha1") {
			b.WriteString(`"shasum":"` + f.Digests.Hex("sha1") + `",`)
		}
		if f.Digests.Has("sha512") {
			b.WriteString(`"integrity":"sha512-` + base64.StdEncoding.EncodeToString(f.Digests.SHA512[:]) + `",`)
		}
		b.WriteString(`"tarball":`)
		quote(b, base+address(name, v.Version, v.Upload, f.Name))
		break
	}
	b.WriteString("}}")
}

// aboutFields are taken from the latest version for the package as a whole.
var aboutFields = []string{"description", "homepage", "keywords", "repository", "author", "contributors", "maintainers", "bugs", "license"}

// writeAbout writes what only the full document has.
func writeAbout(b *bytes.Buffer, p *catalog.Package, newest []*catalog.Version, latest string, readme *catalog.Readme) error {
	b.WriteString(`,"time":{"created":"`)
	created := p.Changed
	if len(newest) > 0 {
		created = newest[0].PublishedAt
	}
	b.WriteString(created.UTC().Format(timeForm) + `","modified":"` + p.Changed.UTC().Format(timeForm) + `"`)
	for _, v := range newest {
		b.WriteByte(',')
		quote(b, v.Version)
		b.WriteString(`:"` + v.PublishedAt.UTC().Format(timeForm) + `"`)
		if v.Version != latest {
			continue
		}
	}
	b.WriteByte('}')
	for _, v := range newest {
		if v.Version != latest {
			continue
		}
		var fields map[string]json.RawMessage
		if rest := v.Details.Native[nativeRest]; rest != nil {
			if err := json.Unmarshal(rest, &fields); err != nil {
				return err
			}
		}
		for _, field := range aboutFields {
			if value, ok := fields[field]; ok {
				b.WriteString(`,"` + field + `":`)
				b.Write(value)
			}
		}
		if fields["maintainers"] == nil && !v.Listed {
			b.WriteString(`,"maintainers":[{"name":`)
			quote(b, v.PublishedBy)
			b.WriteString(`,"email":""}]`)
		}
	}
	if readme != nil {
		b.WriteString(`,"readme":`)
		quote(b, readme.Text)
		b.WriteString(`,"readmeFilename":"README.md"`)
	}
	return nil
}

// versionDocument is one version of the full document.
func versionDocument(p *catalog.Package, v *catalog.Version, base string) ecosystem.Document {
	var b bytes.Buffer
	writeVersion(&b, joinName(p.Key.Namespace, p.Key.Name), v, base, true)
	b.WriteByte('\n')
	return ecosystem.NewDocument("application/json", b.Bytes(), v.PublishedAt)
}

// searchAnswer is what a search finds
// (https://github.com/npm/registry/blob/main/docs/REGISTRY-API.md).
type searchAnswer struct {
	Objects []searchObject `json:"objects"`
	Total   int            `json:"total"`
	Time    string         `json:"time"`
}

type searchObject struct {
	Package struct {
		Name        string            `json:"name"`
		Scope       string            `json:"scope"`
		Version     string            `json:"version"`
		Description string            `json:"description"`
		Keywords    []string          `json:"keywords"`
		Date        string            `json:"date"`
		Links       map[string]string `json:"links"`
		Publisher   person            `json:"publisher"`
		Maintainers []person          `json:"maintainers"`
	} `json:"package"`
	Score struct {
		Final  float64            `json:"final"`
		Detail map[string]float64 `json:"detail"`
	} `json:"score"`
	SearchScore float64 `json:"searchScore"`
}

type person struct {
	Username string `json:"username"`
	Name     string `json:"name"`
}

func answerOf(hits []ecosystem.Hit, total int, now time.Time) searchAnswer {
	answer := searchAnswer{Objects: []searchObject{}, Total: total, Time: now.UTC().Format(timeForm)}
	for i, h := range hits {
		var o searchObject
		p := &o.Package
		p.Name, p.Version, p.Description, p.Date = joinName(h.Namespace, h.Name), h.Latest, h.Details.Description, h.ChangedAt.UTC().Format(timeForm)
		if p.Scope = "unscoped"; h.Namespace != "" {
			p.Scope = h.Namespace[1:]
		}
		var fields struct{ Keywords []text }
		if rest := h.Details.Native[nativeRest]; rest != nil && json.Unmarshal(rest, &fields) == nil {
			for _, k := range fields.Keywords {
				p.Keywords = append(p.Keywords, string(k))
			}
		}
		p.Links = map[string]string{}
		if h.Details.Homepage != "" {
			p.Links["homepage"] = h.Details.Homepage
		}
		p.Publisher = person{h.PublishedBy, h.PublishedBy}
		p.Maintainers = []person{p.Publisher}
		// The order is the fit; clients sort by the score.
		o.SearchScore = float64(len(hits) - i)
		o.Score.Final = o.SearchScore
		o.Score.Detail = map[string]float64{"quality": 1, "popularity": 1, "maintenance": 1}
		answer.Objects = append(answer.Objects, o)
	}
	return answer
}
