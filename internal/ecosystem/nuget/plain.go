package nuget

import (
	"context"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// NamesBase implements ecosystem.Plain.
func (NuGet) NamesBase() bool { return true }

// Leaves implements ecosystem.Plain.
func (n NuGet) Leaves(base string, p *catalog.Package) (all []ecosystem.Leaf, _ []byte, err error) {
	w := writer{p, base}
	versions := ordered(p)
	add := func(at string, d ecosystem.Document, err error) error {
		if err == nil {
			all = append(all, ecosystem.LeafDocument(at, d))
		}
		return err
	}
	for _, v := range versions {
		at := purl.PURL{Ecosystem: Name, Name: p.Key.Name, Version: v.Version}
		for _, f := range v.Files {
			file := n.Address(at, v.Upload, f)
			all = append(all, ecosystem.LeafOf(file, "application/octet-stream", f))
			if f.Extension != packed {
				continue
			}
			if v.Upload != "" { // the flat container has one address for a version
				all = append(all, ecosystem.LeafOf(doorFlat+p.Key.Name+"/"+v.Version+"/"+n.Named(p.Key.Name, v.Version, packed),
					"application/octet-stream", f))
			}
			all = append(all, w.inside(v, f)...)
		}
	}
	for _, v := range versions {
		d, err := jsonDocument(w.single(v), v.PublishedAt)
		if err := add(doorRegistration+p.Key.Name+"/"+v.Version+".json", d, err); err != nil {
			return nil, nil, err
		}
	}
	if len(versions) > inlineVersions {
		for _, some := range w.pages(versions, false) {
			d, _, err := w.page(some.Lower, some.Upper)
			at := doorRegistration + p.Key.Name + "/page/" + some.Lower + "/" + some.Upper + ".json"
			if err := add(at, d, err); err != nil {
				return nil, nil, err
			}
		}
	}
	index, err := w.index()
	if err := add(doorRegistration+p.Key.Name+"/index.json", index, err); err != nil {
		return nil, nil, err
	}
	list, err := flat(p)
	return all, nil, add(doorFlat+p.Key.Name+"/index.json", list, err)
}

// inside are the files in a package that have an address of their own.
func (w writer) inside(v *catalog.Version, f catalog.File) (all []ecosystem.Leaf) {
	at := doorFlat + w.p.Key.Name + "/" + v.Version + "/"
	manifest := ecosystem.LeafOf(at+w.p.Key.Name+".nuspec", "application/xml", f)
	manifest.Make = func(ctx context.Context, content ecosystem.SizedReaderAt) ([]byte, error) {
		_, raw, _, err := readPackage(ctx, content)
		return raw, err
	}
	all = append(all, manifest)
	says := factsOf(v.Details, w.p.Key.Name, v.Version)
	for _, one := range []struct{ name, inside, contentType string }{
		{embeddedIcon, says.Icon, "image/png"}, {embeddedLicence, says.LicenceFile, "text/plain; charset=utf-8"},
		{embeddedReadme, says.Readme, "text/plain; charset=utf-8"}} {
		if one.inside == "" {
			continue
		}
		leaf := ecosystem.LeafOf(at+one.name, one.contentType, f)
		leaf.Make = func(ctx context.Context, content ecosystem.SizedReaderAt) ([]byte, error) {
			raw, err := entryOf(ctx, content, one.inside)
			if raw == nil {
				raw = []byte{} // it names a file that it does not have
			}
			return raw, err
		}
		all = append(all, leaf)
	}
	return all
}

// Roots implements ecosystem.Plain: the service index, without what only a server can answer.
func (NuGet) Roots(base string, _ []ecosystem.Given) ([]ecosystem.Leaf, error) {
	d, err := jsonDocument(serviceIndex(base, false, true), time.Time{})
	return []ecosystem.Leaf{ecosystem.LeafDocument("index.json", d)}, err
}
