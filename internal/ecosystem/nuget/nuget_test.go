package nuget

import (
	"bytes"
	"encoding/json"
	"errors"
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

var turnstile = madeup.Package{Name: "Skerry.TurnstileLink", Version: "1.4.0", Description: "Talks to turnstiles",
	Licence: "MIT", Author: "Deck Hands, Others",
	Homepage: "https://skerry.example/", Readme: "# Turnstiles\n", Needs: map[string]string{"Openshore.Serial": "2.0"}}

func TestConformance(t *testing.T) {
	snapshot := turnstile
	snapshot.Version = "1.5.0-Dev.7"
	with := func(entries ...madeup.Entry) map[string][]byte {
		return map[string][]byte{"x.nupkg": madeup.Zip(entries...)}
	}
	ecosystemtest.Run(t, New(), ecosystemtest.Samples{
		Snapshot: "1.5.0-dev.7", Release: "1.4.0",
		Good: []ecosystemtest.Sample{
			{Name: "a package", Files: map[string][]byte{"x.nupkg": turnstile.NuGet()},
				PURL: "pkg:nuget/skerry.turnstilelink@1.4.0"},
			{Name: "a package and its symbols", Files: map[string][]byte{"x.nupkg": turnstile.NuGet(),
				"x.snupkg": turnstile.NuGet()}, PURL: "pkg:nuget/skerry.turnstilelink@1.4.0"},
			{Name: "a snapshot", Files: map[string][]byte{"x.nupkg": snapshot.NuGet()},
				PURL: "pkg:nuget/skerry.turnstilelink@1.5.0-dev.7"},
			{Name: "with a purl in another spelling", Files: map[string][]byte{"x.nupkg": turnstile.NuGet()},
				As: "pkg:nuget/Skerry.TurnstileLink@1.4", PURL: "pkg:nuget/skerry.turnstilelink@1.4.0"},
		},
		Bad: []ecosystemtest.Sample{
			{Name: "no zip", Files: map[string][]byte{"x.nupkg": []byte("hello")}},
			{Name: "no nuspec", Files: with(madeup.Entry{Name: "lib/x.txt", Content: "x"})},
			{Name: "two ids", Files: map[string][]byte{"x.nupkg": turnstile.NuGet()}, As: "pkg:nuget/other@1.4.0"},
			{Name: "a bad id", Files: with(madeup.Entry{Name: "x.nuspec",
				Content: strings.Replace(turnstile.Nuspec(), turnstile.Name, "../x", 1)})},
			{Name: "a bad version", Files: with(madeup.Entry{Name: "x.nuspec",
				Content: strings.Replace(turnstile.Nuspec(), "1.4.0", "one", 1)})},
			{Name: "a DOCTYPE", Files: with(madeup.Entry{Name: "x.nuspec",
				Content: "<!DOCTYPE x [<!ENTITY y SYSTEM 'file:///etc/passwd'>]>" + turnstile.Nuspec()})},
			{Name: "a way out", Files: with(madeup.Entry{Name: "x.nuspec", Content: turnstile.Nuspec()},
				madeup.Entry{Name: "..\\..\\x", Content: "x"})},
		},
		Foreign: map[string][]byte{"brine.jar": []byte("x")},
	})
}

func serial() purl.PURL { return purl.PURL{Ecosystem: Name, Name: "openshore.serial"} }

const entryText = `{"@id":"x","catalogEntry":{"id":"Openshore.Serial","version":"%s","authors":["A","B"],"listed":%v,"published":"%s","tags":"a b","dependencyGroups":[{"dependencies":[{"id":"Brine","range":"1.0"}]}]},"packageContent":"../flat/serial.%s.nupkg"}`

func TestReadListing(t *testing.T) {
	inside := fmt.Sprintf(entryText, "1.0", true, "2026-10-01T08:00:00Z", "1.0")
	outside := fmt.Sprintf(entryText, "2.0.0-Beta", false, "1900-01-01T00:00:00Z", "2.0.0")
	index := `{"count":2,"items":[{"@id":"a","count":1,"items":[` + inside +
		`]},{"@id":"page/2.json","count":1,"lower":"2","upper":"2"}]}`
	asked := ""
	l, err := New().ReadListing(t.Context(), serial(),
		ecosystem.Reading{Reader: strings.NewReader(index),
			Address: "https://nuget.openshore.example/reg/openshore.serial/index.json",
			More: func(address string) (io.ReadCloser, error) {
				asked = address
				return io.NopCloser(strings.NewReader(`{"items":[` + outside + `]}`)), nil
			}})
	if err != nil || len(l.Versions) != 2 || asked != "https://nuget.openshore.example/reg/openshore.serial/page/2.json" {
		t.Fatalf("%+v, %v, asked %s", l, err, asked)
	}
	first, second := l.Versions[0], l.Versions[1]
	if first.Version != "1.0.0" || first.Withdrawn != nil || first.UploadedAt.IsZero() ||
		first.Files[0].Address != "https://nuget.openshore.example/reg/flat/serial.1.0.nupkg" ||
		len(first.Details.Authors) != 2 {
		t.Errorf("%+v", first)
	}
	if second.Version != "2.0.0-beta" || second.Withdrawn == nil || !second.UploadedAt.IsZero() {
		t.Errorf("%+v", second)
	}
	broken := ecosystem.Reading{Reader: strings.NewReader(index), Address: "https://x.example/",
		More: func(string) (io.ReadCloser, error) { return nil, errors.New("gone") }}
	if l, err := New().ReadListing(t.Context(), serial(), broken); err == nil {
		t.Errorf("with a page missing: %+v", l)
	}
}

func TestReadEntrance(t *testing.T) {
	const text = `{"version":"3.0.0","resources":[{"@id":"https://x.example/old/","@type":"RegistrationsBaseUrl"},{"@id":"reg5/","@type":"RegistrationsBaseUrl/3.6.0"},{"@id":"y","@type":["z"]}]}`
	places, err := New().ReadEntrance(ecosystem.Reading{Reader: strings.NewReader(text),
		Address: "https://nuget.openshore.example/v3/index.json"})
	if err != nil || places[registrations] != "https://nuget.openshore.example/v3/reg5/" {
		t.Errorf("%v, %v", places, err)
	}
	if places, err := New().ReadEntrance(ecosystem.Reading{Reader: strings.NewReader(`{"resources":[]}`),
		Address: "https://x.example/"}); err == nil {
		t.Errorf("%v", places)
	}
}

// TestRegistrations: what is written is read again as the same, in one piece and
// in pages.
func TestRegistrations(t *testing.T) {
	for _, n := range []int{3, 300} {
		p := &catalog.Package{Key: catalog.PackageKey{Name: "openshore.serial"}}
		for i := range n {
			version := fmt.Sprintf("1.%d.0", i)
			v := catalog.Version{Version: version, PublishedAt: time.Date(2026, 10, 1, 8, 0, 0, 0, time.UTC),
				Files: []catalog.File{{Name: New().FileName("openshore.serial", version), Extension: packed}}}
			v.Details = facts{ID: "Openshore.Serial", Version: version,
				Groups: []group{{Framework: "net45", Dependencies: []needed{{"Brine", "[1.0.0, )"}}}}}.details("d", "a", "", "")
			if i == 1 {
				v.Withdrawn = &catalog.Withdrawal{Reason: "leaks"}
			}
			p.Versions = append(p.Versions, v)
		}
		w := writer{p, "https://packages.skerry.example/at/r/nuget/"}
		d, err := w.index()
		if err != nil {
			t.Fatal(err)
		}
		fetched := 0
		l, err := New().ReadListing(t.Context(), serial(),
			ecosystem.Reading{Reader: bytes.NewReader(d.Bytes()), Address: w.registration() + "index.json",
				More: func(address string) (io.ReadCloser, error) {
					fetched++
					bounds := strings.Split(strings.TrimSuffix(strings.TrimPrefix(address, w.registration()+"page/"), ".json"), "/")
					page, ok, err := w.page(bounds[0], bounds[1])
					if !ok {
						t.Errorf("there is no page %s", address)
					}
					return io.NopCloser(bytes.NewReader(page.Bytes())), err
				}})
		if err != nil || len(l.Versions) != n || (n > inlineVersions) != (fetched > 1) {
			t.Fatalf("%d of %d versions, %d pages fetched, %v", len(l.Versions), n, fetched, err)
		}
		if v := l.Versions[1]; v.Withdrawn == nil || v.Withdrawn.Reason != "leaks" ||
			!strings.Contains(string(v.Details.Native[nativeFacts]), "Brine") ||
			v.Files[0].Address != w.base+"flat/openshore.serial/1.1.0/openshore.serial.1.1.0.nupkg" {
			t.Errorf("%+v", v)
		}
	}
}

func FuzzReadListing(f *testing.F) {
	f.Add([]byte(`{"items":[{"items":[` + fmt.Sprintf(entryText, "1.0", true, "2026-10-01T08:00:00Z", "1.0") + `]}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		r := ecosystem.Reading{Reader: bytes.NewReader(raw), Address: "https://nuget.openshore.example/x",
			More: func(string) (io.ReadCloser, error) { return nil, io.EOF }}
		l, err := New().ReadListing(t.Context(), serial(), r)
		if err != nil {
			return
		}
		for _, v := range l.Versions {
			q := catalog.FileQuestion{Key: catalog.PackageKey{Name: "openshore.serial"}, Version: v.Version,
				Name: v.Files[0].Name}
			if _, err := New().PlaceOf(q); err != nil || !json.Valid(v.Details.Native[nativeFacts]) {
				t.Errorf("%+v: %v", v, err)
			}
		}
	})
}

func FuzzInspect(f *testing.F) {
	f.Add(turnstile.NuGet())
	f.Fuzz(func(t *testing.T, raw []byte) {
		if d, err := New().Inspect(t.Context(), New().At("", "Skerry.TurnstileLink", "1.4.0", packed),
			ecosystemtest.Bytes(raw)); err == nil && d.Title == "" {
			t.Errorf("%+v", d)
		}
	})
}

func FuzzNuspec(f *testing.F) {
	f.Add([]byte(turnstile.Nuspec()))
	f.Add([]byte(`<dependency id="x" version="1.0"/>`))
	f.Add([]byte(`<group><dependency id="x"/></group>`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, inside := range []string{"dependencies", "tags"} {
			budgettest.Fuzzed(t, "<package><metadata><id>x</id><version>1.0</version><"+inside+">", string(raw), "</"+inside+
				"></metadata></package>", func(raw []byte) {
				n := new(nuspec)
				if ecosystem.DecodeXML(bytes.NewReader(raw), n) == nil {
					n.details()
				}
			})
		}
		n := new(nuspec)
		if ecosystem.DecodeXML(bytes.NewReader(raw), n) == nil {
			n.details()
		}
	})
}
