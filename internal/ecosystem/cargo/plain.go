package cargo

import (
	"bytes"
	"encoding/json"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// NamesBase implements ecosystem.Plain: config.json says where crates are.
func (Cargo) NamesBase() bool { return true }

// Leaves implements ecosystem.Plain.
func (k Cargo) Leaves(_ string, p *catalog.Package) (all []ecosystem.Leaf, _ []byte, err error) {
	var lines bytes.Buffer
	encoder := json.NewEncoder(&lines)
	encoder.SetEscapeHTML(false)
	for _, v := range ecosystem.Newest(p) {
		e, err := entryOf(v, ofCrelvo)
		if err != nil {
			return nil, nil, err
		}
		for _, f := range v.Files {
			if f.Extension == k.Extension {
				// As config.json spells it, with the crate's own name.
				all = append(all, ecosystem.LeafOf("crates/"+e.Name+"/"+v.Version+"/"+e.Name+"-"+v.Version+"."+k.Extension,
					"application/gzip", f))
			}
		}
		if err := encoder.Encode(e); err != nil {
			return nil, nil, err
		}
	}
	return append(all, ecosystem.Leaf{Path: indexPath(p.Key.Name), ContentType: "text/plain; charset=utf-8",
		Document: lines.Bytes(), Names: true}), nil, nil
}

// Roots implements ecosystem.Plain.
func (k Cargo) Roots(base string, _ []ecosystem.Given) ([]ecosystem.Leaf, error) {
	raw, err := json.Marshal(map[string]string{
		"dl": base + "crates/{crate}/{version}/{crate}-{version}." + k.Extension})
	return []ecosystem.Leaf{{Path: "config.json", ContentType: "application/json", Document: append(raw, '\n')}}, err
}

// ofCrelvo tells whether the address of an index is that of a repository of a Crelvo.
func ofCrelvo(index string) bool {
	return strings.HasPrefix(index, sparse) && strings.Contains(index, "/at/") && strings.HasSuffix(index, "/"+Name+"/")
}
