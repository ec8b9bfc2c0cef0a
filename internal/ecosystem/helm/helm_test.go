package helm

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

var gangway = madeup.Package{Name: "gangway", Version: "1.4.0", Description: "Lets people aboard", Licence: "MIT",
	Author: "The Skerry Line", Homepage: "https://skerry.example/gangway", Readme: "# gangway\n", Keywords: []string{"gates"},
	Needs: map[string]string{"tide-gauge": "^2.1.0"}}

func versioned(p madeup.Package, version string) madeup.Package {
	p.Version = version
	return p
}

func TestConformance(t *testing.T) {
	with := func(entries ...madeup.Entry) map[string][]byte {
		return map[string][]byte{"x.tgz": madeup.TarGz(entries...)}
	}
	said := func(text string) map[string][]byte { return with(madeup.Entry{Name: "kelp/Chart.yaml", Content: text}) }
	chart := gangway.Chart()
	ecosystemtest.Run(t, New(), ecosystemtest.Samples{
		Snapshot: "1.5.0-dev.7", Release: "1.4.0",
		Good: []ecosystemtest.Sample{
			{Name: "a chart", Files: map[string][]byte{"gangway-1.4.0.tgz": chart}, PURL: "pkg:helm/gangway@1.4.0"},
			{Name: "a chart with provenance", Files: map[string][]byte{"gangway-1.4.0.tgz": chart,
				"gangway-1.4.0.tgz.prov": gangway.Provenance(chart)}, PURL: "pkg:helm/gangway@1.4.0"},
			{Name: "a chart with a purl", Files: map[string][]byte{"x.tgz": chart}, As: "pkg:helm/gangway",
				PURL: "pkg:helm/gangway@1.4.0"},
			{Name: "a snapshot", Files: map[string][]byte{"x.tgz": versioned(gangway, "1.5.0-dev.7").Chart()},
				PURL: "pkg:helm/gangway@1.5.0-dev.7"},
			{Name: "a v in front", Files: map[string][]byte{"x.tgz": versioned(gangway, "v1.4.0").Chart()},
				PURL: "pkg:helm/gangway@v1.4.0"},
		},
		Bad: []ecosystemtest.Sample{
			{Name: "another purl", Files: map[string][]byte{"x.tgz": chart}, As: "pkg:helm/kelp@1.0.0"},
			{Name: "cut", Files: map[string][]byte{"x.tgz": chart[:150]}, As: "pkg:helm/gangway"},
			{Name: "two folders", Files: with(madeup.Entry{Name: "kelp/Chart.yaml",
				Content: "apiVersion: v2\nname: kelp\nversion: 1.0.0\n"}, madeup.Entry{Name: "x/y", Content: ""})},
			{Name: "a way out", Files: with(madeup.Entry{Name: "kelp/Chart.yaml",
				Content: "apiVersion: v2\nname: kelp\nversion: 1.0.0\n"}, madeup.Entry{Name: "kelp/../../x", Content: "x"})},
			{Name: "no YAML", Files: said("{")}, {Name: "no form", Files: said("name: kelp\nversion: 1.0.0\n")},
			{Name: "no version", Files: said("apiVersion: v2\nname: kelp\n")},
			{Name: "a version that is none", Files: said("apiVersion: v2\nname: kelp\nversion: one\n")},
			{Name: "a name that is none", Files: said("apiVersion: v2\nname: ../kelp\nversion: 1.0.0\n")},
			{Name: "aliases", Files: said("apiVersion: v2\nname: &a kelp\nversion: 1.0.0\ndescription: *a\n")},
			{Name: "deep", Files: said("apiVersion: v2\nname: kelp\nversion: 1.0.0\nx: " + strings.Repeat("[", 100_000))},
			{Name: "two charts", Files: map[string][]byte{"x.tgz": chart, "y.tgz": chart}, As: "pkg:helm/gangway@1.4.0"},
			{Name: "provenance of another", Files: map[string][]byte{"x.tgz": chart,
				"x.tgz.prov": versioned(gangway, "9.0.0").Provenance(chart)}},
		},
		Foreign: map[string][]byte{"brine.jar": []byte("x"),
			"kelp-1.0.0.tgz": madeup.Package{Name: "kelp", Version: "1.0.0"}.NPM()},
	})
}

// TestHostileChart: what a chart says of itself is made fit to be shown.
func TestHostileChart(t *testing.T) {
	c, err := readChart([]byte("apiVersion: v2\nname: kelp\nversion: 1.0.0\nappVersion: \"1\\e[2J\"\n" +
		"description: \"one\\0two\\u202ethree\"\nhome: \"javascript:alert(1)\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	d, err := c.details()
	if err != nil || strings.ContainsAny(d.Description, "\x00\u202e") || d.Homepage != "" {
		t.Errorf("%+v, %v", d, err)
	}
	kept, err := chartOf(&catalog.Version{Version: "1.0.0", Details: d})
	if err != nil || strings.ContainsAny(kept.Description+kept.AppVersion, "\x00\u202e\x1b") {
		t.Errorf("%+v, %v", kept, err)
	}
}

// index is what clients read.
type index struct {
	APIVersion string
	Entries    map[string][]entry
}

func indexOf(t *testing.T, text string) (i index) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), &i); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	// It is YAML all the same.
	var again struct {
		APIVersion string `yaml:"apiVersion"`
	}
	if err := splice.ReadYAML([]byte(text), &again); err != nil || again.APIVersion != "v1" {
		t.Errorf("as YAML: %+v, %v", again, err)
	}
	return i
}

func TestRoutes(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	if i := indexOf(t, d.Get(200, indexFile)); i.APIVersion != "v1" || len(i.Entries) != 0 {
		t.Errorf("an empty repository: %+v", i)
	}
	chart := gangway.Chart()
	if said := d.Send(201, http.MethodPut, "gangway-1.4.0.tgz", chart); said !=
		"gangway 1.4.0 is published in platform\n" {
		t.Error(said)
	}
	d.Send(201, http.MethodPut, "gangway-1.4.0.tgz", chart)
	d.Send(201, http.MethodPost, "", versioned(gangway, "1.10.0").Chart())
	snapshot := versioned(gangway, "1.11.0-dev.1")
	form, contentType := formOf(t, snapshot.Provenance(snapshot.Chart()), snapshot.Chart())
	d.Send(201, http.MethodPost, "", form, "Content-Type", contentType)
	// Provenance may come later.
	proof := gangway.Provenance(chart)
	d.Send(201, http.MethodPut, "gangway-1.4.0.tgz.prov", proof)

	i := indexOf(t, d.Get(200, indexFile))
	var versions []string
	for _, e := range i.Entries["gangway"] {
		versions = append(versions, e.Version)
		if got := d.Get(200, e.URLs[0]); madeup.Digest([]byte(got)) != "sha256:"+e.Digest {
			t.Errorf("%s: the index has the digest %s", e.URLs[0], e.Digest)
		}
		if e.Created == "" || e.Home != gangway.Homepage || e.Dependencies[0].Name != "tide-gauge" ||
			e.AppVersion != e.Version {
			t.Errorf("%+v", e)
		}
		d.Get(map[bool]int{true: 404, false: 200}[e.Version == "1.10.0"], e.URLs[0]+".prov")
	}
	if fmt.Sprint(versions) != "[1.11.0-dev.1 1.10.0 1.4.0]" {
		t.Errorf("in the order %q", versions)
	}
	for path, want := range map[string][]byte{"gangway-1.4.0.tgz": chart, "gangway-1.4.0.tgz.prov": proof} {
		if got := d.Get(200, path); got != string(want) {
			t.Errorf("%s is something else", path)
		}
	}
	if said := d.Get(200, ""); !strings.Contains(said, "gangway") {
		t.Errorf("people see %s", said)
	}
	d.Get(404, "gangway-9.0.0.tgz")
	d.Get(404, "no/such/folder")
	// What is withdrawn is not offered, and stays where it is.
	if err := d.Withdraw(t.Context(), d.Caller, d.Repository.Key(Name, "", "gangway"),
		map[string]*string{"1.10.0": new(string)}); err != nil {
		t.Fatal(err)
	}
	if said := d.Get(200, indexFile); strings.Contains(said, "1.10.0") {
		t.Errorf("what is withdrawn is offered: %s", said)
	}
	d.Get(200, "gangway-1.10.0.tgz")
}

// formOf is a form with files.
func formOf(t *testing.T, files ...[]byte) (body []byte, contentType string) {
	t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for i, content := range files {
		part, err := w.CreateFormFile("chart", fmt.Sprint(i, ".tgz"))
		if err == nil {
			_, err = part.Write(content)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes(), w.FormDataContentType()
}

// TestPublishRefuses: what is no chart, or another one than it is sent as, is refused.
func TestPublishRefuses(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	chart := gangway.Chart()
	for path, body := range map[string][]byte{"gangway-1.4.0.tgz": []byte("hello"), "gangway-1.4.1.tgz": chart,
		"kelp-1.0.0.tgz": madeup.Package{Name: "kelp", Version: "1.0.0"}.NPM(), "x.tgz": chart[:len(chart)-30],
		"y.tgz": nil} {
		d.Send(400, http.MethodPut, path, body)
	}
	if said := d.Send(400, http.MethodPut, "gangway-1.4.1.tgz", chart); !strings.Contains(said,
		"Send it to http://packages.skerry.example/at/platform/helm/gangway-1.4.0.tgz") {
		t.Error(said)
	}
	if said := d.Send(422, http.MethodPut, "gangway-1.4.0.tgz.prov", gangway.Provenance(chart)); !strings.Contains(said,
		"Send the chart first") {
		t.Error(said)
	}
	d.Send(201, http.MethodPut, "gangway-1.4.0.tgz", chart)
	d.Send(400, http.MethodPut, "gangway-1.4.0.tgz.prov", gangway.Provenance([]byte("another")))
	changed := gangway
	changed.Description = "another"
	d.Send(409, http.MethodPut, "gangway-1.4.0.tgz", changed.Chart())
	other := versioned(gangway, "2.0.0")
	for _, all := range [][][]byte{{}, {other.Chart(), versioned(gangway, "3.0.0").Chart()},
		{other.Chart(), other.Provenance(chart)}, {other.Chart(), other.Chart(), other.Chart()}} {
		body, contentType := formOf(t, all...)
		d.Send(400, http.MethodPost, "", body, "Content-Type", contentType)
	}
	d.Refuses = fault.New(fault.Denied, "role-missing", "deckhand may not publish")
	d.Send(403, http.MethodPut, "gangway-2.0.0.tgz", other.Chart())
	if said := d.Get(200, indexFile); strings.Contains(said, "2.0.0") {
		t.Error("what was refused is there")
	}
}

const upstreamIndex = `apiVersion: v1
entries:
  tide-gauge:
  - apiVersion: v2
    appVersion: 1.5
    created: "2026-10-01T08:00:00.5Z"
    dependencies:
    - name: brine
      version: ^1.0.0
      repository: https://charts.openshore.example
    description: |
      Says how high

      entries:
      it stands
    digest: AA39a3ee5e6b4b0d3255bfef95601890afd80709aaaaaaaaaaaaaaaaaaaaaaaa
    name: tide-gauge
    urls:
    - charts/tide-gauge-2.1.0.tgz
    version: 2.1.0
  - name: tide-gauge
    version: not-one
    urls: [x.tgz]
  - name: tide-gauge
    version: [2]
  - name: tide-gauge
    version: v2.0.0
    urls: [https://files.openshore.example/tide-gauge-2.0.0.tgz]
  # more
  "brine":
    - name: brine
      version: 1.0.0
      urls: ["brine-1.0.0.tgz"]
  empty: []
generated: "2026-10-01T08:00:00Z"
`

func sectionsOf(text string) (map[string]string, error) {
	all := map[string]string{}
	err := New().Sections(strings.NewReader(text), func(name string, section []byte) error {
		all[name] = string(section)
		return nil
	})
	return all, err
}

func TestReadListing(t *testing.T) {
	k := New()
	asJSON, err := json.Marshal(map[string]any{"apiVersion": "v1", "serverInfo": map[string]any{"x": []int{1}},
		"entries": map[string]any{"tide-gauge": []any{
			map[string]any{"name": "tide-gauge", "version": "2.1.0", "urls": []string{"charts/tide-gauge-2.1.0.tgz"},
				"created": "2026-10-01T08:00:00.5Z", "dependencies": []any{map[string]any{"name": "brine"}},
				"digest": "aa39a3ee5e6b4b0d3255bfef95601890afd80709aaaaaaaaaaaaaaaaaaaaaaaa"},
			map[string]any{"name": "tide-gauge", "version": "v2.0.0",
				"urls": []string{"https://files.openshore.example/tide-gauge-2.0.0.tgz"}}},
			"brine": []any{}, "empty": []any{}}})
	if err != nil {
		t.Fatal(err)
	}
	for what, text := range map[string]string{"YAML": upstreamIndex, "JSON": "\n" + string(asJSON),
		"Windows": strings.ReplaceAll(upstreamIndex, "\n", "\r\n")} {
		parts, err := sectionsOf(text)
		if err != nil || len(parts) != 3 {
			t.Fatalf("%s: %v, %v", what, parts, err)
		}
		l, err := k.ReadListing(t.Context(), purl.PURL{Ecosystem: Name, Name: "tide-gauge"},
			ecosystem.Reading{Reader: strings.NewReader(parts["tide-gauge"]),
				Address: "https://charts.openshore.example/stable/index.yaml"})
		if err != nil || len(l.Versions) != 2 {
			t.Fatalf("%s: %+v, %v", what, l, err)
		}
		v := l.Versions[0]
		if v.Version != "2.1.0" || v.UploadedAt.IsZero() || v.Details.Dependencies[0].PURL != "pkg:helm/brine" ||
			v.Files[0].Address != "https://charts.openshore.example/stable/charts/tide-gauge-2.1.0.tgz" ||
			!strings.HasPrefix(v.Files[0].Digests["sha256"], "aa39") {
			t.Errorf("%s: %+v", what, v)
		}
		if v := l.Versions[1]; v.Version != "v2.0.0" || v.Files[0].Address !=
			"https://files.openshore.example/tide-gauge-2.0.0.tgz" ||
			v.Files[0].Name != "tide-gauge-v2.0.0.tgz" {
			t.Errorf("%s: %+v", what, v)
		}
		if _, err := k.ReadListing(t.Context(), purl.PURL{Ecosystem: Name, Name: "empty"},
			ecosystem.Reading{Reader: strings.NewReader(parts["empty"])}); err == nil {
			t.Errorf("%s: an empty list was read", what)
		}
	}
	for _, text := range []string{"", "<html>", "apiVersion: v1\n", `{"apiVersion":"v1"}`, `{"entries":7}`, `{"entries":{`,
		"entries: {a: []}\n", "entries:\n  no name\n"} {
		if parts, err := sectionsOf(text); err == nil {
			t.Errorf("%q was read: %q", text, parts)
		}
	}
	if parts, err := sectionsOf("entries: {}\n"); err != nil || len(parts) != 0 {
		t.Errorf("no charts: %q, %v", parts, err)
	}
	if path, _ := k.Root(); path != k.WholePath() ||
		k.ReadRoot(ecosystem.Reading{Reader: strings.NewReader("<html>")}) == nil {
		t.Error("a page was read as an index")
	}
}

func FuzzSections(f *testing.F) {
	f.Add(upstreamIndex)
	f.Add(`{"entries":{"a":[{"name":"a","version":"1.0.0","urls":["x"]}]}}`)
	f.Fuzz(func(t *testing.T, text string) {
		k := New()
		_ = k.Sections(strings.NewReader(text), func(name string, section []byte) error {
			if !nameForm.MatchString(name) {
				t.Errorf("%q is a name", name)
			}
			l, err := k.ReadListing(t.Context(), purl.PURL{Ecosystem: Name, Name: name},
				ecosystem.Reading{Reader: bytes.NewReader(section), Address: "https://x.example/index.yaml"})
			for _, v := range l.Versions {
				if err == nil && (!purl.IsVersion(Name, v.Version) || v.Details == nil) {
					t.Errorf("%+v", v)
				}
			}
			return nil
		})
	})
}

func FuzzReadChart(f *testing.F) {
	f.Add(gangway.Chart())
	f.Add([]byte(gangway.ChartYAML()))
	f.Add(gangway.Provenance(nil))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if p, _, err := New().Arrived(t.Context(), "x.tgz", ecosystemtest.Bytes(raw)); err == nil &&
			(p.Name == "" || !purl.IsVersion(Name, p.Version)) {
			t.Errorf("%+v", p)
		}
		if c, err := readChart(raw); err == nil {
			if d, err := c.details(); err == nil && d.Native[nativeChart] == nil {
				t.Error("a chart without its Chart.yaml")
			}
		}
	})
}

func TestRestamp(t *testing.T) {
	p := versioned(gangway, "1.5.0-dev.7")
	p.Needs = map[string]string{"tide-gauge": "2.2.0-dev.3", "brine": "1.0.0"}
	p.Files = []madeup.Entry{{Name: "Chart.lock", Content: "dependencies:\n- name: tide-gauge\n  version: 2.2.0-dev.3\n" +
		"  repository: \"\"\ndigest: sha256:00\n"}}
	own := ecosystem.Stamp{Name: "gangway", From: "1.5.0-dev.7", To: "1.5.0"}
	f := ecosystem.ToRestamp{SizedReaderAt: ecosystemtest.Bytes(p.Chart()), Stamp: own,
		All:  ecosystem.Stamps{own, {Name: "tide-gauge", From: "2.2.0-dev.3", To: "2.2.0"}},
		File: catalog.File{Name: "gangway-1.5.0-dev.7.tgz", Extension: archive}}
	r, err := New().Restamp(t.Context(), f)
	if err != nil || r.Name != "gangway-1.5.0.tgz" || len(r.Obstacles) > 0 || r.WriteTo == nil {
		t.Fatalf("%+v, %v", r, err)
	}
	var out bytes.Buffer
	if err := r.WriteTo(&out, nil); err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"gangway/Chart.yaml": strings.NewReplacer("1.5.0-dev.7", "1.5.0", "2.2.0-dev.3", "2.2.0").Replace(p.ChartYAML()),
		"gangway/Chart.lock": strings.ReplaceAll(p.Files[0].Content, "2.2.0-dev.3", "2.2.0"),
		"gangway/charts/tide-gauge/Chart.yaml": strings.ReplaceAll(madeup.Package{Name: "tide-gauge", Version: "2.2.0-dev.3",
			Description: "Needed by gangway"}.ChartYAML(), "2.2.0-dev.3", "2.2.0"),
		"gangway/charts/brine/Chart.yaml": madeup.Package{Name: "brine", Version: "1.0.0",
			Description: "Needed by gangway"}.ChartYAML()}
	if err := ecosystem.WalkTarGz(t.Context(), ecosystemtest.Bytes(out.Bytes()),
		func(name string, _ int64, r io.Reader) error {
			raw, err := io.ReadAll(r)
			if text, ok := want[name]; ok && text != string(raw) {
				t.Errorf("%s is\n%s\nwant\n%s", name, raw, text)
			}
			delete(want, name)
			return err
		}); err != nil || len(want) > 0 {
		t.Fatalf("%v, lacking %v", err, want)
	}
	f.File.Extension = provenance
	if r, err := New().Restamp(t.Context(), f); err != nil || r.Dropped == "" {
		t.Errorf("provenance: %+v, %v", r, err)
	}
}

// TestSend: another server gets the chart and its provenance.
func TestSend(t *testing.T) {
	changed := gangway
	changed.Description = "another"
	chart := gangway.Chart()
	ecosystemtest.CheckSend(t, New(), "", map[string][]byte{"x.tgz": chart, "x.tgz.prov": gangway.Provenance(chart)},
		map[string][]byte{"x.tgz": changed.Chart()})
}

func TestListRepository(t *testing.T) {
	p := ecosystem.Pointing{ID: "platform", Address: "https://packages.skerry.example/at/platform/helm/", User: "deckhand",
		Secret: "crelvo_new"}
	const other = "- caFile: \"\"\n  name: open\n  password: \"\"\n  url: https://charts.openshore.example\n  username: \"\"\n"
	for what, before := range map[string]string{"nothing": "", "none": "apiVersion: \"\"\nrepositories: []\n",
		"none yet": "repositories:\n", "another": "generated: x\nrepositories:\n" + other,
		"it": "repositories:\n" + other +
			"- name: platform\n  password: \"old\"\n  url: https://old.example\n  username: x\n  pass_credentials_all: false\n",
		"it without a name and secret": "repositories:\n  - url: https://old.example\n    name: platform\n",
		"Windows":                      strings.ReplaceAll("repositories:\n"+other, "\n", "\r\n")} {
		after, err := listRepository(before, p)
		if err != nil {
			t.Errorf("%s: %v", what, err)
			continue
		}
		again, err := listRepository(after, p)
		if err != nil || again != after {
			t.Errorf("%s: again %v\n%s\nand then\n%s", what, err, after, again)
		}
		if strings.Contains(before, "open") && !strings.Contains(after, other) {
			t.Errorf("%s: the other one is lost:\n%s", what, after)
		}
		f := ecosystem.Files{At: p.Address, Read: func(file string) string {
			return map[string]string{listFile: after, hostFile: `{"auths":{"packages.skerry.example":{"auth":"eDp5"}}}`}[file]
		}}
		found := false
		for _, u := range uses(f) {
			found = found || u.ID == "platform" && u.Address == p.Address && u.User == "deckhand" &&
				u.Secret == "crelvo_new" && u.Publish
		}
		if !found {
			t.Errorf("%s: read back as %+v", what, uses(f))
		}
	}
	for _, before := range []string{"repositories: [{name: a, url: b}]\n", "repositories: 7\n", "{"} {
		if after, err := listRepository(before, p); err == nil {
			t.Errorf("%q became\n%s", before, after)
		}
	}
}
