package npm

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"weak"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const latestTag = "latest"

// timeForm is how the registry protocol writes times.
const timeForm = "2006-01-02T15:04:05.000Z"

// writer puts a document together. Documents have thousands of versions, so it
// makes no pieces in between.
type writer struct{ b []byte }

func (w *writer) raw(s string) { w.b = append(w.b, s...) }

// quote writes strings as one, in JSON.
func (w *writer) quote(pieces ...string) {
	w.b = append(w.b, '"')
	for _, s := range pieces {
		if plain(s) {
			w.b = append(w.b, s...)
			continue
		}
		raw, err := json.Marshal(s)
		if err != nil {
			panic(err) // a string can always be written
		}
		w.b = append(w.b, raw[1:len(raw)-1]...)
	}
	w.b = append(w.b, '"')
}

// plain tells whether a string is the same in JSON.
func plain(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			return false
		}
	}
	return true
}

func (w *writer) time(t time.Time) {
	w.b = append(w.b, '"')
	w.b = t.UTC().AppendFormat(w.b, timeForm)
	w.b = append(w.b, '"')
}

// members writes the members of an object without its braces, and tells whether
// there were any.
func (w *writer) members(object json.RawMessage) bool {
	object = bytes.TrimSpace(object)
	if len(object) < 2 {
		return false
	}
	inside := bytes.TrimSpace(object[1 : len(object)-1])
	w.b = append(w.b, inside...)
	return len(inside) > 0
}

// tags are the dist-tags of a package: its labels, and always a latest.
func tags(p *catalog.Package, newest []*catalog.Version) map[string]string {
	labels := map[string][]string{} // by version
	for label, version := range p.Labels {
		labels[version] = append(labels[version], label)
	}
	all := map[string]string{}
	for _, v := range newest {
		for _, label := range labels[v.Version] {
			all[label] = v.Version
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

// partVersions is how many versions make a part of a document.
const partVersions = 64

// seed of the marks, which are compared within the process alone.
var seed = maphash.MakeSeed()

// times is what the parts are called that tell when versions were published.
const times = "times"

// made is what a part was made of, and for what. It keeps nothing of that alive.
type made struct {
	what string
	// mark is a digest of all that the part shows of its versions but their manifests,
	// which are never changed, but made anew.
	mark      uint64
	manifests []manifestParts
}

// manifestParts are the parts of a version's manifest.
type manifestParts [3]weak.Pointer[byte]

var nativeParts = [...]string{nativeInstall, nativeRest, nativeDist}

func partsOf(v *catalog.Version) (parts manifestParts) {
	for i, name := range nativeParts {
		if raw := v.Details.Native[name]; len(raw) > 0 {
			parts[i] = weak.Make(&raw[0])
		}
	}
	return parts
}

// holds tells whether a part that was made of that is as it would be made of some
// versions.
func (m made) holds(what string, mark uint64, some []*catalog.Version) bool {
	if m.what != what || m.mark != mark || len(m.manifests) > len(some) {
		return false
	}
	for n, parts := range m.manifests {
		for i, name := range nativeParts {
			var there *byte
			if raw := some[n].Details.Native[name]; len(raw) > 0 {
				there = &raw[0]
			}
			if parts[i].Value() != there {
				return false
			}
		}
	}
	return true
}

// madeOf is what a part of some versions is made of.
func madeOf(what string, mark uint64, some []*catalog.Version) made {
	m := made{what: what, mark: mark}
	if what != times {
		m.manifests = make([]manifestParts, len(some))
		for i, v := range some {
			m.manifests[i] = partsOf(v)
		}
	}
	return m
}

// markOf is the mark of some versions: see made.
func markOf(what string, some []*catalog.Version) uint64 {
	var h maphash.Hash
	h.SetSeed(seed)
	var about []byte // of one version, with the length of each text
	add := func(s string) { about = append(binary.AppendUvarint(about, uint64(len(s))), s...) }
	for _, v := range some {
		about = about[:0]
		add(v.Version)
		about = binary.AppendVarint(about, v.PublishedAt.UnixNano())
		if what != times {
			add(v.Upload)
			if v.Withdrawn != nil {
				add("withdrawn")
				add(v.Withdrawn.Reason)
			}
			for i := range v.Files {
				f := &v.Files[i]
				add(f.Name)
				add(f.Extension)
				about = append(append(about, f.Digests.SHA1[:]...), f.Digests.SHA512[:]...)
			}
		}
		h.Write(about)
	}
	return h.Sum64()
}

// packageDocument is what clients read about a package: all that is known, or
// the abbreviated form, which is enough to install. base is the address of the
// door that the tarballs' addresses begin with. before is what was made of an
// earlier state of the package, whose parts are taken over where they still hold.
func packageDocument(
	p *catalog.Package, base string, full bool, readme *catalog.Readme, before ecosystem.Document,
) (ecosystem.Document, error) {
	name := joinName(p.Key.Namespace, p.Key.Name)
	newest := ecosystem.Newest(p)
	slices.SortFunc(newest, func(a, b *catalog.Version) int { return a.PublishedAt.Compare(b.PublishedAt) })
	tagged := tags(p, newest)
	head := new(writer)
	if err := head.head(p, name, tagged, full); err != nil {
		return ecosystem.Document{}, err
	}
	d := draft{known: before.Parts(), parts: []ecosystem.Part{ecosystem.NewPart(head.b, nil)}}
	d.add("versions", newest, func(w *writer, v *catalog.Version) {
		w.quote(v.Version)
		w.raw(":")
		w.version(name, v, base, full)
	})
	contentType := "application/vnd.npm.install-v1+json"
	end := new(writer)
	if full {
		contentType = "application/json"
		end.raw("}")
		if err := end.about(p, newest, tagged[latestTag], readme); err != nil {
			return ecosystem.Document{}, err
		}
		end.raw(`,"time":{"created":`)
		created := p.Changed
		if len(newest) > 0 {
			created = newest[0].PublishedAt
		}
		end.time(created)
		end.raw(`,"modified":`)
		end.time(p.Changed)
		if len(newest) > 0 {
			end.raw(",")
		}
		d.parts = append(d.parts, ecosystem.NewPart(end.b, nil))
		d.add(times, newest, func(w *writer, v *catalog.Version) {
			w.quote(v.Version)
			w.raw(":")
			w.time(v.PublishedAt)
		})
	}
	return ecosystem.Assemble(contentType, p.Changed, append(d.parts, ecosystem.NewPart([]byte("}}\n"), nil))...), nil
}

// draft is a document that is being put together.
type draft struct{ known, parts []ecosystem.Part }

// add adds members for all versions, in parts, each of which is taken over from
// the document before if it was made of the same versions.
func (d *draft) add(what string, newest []*catalog.Version, write func(w *writer, v *catalog.Version)) {
	first := len(d.parts)
	w := scratch.Get().(*writer)
	defer scratch.Put(w)
	for some := range slices.Chunk(newest, partVersions) {
		mark := markOf(what, some)
		if at := len(d.parts); at < len(d.known) {
			if was, ok := d.known[at].Of.(made); ok && was.holds(what, mark, some) {
				d.parts = append(d.parts, d.known[at])
				continue
			}
		}
		w.b = w.b[:0]
		for i, v := range some {
			if i > 0 || len(d.parts) > first {
				w.raw(",")
			}
			write(w, v)
		}
		d.parts = append(d.parts, ecosystem.NewPart(bytes.Clone(w.b), madeOf(what, mark, some)))
	}
}

// scratch is where parts are written, so that each keeps no more than it has.
var scratch = sync.Pool{New: func() any { return new(writer) }}

// head writes what stands before the versions.
func (w *writer) head(p *catalog.Package, name string, tagged map[string]string, full bool) error {
	w.raw("{")
	if full {
		w.raw(`"_id":`)
		w.quote(name)
		w.raw(`,"_rev":`)
		w.quote(revision(p))
		w.raw(",")
	}
	w.raw(`"name":`)
	w.quote(name)
	w.raw(`,"dist-tags":`)
	raw, err := json.Marshal(tagged)
	if err != nil {
		return err
	}
	w.b = append(w.b, raw...)
	w.raw(`,"modified":`)
	w.time(p.Changed)
	w.raw(`,"versions":{`)
	return nil
}

func revision(p *catalog.Package) string { return strconv.FormatInt(p.Revision, 10) + "-crelvo" }

// version writes a version of a document.
func (w *writer) version(name string, v *catalog.Version, base string, full bool) {
	w.raw("{")
	if !w.members(v.Details.Native[nativeInstall]) {
		w.raw(`"name":`)
		w.quote(name)
		w.raw(`,"version":`)
		w.quote(v.Version)
	}
	if full {
		w.raw(`,"_id":`)
		w.quote(name, "@", v.Version)
		if rest := v.Details.Native[nativeRest]; len(bytes.TrimSpace(rest)) > 2 {
			w.raw(",")
			w.members(rest)
		}
	}
	if v.Withdrawn != nil {
		w.raw(`,"deprecated":`)
		w.quote(deprecatedAs(v.Withdrawn))
	}
	w.raw(`,"dist":{`)
	if w.members(v.Details.Native[nativeDist]) {
		w.raw(",")
	}
	for i := range v.Files {
		f := &v.Files[i]
		if f.Extension != tarball {
			continue
		}
		if f.Digests.Has("sha1") {
			w.raw(`"shasum":"`)
			w.b = hex.AppendEncode(w.b, f.Digests.SHA1[:])
			w.raw(`",`)
		}
		if f.Digests.Has("sha512") {
			w.raw(`"integrity":"sha512-`)
			w.b = base64.StdEncoding.AppendEncode(w.b, f.Digests.SHA512[:])
			w.raw(`",`)
		}
		w.raw(`"tarball":`)
		if v.Upload == "" {
			w.quote(base, name, "/-/", f.Name)
		} else {
			w.quote(base, address(name, v.Version, v.Upload, f.Name))
		}
		break
	}
	w.raw("}}")
}

// aboutFields are taken from the latest version for the package as a whole.
var aboutFields = []string{"description", "homepage", "keywords", "repository", "author", "contributors", "maintainers",
	"bugs", "license"}

// about writes what only the full document has.
func (w *writer) about(p *catalog.Package, newest []*catalog.Version, latest string, readme *catalog.Readme) error {
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
				w.raw(`,"` + field + `":`)
				w.b = append(w.b, value...)
			}
		}
		if fields["maintainers"] == nil && !v.Listed {
			w.raw(`,"maintainers":[{"name":`)
			w.quote(v.PublishedBy)
			w.raw(`,"email":""}]`)
		}
	}
	if readme != nil {
		w.raw(`,"readme":`)
		w.quote(readme.Text)
		w.raw(`,"readmeFilename":"README.md"`)
	}
	return nil
}

// versionDocument is one version of the full document.
func versionDocument(p *catalog.Package, v *catalog.Version, base string) ecosystem.Document {
	w := new(writer)
	w.version(joinName(p.Key.Namespace, p.Key.Name), v, base, true)
	w.raw("\n")
	return ecosystem.NewDocument("application/json", w.b, v.PublishedAt)
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

// keywords is a list or, in old manifests, a text with commas or blanks.
type keywords []string

// UnmarshalJSON implements json.Unmarshaler.
func (k *keywords) UnmarshalJSON(raw []byte) error {
	var list []text
	if json.Unmarshal(raw, &list) != nil {
		for _, word := range strings.FieldsFunc(string(textOf(raw)), func(r rune) bool { return r == ',' || r == ' ' }) {
			*k = append(*k, word)
		}
		return nil
	}
	for _, word := range list {
		if word != "" && !slices.Contains(*k, string(word)) {
			*k = append(*k, string(word))
		}
	}
	return nil
}

// bugsOf reads bugs, which is a string or an object with an url.
func bugsOf(raw json.RawMessage) string {
	var one text
	var with struct{ URL text }
	if json.Unmarshal(raw, &one) == nil && one != "" {
		return string(one)
	}
	_ = json.Unmarshal(raw, &with) // anything else says nothing
	return string(with.URL)
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
		p.Name, p.Version, p.Description, p.Date = joinName(h.Namespace, h.Name), h.Latest, h.Details.Description,
			h.PublishedAt.UTC().Format(timeForm)
		if p.Scope = "unscoped"; h.Namespace != "" {
			p.Scope = h.Namespace[1:]
		}
		var fields struct {
			Keywords keywords
			Bugs     json.RawMessage
		}
		if rest := h.Details.Native[nativeRest]; rest != nil && json.Unmarshal(rest, &fields) == nil {
			p.Keywords = fields.Keywords
		}
		p.Links = map[string]string{}
		for name, address := range map[string]string{"homepage": h.Details.Homepage, "repository": h.Details.Source,
			"bugs": bugsOf(fields.Bugs)} {
			if address = ecosystem.WebOnly(address); address != "" {
				p.Links[name] = address
			}
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
