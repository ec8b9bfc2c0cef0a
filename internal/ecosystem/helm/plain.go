package helm

import (
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// NamesBase implements ecosystem.Plain: the index names charts relative to itself.
func (Helm) NamesBase() bool { return false }

// Leaves implements ecosystem.Plain.
func (k Helm) Leaves(_ string, p *catalog.Package) (all []ecosystem.Leaf, gives []byte, err error) {
	for _, v := range ecosystem.Newest(p) {
		at := purl.PURL{Ecosystem: Name, Name: p.Key.Name, Version: v.Version}
		for _, f := range v.Files {
			all = append(all, ecosystem.LeafOf(k.Address(at, v.Upload, f), typeOf(f.Name), f))
		}
	}
	lines, err := k.lines(p)
	return all, lines.Bytes(), err
}

// Roots implements ecosystem.Plain.
func (k Helm) Roots(_ string, all []ecosystem.Given) ([]ecosystem.Leaf, error) {
	parts := make([]ecosystem.Part, len(all))
	for i, g := range all {
		parts[i] = ecosystem.NewPart(g.Gives, nil)
	}
	return []ecosystem.Leaf{ecosystem.LeafDocument(indexFile, k.joined().Join(parts, ecosystem.LastChanged(all)))}, nil
}
