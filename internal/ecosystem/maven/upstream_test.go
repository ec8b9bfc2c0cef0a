package maven

import (
	"bytes"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const snapshotList = `<metadata><groupId>org.openshore</groupId><artifactId>brine-http</artifactId><version>1.0-SNAPSHOT</version>
<versioning><snapshot><timestamp>20261101.080000</timestamp><buildNumber>2</buildNumber></snapshot><snapshotVersions>
<snapshotVersion><extension>jar</extension><value>1.0-20261101.080000-2</value></snapshotVersion>
<snapshotVersion><extension>pom</extension><value>1.0-20261101.080000-2</value></snapshotVersion>
<snapshotVersion><classifier>sources</classifier><extension>jar</extension><value>1.0-20261031.080000-1</value></snapshotVersion>
<snapshotVersion><extension>jar</extension><value>../../etc/passwd</value></snapshotVersion>
</snapshotVersions></versioning></metadata>`

func TestReadListing(t *testing.T) {
	m := Maven{}
	p := purl.PURL{Ecosystem: Name, Namespace: "org.openshore", Name: "brine-http"}
	for _, c := range []struct {
		p          purl.PURL
		path, text string
		want       string
	}{
		{p, "org/openshore/brine-http/maven-metadata.xml",
			"<metadata><versioning><versions><version>1.0</version><version> 2.0 " +
				"</version><version>../x</version></versions></versioning></metadata>", "1.0 2.0"},
		{purl.PURL{Ecosystem: Name, Namespace: "org.openshore", Name: "brine-http", Version: "1.0-SNAPSHOT"},
			"org/openshore/brine-http/1.0-SNAPSHOT/maven-metadata.xml",
			snapshotList,
			"1.0-20261031.080000-1(brine-http-1.0-20261031.080000-1-sources.jar) " +
				"1.0-20261101.080000-2(brine-http-1.0-20261101.080000-2.jar brine-http-1.0-20261101.080000-2.pom)"},
		{purl.PURL{Ecosystem: Name, Namespace: "org.openshore"}, "org/openshore/maven-metadata.xml",
			"<metadata><plugins><plugin><prefix>brine</prefix><artifactId>brine-maven-plugin</artifactId></plugin><plugin><artifactId>no-prefix</artifactId></plugin></plugins></metadata>", "plugin brine"},
	} {
		if got := m.ListingPath(c.p); got != c.path {
			t.Errorf("the list of %s is at %s", c.p, got)
		}
		l, err := m.ReadListing(t.Context(), c.p, ecosystem.Reading{Reader: strings.NewReader(c.text)})
		if err != nil {
			t.Errorf("%s: %v", c.p, err)
		}
		var got []string
		for _, v := range l.Versions {
			text := v.Version
			if v.Upload != "" {
				text = v.Upload
				var names []string
				for _, f := range v.Files {
					names = append(names, f.Name)
				}
				text += "(" + strings.Join(names, " ") + ")"
			}
			got = append(got, text)
		}
		for _, plugin := range l.Plugins {
			got = append(got, "plugin "+plugin.Prefix)
		}
		if all := strings.Join(got, " "); all != c.want {
			t.Errorf("%s lists %q; want %q", c.p, all, c.want)
		}
	}
	for _, wrong := range []string{"", "<html></html>", "<metadata>", "{}"} {
		if _, err := m.ReadListing(t.Context(), p, ecosystem.Reading{Reader: strings.NewReader(wrong)}); err == nil {
			t.Errorf("%q was read as a list", wrong)
		}
	}
}

func TestCompanions(t *testing.T) {
	p := purl.PURL{Ecosystem: Name, Namespace: "org.openshore", Name: "brine-http", Version: "2.1.0"}
	like := []catalog.File{{Extension: "pom"}, {Extension: "jar"}, {Classifier: "sources", Extension: "jar"},
		{Extension: "jar.asc"}}
	for packaging, want := range map[string]string{
		"jar":    "brine-http-2.1.0.pom brine-http-2.1.0.jar brine-http-2.1.0-sources.jar",
		"bundle": "brine-http-2.1.0.pom brine-http-2.1.0.jar brine-http-2.1.0-sources.jar",
		"war":    "brine-http-2.1.0.pom brine-http-2.1.0.war brine-http-2.1.0.jar brine-http-2.1.0-sources.jar",
	} {
		var names []string
		for _, q := range (Maven{}).Companions(p, catalog.Details{Packaging: packaging}, like) {
			names = append(names, q.Name)
			if place, err := (Maven{}).PlaceOf(q); err != nil ||
				(Maven{}).FilePath(place) != "org/openshore/brine-http/2.1.0/"+q.Name {
				t.Errorf("%s is at %+v, %v", q.Name, place, err)
			}
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("%s wants %s; want %s", packaging, got, want)
		}
	}
	if all := (Maven{}).Companions(p, catalog.Details{Packaging: "pom"}, nil); len(all) != 1 {
		t.Errorf("a pom alone wants %v", all)
	}
}

func TestChecksumIn(t *testing.T) {
	const digest = "da39a3ee5e6b4b0d3255bfef95601890afd80709"
	for _, text := range []string{digest, strings.ToUpper(digest) + "\n", digest + "  brine.jar", "SHA1 (brine.jar) = " +
		digest} {
		if got, ok := ecosystem.ChecksumIn(text, "sha1"); got != digest || !ok {
			t.Errorf("%q gives %q, %v", text, got, ok)
		}
	}
	for _, text := range []string{"", "<html>no</html>", digest[1:], digest + "0", strings.Replace(digest, "d", "g", 1)} {
		if got, ok := ecosystem.ChecksumIn(text, "sha1"); ok {
			t.Errorf("%q gives %q", text, got)
		}
	}
}

func FuzzReadListing(f *testing.F) {
	f.Add([]byte(snapshotList))
	f.Add([]byte("<metadata><versioning><versions><version>1</version></versions></versioning></metadata>"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, version := range []string{"", "1.0-SNAPSHOT"} {
			p := purl.PURL{Ecosystem: Name, Namespace: "org.openshore", Name: "brine-http", Version: version}
			l, err := Maven{}.ReadListing(t.Context(), p, ecosystem.Reading{Reader: bytes.NewReader(raw)})
			if err != nil {
				continue
			}
			for _, v := range l.Versions {
				if !fitsPath(v.Version) {
					t.Errorf("the version %q got through", v.Version)
				}
				for _, file := range v.Files {
					if !fitsPath(file.Name) {
						t.Errorf("the file %q got through", file.Name)
					}
				}
			}
		}
	})
}
