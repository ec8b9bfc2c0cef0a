package helm

import (
	"bytes"
	"cmp"
	"encoding/json"
	"slices"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// indexFile is what a repository lists its charts in. JSON is YAML too, and is read faster.
const indexFile, indexType = "index.yaml", "application/yaml"

// entry is a version in an index.
type entry struct {
	chart
	URLs    []string `json:"urls" yaml:"urls"`
	Created string   `json:"created,omitempty" yaml:"created"`
	Digest  string   `json:"digest,omitempty" yaml:"digest"`
}

// entryOf is what the index says of a version; ok is false for one without an archive.
func (k Helm) entryOf(v *catalog.Version) (e entry, ok bool, err error) {
	i := slices.IndexFunc(v.Files, func(f catalog.File) bool { return f.Extension == archive })
	if i < 0 {
		return e, false, nil
	}
	if e.chart, err = chartOf(v); err != nil {
		return e, false, err
	}
	f := v.Files[i]
	p := purl.PURL{Ecosystem: Name, Name: e.Name, Version: v.Version}
	// Relative to the index, so that it is right however the server is reached.
	e.URLs = []string{k.Address(p, v.Upload, f)}
	if f.Digests.SHA256 != [32]byte{} {
		e.Digest = f.Digests.Hex("sha256")
	}
	if at := cmp.Or(v.UploadedAt, v.PublishedAt); !at.IsZero() {
		e.Created = at.UTC().Format(time.RFC3339)
	}
	return e, true, nil
}

// lines are those of a chart in the index: its name, and its versions, the newest first.
// What is withdrawn is not offered.
func (k Helm) lines(p *catalog.Package) (ecosystem.Part, error) {
	var b bytes.Buffer
	name, err := json.Marshal(p.Key.Name)
	if err != nil {
		return ecosystem.Part{}, err
	}
	some := false
	newest := ecosystem.Newest(p)
	slices.SortFunc(newest, func(a, b *catalog.Version) int { return purl.Compare(Name, b.Version, a.Version) })
	for _, v := range newest {
		if v.Withdrawn != nil {
			continue
		}
		e, ok, err := k.entryOf(v)
		if err != nil {
			return ecosystem.Part{}, err
		}
		if !ok {
			continue
		}
		raw, err := json.Marshal(e)
		if err != nil {
			return ecosystem.Part{}, err
		}
		if some {
			b.WriteString(",\n  ")
		} else {
			b.Write(name)
			b.WriteString(":[\n  ")
		}
		some = true
		b.Write(raw)
	}
	if some {
		b.WriteString("]")
	}
	return ecosystem.NewPart(b.Bytes(), nil), nil
}

// index answers with what the whole repository holds.
func (k Helm) index(c *ecosystem.Call) error {
	all, err := c.Desk.(ecosystem.Lister).Whole(c.Request().Context(), c.Repository, Name, k.joined())
	if err != nil {
		return err
	}
	return c.SendDocument(all.Document, all.Stale)
}

// joined is how the index is put together.
func (k Helm) joined() ecosystem.Joined {
	return ecosystem.Joined{ContentType: indexType, Each: k.lines,
		Begin: func(changed time.Time) []byte {
			return []byte(`{"apiVersion":"v1","generated":"` + changed.UTC().Format(time.RFC3339) + `","entries":{` + "\n")
		},
		Between: []byte(",\n"), End: []byte("\n}}\n")}
}
