package nuget

import (
	"testing"

	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

// TestRestamp changes the manifest and the core properties.
func TestRestamp(t *testing.T) {
	serial := ecosystem.Stamp{Name: "skerry.serial", From: "2.0.0-dev.3", To: "2.0.0"}
	link := ecosystem.Stamp{Name: "skerry.turnstilelink", From: "4.1.0-dev.71", To: "4.1.0"}
	p := madeup.Package{Name: "Skerry.TurnstileLink", Version: "4.1.0-dev.71", Author: "x", Licence: "MIT",
		Description: "of 4.1.0", Readme: "4.1.0-dev.71 is here",
		Needs: map[string]string{"Skerry.Serial": "[2.0.0-dev.3, 3.0)", "Openshore.Serial": "2.0.0"},
		Files: []madeup.Entry{{Name: "package/services/metadata/core-properties/1.psmdcp",
			Content: `<coreProperties><version>4.1.0-dev.71</version></coreProperties>`}}}
	check := func(obstacles ...string) ecosystem.Rewriting {
		r, _ := ecosystemtest.CheckRestamp(t, New(),
			ecosystemtest.Restamp{Name: "Skerry.TurnstileLink.4.1.0-dev.71.nupkg", Content: p.NuGet(), Stamp: link,
				All: ecosystem.Stamps{serial}, Obstacles: obstacles})
		return r
	}
	if r := check(); len(r.Changes) != 3 || len(r.Mentions) != 1 || r.Name != "skerry.turnstilelink.4.1.0.nupkg" {
		t.Errorf("%+v", r)
	}
	p.Files = append(p.Files, madeup.Entry{Name: "lib/net45/Link.dll",
		Content: "MZ\x004\x00.\x001\x00.\x000\x00-\x00d\x00e\x00v\x00.\x007\x001\x00\x00\x00"})
	check("Link.dll: it states 4.1.0-dev.71")
	p.Files = []madeup.Entry{{Name: ".signature.p7s", Content: "sealed"}}
	check(".signature.p7s: the archive is signed")
}
