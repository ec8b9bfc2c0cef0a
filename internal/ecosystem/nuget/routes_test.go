package nuget

import (
	"encoding/json"
	"encoding/xml"
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

func of(version string) madeup.Package {
	p := turnstile
	p.Version = version
	return p
}

// TestRoutes walks through a source as nuget and dotnet do.
func TestRoutes(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	const id = "skerry.turnstilelink"
	ecosystemtest.Says(t, d.Get(200, "index.json"), d.Address()+"flat/", "RegistrationsBaseUrl/3.6.0")
	d.Get(404, "flat/"+id+"/index.json")
	withFiles := turnstile
	withFiles.Icon = "icon.png"
	withFiles.Files = []madeup.Entry{{Name: "icon.png", Content: "\x89PNG\r\n\x1a\n0000"}}
	d.Send(201, http.MethodPut, "package", withFiles.NuGet())
	d.Send(201, http.MethodPut, "package/", withFiles.NuGet()) // the same once more
	d.Send(409, http.MethodPut, "v2/package", turnstile.NuGet())
	d.Send(201, http.MethodPut, "v2/", of("1.5.0-Dev.7").NuGet())
	d.Send(201, http.MethodPut, "v2/", of("1.5.0-Dev.7").NuGet()) // another upload of the same snapshot
	symbols := of("1.4.0")
	symbols.PackageType = "SymbolsPackage"
	d.Send(201, http.MethodPut, "symbols", symbols.NuGet())
	ecosystemtest.Says(t, d.Send(400, http.MethodPut, "symbols", turnstile.NuGet()), "is not pushed here")
	ecosystemtest.Says(t, d.Send(400, http.MethodPut, "package", symbols.NuGet()), "is not pushed here")
	symbols.Version = "9.9.9"
	ecosystemtest.Says(t, d.Send(422, http.MethodPut, "symbols", symbols.NuGet()), "Push the .nupkg before the .snupkg")
	d.Send(400, http.MethodPut, "package", []byte("hello"))
	ecosystemtest.Says(t, d.Send(404, http.MethodPut, "index.json", nil), "are not pushed to this address")

	ecosystemtest.Says(t, d.Get(200, "flat/"+id+"/index.json"), `"1.4.0"`, `"1.5.0-dev.7"`)
	for path, want := range map[string]string{"1.4.0/" + id + ".1.4.0.nupkg": "PK", "1.4.0/" + id + ".1.4.0.snupkg": "PK",
		"1.4.0/" + id + ".nuspec": "<metadata>", "1.4/" + id + ".1.4.0.nupkg": "PK",
		"1.4.0/icon": "PNG", "1.5.0-dev.7/" + id + ".1.5.0-dev.7.nupkg": "PK"} {
		ecosystemtest.Says(t, d.Get(200, "flat/"+id+"/"+path), want)
	}
	for _, path := range []string{"1.4.0/other.1.4.0.nupkg", "9.9.9/" + id + ".9.9.9.nupkg", "1.4.0/license", "9.9.9/icon",
		"1.4.0", "a/b/c/d/e"} {
		d.Get(404, "flat/"+id+"/"+path)
	}
	d.Get(400, "flat/-x-/index.json")

	var index struct {
		Items []struct {
			ID           string `json:"@id"`
			Lower, Upper string
			Items        []struct {
				ID      string `json:"@id"`
				Content string `json:"packageContent"`
			}
		}
	}
	if err := json.Unmarshal([]byte(d.Get(200, "registration/"+id+"/index.json")), &index); err != nil ||
		len(index.Items) != 1 || len(index.Items[0].Items) != 2 {
		t.Fatalf("%+v, %v", index, err)
	}
	for _, leaf := range index.Items[0].Items {
		d.Get(200, strings.TrimPrefix(leaf.Content, d.Address()))
		ecosystemtest.Says(t, d.Get(200, strings.TrimPrefix(leaf.ID, d.Address())), `"packageContent"`)
	}
	d.Get(404, "registration/"+id+"/9.9.9.json")
	d.Get(404, "registration/"+id+"/page/1.0.0/2.0.0.json")
	d.Get(404, "registration/nothing/index.json")

	ecosystemtest.Says(t, d.Get(200, "search?q=turnstile&prerelease=true&take=5"), `"totalHits":1`,
		`"Skerry.TurnstileLink"`)
	d.Get(200, "search?q=packageid:"+id+"+tags:boats+author:deck+title:x&packageType=Dependency")
	ecosystemtest.Says(t, d.Get(200, "autocomplete?q=turnstile"), "Skerry.TurnstileLink")
	ecosystemtest.Says(t, d.Get(200, "autocomplete?id="+id), `"data":["1.4.0"]`)
	ecosystemtest.Says(t, d.Get(200, "autocomplete?prerelease=true&id="+id), `"1.5.0-dev.7"`)
	ecosystemtest.Says(t, d.Get(200, "autocomplete?id=nothing"), `"totalHits":0`)
	ecosystemtest.Says(t, d.Get(200, ""), id)

	d.Send(204, http.MethodDelete, "package/Skerry.TurnstileLink/1.4", nil)
	if said := d.Get(200, "autocomplete?id="+id); strings.Contains(said, "1.4.0") {
		t.Error(said)
	}
	d.Send(200, http.MethodPost, "package/Skerry.TurnstileLink/1.4.0", nil)
	d.Send(404, http.MethodDelete, "v2/package/Skerry.TurnstileLink/9.9.9", nil)
	d.Refuses = fault.New(fault.Denied, "role-missing", "deckhand may not publish")
	d.Send(403, http.MethodPut, "package", of("2.0.0").NuGet())
}

// TestOlderProtocol asks as older clients do, by OData.
func TestOlderProtocol(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	for _, version := range []string{"1.3.0", "1.4.0", "1.5.0-dev.7"} {
		d.Send(201, http.MethodPut, "v2/package", of(version).NuGet())
	}
	ecosystemtest.Says(t, d.Get(200, "v2"), "<service")
	ecosystemtest.Says(t, d.Get(200, "v2/$metadata"), "Edmx")
	feed := func(path string) (versions []string) {
		t.Helper()
		var f struct {
			Entries []struct {
				Version string `xml:"properties>Version"`
				Content struct {
					Src string `xml:"src,attr"`
				} `xml:"content"`
			} `xml:"entry"`
		}
		said := d.Get(200, path)
		if err := xml.Unmarshal([]byte(said), &f); err != nil {
			t.Fatalf("%s: %v\n%s", path, err, said)
		}
		for _, e := range f.Entries {
			versions = append(versions, e.Version)
			if a := d.Ask(http.MethodGet, strings.TrimPrefix(e.Content.Src, d.Address()), nil); a.Code != 200 && a.Code != 302 {
				t.Errorf("%s is not at %s", e.Version, e.Content.Src)
			}
		}
		return versions
	}
	for path, want := range map[string]string{
		"v2/FindPackagesById()?id='Skerry.TurnstileLink'":                                                  "1.3.0 1.4.0 1.5.0-dev.7",
		"v2/FindPackagesById()?id='skerry.turnstilelink'&$filter=IsLatestVersion":                          "1.4.0",
		"v2/FindPackagesById()?id='skerry.turnstilelink'&$filter=IsAbsoluteLatestVersion":                  "1.5.0-dev.7",
		"v2/FindPackagesById()?id='skerry.turnstilelink'&$orderby=Version%20desc&$top=1&$skip=1":           "",
		"v2/Packages()?$filter=Id%20eq%20'Skerry.TurnstileLink'%20and%20Version%20eq%20'1.4.0'":            "1.4.0",
		"v2/Search()?searchTerm='turnstile'&includePrerelease=true&$filter=IsAbsoluteLatestVersion&$top=5": "1.5.0-dev.7",
		"v2/FindPackagesById()?id='nothing'":                                                               "",
	} {
		got := strings.Join(feed(path), " ")
		if want != "" && got != want || strings.Contains(path, "nothing") && got != "" {
			t.Errorf("%s: %s; want %s", path, got, want)
		}
	}
	ecosystemtest.Says(t, d.Get(200, "v2/Packages(Id='Skerry.TurnstileLink',Version='1.4.0')"), "1.4.0")
	d.Get(404, "v2/Packages(Id='Skerry.TurnstileLink',Version='9.9.9')")
	d.Get(404, "v2/Packages(Id='nothing',Version='1.0.0')")
	if got := d.Get(200, "v2/FindPackagesById()/$count?id='Skerry.TurnstileLink'"); got != "3" {
		t.Errorf("%q are counted", got)
	}
	if a := d.Ask(http.MethodGet, "v2/package/Skerry.TurnstileLink/1.4.0",
		nil); !strings.Contains(d.Get(200, strings.TrimPrefix(a.Header().Get("Location"), d.Address())), "PK") {
		t.Errorf("it leads to %s", a.Header().Get("Location"))
	}
	d.Get(404, "v2/package/Skerry.TurnstileLink/9.9.9")
	d.Get(400, "v2/Packages()?$filter=Id%20eq")
	d.Get(404, "v2/Nothing()")
	d.Send(204, http.MethodDelete, "v2/Skerry.TurnstileLink/1.4.0", nil)
}

func TestSend(t *testing.T) {
	changed := turnstile
	changed.Description = "another"
	ecosystemtest.CheckSend(t, New(), "package", map[string][]byte{"x.nupkg": turnstile.NuGet()},
		map[string][]byte{"x.nupkg": changed.NuGet()})
}
