package maven

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/budget/budgettest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
)

func jar(t testing.TB, entries ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i+1 < len(entries); i += 2 {
		w, err := z.Create(entries[i])
		if err == nil {
			_, err = w.Write([]byte(entries[i+1]))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

const tidePOM = `<project xmlns="http://maven.apache.org/POM/4.0.0"><modelVersion>4.0.0</modelVersion>
<groupId>example.skerry.berth</groupId><artifactId>tide-model</artifactId><version>1.4.0</version></project>`

func TestConformance(t *testing.T) {
	const inside = "META-INF/maven/example.skerry.berth/tide-model/pom.xml"
	other := strings.Replace(tidePOM, "tide-model", "other", 1)
	ecosystemtest.Run(t, Maven{}, ecosystemtest.Samples{
		Snapshot: "1.4.0-SNAPSHOT", Release: "1.4.0",
		Good: []ecosystemtest.Sample{
			{Name: "a jar with its pom inside", Files: map[string][]byte{"x.jar": jar(t, inside, tidePOM)},
				PURL: "pkg:maven/example.skerry.berth/tide-model@1.4.0"},
			{Name: "a jar and its pom", Files: map[string][]byte{"x.jar": jar(t), "x.pom": []byte(tidePOM)},
				PURL: "pkg:maven/example.skerry.berth/tide-model@1.4.0"},
			{Name: "a build's folder", PURL: "pkg:maven/example.skerry.berth/tide-model@1.4.0",
				Files: map[string][]byte{"tide-model-1.4.0.jar": jar(t), "tide-model-1.4.0-sources.jar": jar(t),
					"tide-model-1.4.0-linux.tar.gz": []byte("x"), "pom.xml": []byte(tidePOM)}},
			{Name: "a file with a purl", Files: map[string][]byte{"brine.jar": jar(t)},
				As: "pkg:maven/org.openshore/brine-http@2.1.0", PURL: "pkg:maven/org.openshore/brine-http@2.1.0"},
			{Name: "a snapshot with a purl", Files: map[string][]byte{"brine.jar": jar(t)},
				As: "pkg:maven/org.openshore/brine-http@2.1.0-SNAPSHOT", PURL: "pkg:maven/org.openshore/brine-http@2.1.0-SNAPSHOT"},
			{Name: "a jar of others, named after one", Files: map[string][]byte{"tide-model-1.4.0.jar": jar(t,
				"META-INF/maven/a/other/pom.xml", other, inside, tidePOM)},
				PURL: "pkg:maven/example.skerry.berth/tide-model@1.4.0"},
			{Name: "a jar that says it is something else", Files: map[string][]byte{"x.jar": jar(t, inside, tidePOM)},
				As: "pkg:maven/org.openshore/brine-http@2.1.0", PURL: "pkg:maven/org.openshore/brine-http@2.1.0"},
		},
		Bad: []ecosystemtest.Sample{
			{Name: "a jar that says nothing", Files: map[string][]byte{"x.jar": jar(t)}},
			{Name: "a jar that is no zip", Files: map[string][]byte{"x.jar": []byte("hello")}},
			{Name: "a jar that is no zip, with a purl", Files: map[string][]byte{"x.jar": []byte("hello")},
				As: "pkg:maven/g/a@1"},
			{Name: "several poms and no name", Files: map[string][]byte{"x.jar": jar(t, "META-INF/maven/a/other/pom.xml", other,
				inside, tidePOM)}},
			{Name: "a pom that is no XML", Files: map[string][]byte{"x.pom": []byte("{}")}},
			{Name: "a purl without a version", Files: map[string][]byte{"x.jar": jar(t)}, As: "pkg:maven/g/a"},
			{Name: "a purl without a group", Files: map[string][]byte{"x.jar": jar(t)}, As: "pkg:maven/a@1"},
			{Name: "a purl with a path in it", Files: map[string][]byte{"x.jar": jar(t)}, As: "pkg:maven/g/a@..%2F..%2Fx"},
		},
		Foreign: map[string][]byte{"deck-ui-1.0.0.tgz": []byte("x")},
	})
}

func TestParsePath(t *testing.T) {
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		path       string
		kind       targetKind
		checksum   string
		literal    bool
		upload     string
		classifier string
		extension  string
	}{
		{path: "", kind: folder},
		{path: "example/skerry/", kind: folder},
		{path: "example/skerry/maven-metadata.xml", kind: metadata},
		{path: "example/skerry/maven-metadata.xml.sha512", kind: metadata, checksum: "sha512"},
		{path: "g/a/1.0/a-1.0.jar", kind: artifact, extension: "jar"},
		{path: "g/a/1.0/a-1.0.jar.md5", kind: artifact, checksum: "md5", extension: "jar"},
		{path: "g/a/1.0/a-1.0.tar.gz", kind: artifact, extension: "tar.gz"},
		{path: "g/a/1.0/a-1.0-linux-x86_64.tar.gz", kind: artifact, classifier: "linux-x86_64", extension: "tar.gz"},
		{path: "g/a/1.0/a-1.0-jdk1.8.jar", kind: artifact, classifier: "jdk1.8", extension: "jar"},
		{path: "g/a/1.0/a-1.0-sources.jar.asc", kind: artifact, classifier: "sources", extension: "jar.asc"},
		{path: "g/a/1.0/a-1.0.jar.asc.sha1", kind: artifact, checksum: "sha1", extension: "jar.asc"},
		{path: "g/a/1.0/a-1.0.module", kind: artifact, extension: "module"},
		{path: "g/a/1.0-rc-1/a-1.0-rc-1-tests.jar", kind: artifact, classifier: "tests", extension: "jar"},
		{path: "g/a/1.0-SNAPSHOT/a-1.0-SNAPSHOT.jar", kind: artifact, literal: true, extension: "jar"},
		{path: "g/a/1.0-SNAPSHOT/a-1.0-SNAPSHOT-sources.jar", kind: artifact, literal: true, classifier: "sources",
			extension: "jar"},
		{path: "g/a/1.0-SNAPSHOT/a-1.0-20261101.080000-12.jar", kind: artifact, upload: "1.0-20261101.080000-12",
			extension: "jar"},
		{path: "g/a/1.0-SNAPSHOT/a-1.0-20261101.080000-12-sources.jar", kind: artifact, upload: "1.0-20261101.080000-12",
			classifier: "sources", extension: "jar"},
		{path: "g/sbt-slip_2.12_1.0/1.0/sbt-slip-1.0.pom", kind: artifact, extension: "pom"},
		{path: "g/sbt-slip_2.12_1.0/1.0/sbt-slip_2.12_1.0-1.0-sources.jar", kind: artifact, classifier: "sources",
			extension: "jar"},
		{path: "g/a/1.0/ivy.xml", kind: artifact, extension: "ivy.xml"},
		{path: "g/a/1.0/ivy-1.0.xml.sha1", kind: artifact, checksum: "sha1", extension: "ivy-1.0.xml"},
		{path: "g/a/1.0-SNAPSHOT/ivy.xml", kind: artifact, literal: true, extension: "ivy.xml"},
		{path: "g/a-b/SNAPSHOT/a-b-20261101.080000-1.jar", kind: artifact, upload: "20261101.080000-1", extension: "jar"},
	} {
		got, err := parsePath(c.path)
		if err != nil {
			t.Errorf("%s: %v", c.path, err)
			continue
		}
		p := got.place
		if got.kind != c.kind || got.checksum != c.checksum || got.literal != c.literal || p.Upload != c.upload ||
			p.Classifier != c.classifier || p.Extension != c.extension {
			t.Errorf("%s: %+v", c.path, got)
		}
		if p.Upload != "" && !p.UploadedAt.Equal(at) {
			t.Errorf("%s: uploaded at %v", c.path, p.UploadedAt)
		}
	}
	for _, path := range []string{"g/a/1.0/b-1.0.jar", "g/a/1.0/a-1.1.jar", "g/a/1.0/a-1.0", "g/a/1.0/a-1.0-",
		"g/a/1.0/a-1.0-x", "g/a/1.0-SNAPSHOT/a-1.0.jar",
		"g/a/1.0-SNAPSHOT/a-1.0-20261301.080000-1.jar", "g/../a/1.0/a-1.0.jar", "g/./a/1.0/a-1.0.jar", "g//a/1.0/a-1.0.jar",
		"a-1.0.jar", "g/a/1.0/a-1.0.", "g/a b/1.0/x.jar",
		"g/" + strings.Repeat("x", 300) + "/1.0/y.jar", strings.Repeat("x/", 600) + "y"} {
		if got, err := parsePath(path); err == nil {
			t.Errorf("%s: %+v; want an error", path, got)
		}
	}
}

func TestParsePOM(t *testing.T) {
	p, err := parsePOM(strings.NewReader(`<?xml version="1.0" encoding="ISO-8859-1"?>
<project><parent><groupId>example.skerry</groupId><artifactId>parent</artifactId><version>7</version></parent>
<artifactId>tide-model</artifactId><name>${project.artifactId} ${edition}</name><packaging>bundle</packaging>
<properties><edition>spring</edition><brine.version>${project.version}.1</brine.version><circle>${circle}</circle></properties>
<licenses><license><name> Apache-2.0 </name></license></licenses><developers><developer><name>J` + "\xf6" +
		`rn</name></developer></developers>
<dependencies>
 <dependency><groupId>org.openshore</groupId><artifactId>brine-http</artifactId><version>${brine.version}</version><scope>test</scope></dependency>
 <dependency><groupId>${project.groupId}</groupId><artifactId>knots</artifactId><version>${unknown}</version><optional>true</optional></dependency>
</dependencies></project>`))
	if err != nil {
		t.Fatal(err)
	}
	if p.GroupID != "example.skerry" || p.Version != "7" || p.Packaging != "bundle" {
		t.Errorf("inherited: %s %s %s", p.GroupID, p.Version, p.Packaging)
	}
	d := p.details()
	if d.Title != "tide-model spring" || d.Parent != "pkg:maven/example.skerry/parent@7" ||
		d.Licences[0].Name != "Apache-2.0" || d.Authors[0] != "Jörn" {
		t.Errorf("details: %+v", d)
	}
	want := []catalog.Dependency{{PURL: "pkg:maven/org.openshore/brine-http", Version: "7.1", Scope: "test"},
		{PURL: "pkg:maven/example.skerry/knots", Version: "${unknown}", Optional: true}}
	if len(d.Dependencies) != 2 || d.Dependencies[0] != want[0] || d.Dependencies[1] != want[1] {
		t.Errorf("dependencies: %+v; want %+v", d.Dependencies, want)
	}
}

// TestMetadata renders the documents of a package with releases and uploads.
func TestMetadata(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 8, 0, 0, 0, time.UTC) }
	file := func(classifier, extension string) catalog.File {
		return catalog.File{Classifier: classifier, Extension: extension}
	}
	p := &catalog.Package{Key: catalog.PackageKey{Ecosystem: Name, Namespace: "example.skerry.berth", Name: "tide-model"},
		Versions: []catalog.Version{
			{Version: "1.10.0", PublishedAt: day(3)},
			{Version: "1.9.0", PublishedAt: day(4)},
			{Version: "1.11.0-SNAPSHOT", Upload: "1.11.0-20261105.080000-2", UploadCount: 2, UploadedAt: day(5),
				PublishedAt: day(5), Snapshot: true, Files: []catalog.File{file("", "jar"), file("", "pom")}},
			{Version: "1.11.0-SNAPSHOT", Upload: "1.11.0-20261101.080000-1", UploadCount: 1, UploadedAt: day(1),
				PublishedAt: day(1), Snapshot: true, Files: []catalog.File{file("", "jar"), file("sources", "jar")}},
		}}
	m := artifactMetadata(p).Versioning
	if got := strings.Join(m.Versions.Version, " "); got != "1.9.0 1.10.0 1.11.0-SNAPSHOT" || m.Release != "1.10.0" ||
		m.Latest != "1.11.0-SNAPSHOT" || m.LastUpdated != "20261105080000" {
		t.Errorf("%+v, versions %s", m, got)
	}
	s, _, ok := snapshotMetadata(p, "1.11.0-SNAPSHOT")
	if !ok || s.Versioning.Snapshot.BuildNumber != 2 || len(s.Versioning.SnapshotVersions.All) != 3 {
		t.Fatalf("%+v", s)
	}
	for _, v := range s.Versioning.SnapshotVersions.All {
		if want := map[string]string{"": "1.11.0-20261105.080000-2",
			"sources": "1.11.0-20261101.080000-1"}[v.Classifier]; v.Value != want {
			t.Errorf("%+v; want %s", v, want)
		}
	}
	if _, _, ok := snapshotMetadata(p, "1.10.0"); ok {
		t.Error("a release has snapshot metadata")
	}
	// What was rendered says of itself what it completes.
	document, err := s.document(day(5))
	if err != nil {
		t.Fatal(err)
	}
	back, err := parseMetadata(bytes.NewReader(document.Bytes()))
	if err != nil || !back.completes("1.11.0-SNAPSHOT", "1.11.0-20261105.080000-2") ||
		back.completes("1.11.0-SNAPSHOT", "1.11.0-20261101.080000-1") || back.completes("1.10.0", "") {
		t.Errorf("%+v, %v", back, err)
	}
}

func FuzzParsePath(f *testing.F) {
	for _, s := range []string{"g/a/1.0/a-1.0.jar", "g/a/1.0-SNAPSHOT/a-1.0-20261101.080000-12-sources.jar.sha1", "a/../b",
		"maven-metadata.xml", "g/a/SNAPSHOT/a-SNAPSHOT.x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, path string) {
		target, err := parsePath(path)
		if err != nil {
			if fault.Of(err).Status() >= 500 {
				t.Errorf("%q: %v is no client's fault", path, err)
			}
			return
		}
		if target.kind != artifact {
			return
		}
		p := target.place
		if p.Name == "" || p.Version == "" || p.Extension == "" || strings.Contains(p.FileName, "/") {
			t.Errorf("%q: %+v", path, p)
		}
		// A place leads back to its own file.
		exact := p.Version
		if p.Upload != "" {
			exact = p.Upload
		}
		if got := fileName(p.Name, exact, p.Classifier, p.Extension); got != p.FileName {
			t.Errorf("%q: the place leads to %q, not %q", path, got, p.FileName)
		}
	})
}

func FuzzParsePOM(f *testing.F) {
	f.Add([]byte(tidePOM))
	f.Add([]byte(`<!DOCTYPE x><project/>`))
	f.Add([]byte(`<project><properties><a>${b}${b}</a><b>${a}${a}</b></properties><version>${a}</version></project>`))
	f.Add([]byte(`${long}`))
	f.Add([]byte(`<dependency><groupId>${long}</groupId></dependency>`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, inside := range []string{"description", "dependencies", "properties"} {
			budgettest.Fuzzed(t, "<project><properties><long>"+strings.Repeat("x", 900)+"</long></properties><"+inside+">",
				string(raw), "</"+inside+"></project>", func(raw []byte) {
					if p, err := parsePOM(bytes.NewReader(raw)); err == nil {
						p.details()
					}
				})
		}
		p, err := parsePOM(bytes.NewReader(raw))
		if err != nil {
			if !fault.Is(err, fault.Invalid) {
				t.Errorf("%v is no fault of the file", err)
			}
			return
		}
		for _, d := range p.details().Dependencies {
			if _, err := purl.Parse(d.PURL); err != nil {
				t.Errorf("dependency %q: %v", d.PURL, err)
			}
		}
	})
}

func FuzzParseMetadata(f *testing.F) {
	f.Add([]byte(`<metadata><versioning><versions><version>1</version></versions></versioning></metadata>`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		budgettest.Fuzzed(t, "<metadata><versioning><versions>", string(raw), "</versions></versioning></metadata>",
			func(raw []byte) {
				_, _ = parseMetadata(bytes.NewReader(raw)) // only what it costs
			})
		if m, err := parseMetadata(bytes.NewReader(raw)); err == nil {
			m.completes("1", "")
			m.completes("1-SNAPSHOT", "1-20261101.080000-1")
		}
	})
}

// FuzzPlace hands over archives of any content.
func FuzzPlace(f *testing.F) {
	f.Add(jar(f, "META-INF/maven/g/a/pom.xml", tidePOM), "x.jar")
	f.Add([]byte("PK\x05\x06"+strings.Repeat("\x00", 18)), "x.war")
	f.Fuzz(func(t *testing.T, raw []byte, name string) {
		files := []ecosystem.Handed{{Name: name, SizedReaderAt: sized{bytes.NewReader(raw)}}}
		placed, err := Maven{}.Place(t.Context(), files, purl.PURL{})
		if err != nil {
			return
		}
		for _, p := range placed {
			if err := checkSegments([]string{p.Place.Name, p.Place.Version, p.Place.Namespace}); err != nil {
				t.Errorf("%+v: %v", p.Place, err)
			}
		}
	})
}

type sized struct{ *bytes.Reader }

// TestLatest: what was withdrawn is not the latest, unless everything was.
func TestLatest(t *testing.T) {
	p := &catalog.Package{Versions: []catalog.Version{{Version: "1.0"}, {Version: "1.1"},
		{Version: "1.2", Withdrawn: &catalog.Withdrawal{}}}}
	if v := artifactMetadata(p).Versioning; v.Latest != "1.1" || v.Release != "1.1" || len(v.Versions.Version) != 3 {
		t.Errorf("%+v", v)
	}
	for i := range p.Versions {
		p.Versions[i].Withdrawn = &catalog.Withdrawal{}
	}
	if v := artifactMetadata(p).Versioning; v.Release != "1.2" {
		t.Errorf("all withdrawn: %+v", v)
	}
}
