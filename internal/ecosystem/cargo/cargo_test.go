package cargo

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"

	"github.com/pelletier/go-toml/v2"
)

var sensor = madeup.Package{Name: "hull-sensor", Version: "1.4.0", Description: "Reads the hull",
	Licence: "MIT/Apache-2.0", Readme: "# hull-sensor\n",
	Keywords: []string{"hull"}, Needs: map[string]string{"brine-codec": "^0.3"}}

func versioned(p madeup.Package, version string) madeup.Package {
	p.Version = version
	return p
}

func TestConformance(t *testing.T) {
	with := func(entries ...madeup.Entry) map[string][]byte {
		return map[string][]byte{"x.crate": madeup.TarGz(entries...)}
	}
	toml := func(text string) map[string][]byte {
		return with(madeup.Entry{Name: "kelp-1.0.0/Cargo.toml", Content: text})
	}
	ecosystemtest.Run(t, New(), ecosystemtest.Samples{
		Snapshot: "1.5.0-dev.7", Release: "1.4.0",
		Good: []ecosystemtest.Sample{
			{Name: "a crate", Files: map[string][]byte{"hull-sensor-1.4.0.crate": sensor.Cargo("")},
				PURL: "pkg:cargo/hull-sensor@1.4.0"},
			{Name: "a crate with a purl", Files: map[string][]byte{"x.crate": sensor.Cargo("")}, As: "pkg:cargo/Hull-Sensor",
				PURL: "pkg:cargo/hull-sensor@1.4.0"},
			{Name: "a snapshot", Files: map[string][]byte{"x.crate": versioned(sensor, "1.5.0-dev.7").Cargo("")},
				PURL: "pkg:cargo/hull-sensor@1.5.0-dev.7"},
			{Name: "a name with capitals", Files: map[string][]byte{"x.crate": madeup.Package{Name: "Kelp_X",
				Version: "1.0.0"}.Cargo("")}, PURL: "pkg:cargo/kelp_x@1.0.0"},
		},
		Bad: []ecosystemtest.Sample{
			{Name: "another purl", Files: map[string][]byte{"x.crate": sensor.Cargo("")}, As: "pkg:cargo/kelp@1.0.0"},
			{Name: "cut", Files: map[string][]byte{"x.crate": sensor.Cargo("")[:150]}},
			{Name: "no archive", Files: map[string][]byte{"x.crate": []byte("hello")}},
			{Name: "no manifest", Files: with(madeup.Entry{Name: "kelp-1.0.0/src/lib.rs", Content: "x"})},
			{Name: "another folder", Files: with(madeup.Entry{Name: "kelp/Cargo.toml",
				Content: "[package]\nname = \"kelp\"\nversion = \"1.0.0\"\n"})},
			{Name: "two folders", Files: with(madeup.Entry{Name: "kelp-1.0.0/Cargo.toml",
				Content: "[package]\nname = \"kelp\"\nversion = \"1.0.0\"\n"}, madeup.Entry{Name: "x/Cargo.toml", Content: ""})},
			{Name: "a way out", Files: with(madeup.Entry{Name: "kelp-1.0.0/../../x", Content: "x"})},
			{Name: "a manifest that is no TOML", Files: toml("{}")},
			{Name: "no version", Files: toml("[package]\nname = \"kelp\"\n")},
			{Name: "a version that is none", Files: toml("[package]\nname = \"kelp\"\nversion = \"1\"\n")},
			{Name: "a name that is none", Files: toml("[package]\nname = \"../kelp\"\nversion = \"1.0.0\"\n")},
			{Name: "a dependency that is none",
				Files: toml("[package]\nname = \"kelp\"\nversion = \"1.0.0\"\n[dependencies]\nx = 7\n")},
			{Name: "two files", Files: map[string][]byte{"x.crate": sensor.Cargo(""), "y.crate": sensor.Cargo("")},
				As: "pkg:cargo/hull-sensor@1.4.0"},
		},
		Foreign: map[string][]byte{"brine.jar": []byte("x")},
	})
}

func TestFits(t *testing.T) {
	for _, c := range []struct {
		wanted, version string
		fits            bool
	}{{"1.2.3", "1.9.0", true}, {"1.2.3", "2.0.0", false}, {"0.3", "0.3.7", true}, {"0.3", "0.4.0", false},
		{"=1.0.0", "1.0.0", true}, {"=1.0.0", "1.0.1", false},
		{"~1.2", "1.2.9", true}, {"~1.2", "1.3.0", false}, {"1.*", "1.7.0", true}, {">=1.2, <1.5", "1.4.9", true},
		{">=1.2, <1.5", "1.5.0", false}, {"*", "3.0.0", true},
		{"1.0", "1.1.0-dev.1", false}, {"1.0.0-dev.1", "1.0.0-dev.2", true}} {
		if fits, known := purl.Fits(Name, c.wanted, c.version); fits != c.fits || !known {
			t.Errorf("%s for %s: %v, %v", c.version, c.wanted, fits, known)
		}
	}
}

// TestEntry: the index says what the Cargo.toml does.
func TestEntry(t *testing.T) {
	var m manifest
	err := toml.Unmarshal([]byte(`[package]
name = "Kelp_X"
version = "1.0.0"
links = "kelp"
rust-version = "1.70"
homepage = "javascript:alert(1)"
repository = "https://skerry.example/kelp"
authors = ["Deck Hands <deck@skerry.example>"]
license-file = "LICENCE"
[dependencies]
plain = "1"
[dependencies.local]
version = "0.3"
registry-index = "sparse+https://packages.skerry.example/at/platform/cargo/"
optional = true
default-features = false
features = ["a", "b"]
package = "true-name"
[dev-dependencies.tested]
version = "2"
[build-dependencies.built]
version = "3"
[target."cfg(unix)".dependencies.only]
version = "4"
[features]
default = ["plain"]
new = ["dep:local", "plain?/x"]
`), &m)
	if err != nil {
		t.Fatal(err)
	}
	d, err := m.details()
	if err != nil {
		t.Fatal(err)
	}
	if d.Title != "Kelp_X" || d.Homepage != "" || d.Source != "https://skerry.example/kelp" || len(d.Dependencies) != 5 ||
		d.Licences[0].Name != "LICENCE" || len(d.Authors) != 1 {
		t.Errorf("%+v", d)
	}
	v := catalog.Version{Version: "1.0.0", Details: d, Withdrawn: &catalog.Withdrawal{},
		Files: []catalog.File{{Extension: "crate"}}}
	e, err := entryOf(&v, below("https://packages.skerry.example/at/"))
	if err != nil {
		t.Fatal(err)
	}
	raw, err := json.Marshal(e)
	if err != nil {
		t.Fatal(err)
	}
	const want = `{"name":"Kelp_X","vers":"1.0.0","deps":[` +
		`{"name":"local","req":"0.3","features":["a","b"],"optional":true,"default_features":false,"target":null,"kind":"normal","package":"true-name"},` +
		`{"name":"plain","req":"1","features":[],"optional":false,"default_features":true,"target":null,"kind":"normal","registry":"` + public + `"},` +
		`{"name":"tested","req":"2","features":[],"optional":false,"default_features":true,"target":null,"kind":"dev","registry":"` + public + `"},` +
		`{"name":"built","req":"3","features":[],"optional":false,"default_features":true,"target":null,"kind":"build","registry":"` + public + `"},` +
		`{"name":"only","req":"4","features":[],"optional":false,"default_features":true,"target":"cfg(unix)","kind":"normal","registry":"` + public + `"}],` +
		`"cksum":"0000000000000000000000000000000000000000000000000000000000000000","features":{"default":["plain"]},"yanked":true,"links":"kelp","v":2,"features2":{"new":["dep:local","plain?/x"]},"rust_version":"1.70"}`
	if string(raw) != want {
		t.Errorf("%s\nwant\n%s", raw, want)
	}
	if e, err = entryOf(&v, below("https://elsewhere.example/at/")); err != nil || e.Deps[0].Registry == "" {
		t.Errorf("what another server has is told as ours: %+v, %v", e.Deps[0], err)
	}
	if _, err := entryOf(&catalog.Version{}, ofCrelvo); err == nil {
		t.Error("a record without an entry has one")
	}
}

// TestRoutes walks through a registry as cargo does.
func TestRoutes(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	index := "sparse+" + d.Address()
	const crates, line = "api/v1/crates", "hu/ll/hull-sensor"
	if said := d.Get(200, "config.json"); !strings.Contains(said, `"auth-required":true`) ||
		!strings.Contains(said, `"api":"`+strings.TrimSuffix(d.Address(), "/")+`"`) {
		t.Error(said)
	}
	d.Get(404, line)
	crate := sensor.Cargo(index)
	if said := d.Send(200, http.MethodPut, crates+"/new", sensor.CargoUpload(crate)); !strings.Contains(said,
		`"warnings"`) {
		t.Error(said)
	}
	d.Send(200, http.MethodPut, crates+"/new", sensor.CargoUpload(crate)) // the same once more
	var e entry
	if err := json.Unmarshal([]byte(d.Get(200, line)), &e); err != nil || e.Name != "hull-sensor" ||
		e.Deps[0].Registry != "" || len(e.Cksum) != 64 || e.Yanked {
		t.Errorf("%+v, %v", e, err)
	}
	if got := d.Get(200, "crates/hull-sensor/1.4.0/download?sha256="+e.Cksum); got != string(crate) ||
		d.Downloads["hull-sensor-1.4.0.crate"] != 1 {
		t.Errorf("%d bytes, %v", len(got), d.Downloads)
	}
	d.Get(200, "files/hull-sensor/1.4.0/hull-sensor-1.4.0.crate")
	d.Get(404, "files/hull-sensor/1.4.0/other.crate")
	d.Get(404, "files/hull-sensor")
	d.Get(404, "crates/hull-sensor/9.9.9/download")
	d.Get(404, "crates/hull-sensor/nine/download")
	// The index has a validator.
	a := d.Ask(http.MethodGet, line, nil)
	if again := d.Ask(http.MethodGet, line, nil, "If-None-Match",
		a.Header().Get("ETag")); again.Code != http.StatusNotModified {
		t.Errorf("the same index is sent again: %d", again.Code)
	}
	// Yanked, and not.
	d.Send(200, http.MethodDelete, crates+"/hull-sensor/1.4.0/yank", nil)
	if said := d.Get(200, line); !strings.Contains(said, `"yanked":true`) {
		t.Error(said)
	}
	d.Send(200, http.MethodPut, crates+"/hull-sensor/1.4.0/unyank", nil)
	if said := d.Get(200, line); !strings.Contains(said, `"yanked":false`) {
		t.Error(said)
	}
	d.Send(404, http.MethodDelete, crates+"/hull-sensor/9.9.9/yank", nil)
	if said := d.Get(200, crates+
		"?q=hull"); said != `{"crates":[{"description":"Reads the hull","max_version":"1.4.0","name":"hull-sensor"}],"meta":{"total":1}}`+"\n" {
		t.Error(said)
	}
	for _, method := range []string{http.MethodGet, http.MethodPut, http.MethodDelete} {
		if said := d.Send(400, method, crates+"/hull-sensor/owners", nil); !strings.Contains(said, "crelvo grant add") {
			t.Error(said)
		}
	}
	d.Get(302, "me")
	if said := d.Get(200, ""); !strings.Contains(said, "hull-sensor") {
		t.Errorf("people see %s", said)
	}
	d.Get(404, "no/such/folder")
	d.Get(404, "3/%E2/%E2")
	d.Why["secret"] = fault.New(fault.NotFound, "claimed", "the name is claimed").WithHint("Ask an admin")
	for asks, status := range map[string]int{"cargo/1.95.0": 403, "crelvo/1": 404, "": 404} {
		if said := d.Get(status, "se/cr/secret", "User-Agent", asks); !strings.Contains(said,
			"the name is claimed. Ask an admin") {
			t.Errorf("%q: %s", asks, said)
		}
	}
}

// TestPublishRefuses: what is cut, or is not what it is said to be, is refused.
func TestPublishRefuses(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	const path = "api/v1/crates/new"
	whole := sensor.CargoUpload(sensor.Cargo(""))
	for i, body := range [][]byte{nil, whole[:3], whole[:20], whole[:len(whole)-5],
		append([]byte{255, 255, 255, 255}, whole...), append([]byte{2, 0, 0, 0}, whole...),
		versioned(sensor, "9.9.9").CargoUpload(sensor.Cargo("")), sensor.CargoUpload([]byte("hello"))} {
		if said := d.Send(400, http.MethodPut, path, body); !strings.Contains(said, `"detail"`) {
			t.Errorf("%d: %s", i, said)
		}
	}
	d.Send(200, http.MethodPut, path, whole)
	other := madeup.Package{Name: "hull_sensor", Version: "2.0.0"}
	if said := d.Send(409, http.MethodPut, path, other.CargoUpload(other.Cargo(""))); !strings.Contains(said,
		"the same name as hull_sensor") {
		t.Error(said)
	}
	changed := sensor
	changed.Description = "another"
	d.Send(409, http.MethodPut, path, changed.CargoUpload(changed.Cargo("")))
	d.Refuses = fault.New(fault.Denied, "role-missing", "deckhand may not publish")
	d.Send(403, http.MethodPut, path, versioned(sensor, "1.5.0").CargoUpload(versioned(sensor, "1.5.0").Cargo("")))
}

// TestUploads: a lock file keeps giving the upload that it was made with.
func TestUploads(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	var sums []string
	for i := range 2 {
		p := versioned(sensor, "1.5.0-dev.7")
		p.Description = fmt.Sprint("upload ", i)
		d.Send(200, http.MethodPut, "api/v1/crates/new", p.CargoUpload(p.Cargo("")))
		var e entry
		if err := json.Unmarshal([]byte(d.Get(200, "hu/ll/hull-sensor")), &e); err != nil {
			t.Fatal(err)
		}
		sums = append(sums, e.Cksum)
	}
	for i, sum := range sums {
		content := d.Get(200, "crates/hull-sensor/1.5.0-dev.7/download?sha256="+sum)
		if _, details, err := readCrate(t.Context(), ecosystemtest.Bytes([]byte(content))); err != nil ||
			details.Description != fmt.Sprint("upload ", i) {
			t.Errorf("%s: %+v, %v", sum, details, err)
		}
	}
	if sums[0] == sums[1] {
		t.Error("both are the same")
	}
}

const upstreamLine = `{"name":"brine-codec","vers":"0.3.1","deps":[{"name":"kelp","req":"^1","features":[],"optional":false,"default_features":true,"target":null,"kind":"normal"}],"cksum":"DA39a3ee5e6b4b0d3255bfef95601890afd80709aaaaaaaaaaaaaaaaaaaaaaaa","features":{},"yanked":true,"links":null,"pubtime":"2026-10-01T08:00:00Z"}`

func TestReadListing(t *testing.T) {
	k, p := New(), purl.PURL{Ecosystem: Name, Name: "brine-codec"}
	read := func(text, config string) (catalog.Listing, error) {
		return k.ReadListing(t.Context(), p, ecosystem.Reading{Reader: strings.NewReader(text),
			Address: "https://index.openshore.example/br/in/brine-codec",
			More: func(address string) (io.ReadCloser, error) {
				if address != "https://index.openshore.example/config.json" {
					t.Errorf("asked for %s", address)
				}
				return io.NopCloser(strings.NewReader(config)), nil
			}})
	}
	l, err := read(upstreamLine+"\nnonsense\n"+strings.Replace(upstreamLine, "brine-codec", "other", 1)+"\n",
		`{"dl":"https://files.openshore.example/{lowerprefix}/{crate}/{version}?{sha256-checksum}"}`)
	if err != nil || len(l.Versions) != 1 {
		t.Fatalf("%+v, %v", l, err)
	}
	v := l.Versions[0]
	if v.Version != "0.3.1" || v.Withdrawn == nil || v.UploadedAt.IsZero() ||
		!strings.HasPrefix(v.Files[0].Address, "https://files.openshore.example/br/in/brine-codec/0.3.1?DA39") ||
		!strings.HasPrefix(v.Files[0].Digests["sha256"], "da39") || v.Details.Dependencies[0].PURL != "pkg:cargo/kelp" {
		t.Errorf("%+v", v)
	}
	if l, err = read(upstreamLine, `{"dl":"https://crates.openshore.example/api/v1/crates"}`); err != nil ||
		l.Versions[0].Files[0].Address != "https://crates.openshore.example/api/v1/crates/brine-codec/0.3.1/download" {
		t.Errorf("%+v, %v", l, err)
	}
	if _, err := read(upstreamLine, `{}`); err == nil {
		t.Error("nobody said where crates are")
	}
	if _, err := read("", `{}`); err == nil {
		t.Error("an empty list was read")
	}
	if path, _ := k.Root(); path != "config.json" ||
		k.ReadRoot(ecosystem.Reading{Reader: strings.NewReader("<html>")}) == nil {
		t.Error("a page was read as a config.json")
	}
	for name, want := range map[string]string{"a": "1/a", "ab": "2/ab", "Abc": "3/a/abc", "abcd": "ab/cd/abcd"} {
		if got := indexPath(name); got != want {
			t.Errorf("%s is at %s, want %s", name, got, want)
		}
	}
}

func FuzzReadListing(f *testing.F) {
	f.Add([]byte(upstreamLine))
	f.Fuzz(func(t *testing.T, raw []byte) {
		l, err := New().ReadListing(t.Context(), purl.PURL{Ecosystem: Name, Name: "brine-codec"},
			ecosystem.Reading{Reader: bytes.NewReader(raw), Address: "https://x.example/br/in/brine-codec",
				More: func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(`{"dl":"x"}`)), nil }})
		for _, v := range l.Versions {
			if err == nil && (!purl.IsSemver(v.Version) || v.Details == nil) {
				t.Errorf("%+v", v)
			}
		}
	})
}

func FuzzReadCrate(f *testing.F) {
	f.Add(sensor.Cargo(""))
	f.Add([]byte(sensor.CargoToml("sparse+https://x.example/")))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if p, _, err := New().Arrived(t.Context(), "x.crate", ecosystemtest.Bytes(raw)); err == nil &&
			(p.Name == "" || !purl.IsSemver(p.Version)) {
			t.Errorf("%+v", p)
		}
		var m manifest
		if toml.Unmarshal(raw, &m) == nil {
			if d, err := m.details(); err == nil && d.Native[nativeEntry] == nil {
				t.Error("a crate without an entry for the index")
			}
		}
	})
}

func TestRestamp(t *testing.T) {
	const orig = `[package]
name = "hull-sensor"
version = "1.5.0-dev.7" # as of now
[dependencies]
brine-codec = "=0.4.0-dev.2"
renamed = { version = "0.4.0-dev.2", package = "brine-codec" }
kelp = "1.0"
`
	const lock = `version = 3

[[package]]
name = "brine-codec"
version = "0.4.0-dev.2"
source = "sparse+https://packages.skerry.example/at/platform/cargo/"
checksum = "00"

[[package]]
name = "hull-sensor"
version = "1.5.0-dev.7"
dependencies = ["brine-codec"]
`
	p := versioned(sensor, "1.5.0-dev.7")
	p.Needs = map[string]string{"brine-codec": "=0.4.0-dev.2"}
	p.Files = []madeup.Entry{{Name: "Cargo.toml.orig", Content: orig}, {Name: "Cargo.lock", Content: lock},
		{Name: ".cargo_vcs_info.json", Content: `{"git":{"sha1":"0f"}}`}}
	content := p.Cargo("sparse+https://packages.skerry.example/at/platform/cargo/")
	own := ecosystem.Stamp{Name: "hull-sensor", From: "1.5.0-dev.7", To: "1.5.0"}
	f := ecosystem.ToRestamp{SizedReaderAt: ecosystemtest.Bytes(content), Stamp: own,
		All:  ecosystem.Stamps{own, {Name: "brine-codec", From: "0.4.0-dev.2", To: "0.4.0"}},
		File: catalog.File{Name: "hull-sensor-1.5.0-dev.7.crate", Extension: "crate"},
		Made: func(s ecosystem.Stamp) (catalog.Digests, bool, error) {
			return catalog.Digests{SHA256: [32]byte{31: 0xfe}}, s.To == "0.4.0", nil
		}}
	r, err := New().Restamp(t.Context(), f)
	if err != nil || r.Name != "hull-sensor-1.5.0.crate" || len(r.Obstacles) > 0 || r.WriteTo == nil {
		t.Fatalf("%+v, %v", r, err)
	}
	var out bytes.Buffer
	if err := r.WriteTo(&out, nil); err != nil {
		t.Fatal(err)
	}
	is, details, err := readCrate(t.Context(), ecosystemtest.Bytes(out.Bytes()))
	if err != nil || is.Version != "1.5.0" || details.Dependencies[0].Version != "=0.4.0" {
		t.Fatalf("%+v, %+v, %v", is, details, err)
	}
	texts := map[string]string{}
	if err := ecosystem.WalkTarGz(t.Context(), ecosystemtest.Bytes(out.Bytes()),
		func(name string, _ int64, r io.Reader) error {
			raw, err := io.ReadAll(r)
			texts[strings.TrimPrefix(name, "hull-sensor-1.5.0/")] = string(raw)
			return err
		}); err != nil {
		t.Fatal(err)
	}
	if want := strings.NewReplacer("1.5.0-dev.7", "1.5.0", "=0.4.0-dev.2", "=0.4.0", `{ version = "0.4.0-dev.2"`,
		`{ version = "0.4.0"`).Replace(orig); texts["Cargo.toml.orig"] != want {
		t.Errorf("%s\nwant\n%s", texts["Cargo.toml.orig"], want)
	}
	if want := strings.NewReplacer("1.5.0-dev.7", "1.5.0", "0.4.0-dev.2", "0.4.0", `checksum = "00"`,
		`checksum = "`+strings.Repeat("0", 62)+`fe"`).
		Replace(lock); texts["Cargo.lock"] != want {
		t.Errorf("%s\nwant\n%s", texts["Cargo.lock"], want)
	}
	if texts[".cargo_vcs_info.json"] != `{"git":{"sha1":"0f"}}` {
		t.Errorf("%v", texts)
	}
}

// TestSend: another registry gets what cargo publish would send it.
func TestSend(t *testing.T) {
	changed := sensor
	changed.Description = "another"
	ecosystemtest.CheckSend(t, New(), "", map[string][]byte{"x.crate": sensor.Cargo("")},
		map[string][]byte{"x.crate": changed.Cargo("")})
	if err := New().Send(t.Context(), ecosystem.Shipment{}); err == nil {
		t.Error("a version without a file was sent")
	}
	raw, err := announced(
		json.RawMessage(
			`{"name":"x","deps":[{"name":"local","package":"true-name","req":"1"}],"features":{},"features2":{"a":["dep:local"]}}`), "")
	if err != nil || !strings.Contains(string(raw), `"explicit_name_in_toml":"local","name":"true-name"`) ||
		!strings.Contains(string(raw), `"version_req":"1"`) ||
		!strings.Contains(string(raw), `"features":{"a":["dep:local"]}`) {
		t.Errorf("%s, %v", raw, err)
	}
}

func TestStrays(t *testing.T) {
	p := ecosystem.Pointing{Address: "http://h/at/platform/cargo/", ID: "platform", Everything: true}
	files := map[string]string{projectFile: "[source.crates-io]\nreplace-with = \"old\"\n"}
	f := ecosystem.Files{Read: func(file string) string {
		return files[file]
	}, Env: func(string) string { return "" }, Ours: func(a string) bool { return strings.HasPrefix(a, "http://h/") }}
	if said := settings.Strays(f, p); len(said) != 1 || !strings.Contains(said[0], "from old") {
		t.Errorf("%q", said)
	}
	p.Everything = false
	if said := settings.Strays(f, p); len(said) != 0 {
		t.Errorf("%q", said)
	}
}
