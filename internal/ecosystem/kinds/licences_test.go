package kinds

import (
	"bytes"
	"fmt"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
)

const (
	isc = `Permission to use, copy, modify, and/or distribute this software for any purpose with or without fee is hereby
granted, provided that the above copyright notice and this permission notice appear in all copies.
THE SOFTWARE IS PROVIDED "AS IS" AND THE AUTHOR DISCLAIMS ALL WARRANTIES WITH REGARD TO THIS SOFTWARE.`
	unlicense = `This is free and unencumbered software released into the public domain. Anyone is free to copy, modify, publish,
use, compile, sell, or distribute this software.`
)

// TestLicenceByText: where a package does not state its licence, it is known by the text that it has.
func TestLicenceByText(t *testing.T) {
	entry := func(name, content string) madeup.Entry { return madeup.Entry{Name: name, Content: content} }
	npm := func(license string, more ...madeup.Entry) []byte {
		return madeup.TarGz(append([]madeup.Entry{entry("package/package.json", `{"name": "kelp", "version": "1.0.0"`+license+`}`)},
			more...)...)
	}
	crate := func(more ...madeup.Entry) []byte {
		return madeup.TarGz(append([]madeup.Entry{entry("kelp-1.0.0/Cargo.toml",
			"[package]\nname = \"kelp\"\nversion = \"1.0.0\"\n")}, more...)...)
	}
	wheel := func(license string, more ...madeup.Entry) []byte {
		return madeup.Zip(append([]madeup.Entry{entry("kelp-1.0.0.dist-info/METADATA",
			"Metadata-Version: 2.1\nName: kelp\nVersion: 1.0.0\n"+license)}, more...)...)
	}
	nuget := func(license string, more ...madeup.Entry) []byte {
		return madeup.Zip(append([]madeup.Entry{entry("kelp.nuspec", `<package><metadata><id>kelp</id><version>1.0.0</version>`+
			`<authors>x</authors><description>x</description>`+license+`</metadata></package>`)}, more...)...)
	}
	known := map[string]ecosystem.Ecosystem{}
	for _, e := range All() {
		known[e.Name()] = e
	}
	for _, c := range []struct {
		what, kind, file, extension string
		content                     []byte
		want                        string
	}{
		{"its text", "npm", "kelp-1.0.0.tgz", "tgz", npm("", entry("package/LICENSE", isc)), "ISC 100"},
		{"what is stated", "npm", "kelp-1.0.0.tgz", "tgz", npm(`, "license": "MIT"`, entry("package/LICENSE", isc)), "MIT 0"},
		{"where it stands", "npm", "kelp-1.0.0.tgz", "tgz", npm(`, "license": "SEE LICENSE IN licence.md"`,
			entry("package/licence.md", isc)), "ISC 100"},
		{"two texts", "npm", "kelp-1.0.0.tgz", "tgz", npm("", entry("package/LICENSE-ISC", isc),
			entry("package/UNLICENSE", unlicense)), "ISC AND Unlicense 100"},
		{"one that is not known", "npm", "kelp-1.0.0.tgz", "tgz", npm("", entry("package/LICENSE", isc),
			entry("package/LICENSE.other", "Ask the skipper."), entry("package/COPYING", "Ask Ida.")), ""},
		{"one of what is in it", "npm", "kelp-1.0.0.tgz", "tgz", npm("", entry("package/deep/LICENSE", isc)), ""},
		{"no text", "npm", "kelp-1.0.0.tgz", "tgz", npm("", entry("package/license.js", isc)), ""},
		{"a crate", "cargo", "kelp-1.0.0.crate", "crate", crate(entry("kelp-1.0.0/LICENSE-ISC", isc)), "ISC 100"},
		{"a wheel", "pypi", "kelp-1.0.0-py3-none-any.whl", "whl", wheel("", entry("kelp-1.0.0.dist-info/licenses/LICENSE.txt",
			isc)), "ISC 100"},
		{"an older wheel", "pypi", "kelp-1.0.0-py3-none-any.whl", "whl", wheel("", entry("kelp-1.0.0.dist-info/LICENSE", isc),
			entry("kelp/LICENSE", unlicense)), "ISC 100"},
		{"a wheel that states it", "pypi", "kelp-1.0.0-py3-none-any.whl", "whl", wheel("License: MIT\n",
			entry("kelp-1.0.0.dist-info/LICENSE", isc)), "MIT 0"},
		{"a file that is named", "nuget", "kelp.1.0.0.nupkg", "nupkg", nuget(`<license type="file">docs\mine.txt</license>`,
			entry("docs/mine.txt", isc)), "ISC 100"},
		{"a jar", "maven", "kelp-1.0.0.jar", "jar", madeup.Zip(entry("META-INF/LICENSE.txt", isc),
			entry("a/LICENSE", unlicense)), "ISC 100"},
		{"a jar with one at its root", "maven", "kelp-1.0.0.jar", "jar", madeup.Zip(entry("LICENSE", isc)), "ISC 100"},
		{"a jar with another below", "maven", "kelp-1.0.0.jar", "jar", madeup.Zip(entry("META-INF/kelp/LICENSE", isc)), ""},
		{"a file that nothing names", "nuget", "kelp.1.0.0.nupkg", "nupkg", nuget("", entry("LICENSE", isc)), ""},
	} {
		d, err := known[c.kind].Inspect(t.Context(), ecosystem.Place{Name: "kelp", Version: "1.0.0", FileName: c.file,
			Extension: c.extension}, bytes.NewReader(c.content))
		if err != nil {
			t.Errorf("%s %s: %v", c.kind, c.what, err)
			continue
		}
		if got := said(d); got != c.want {
			t.Errorf("%s, %s: %q, not %q", c.kind, c.what, got, c.want)
		}
	}
}

// TestStatedLicenceCounts: what one file states counts more than what the text in another one is like, in
// whichever order they come.
func TestStatedLicenceCounts(t *testing.T) {
	of := func(l ...catalog.Licence) catalog.Details { return catalog.Details{Licences: l} }
	stated, text := of(catalog.Licence{Name: "MIT"}), of(catalog.Licence{Name: "ISC", Sure: 90})
	for _, c := range []struct {
		a, b catalog.Details
		want string
	}{{stated, text, "MIT 0"}, {text, stated, "MIT 0"}, {text, of(), "ISC 90"}, {of(), text, "ISC 90"},
		{text, of(catalog.Licence{Name: "0BSD", Sure: 100}), "ISC 90"}} {
		if got := said(c.a.Merge(c.b)); got != c.want {
			t.Errorf("%v and %v: %s, not %s", c.a.Licences, c.b.Licences, got, c.want)
		}
	}
}

func said(d catalog.Details) string {
	if len(d.Licences) != 1 {
		return ""
	}
	return fmt.Sprint(d.Licences[0].Name, " ", d.Licences[0].Sure)
}
