// Package madeup builds small package files of every ecosystem, for the demo and
// for tests. The same content always gives the same bytes.
package madeup

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Entry is a file in an archive.
type Entry struct{ Name, Content string }

// built is when everything in archives was changed last.
var built = time.Date(2026, 10, 1, 8, 0, 0, 0, time.UTC)

// TarGz makes an archive.
func TarGz(entries ...Entry) []byte {
	var b bytes.Buffer
	zipped := gzip.NewWriter(&b)
	w := tar.NewWriter(zipped)
	for _, e := range entries {
		must(w.WriteHeader(&tar.Header{Name: e.Name, Mode: 0o644, Size: int64(len(e.Content)), ModTime: built,
			Typeflag: tar.TypeReg}))
		_, err := w.Write([]byte(e.Content))
		must(err)
	}
	must(w.Close())
	must(zipped.Close())
	return b.Bytes()
}

// Zip makes an archive.
func Zip(entries ...Entry) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range entries {
		into, err := w.CreateHeader(&zip.FileHeader{Name: e.Name, Method: zip.Deflate, Modified: built})
		must(err)
		_, err = into.Write([]byte(e.Content))
		must(err)
	}
	must(w.Close())
	return b.Bytes()
}

// must: writing to memory does not fail.
func must(err error) {
	if err != nil {
		panic(err)
	}
}

// Package is what a made-up package says of itself.
type Package struct {
	Name, Version        string
	Description, Licence string
	Author, Homepage     string
	Readme               string
	Keywords             []string          // of npm
	PackageType, Icon    string            // of NuGet
	Values               string            // of a chart, besides what every chart has
	Needs                map[string]string // names and ranges
	Files                []Entry           // besides what every package has
	AtInstall            string            // what installing it runs, of npm
	Published            time.Time         // as its upstream says; zero is some day long ago
}

// Manifest is the package.json of an npm package.
func (p Package) Manifest() []byte {
	m := map[string]any{"name": p.Name, "version": p.Version, "description": p.Description, "license": p.Licence,
		"main": "index.js"}
	if p.Author != "" {
		m["author"] = p.Author
	}
	if p.Homepage != "" {
		m["homepage"] = p.Homepage
	}
	if p.Keywords != nil {
		m["keywords"] = p.Keywords
	}
	if p.AtInstall != "" {
		m["scripts"] = map[string]string{"postinstall": p.AtInstall}
	}
	if p.Needs != nil {
		m["dependencies"] = p.Needs
	}
	raw, err := json.Marshal(m)
	must(err)
	return raw
}

// NPM is the tarball of an npm package.
func (p Package) NPM() []byte {
	entries := []Entry{{"package/package.json", string(p.Manifest())},
		{"package/index.js", "module.exports = " + quoted(p.Name) + "\n"}}
	if p.Readme != "" {
		entries = append(entries, Entry{"package/README.md", p.Readme})
	}
	return TarGz(append(entries, p.Files...)...)
}

func quoted(s string) string {
	raw, err := json.Marshal(s)
	must(err)
	return string(raw)
}

// NPMDocument is what a client sends to publish the package.
func (p Package) NPMDocument(tag string, tarball []byte) []byte {
	var manifest map[string]any
	must(json.Unmarshal(p.Manifest(), &manifest))
	base := p.Name[strings.LastIndexByte(p.Name, '/')+1:]
	raw, err := json.Marshal(map[string]any{"_id": p.Name, "name": p.Name, "dist-tags": map[string]string{tag: p.Version},
		"versions": map[string]any{p.Version: manifest}, "readme": p.Readme,
		"_attachments": map[string]any{base + "-" + p.Version +
			".tgz": map[string]any{"content_type": "application/octet-stream", "data": tarball, "length": len(tarball)}}})
	must(err)
	return raw
}

// Metadata is the core metadata of a Python distribution.
func (p Package) Metadata() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Metadata-Version: 2.1\nName: %s\nVersion: %s\nSummary: %s\nLicense: %s\nRequires-Python: >=3.8\n",
		p.Name, p.Version, p.Description, p.Licence)
	if p.Author != "" {
		fmt.Fprintf(&b, "Author: %s\n", p.Author)
	}
	if p.Homepage != "" {
		fmt.Fprintf(&b, "Home-page: %s\n", p.Homepage)
	}
	for name, version := range p.Needs {
		fmt.Fprintf(&b, "Requires-Dist: %s%s\n", name, version)
	}
	b.WriteString("Description-Content-Type: text/markdown\n\n" + p.Readme)
	return b.String()
}

func (p Package) module() string { return strings.NewReplacer("-", "_", ".", "_").Replace(p.Name) }

// WheelName is the name of the wheel's file; the sdist's is SdistName.
func (p Package) WheelName() string { return p.module() + "-" + p.Version + "-py3-none-any.whl" }

// SdistName is the name of the source distribution's file.
func (p Package) SdistName() string { return p.module() + "-" + p.Version + ".tar.gz" }

// Wheel is a Python wheel.
func (p Package) Wheel() []byte {
	info := p.module() + "-" + p.Version + ".dist-info/"
	entries := []Entry{{p.module() + "/__init__.py", "__version__ = " + quoted(p.Version) + "\n"},
		{info + "METADATA", p.Metadata()}, {info + "WHEEL",
			"Wheel-Version: 1.0\nGenerator: made-up\nRoot-Is-Purelib: true\nTag: py3-none-any\n"},
		{info + "top_level.txt", p.module() + "\n"}}
	entries = append(entries, p.Files...)
	record := ""
	for _, e := range entries {
		record += e.Name + ",,\n"
	}
	return Zip(append(entries, Entry{info + "RECORD", record + info + "RECORD,,\n"})...)
}

// Sdist is a Python source distribution.
func (p Package) Sdist() []byte {
	folder := p.module() + "-" + p.Version + "/"
	return TarGz(append([]Entry{{folder + "PKG-INFO", p.Metadata()},
		{folder + p.module() + "/__init__.py", "__version__ = " + quoted(p.Version) + "\n"}}, p.Files...)...)
}

// Nuspec is the manifest of a NuGet package.
func (p Package) Nuspec() string {
	var b strings.Builder
	fmt.Fprintf(&b, `<?xml version="1.0" encoding="utf-8"?>
<package xmlns="http://schemas.microsoft.com/packaging/2013/05/nuspec.xsd">
  <metadata>
    <id>%s</id><version>%s</version><authors>%s</authors><description>%s</description>
    <license type="expression">%s</license><projectUrl>%s</projectUrl><tags>made up</tags>
`, p.Name, p.Version, p.Author, p.Description, p.Licence, p.Homepage)
	if p.Readme != "" {
		b.WriteString("    <readme>README.md</readme>\n")
	}
	if p.PackageType != "" {
		fmt.Fprintf(&b, "    <packageTypes><packageType name=\"%s\" /></packageTypes>\n", p.PackageType)
	}
	if p.Icon != "" {
		fmt.Fprintf(&b, "    <icon>%s</icon>\n", p.Icon)
	}
	b.WriteString("    <dependencies><group targetFramework=\"net45\">")
	for name, version := range p.Needs {
		fmt.Fprintf(&b, `<dependency id="%s" version="%s" />`, name, version)
	}
	b.WriteString("</group></dependencies>\n  </metadata>\n</package>\n")
	return b.String()
}

// NuGet is a NuGet package.
func (p Package) NuGet() []byte {
	entries := []Entry{{p.Name + ".nuspec", p.Nuspec()},
		{"[Content_Types].xml",
			`<?xml version="1.0" encoding="utf-8"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="nuspec" ContentType="application/octet" /><Default Extension="txt" ContentType="application/octet" /><Default Extension="md" ContentType="application/octet" /></Types>`},
		{"lib/net45/" + p.Name + ".txt", p.Name + "\n"}}
	if p.Readme != "" {
		entries = append(entries, Entry{"README.md", p.Readme})
	}
	return Zip(append(entries, p.Files...)...)
}

// CargoToml is the Cargo.toml of a crate, as cargo writes it into an archive. What it
// needs is in the registry of an address, or with "" in the public one.
func (p Package) CargoToml(registry string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "[package]\nedition = \"2021\"\nname = %q\nversion = %q\ndescription = %q\nlicense = %q\n", p.Name,
		p.Version, p.Description, p.Licence)
	if p.Readme != "" {
		b.WriteString("readme = \"README.md\"\n")
	}
	if len(p.Keywords) > 0 {
		fmt.Fprintf(&b, "keywords = [\"%s\"]\n", strings.Join(p.Keywords, `", "`))
	}
	for _, name := range slices.Sorted(maps.Keys(p.Needs)) {
		fmt.Fprintf(&b, "\n[dependencies.%s]\nversion = %q\n", name, p.Needs[name])
		if registry != "" {
			fmt.Fprintf(&b, "registry-index = %q\n", registry)
		}
	}
	return b.String()
}

// Cargo is the package as a crate.
func (p Package) Cargo(registry string) []byte {
	folder := p.Name + "-" + p.Version + "/"
	entries := []Entry{{folder + "Cargo.toml", p.CargoToml(registry)},
		{folder + "src/lib.rs", "pub const NAME: &str = " + quoted(p.Name) + ";\n"}}
	if p.Readme != "" {
		entries = append(entries, Entry{folder + "README.md", p.Readme})
	}
	for _, e := range p.Files {
		entries = append(entries, Entry{folder + e.Name, e.Content})
	}
	return TarGz(entries...)
}

// CargoUpload is what cargo publish sends for a crate.
func (p Package) CargoUpload(crate []byte) []byte {
	said, err := json.Marshal(map[string]any{"name": p.Name, "vers": p.Version, "deps": []any{},
		"features": map[string]any{}, "description": p.Description})
	must(err)
	body := binary.LittleEndian.AppendUint32(nil, uint32(len(said)))
	body = binary.LittleEndian.AppendUint32(append(body, said...), uint32(len(crate)))
	return append(body, crate...)
}
