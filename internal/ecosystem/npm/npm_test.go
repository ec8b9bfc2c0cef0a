package npm

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/budget/budgettest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

var deck = madeup.Package{Name: "@skerry/deck-ui", Version: "1.4.0", Description: "Buttons for the deck",
	Licence: "MIT", Author: "Deck Hands", Readme: "# deck-ui\n"}

func snapshotOf(p madeup.Package) madeup.Package {
	p.Version = "1.5.0-dev.7"
	return p
}

func TestConformance(t *testing.T) {
	twice := func(entries ...madeup.Entry) map[string][]byte {
		return map[string][]byte{"x.tgz": madeup.TarGz(entries...)}
	}
	ecosystemtest.Run(t, New(), ecosystemtest.Samples{
		Snapshot: "1.5.0-dev.7", Release: "1.4.0",
		Good: []ecosystemtest.Sample{
			{Name: "a tarball", Files: map[string][]byte{"skerry-deck-ui-1.4.0.tgz": deck.NPM()},
				PURL: "pkg:npm/%40skerry/deck-ui@1.4.0"},
			{Name: "a tarball with a purl", Files: map[string][]byte{"x.tgz": deck.NPM()}, As: "pkg:npm/%40skerry/deck-ui@1.4.0",
				PURL: "pkg:npm/%40skerry/deck-ui@1.4.0"},
			{Name: "a snapshot", Files: map[string][]byte{"x.tgz": snapshotOf(deck).NPM()},
				PURL: "pkg:npm/%40skerry/deck-ui@1.5.0-dev.7"},
			{Name: "another folder", Files: twice(madeup.Entry{Name: "deck/package.json",
				Content: `{"name":"kelp","version":"v1.0.0"}`}), PURL: "pkg:npm/kelp@1.0.0"},
		},
		Bad: []ecosystemtest.Sample{
			{Name: "another purl", Files: map[string][]byte{"x.tgz": deck.NPM()}, As: "pkg:npm/kelp@1.0.0"},
			{Name: "cut", Files: map[string][]byte{"x.tgz": deck.NPM()[:200]}, As: "pkg:npm/kelp@1.0.0"},
			{Name: "no version", Files: twice(madeup.Entry{Name: "package/package.json", Content: `{"name":"kelp"}`})},
			{Name: "a name that is none", Files: twice(madeup.Entry{Name: "package/package.json",
				Content: `{"name":"../kelp","version":"1.0.0"}`})},
			{Name: "a way out", Files: twice(madeup.Entry{Name: "package/package.json", Content: string(deck.Manifest())},
				madeup.Entry{Name: "../../etc/passwd", Content: "x"})},
			{Name: "an absolute path", Files: twice(madeup.Entry{Name: "package/package.json", Content: string(deck.Manifest())},
				madeup.Entry{Name: "/etc/passwd", Content: "x"})},
			{Name: "a manifest that is no JSON", Files: twice(madeup.Entry{Name: "package/package.json",
				Content: `name: kelp`})},
		},
		Foreign: map[string][]byte{"brine.jar": []byte("x")},
	})
}

const document = `{"_id":"kelp-colors","name":"kelp-colors","dist-tags":{"latest":"2.0.0","next":"2.1.0-rc.1"},"readme":"x",
"versions":{
 "1.0.0":{"name":"kelp-colors","version":"1.0.0","deprecated":"too dark","license":"MIT","scripts":{"postinstall":"x"},"dependencies":{"fathom-format":"^1.0.0"},
  "dist":{"tarball":"https://files.openshore.example/k/odd-name.tgz","shasum":"DA39A3EE5E6B4B0D3255BFEF95601890AFD80709","fileCount":3}},
 "2.0.0":{"name":"kelp-colors","version":"2.0.0","devDependencies":{"x":"1"},"engines":["node"],"bin":"x.js",
  "dist":{"tarball":"https://npm.openshore.example/kelp-colors/-/kelp-colors-2.0.0.tgz","integrity":"sha512-z4PhNX7vuL3xVChQ1m2AB9Yg5AULVxXcg/SpIdNs6c5H0NE8XYXysP+DGNKHfuwvY7kxvUdBeoGlODJ6+SfaPg=="}},
 "2.1.0-rc.1":{"name":"kelp-colors","version":"2.1.0-rc.1","dist":{"tarball":"https://npm.openshore.example/x.tgz"}},
 "bad":{"name":"kelp-colors","version":"bad","dist":{"tarball":"https://npm.openshore.example/x.tgz"}},
 "3.0.0":{"name":"another","version":"3.0.0","dist":{"tarball":"https://npm.openshore.example/x.tgz"}},
 "4.0.0":null, "5.0.0":{"name":"kelp-colors","version":"5.0.0","dist":7}
},"time":{"1.0.0":"2026-10-01T08:00:00.000Z","2.0.0":"nonsense","modified":"2026-10-01T08:00:00.000Z"}}`

func kelp() purl.PURL { return purl.PURL{Ecosystem: Name, Name: "kelp-colors"} }

func TestReadListing(t *testing.T) {
	l, err := New().ReadListing(t.Context(), kelp(), ecosystem.Reading{Reader: strings.NewReader(document)})
	if err != nil {
		t.Fatal(err)
	}
	if len(l.Versions) != 3 || l.Labels["next"] != "2.1.0-rc.1" {
		t.Fatalf("%+v", l)
	}
	first := l.Versions[0]
	if first.Withdrawn == nil || first.Withdrawn.Reason != "too dark" || first.UploadedAt.IsZero() ||
		first.Files[0].Name != "kelp-colors-1.0.0.tgz" ||
		first.Files[0].Address != "https://files.openshore.example/k/odd-name.tgz" ||
		first.Files[0].Digests["sha1"] != "da39a3ee5e6b4b0d3255bfef95601890afd80709" {
		t.Errorf("%+v", first)
	}
	if sum := l.Versions[1].Files[0].Digests["sha512"]; !strings.HasPrefix(sum, "cf83e1357eefb8bd") {
		t.Errorf("the integrity was read as %q", sum)
	}
	var install map[string]any
	if err := json.Unmarshal(first.Details.Native[nativeInstall], &install); err != nil ||
		install["hasInstallScript"] != true || install["dependencies"] == nil || install["license"] != nil {
		t.Errorf("%v, %v", install, err)
	}
	for _, wrong := range []string{`{"name":"other","versions":{}}`, `{"name":"kelp-colors"}`, `{"versions":[]}`,
		document[:800]} {
		if l, err := New().ReadListing(t.Context(), kelp(),
			ecosystem.Reading{Reader: strings.NewReader(wrong)}); err == nil {
			t.Errorf("%.40q was read as %+v", wrong, l)
		}
	}
}

// TestDocuments: what is made of an upstream's document says the same.
func TestDocuments(t *testing.T) {
	l, err := New().ReadListing(t.Context(), kelp(), ecosystem.Reading{Reader: strings.NewReader(document)})
	if err != nil {
		t.Fatal(err)
	}
	p := &catalog.Package{Key: catalog.PackageKey{Name: "kelp-colors"},
		Labels:  map[string]string{"next": "2.1.0-rc.1", "gone": "9.9.9"},
		Changed: time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)}
	for _, v := range l.Versions {
		made := catalog.Version{Version: v.Version, Snapshot: purl.IsSnapshot(Name, v.Version), Details: *v.Details,
			Withdrawn: v.Withdrawn, PublishedAt: v.UploadedAt}
		for _, f := range v.Files {
			file := catalog.File{Name: f.Name, Extension: f.Extension}
			for algorithm, sum := range f.Digests {
				file.Digests.ParseHex(algorithm, sum)
			}
			made.Files = append(made.Files, file)
		}
		p.Versions = append(p.Versions, made)
	}
	const base = "https://packages.skerry.example/at/platform/npm/"
	for _, full := range []bool{false, true} {
		d, err := packageDocument(p, base, full, &catalog.Readme{Text: "<b>"}, ecosystem.Document{})
		if err != nil {
			t.Fatal(err)
		}
		var read struct {
			Name     string
			Tags     map[string]string `json:"dist-tags"`
			Versions map[string]struct {
				Deprecated, License string
				Dependencies        map[string]string
				Dist                struct {
					Tarball, Shasum, Integrity string
					FileCount                  int
				}
			}
			Time   map[string]string
			Readme string
		}
		if err := json.Unmarshal(d.Bytes(), &read); err != nil {
			t.Fatalf("%v\n%s", err, d.Bytes())
		}
		first := read.Versions["1.0.0"]
		if read.Name != "kelp-colors" || len(read.Versions) != 3 || read.Tags["latest"] != "2.0.0" ||
			read.Tags["next"] != "2.1.0-rc.1" || read.Tags["gone"] != "" ||
			first.Deprecated != "too dark" || first.Dependencies["fathom-format"] != "^1.0.0" || first.Dist.FileCount != 3 ||
			first.Dist.Tarball != base+"kelp-colors/-/kelp-colors-1.0.0.tgz" ||
			!strings.HasPrefix(read.Versions["2.0.0"].Dist.Integrity, "sha512-z4PhNX7v") {
			t.Errorf("full %v: %+v", full, read)
		}
		if full != (first.License == "MIT") || full != (read.Time["1.0.0"] != "") || full != (read.Readme == "<b>") {
			t.Errorf("full %v: %s", full, d.Bytes())
		}
	}
}

func TestScanner(t *testing.T) {
	const text = ` { "a" : [1, {"b":"}\"]"}, null ] ,"n":-1.5e3,"data":"aGVsbG8gd29y\/bGQ=","z":"\u00e9" } `
	kept := map[string]string{}
	s := newScanner(strings.NewReader(strings.ReplaceAll(text, `\/`, "")), 1000)
	err := s.object(func(name string) error {
		if name == "data" {
			return s.base64(func(r io.Reader) error {
				raw, err := io.ReadAll(r)
				kept[name] = string(raw)
				return err
			})
		}
		raw, err := s.value()
		kept[name] = string(raw)
		return err
	})
	if err != nil || kept["data"] != "hello world" || kept["n"] != "-1.5e3" || kept["z"] != `"\u00e9"` ||
		kept["a"] != `[1, {"b":"}\"]"}, null ]` {
		t.Errorf("%v, %v", kept, err)
	}
	for _, wrong := range []string{"", "{", `{"a"`, `{"a":}`, `{"a":1,}`, `{"a":1 "b":2}`, `{a:1}`, `[1]`, `{"a":[[`,
		`{"a":"x`, strings.Repeat(`{"a":`, 200), `{"a":"` + strings.Repeat("x", 2000) + `"}`} {
		s := newScanner(strings.NewReader(wrong), 1000)
		if err := s.object(func(string) error { _, err := s.value(); return err }); err == nil {
			t.Errorf("%.40q was read", wrong)
		}
	}
}

func FuzzScanner(f *testing.F) {
	f.Add([]byte(`{"a":{"b":"c"},"data":"aGk="}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		s := newScanner(bytes.NewReader(raw), 1<<16)
		whole := true
		err := s.object(func(name string) error {
			if name == "data" {
				whole = false
				return s.base64(func(r io.Reader) error { _, err := io.Copy(io.Discard, r); return err })
			}
			_, err := s.value()
			return err
		})
		if err == nil && whole && len(raw) < 1<<15 {
			var any json.RawMessage
			if err := json.NewDecoder(bytes.NewReader(raw)).Decode(&any); err != nil {
				t.Errorf("%q is no JSON, and was read: %v", raw, err)
			}
		}
	})
}

func FuzzReadListing(f *testing.F) {
	f.Add([]byte(document))
	f.Fuzz(func(t *testing.T, raw []byte) {
		budgettest.Fuzzed(t, `{"name":"kelp-colors","versions":{`, strings.TrimSuffix(string(raw), ",")+",", `"9":{}}}`,
			func(raw []byte) {
				_, _ = New().ReadListing(t.Context(), kelp(), ecosystem.Reading{Reader: bytes.NewReader(raw)}) // only what it costs
			})
		l, err := New().ReadListing(t.Context(), kelp(), ecosystem.Reading{Reader: bytes.NewReader(raw)})
		if err != nil {
			return
		}
		for _, v := range l.Versions {
			if _, err := New().PlaceOf(catalog.FileQuestion{Key: catalog.PackageKey{Name: "kelp-colors"}, Version: v.Version,
				Name: v.Files[0].Name}); err != nil {
				t.Errorf("%+v has no place: %v", v, err)
			}
		}
	})
}

func FuzzInspect(f *testing.F) {
	f.Add(deck.NPM())
	f.Fuzz(func(t *testing.T, raw []byte) {
		d, err := New().Inspect(t.Context(), New().At("@skerry", "deck-ui", "1.4.0", tarball), ecosystemtest.Bytes(raw))
		if err == nil && !json.Valid(d.Native[nativeInstall]) {
			t.Errorf("%s", d.Native[nativeInstall])
		}
	})
}

func FuzzManifest(f *testing.F) {
	f.Add(deck.Manifest())
	f.Add([]byte(`"a":"b"`))
	f.Add([]byte(`{"name":"x"}`))
	f.Add([]byte(
		`{"name":"kelp","version":"1.0.0","license":[{"type":"MIT"}],"author":{"name":"x"},"repository":"x","bin":7}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, field := range []string{`"dependencies":{`, `"author":[`, `"x":[`} {
			end := map[byte]string{'{': "}}", '[': "]}"}[field[len(field)-1]]
			budgettest.Fuzzed(t, `{"name":"kelp","version":"1.0.0",`+field, strings.TrimSuffix(string(raw), ",")+",", `"x"`+
				map[byte]string{'{': `:""`, '[': ""}[field[len(field)-1]]+end, func(raw []byte) {
				if m, err := parseManifest(raw, false); err == nil {
					_, _ = m.details() // only what it costs
				}
			})
		}
		m, err := parseManifest(raw, false)
		if err != nil {
			return
		}
		d, err := m.details()
		if err == nil && !json.Valid(d.Native[nativeRest]) {
			t.Errorf("%s", d.Native[nativeRest])
		}
	})
}

// TestDocumentParts takes over the parts of the document before that show the same, and
// no other: what comes of it is what would be made anew.
func TestDocumentParts(t *testing.T) {
	at := time.Date(2026, 3, 14, 8, 0, 0, 0, time.UTC)
	newPackage := func() *catalog.Package {
		p := &catalog.Package{Key: catalog.PackageKey{Name: "many"}, Labels: map[string]string{"latest": "1.0.7"},
			Changed: at}
		for n := range 3 * partVersions {
			version := fmt.Sprintf("1.0.%d", n)
			p.Versions = append(p.Versions, catalog.Version{ID: int64(n), Version: version,
				PublishedAt: at.Add(time.Duration(n) * time.Second),
				Details: catalog.Details{Native: map[string]json.RawMessage{nativeInstall: json.RawMessage(`{"name":"many"}`),
					nativeRest: json.RawMessage(`{"license":"MIT"}`)}},
				Files: []catalog.File{{ID: 1, Name: New().FileName("many", version), Extension: tarball}}})
		}
		return p
	}
	render := func(p *catalog.Package, before ecosystem.Document) ecosystem.Document {
		t.Helper()
		d, err := packageDocument(p, "https://packages.skerry.example/at/platform/npm/", true, nil, before)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	p := newPackage()
	before := render(p, ecosystem.Document{})
	of := 0
	for i, part := range render(p, before).Parts() {
		if _, ok := part.Of.(made); ok && &part.Bytes()[0] == &before.Parts()[i].Bytes()[0] {
			of++
		}
	}
	if of != 6 {
		t.Errorf("of the same package %d parts are taken over; want 6", of)
	}
	for what, change := range map[string]func(v *catalog.Version){
		"published":   func(v *catalog.Version) { v.PublishedAt = v.PublishedAt.Add(time.Millisecond) },
		"withdrawn":   func(v *catalog.Version) { v.Withdrawn = &catalog.Withdrawal{Reason: "wrong moon"} },
		"its file":    func(v *catalog.Version) { v.Files = []catalog.File{{Extension: tarball, Name: "other.tgz"}} },
		"its digest":  func(v *catalog.Version) { v.Files[0].Digests.SHA1[0]++ },
		"its upload":  func(v *catalog.Version) { v.Upload = "1.0.9+1" },
		"its install": func(v *catalog.Version) { v.Details.Native[nativeInstall] = json.RawMessage(`{"name":"more"}`) },
		"its rest":    func(v *catalog.Version) { v.Details.Native[nativeRest] = json.RawMessage(`{"license":"ISC"}`) },
		"its dist":    func(v *catalog.Version) { v.Details.Native[nativeDist] = json.RawMessage(`{"fileCount":1}`) },
	} {
		p := newPackage()
		before := render(p, ecosystem.Document{})
		change(&p.Versions[partVersions+3])
		if got, want := render(p, before), render(p, ecosystem.Document{}); !bytes.Equal(got.Bytes(), want.Bytes()) ||
			bytes.Equal(got.Bytes(), before.Bytes()) {
			t.Errorf("%s has changed, and the document has not as it should", what)
		}
	}
}

// BenchmarkDocument renders a document of 5,000 versions.
func BenchmarkDocument(b *testing.B) {
	p := &catalog.Package{Key: catalog.PackageKey{Name: "many"}, Labels: map[string]string{"latest": "1.0.7"},
		Changed: time.Now()}
	rest := json.RawMessage(`{"description": "` + strings.Repeat("x", 200) + `", "license": "MIT"}`)
	install := json.RawMessage(`{"name": "many", "dependencies": {"x": "` + strings.Repeat("y", 1200) + `"}}`)
	for n := range 5000 {
		version := fmt.Sprintf("1.0.%d", n)
		p.Versions = append(p.Versions, catalog.Version{ID: int64(n), Version: version,
			PublishedAt: p.Changed.Add(time.Duration(n) * time.Second),
			Details:     catalog.Details{Native: map[string]json.RawMessage{nativeInstall: install, nativeRest: rest}},
			Files: []catalog.File{{ID: 1, Name: New().FileName("many", version), Extension: tarball,
				Digests: catalog.Digests{SHA1: [20]byte{1}, SHA512: [64]byte{2}}}}})
	}
	b.ReportAllocs()
	var before ecosystem.Document
	for b.Loop() {
		p.Versions[len(p.Versions)-1].PublishedAt = p.Changed.Add(time.Hour) // one has changed
		p.Changed = p.Changed.Add(time.Second)
		var err error
		if before, err = packageDocument(p, "https://packages.skerry.example/at/platform/npm/", true, nil,
			before); err != nil {
			b.Fatal(err)
		}
	}
}

// TestYarnAge: Yarn 4 uses our own packages at once.
func TestYarnAge(t *testing.T) {
	p := ecosystem.Pointing{Address: "https://packages.skerry.example/at/platform/npm/", Everything: true,
		Own: []string{"@skerry", "deck"}}
	if text := yarnParts(p)[0].Text(); !strings.Contains(text, `npmPreapprovedPackages: ["@skerry/*"]`) {
		t.Errorf("it says\n%s", text)
	}
	if again, err := preapprove("npmPreapprovedPackages: [\"@skerry/*\"]\n", []string{"@skerry/*"}); err != nil ||
		strings.Count(again, "@skerry") != 1 {
		t.Errorf("%s, %v", again, err)
	}
	if _, err := preapprove("npmPreapprovedPackages: [\"@other/*\"]\n", []string{"@skerry/*"}); err == nil {
		t.Error("a list that is there is overwritten")
	}
}

// TestRoot: what answers a ping is a registry.
func TestRoot(t *testing.T) {
	for text, good := range map[string]bool{"{}": true, `{"ok":true}`: true, "<!doctype html>": false, "": false} {
		if err := New().ReadRoot(ecosystem.Reading{Reader: strings.NewReader(text)}); (err == nil) != good {
			t.Errorf("%q: %v", text, err)
		}
	}
}
