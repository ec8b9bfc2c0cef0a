package pypi

import (
	"context"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// NamesBase implements ecosystem.Plain: pages name files relative to themselves.
func (PyPI) NamesBase() bool { return false }

// Leaves implements ecosystem.Plain.
func (PyPI) Leaves(_ string, p *catalog.Package) (all []ecosystem.Leaf, gives []byte, err error) {
	for i := range p.Versions {
		v := &p.Versions[i]
		for _, f := range v.Files {
			at := address(p.Key.Name, v.Version, v.Upload, f.Name)
			all = append(all, ecosystem.LeafOf(at, contentType(f.Extension), f))
			if factsOf(v, f.Name).Metadata == "" {
				continue
			}
			place, ok := parseName(f.Name, p.Key.Name)
			if !ok || place.Extension != wheel {
				continue
			}
			made := ecosystem.LeafOf(at+"."+metadataFile, contentType(metadataFile), f)
			made.Make = func(ctx context.Context, content ecosystem.SizedReaderAt) ([]byte, error) {
				return readMetadata(ctx, place, content)
			}
			all = append(all, made)
		}
	}
	page, err := projectOf(p).document(plainHTML, p.Changed)
	if err != nil {
		return nil, nil, err
	}
	return append(all, ecosystem.LeafDocument("simple/"+p.Key.Name+"/index.html", page)), nil, nil
}

// Roots implements ecosystem.Plain: the list of projects.
func (PyPI) Roots(_ string, all []ecosystem.Given) ([]ecosystem.Leaf, error) {
	names := make([]string, len(all))
	for i, g := range all {
		names[i] = g.Name
	}
	d, err := allProjects(names, plainHTML, ecosystem.LastChanged(all))
	return []ecosystem.Leaf{ecosystem.LeafDocument("simple/index.html", d)}, err
}
