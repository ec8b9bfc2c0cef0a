package pypi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
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

var tidecast = madeup.Package{Name: "tidecast", Version: "1.4.0", Description: "Tides as they come", Licence: "MIT",
	Author: "Deck Hands", Readme: "# tidecast\n",
	Needs: map[string]string{"soundings": ">=1.0"}}

func TestConformance(t *testing.T) {
	snapshot, renamed := tidecast, tidecast
	snapshot.Version, renamed.Version = "1.5.0.dev7", "1.6.0"
	ecosystemtest.Run(t, PyPI{}, ecosystemtest.Samples{
		Snapshot: "1.5.0.dev7", Release: "1.4.0",
		Good: []ecosystemtest.Sample{
			{Name: "a wheel", Files: map[string][]byte{tidecast.WheelName(): tidecast.Wheel()}, PURL: "pkg:pypi/tidecast@1.4.0"},
			{Name: "a wheel and its source", Files: map[string][]byte{tidecast.WheelName(): tidecast.Wheel(),
				tidecast.SdistName(): tidecast.Sdist()}, PURL: "pkg:pypi/tidecast@1.4.0"},
			{Name: "a snapshot", Files: map[string][]byte{snapshot.WheelName(): snapshot.Wheel()},
				PURL: "pkg:pypi/tidecast@1.5.0.dev7"},
		},
		Bad: []ecosystemtest.Sample{
			{Name: "a renamed wheel", Files: map[string][]byte{tidecast.WheelName(): renamed.Wheel()}},
			{Name: "a cut wheel", Files: map[string][]byte{tidecast.WheelName(): tidecast.Wheel()[:100]}},
			{Name: "a wheel with a way out", Files: map[string][]byte{tidecast.WheelName(): madeup.Zip(madeup.Entry{Name: "../x",
				Content: "x"}, madeup.Entry{Name: "tidecast-1.4.0.dist-info/METADATA", Content: tidecast.Metadata()})}},
			{Name: "an egg", Files: map[string][]byte{"tidecast-1.4.0.egg": tidecast.Wheel()}, As: "pkg:pypi/tidecast@1.4.0"},
			{Name: "two versions", Files: map[string][]byte{tidecast.WheelName(): tidecast.Wheel(),
				snapshot.WheelName(): snapshot.Wheel()}},
		},
		Foreign: map[string][]byte{"deck-ui-1.0.0.tgz": []byte("x")},
	})
}

func TestParseName(t *testing.T) {
	for _, c := range []struct{ file, project, name, version, extension string }{
		{"tidecast-1.4.0-py3-none-any.whl", "", "tidecast", "1.4.0", "whl"},
		{"Moon_Phase.Lite-1.0-1-cp311-abi3-manylinux_2_17_x86_64.whl", "", "moon-phase-lite", "1.0", "whl"},
		{"tidecast-1.4.0+local.1-py3-none-any.whl.metadata", "", "tidecast", "1.4.0+local.1", "whl.metadata"},
		{"tidecast-1.4.0-py3-none-any.whl.asc", "", "tidecast", "1.4.0", "whl.asc"},
		{"moon-phase-lite-1.0rc1.tar.gz", "moon-phase-lite", "moon-phase-lite", "1.0rc1", "tar.gz"},
		{"moon-phase-2-1.0.tar.gz", "moon-phase-2", "moon-phase-2", "1.0", "tar.gz"},
		{"tidecast-1.0-post1.zip", "tidecast", "tidecast", "1.0.post1", "zip"},
		{"tidecast-1.0.tar.gz", "other", "", "", ""},
		{"tidecast-nonsense.tar.gz", "tidecast", "", "", ""},
		{"../tidecast-1.0.tar.gz", "tidecast", "", "", ""},
		{"tidecast-1.0.exe", "tidecast", "", "", ""},
		{"tidecast.whl", "", "", "", ""},
	} {
		p, ok := parseName(c.file, c.project)
		if ok != (c.name != "") || p.Name != c.name || p.Version != c.version || p.Extension != c.extension {
			t.Errorf("%s: %+v, %v", c.file, p, ok)
		}
	}
}

const page = `<!DOCTYPE html><html><body><h1>Links for soundings</h1>
<a href="../../packages/ab/soundings-1.0-py3-none-any.whl#sha256=e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855" data-requires-python="&gt;=3.8" data-core-metadata="sha256=e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855">x</a>
<a href="https://files.openshore.example/soundings-1.1.tar.gz" data-yanked="wrong depth">soundings-1.1.tar.gz</a>
<a href="javascript:alert(1)/soundings-1.2.tar.gz">bad</a><a href="soundings-1.0.exe">old</a><a href="/other-1.0.tar.gz">other</a></body></html>`

const pageJSON = `{"meta":{"api-version":"1.1"},"name":"soundings","files":[
{"filename":"soundings-1.0-py3-none-any.whl","url":"../../packages/ab/soundings-1.0-py3-none-any.whl","hashes":{"sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"},"requires-python":">=3.8","core-metadata":{"sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"},"yanked":false,"size":7,"upload-time":"2026-10-01T08:00:00Z"},
{"filename":"soundings-1.1.tar.gz","url":"https://files.openshore.example/soundings-1.1.tar.gz","hashes":{},"yanked":"wrong depth","core-metadata":false}]}`

func soundings() purl.PURL { return purl.PURL{Ecosystem: Name, Name: "soundings"} }

func TestReadListing(t *testing.T) {
	for form, text := range map[string]string{"HTML": page, "JSON": pageJSON} {
		l, err := PyPI{}.ReadListing(t.Context(), soundings(),
			ecosystem.Reading{Reader: strings.NewReader(text), Address: "https://pypi.openshore.example/simple/soundings/"})
		if err != nil || len(l.Versions) != 2 {
			t.Fatalf("%s: %+v, %v", form, l, err)
		}
		first, second := l.Versions[0], l.Versions[1]
		if first.Version != "1.0" || len(first.Files) != 2 ||
			first.Files[0].Address != "https://pypi.openshore.example/packages/ab/soundings-1.0-py3-none-any.whl" ||
			first.Files[0].Digests["sha256"] == "" || first.Files[1].Address != first.Files[0].Address+".metadata" {
			t.Errorf("%s: %+v", form, first)
		}
		if second.Withdrawn == nil || second.Withdrawn.Reason != "wrong depth" ||
			second.Files[0].Address != "https://files.openshore.example/soundings-1.1.tar.gz" {
			t.Errorf("%s: %+v", form, second)
		}
		var facts fileFacts
		if err := json.Unmarshal(first.Details.Native["soundings-1.0-py3-none-any.whl"], &facts); err != nil ||
			facts.RequiresPython != ">=3.8" || facts.Metadata == "" {
			t.Errorf("%s: %+v, %v", form, facts, err)
		}
		if form == "JSON" && (first.Files[0].Size != 7 || first.UploadedAt.IsZero()) {
			t.Errorf("%+v", first)
		}
	}
}

// TestPages: what is written in either form is read again as the same.
func TestPages(t *testing.T) {
	reason := `leaks "much" & <more>`
	p := &catalog.Package{Key: catalog.PackageKey{Name: "soundings"}}
	for i, version := range []string{"1.0", "1.1"} {
		v := catalog.Version{Version: version, PublishedAt: time.Date(2026, 10, 1, 8, 0, 0, 0, time.UTC)}
		name := "soundings-" + version + "-py3-none-any.whl"
		v.Details = withFacts(v.Details, name, fileFacts{RequiresPython: ">=3.8,<4", Metadata: strings.Repeat("ab", 32)})
		v.Files = []catalog.File{{ID: 1, Name: name, Extension: wheel,
			Digests: catalog.Digests{Size: 9, SHA256: [32]byte{1}}}, {ID: 2, Name: name + ".asc", Extension: wheel + ".asc"}}
		if i == 1 {
			v.Withdrawn = &catalog.Withdrawal{Reason: reason}
		}
		p.Versions = append(p.Versions, v)
	}
	for _, form := range []string{typeJSON, typeHTML, plainHTML} {
		d, err := projectOf(p).document(form, p.Changed)
		if err != nil {
			t.Fatal(err)
		}
		l, err := PyPI{}.ReadListing(t.Context(), soundings(),
			ecosystem.Reading{Reader: bytes.NewReader(d.Bytes()),
				Address: "https://packages.skerry.example/at/r/pypi/simple/soundings/"})
		if err != nil || len(l.Versions) != 2 {
			t.Fatalf("%s: %+v, %v\n%s", form, l, err, d.Bytes())
		}
		if f := l.Versions[0].Files[0]; f.Address != "https://packages.skerry.example/at/r/pypi/files/soundings/1.0/soundings-1.0-py3-none-any.whl" || f.Digests["sha256"] == "" {
			t.Errorf("%s: %+v", form, f)
		}
		if w := l.Versions[1].Withdrawn; w == nil || w.Reason != reason || l.Versions[0].Withdrawn != nil {
			t.Errorf("%s: withdrawn %+v, %+v", form, w, l.Versions[0].Withdrawn)
		}
	}
}

// TestUpstreamPages: what the specifications ask of who reads a page, a case each.
func TestUpstreamPages(t *testing.T) {
	file := func(extra string) string {
		return `{"meta":{"api-version":"1.1"},"name":"soundings","files":[{"filename":"soundings-1.0-py3-none-any.whl","url":"a.whl","hashes":{}` + extra + `},
{"filename":"soundings-1.0.tar.gz","url":"a.tar.gz","hashes":{}}]}`
	}
	for _, c := range []struct{ name, text, want string }{
		{"PEP 629: a later major version, JSON", strings.Replace(pageJSON, "1.1", "2.0", 1),
			`refused: it is written in version "2.0"`},
		{"PEP 629: a later major version, HTML", `<meta name="pypi:repository-version" content="2.3">` + page,
			`refused: it is written in version "2.3"`},
		{"PEP 629: a later minor version", strings.Replace(pageJSON, "1.1", "1.9", 1), "2 versions"},
		{"PEP 629: none", strings.Replace(page, "<body>", `<meta name="generator" content="2.0"><body>`, 1), "2 versions"},
		{"PEP 592: one of two files is yanked", file(`,"yanked":"leaks"`), "1 versions"},
		{"PEP 714: the older name of metadata", file(`,"dist-info-metadata":{"sha256":"` + strings.Repeat("ab", 32) + `"}`),
			"1 versions, metadata"},
		{"PEP 714: both names", file(`,"core-metadata":{"sha256":"` + strings.Repeat("ab", 32) +
			`"},"dist-info-metadata":true`), "1 versions, metadata"},
		{"PEP 658: metadata without a digest cannot be checked", file(`,"core-metadata":true`), "1 versions"},
		{"PEP 503: a signature", strings.Replace(page, "data-yanked", `data-gpg-sig="true" data-yanked`, 1),
			"2 versions, signature"},
		{"PEP 708: where else a project is", strings.Replace(pageJSON, `"files"`,
			`"alternate-locations":["https://pypi.openshore.example/simple/soundings/"],"files"`, 1), "2 versions"},
		{"old source distributions", strings.ReplaceAll(strings.ReplaceAll(page, "1.1.tar.gz", "1.1.tar.bz2"),
			"1.0-py3-none-any.whl", "1.0.tgz"), "2 versions"},
	} {
		l, err := PyPI{}.ReadListing(t.Context(), soundings(),
			ecosystem.Reading{Reader: strings.NewReader(c.text), Address: "https://pypi.openshore.example/simple/soundings/"})
		got := fmt.Sprintf("%d versions", len(l.Versions))
		if err != nil {
			got = "refused: " + err.Error()
		}
		for _, v := range l.Versions {
			if strings.HasPrefix(c.name, "PEP 592") && v.Withdrawn != nil {
				t.Errorf("%s: all of the version counts as withdrawn", c.name)
			}
			for _, f := range v.Files {
				switch {
				case !strings.HasPrefix(c.name, "PEP"):
				case strings.HasSuffix(f.Name, ".metadata") && !strings.HasPrefix(c.name, "PEP 629") &&
					strings.HasPrefix(c.name, "PEP 714"):
					got += ", metadata"
				case strings.HasSuffix(f.Name, ".asc"):
					got += ", signature"
				}
			}
		}
		if !strings.HasPrefix(got, c.want) || !strings.Contains(c.want, "refused") && got != c.want {
			t.Errorf("%s: %s; want %s", c.name, got, c.want)
		}
	}
}

// TestPageForms: what the specifications ask of a page that is served.
func TestPageForms(t *testing.T) {
	sized := catalog.Digests{Size: 9, SHA256: [32]byte{1}}
	leak := "leaks"
	whl := catalog.File{ID: 1, Name: "soundings-1.0-py3-none-any.whl", Extension: wheel, Digests: sized}
	v := catalog.Version{Version: "1.0", PublishedAt: time.Date(2026, 10, 1, 8, 0, 0, 0, time.UTC),
		Files: []catalog.File{whl}}
	v.Details = withFacts(v.Details, whl.Name, fileFacts{Metadata: strings.Repeat("ab", 32), Yanked: &leak})
	source := catalog.File{Name: "soundings-1.0.tar.bz2", Extension: bzipped}
	for _, c := range []struct {
		name, form    string
		files         []catalog.File
		want, wantNot []string
	}{
		{"PEP 700: sizes and times are known", typeJSON, nil,
			[]string{`"api-version":"1.1"`, `"size":9`, `"upload-time":"2026-10-01T08:00:00.000000Z"`, `"versions":["1.0"]`},
			nil},
		{"PEP 700: a size is not known", typeJSON, []catalog.File{source},
			[]string{`"api-version":"1.0"`, "soundings-1.0.tar.bz2"}, nil},
		{"PEP 629: the version in a page", plainHTML, nil, []string{`<meta name="pypi:repository-version" content="1.1">`},
			nil},
		{"PEP 592: a file that an upstream yanked", typeJSON, []catalog.File{source},
			[]string{`"yanked":"leaks"`, `"yanked":false`}, nil},
		{"PEP 592: in HTML", typeHTML, []catalog.File{source}, []string{`data-yanked="leaks"`}, nil},
		{"PEP 714: only the newer name in JSON", typeJSON, nil, []string{`"core-metadata":{"sha256":"abab`},
			[]string{"dist-info-metadata"}},
		{"PEP 714: both names in HTML", typeHTML, nil,
			[]string{`data-core-metadata="sha256=abab`, `data-dist-info-metadata="sha256=abab`}, nil},
		{"PEP 708: a mirror tells what it copies", typeJSON, nil,
			[]string{`"api-version":"1.2"`, `"tracks":["https://pypi.openshore.example/simple/soundings/"]`}, nil},
		{"PEP 708: in HTML", plainHTML, nil, []string{`<meta name="pypi:repository-version" content="1.2">`,
			`<meta name="pypi:tracks" content="https://pypi.openshore.example/simple/soundings/">`}, nil},
		{"PEP 708: not of a private network", typeJSON, nil, []string{`"api-version":"1.1"`}, []string{"tracks"}},
		{"PEP 503: digests in addresses", plainHTML, nil, []string{"#sha256=01000"}, nil},
	} {
		of := v
		of.Files = append(slices.Clone(v.Files), c.files...)
		from := catalog.Repository{Kind: catalog.House}
		if strings.HasPrefix(c.name, "PEP 708") {
			from = catalog.Repository{Kind: catalog.Mirror,
				Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: "https://pypi.openshore.example/simple/",
					Private: strings.HasSuffix(c.name, "private network")}}}}
		}
		d, err := projectOf(&catalog.Package{Key: catalog.PackageKey{Name: "soundings"}, Versions: []catalog.Version{of}}).
			tracking(from).document(c.form, time.Time{})
		if err != nil {
			t.Fatal(err)
		}
		for _, part := range c.want {
			if !strings.Contains(string(d.Bytes()), part) {
				t.Errorf("%s: there is no %s in\n%s", c.name, part, d.Bytes())
			}
		}
		for _, part := range c.wantNot {
			if strings.Contains(string(d.Bytes()), part) {
				t.Errorf("%s: there is %s in\n%s", c.name, part, d.Bytes())
			}
		}
	}
}

func FuzzReadListing(f *testing.F) {
	f.Add([]byte(page))
	f.Add([]byte(`<a href="soundings-1.0.tar.gz" data-yanked="x">`))
	f.Add([]byte(pageJSON))
	f.Fuzz(func(t *testing.T, raw []byte) {
		budgettest.Fuzzed(t, "<html><body>", string(raw), "</body></html>", func(raw []byte) {
			_, _ = PyPI{}.ReadListing(t.Context(), soundings(),
				ecosystem.Reading{Reader: bytes.NewReader(raw),
					Address: "https://pypi.openshore.example/simple/soundings/"}) // only what it costs
		})
		l, err := PyPI{}.ReadListing(t.Context(), soundings(),
			ecosystem.Reading{Reader: bytes.NewReader(raw), Address: "https://pypi.openshore.example/simple/soundings/"})
		if err != nil {
			return
		}
		for _, v := range l.Versions {
			for _, file := range v.Files {
				q := catalog.FileQuestion{Key: catalog.PackageKey{Name: "soundings"}, Version: v.Version, Name: file.Name}
				if _, err := (PyPI{}).PlaceOf(q); err != nil || !strings.HasPrefix(file.Address, "http") {
					t.Errorf("%+v: %v", file, err)
				}
			}
		}
	})
}

func FuzzMetadata(f *testing.F) {
	f.Add([]byte(tidecast.Metadata()))
	f.Add([]byte("Name: x\nVersion: 1\nDescription: a\n        b\n       |c\nRequires-Dist: y (>=1) ; extra == 'z'\n"))
	f.Add([]byte(" x\n"))
	f.Add([]byte("Requires-Dist: x (>=1)\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		budgettest.Fuzzed(t, "Name: x\nVersion: 1\nSummary: y\n", string(raw), "\n", func(raw []byte) {
			if m, err := parseMetadata(raw); err == nil {
				m.details()
			}
		})
		if m, err := parseMetadata(raw); err == nil {
			m.details()
		}
	})
}

func FuzzInspect(f *testing.F) {
	f.Add(tidecast.Wheel(), true)
	f.Add(tidecast.Sdist(), false)
	f.Fuzz(func(t *testing.T, raw []byte, isWheel bool) {
		name := tidecast.SdistName()
		if isWheel {
			name = tidecast.WheelName()
		}
		place, ok := parseName(name, "tidecast")
		if !ok {
			t.Fatal(name)
		}
		if d, err := (PyPI{}).Inspect(t.Context(), place, ecosystemtest.Bytes(raw)); err == nil && d.Native[name] == nil {
			t.Errorf("nothing is known of the file: %+v", d)
		}
	})
}

// TestRoot: an address that is not that of the list of projects is told.
func TestRoot(t *testing.T) {
	for _, c := range []struct{ address, text, want string }{
		{"https://pypi.openshore.example/simple/", `{"meta":{"api-version":"1.1"},"projects":[]}`, ""},
		{"https://pypi.openshore.example/simple/",
			`<!DOCTYPE html><html><head><meta name="pypi:repository-version" content="1.0"></head>`, ""},
		{"https://pypi.openshore.example/", "<html><title>Welcome</title><a href=\"/simple/\">",
			"the list is usually at https://pypi.openshore.example/simple/"},
		{"https://pypi.openshore.example/simple/", "<html><title>Sign in</title>", "no list of projects"},
	} {
		err := PyPI{}.ReadRoot(ecosystem.Reading{Reader: strings.NewReader(c.text), Address: c.address})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %s: %v", c.address, c.text, err)
		}
	}
}
