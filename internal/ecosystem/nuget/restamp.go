package nuget

import (
	"context"
	"path"
	"strings"

	"crelvo/internal/ecosystem"
)

// sealed is the entry that signs a package
// (https://learn.microsoft.com/nuget/reference/signed-packages-reference).
const sealed = ".signature.p7s"

// Restamp implements ecosystem.Restamping: the version in the .nuspec and in the
// core properties, and those of dependencies that are restamped too.
func (NuGet) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	return ecosystem.RestampZip(ctx, f, fileName(f.Stamp.Name, f.Stamp.To, f.File.Extension), ecosystem.ArchiveEdit{
		Seal: func(name string) bool { return strings.EqualFold(name, sealed) },
		Wants: func(name string) bool {
			extension := strings.ToLower(path.Ext(name))
			return extension == ".nuspec" && !strings.Contains(name, "/") || extension == ".psmdcp"
		},
		Edit: func(name string, raw []byte) ([]byte, []ecosystem.Change, error) {
			root, err := ecosystem.ParseXMLPlaces(raw)
			if err != nil {
				return nil, nil, err
			}
			e := nuspecEdit{f: f, entry: name}
			version := root.Child("version") // of the core properties
			if metadata := root.Child("metadata"); metadata != nil {
				version = metadata.Child("version")
				e.dependencies(metadata.Child("dependencies"))
			}
			if version != nil && version.To != 0 {
				e.put(f.Stamp, version.Text, version.From, version.To, "version")
			}
			return ecosystem.Spliced(raw, e.splices), e.changes, nil
		},
	})
}

type nuspecEdit struct {
	f       ecosystem.ToRestamp
	entry   string
	splices []ecosystem.Splice
	changes []ecosystem.Change
}

// put changes a version, which may be a range, or be written in another form
// than Crelvo's.
func (e *nuspecEdit) put(stamp ecosystem.Stamp, text string, from, to int, what string) {
	edited := (ecosystem.ToRestamp{Stamp: stamp, All: ecosystem.Stamps{stamp}}).Swap(text, nil)
	if placeOf(stamp.Name, text, packed).Version == stamp.From {
		edited = stamp.To
	}
	if edited != text {
		e.splices = append(e.splices, ecosystem.Splice{Start: from, End: to, New: edited})
		e.changes = append(e.changes, ecosystem.Change{Entry: e.entry, What: what, Old: text, New: edited})
	}
}

func (e *nuspecEdit) dependencies(at *ecosystem.XMLPlace) {
	if at == nil {
		return
	}
	for _, child := range at.Children {
		if child.Name == "group" {
			e.dependencies(child)
			continue
		}
		id, _, _ := child.Attribute("id")
		version, from, to := child.Attribute("version")
		if stamp := e.f.All.Of("", strings.ToLower(id)); stamp != nil && to != 0 {
			e.put(*stamp, version, from, to, "dependency on "+id)
		}
	}
}
