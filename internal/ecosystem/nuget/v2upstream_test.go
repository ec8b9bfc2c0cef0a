package nuget

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const feedHead = `<?xml version="1.0"?><feed xml:base="https://packages.openshore.example/v2/" xmlns="http://www.w3.org/2005/Atom"
 xmlns:d="http://schemas.microsoft.com/ado/2007/08/dataservices" xmlns:m="http://schemas.microsoft.com/ado/2007/08/dataservices/metadata">`

// TestFeeds reads lists of upstreams of the v2 protocol, as different servers write them.
func TestFeeds(t *testing.T) {
	of := purl.PURL{Ecosystem: Name, Name: "openshore.serial"}
	const first = feedHead +
		`<entry><title type="text">Openshore.Serial</title><summary>Talks</summary><author><name>Openshore, Friends</name></author>
		<content type="application/zip" src="package/Openshore.Serial/2.0.0"/>
		<m:properties><d:Version>2.0.0</d:Version><d:Dependencies>Openshore.Core:[1.0, 2.0):net8.0|::net472</d:Dependencies><d:Published m:type="Edm.DateTime">2025-04-01T10:00:00.000</d:Published>
		<d:PackageHash>` + `z4PhNX7vuL3xVChQ1m2AB9Yg5AULVxXcg/SpIdNs6c5H0NE8XYXysP+DGNKHfuwvY7kxvUdBeoGlODJ6+SfaPg==` +
		`</d:PackageHash><d:PackageHashAlgorithm>SHA512</d:PackageHashAlgorithm><d:PackageSize m:type="Edm.Int64">77</d:PackageSize></m:properties></entry>
		<entry><title>Another.Package</title><content src="x"/><m:properties><d:Version>1.0.0</d:Version></m:properties></entry>
		<link rel="next" href="FindPackagesById()?id='openshore.serial'&amp;$skiptoken=1"/></feed>`
	const second = feedHead +
		`<entry><title>not the id</title><content type="application/xml"><m:properties><d:Id>Openshore.Serial</d:Id><d:Version>1.9.0.0</d:Version>
		<d:Published>1900-01-01T00:00:00</d:Published></m:properties></content></entry>
		<entry><content type="application/xml" src="https://files.openshore.example/serial.2.1.0-beta.nupkg"><m:properties><d:Id>Openshore.Serial</d:Id><d:Version>2.1.0-beta</d:Version><d:Listed>false</d:Listed></m:properties></content></entry></feed>`
	asked := ""
	reading := ecosystem.Reading{Reader: strings.NewReader("\ufeff" + first),
		Address: "https://packages.openshore.example/v2/FindPackagesById()?id='openshore.serial'",
		More: func(address string) (io.ReadCloser, error) {
			asked = address
			return io.NopCloser(strings.NewReader(second)), nil
		}}
	l, err := New().ReadListing(t.Context(), of, reading)
	if err != nil || len(l.Versions) != 2 {
		t.Fatalf("%d versions, %v", len(l.Versions), err)
	}
	if asked != "https://packages.openshore.example/v2/FindPackagesById()?id='openshore.serial'&$skiptoken=1" {
		t.Errorf("asked for %s", asked)
	}
	v := l.Versions[0]
	if f := v.Files[0]; v.Version != "2.0.0" ||
		f.Address != "https://packages.openshore.example/v2/package/Openshore.Serial/2.0.0" || f.Size != 77 ||
		len(f.Digests["sha512"]) != 128 ||
		v.UploadedAt.Format("2006-01-02") != "2025-04-01" || v.Withdrawn != nil || len(v.Details.Dependencies) != 1 {
		t.Errorf("%+v", v)
	}
	if v := l.Versions[1]; v.Version != "2.1.0-beta" || v.Withdrawn == nil {
		t.Errorf("what is not listed: %+v", v)
	}

	for name, text := range map[string]string{"nothing": "", "a page of HTML": "<html><body>hello",
		"a feed that is cut": first[:300], "a loop": first} {
		r := ecosystem.Reading{Reader: strings.NewReader(text), Address: "https://packages.openshore.example/v2/x",
			More: func(string) (io.ReadCloser, error) {
				return io.NopCloser(strings.NewReader(first)), nil
			}}
		if _, err := New().ReadListing(budget.With(t.Context(),
			budget.Limits{Bytes: 1 << 30, Held: 1 << 20, Elements: 3000}), of, r); err == nil {
			t.Errorf("%s is a list", name)
		}
	}
	if err := New().ReadOlder(ecosystem.Reading{Reader: strings.NewReader(v2Metadata)}); err != nil {
		t.Error(err)
	}
	if err := New().ReadOlder(ecosystem.Reading{Reader: strings.NewReader("<html/>")}); err == nil {
		t.Error("a page of HTML tells that it is a server of packages")
	}
}

func FuzzFeed(f *testing.F) {
	f.Add(feedHead + "<entry><title>A</title><content src='a'/></entry></feed>")
	f.Fuzz(func(t *testing.T, text string) {
		r := ecosystem.Reading{Reader: strings.NewReader(text), Address: "https://packages.openshore.example/v2/",
			More: func(string) (io.ReadCloser, error) { return nil, errors.New("no more") }}
		l, err := New().ReadListing(context.Background(), purl.PURL{Ecosystem: Name, Name: "a"}, r)
		if err != nil {
			return
		}
		for _, v := range l.Versions {
			if !purl.IsNuGet(v.Version) || len(v.Files) != 1 || !strings.HasPrefix(v.Files[0].Address, "http") {
				t.Errorf("listed %+v", v)
			}
		}
	})
}
