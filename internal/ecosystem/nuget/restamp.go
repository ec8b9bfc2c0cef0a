package nuget

import (
	"context"
	"path"
	"strings"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// sealed is the entry that signs a package
// (https://learn.microsoft.com/nuget/reference/signed-packages-reference).
const sealed = ".signature.p7s"

// Restamp implements ecosystem.Restamping: the version in the .nuspec and in the
// core properties, and those of dependencies that are restamped too. A version may be a
// range, or be written in another form than Crelvo's.
func (n NuGet) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	written := func(version string) string { return purl.NormalVersion(Name, version) }
	edit := ecosystem.Declared(f, written,
		ecosystem.Statement{
			Document: func(name string) bool {
				extension := strings.ToLower(path.Ext(name))
				return extension == ".nuspec" && !strings.Contains(name, "/") || extension == ".psmdcp"
			},
			Places: ecosystem.ParseXMLTexts("id", "version"),
			Whose: func(p ecosystem.TextPlace) (ecosystem.Stated, bool) {
				switch {
				case p.Is("*", "version"), p.Is("*", "metadata", "version"):
					return ecosystem.Stated{Own: true, What: "version"}, true
				case p.Is("*", "metadata", "dependencies", "*", "@version"),
					p.Is("*", "metadata", "dependencies", "group", "*", "@version"):
					id := p.Beside("@id")
					return ecosystem.Stated{Name: strings.ToLower(id), What: "dependency on " + id}, true
				}
				return ecosystem.Stated{}, false
			}})
	edit.Seal = func(name string) bool { return strings.EqualFold(name, sealed) }
	return ecosystem.RestampZip(ctx, f, n.Named(f.Stamp.Name, f.Stamp.To, f.File.Extension), edit)
}
