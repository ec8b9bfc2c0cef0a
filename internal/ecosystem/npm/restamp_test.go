package npm

import (
	"strings"
	"testing"

	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

// TestRestamp changes the version and the dependencies on packages of the same
// build.
func TestRestamp(t *testing.T) {
	deck := ecosystem.Stamp{Namespace: "@skerry", Name: "deck-ui", From: "2.2.0-dev.7", To: "2.2.0"}
	widgets := ecosystem.Stamp{Namespace: "@skerry", Name: "ticket-widgets", From: "1.1.0-dev.55", To: "1.1.0"}
	const manifest = `{"name": "@skerry/ticket-widgets",
	"version" : "1.1.0-dev.55", "description": "of 1.1.0-dev.55 \"\u00e9\"",
	"dependencies": {"@skerry/deck-ui": "^2.2.0-dev.7", "fathom-format": "2.2.0-dev.7"},
	"peerDependencies": {"@skerry/deck-ui": "2.2.0-dev.7 || 2.2.0-dev.71"}, "files": ["a", 1.50]}`
	tarball := madeup.TarGz(madeup.Entry{Name: "package/package.json", Content: manifest},
		madeup.Entry{Name: "package/index.js", Content: "module.exports = '2.2.0-dev.711'\n"},
		madeup.Entry{Name: "package/npm-shrinkwrap.json",
			Content: `{"version":"1.1.0-dev.55","packages":{"":{"version":"1.1.0-dev.55"},"node_modules/x":{"version":"1.1.0-dev.55"}}}`},
		madeup.Entry{Name: "package/README.md", Content: "since 2.2.0-dev.7"})
	r, _ := ecosystemtest.CheckRestamp(t, New(), ecosystemtest.Restamp{Name: "ticket-widgets-1.1.0-dev.55.tgz",
		Content: tarball, Stamp: widgets,
		All: ecosystem.Stamps{deck}, Obstacles: []string{"package/package.json: it states",
			"npm-shrinkwrap.json: it states"}})
	var changes []string
	for _, c := range r.Changes {
		changes = append(changes, c.What+": "+c.Old+" to "+c.New)
	}
	want := "version: 1.1.0-dev.55 to 1.1.0; dependency on @skerry/deck-ui: ^2.2.0-dev.7 to ^2.2.0; dependency on " +
		"@skerry/deck-ui: 2.2.0-dev.7 || 2.2.0-dev.71 to 2.2.0 || 2.2.0-dev.71; version: 1.1.0-dev.55 to 1.1.0; version: " +
		"1.1.0-dev.55 to 1.1.0"
	if got := strings.Join(changes, "; "); got != want {
		t.Errorf("changes: %s", got)
	}
	clean := madeup.Package{Name: "@skerry/ticket-widgets", Version: "1.1.0-dev.55",
		Needs: map[string]string{"@skerry/deck-ui": "~2.2.0-dev.7"}, Readme: "1.1.0-dev.55"}
	r, _ = ecosystemtest.CheckRestamp(t, New(), ecosystemtest.Restamp{Name: "ticket-widgets-1.1.0-dev.55.tgz",
		Content: clean.NPM(), Stamp: widgets, All: ecosystem.Stamps{deck}})
	if len(r.Changes) != 2 || len(r.Mentions) != 1 {
		t.Errorf("%+v", r)
	}
	bundled := madeup.TarGz(madeup.Entry{Name: "package/package.json",
		Content: `{"name":"@skerry/ticket-widgets","version":"1.1.0-dev.55"}`},
		madeup.Entry{Name: "package/dist/bundle.min.js", Content: `var v="1.1.0-dev.55";`})
	ecosystemtest.CheckRestamp(t, New(), ecosystemtest.Restamp{Name: "ticket-widgets-1.1.0-dev.55.tgz", Content: bundled,
		Stamp: widgets, Obstacles: []string{"bundle.min.js: it states 1.1.0-dev.55"}})
}
