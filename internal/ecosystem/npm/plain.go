package npm

import (
	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// plainTarballs is where a plain tree has tarballs: not below the name of their package, since its document has
// that very name, and no file system has a file and a folder of one name.
const plainTarballs = "-/tarballs/"

// NamesBase implements ecosystem.Plain.
func (NPM) NamesBase() bool { return true }

// Leaves implements ecosystem.Plain.
func (NPM) Leaves(base string, p *catalog.Package) (all []ecosystem.Leaf, _ []byte, err error) {
	name := joinName(p.Key.Namespace, p.Key.Name)
	for _, v := range ecosystem.Newest(p) {
		for _, f := range v.Files {
			all = append(all, ecosystem.LeafOf(plainTarballs+address(name, v.Version, v.Upload, f.Name),
				"application/octet-stream", f))
		}
	}
	d, err := packageDocument(p, base+plainTarballs, true, nil, ecosystem.Document{})
	if err != nil {
		return nil, nil, err
	}
	return append(all, ecosystem.LeafDocument(name, d)), nil, nil
}

// Roots implements ecosystem.Plain: the registry knows no document about all.
func (NPM) Roots(string, []ecosystem.Given) ([]ecosystem.Leaf, error) { return nil, nil }
