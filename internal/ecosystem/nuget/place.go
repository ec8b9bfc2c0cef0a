package nuget

import (
	"context"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
)

// The extensions of files: packages, and their symbols.
const packed, symbols = "nupkg", "snupkg"

// New makes the ecosystem.
func New() NuGet {
	return NuGet{onefile.Kind{Type: Name, Called: "NuGet", Archive: "a .nupkg, and a .snupkg with its symbols",
		Extension: packed,
		MakeIt:    "Make it with nuget pack or dotnet pack", Read: read, Check: checkPackage, Beside: []string{symbols},
		Named:  func(id, version, extension string) string { return id + "." + version + "." + extension },
		IsName: func(namespace, id string) bool { return namespace == "" && isID(id) },
		Bad:    "bad-nupkg", Disagrees: "nuspec-disagrees", NotOne: "not-a-package"}}
}

// read tells what a package is, or of which its symbols are.
func read(ctx context.Context, file ecosystem.SizedReaderAt) (is purl.PURL, d catalog.Details, err error) {
	n, _, readme, err := readPackage(ctx, file)
	if err != nil {
		return is, d, err
	}
	d = n.details()
	d.Readme = readme
	return purl.PURL{Ecosystem: Name, Name: strings.ToLower(n.Metadata.ID), Version: n.Metadata.Version}, d, nil
}

// Address implements ecosystem.Ecosystem.
func (NuGet) Address(p purl.PURL, upload string, f catalog.File) string {
	if upload == "" {
		return "flat/" + p.Name + "/" + p.Version + "/" + f.Name
	}
	return "flat/" + p.Name + "/" + p.Version + "/" + ecosystem.StampOf(p.Version, upload) + "/" + f.Name
}
