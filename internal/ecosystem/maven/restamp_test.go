package maven

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

const berth = "example.skerry.berth"

var planner = ecosystem.Stamp{Namespace: berth, Name: "berth-planner", From: "1.4.0-SNAPSHOT",
	Upload: "1.4.0-20261101.080910-3", To: "1.4.0"}
var tides = ecosystem.Stamp{Namespace: berth, Name: "tide-model", From: "1.4.0-SNAPSHOT",
	Upload: "1.4.0-20261101.080900-3", To: "1.4.0"}
var fares = ecosystem.Stamp{Namespace: berth, Name: "fare-engine", From: "2.0.0-SNAPSHOT", To: "2.0.0"}

const plannerPOM = "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\r\n" +
	"<!-- version 1.4.0-SNAPSHOT is spoken of here -->\r\n<project>\n" +
	"  <parent><groupId>example.skerry.berth</groupId><artifactId>tide-model</artifactId>\n" +
	"    <version> 1.4.0-SNAPSHOT </version></parent>\n" +
	"  <artifactId>berth-planner</artifactId><version>1.4.0-SNAPSHOT</version>\n" +
	"  <name>Kai \xe9 1.4.0-SNAPSHOT-edition</name>\n" +
	"  <properties><fares>2.0.0-SNAPSHOT</fares><lodestar>1.4.0-SNAPSHOT</lodestar></properties>\n" +
	"  <dependencies>\n" +
	"    <dependency><groupId>${project.groupId}</groupId><artifactId>tide-model</artifactId><version>[1.4.0-SNAPSHOT,2)</version></dependency>\n" +
	"    <dependency><groupId>example.skerry.berth</groupId><artifactId>fare-engine</artifactId><version>${fares}</version></dependency>\n" +
	"    <dependency><groupId>org.openshore</groupId><artifactId>lodestar-json</artifactId><version>${lodestar}</version></dependency>\n" +
	"    <dependency><groupId>org.openshore</groupId><artifactId>brine-http</artifactId><version>1.4.0-SNAPSHOT</version></dependency>\n" +
	"  </dependencies>\n" +
	"  <profiles><profile><dependencyManagement><dependencies><dependency><groupId>example.skerry.berth</groupId><artifactId>tide-model</artifactId>" +
	"<version>1.4.0-20261101.080900-3</version></dependency></dependencies></dependencyManagement>" +
	"</profile></profiles>\n" +
	"</project>\n"

// TestRestampPOM changes what states versions of the build, and not one byte else.
func TestRestampPOM(t *testing.T) {
	f := ecosystem.ToRestamp{SizedReaderAt: ecosystemtest.Bytes([]byte(plannerPOM)), Stamp: planner,
		All:  ecosystem.Stamps{planner, tides, fares},
		File: catalog.File{Name: "berth-planner-1.4.0-20261101.080910-3.pom", Extension: "pom"}}
	edited, changes, obstacles, err := restampPOM(f, []byte(plannerPOM))
	if err != nil || len(obstacles) > 0 {
		t.Fatal(err, obstacles)
	}
	want := plannerPOM
	for _, c := range [][2]string{
		{"<version> 1.4.0-SNAPSHOT </version></parent>", "<version> 1.4.0 </version></parent>"},
		{"<artifactId>berth-planner</artifactId><version>1.4.0-SNAPSHOT<",
			"<artifactId>berth-planner</artifactId><version>1.4.0<"},
		{"<fares>2.0.0-SNAPSHOT<", "<fares>2.0.0<"}, {"[1.4.0-SNAPSHOT,2)", "[1.4.0,2)"},
		{"1.4.0-20261101.080900-3", "1.4.0"}} {
		want = strings.Replace(want, c[0], c[1], 1)
	}
	if string(edited) != want {
		t.Errorf("it became\n%s\ninstead of\n%s", edited, want)
	}
	if len(changes) != 5 {
		t.Errorf("%d changes: %+v", len(changes), changes)
	}
}

// TestRestampProperties that stand for several versions.
func TestRestampProperties(t *testing.T) {
	pom := func(property, dependencies string) string {
		return "<project><groupId>example.skerry.berth</groupId><artifactId>berth-planner</artifactId><version>${revision}</version><properties>" + property + "</properties><dependencies>" + dependencies + "</dependencies></project>"
	}
	on := func(group, artifact, version string) string {
		return "<dependency><groupId>" + group + "</groupId><artifactId>" + artifact + "</artifactId><version>" + version +
			"</version></dependency>"
	}
	other := tides
	other.To = "1.4.1"
	for _, c := range []struct {
		pom      string
		all      ecosystem.Stamps
		want     string // in the result
		obstacle string
	}{
		{pom("<revision>1.4.0-SNAPSHOT</revision>", on(berth, "tide-model", "${revision}")), ecosystem.Stamps{planner, tides},
			"<revision>1.4.0</revision>", ""},
		{pom("<revision>1.4.0-SNAPSHOT</revision>", on(berth, "tide-model", "${revision}")), ecosystem.Stamps{planner, other},
			"<revision>1.4.0-SNAPSHOT</revision>", "become different ones"},
		{pom("<revision>1.4.0-SNAPSHOT</revision>", on("org.openshore", "brine-http", "${revision}")),
			ecosystem.Stamps{planner}, "1.4.0-SNAPSHOT", "brine-http, which is not restamped"},
		{pom("<revision><!-- now -->1.4.0-SNAPSHOT</revision>", ""), ecosystem.Stamps{planner}, "1.4.0-SNAPSHOT",
			"cannot be changed"},
	} {
		edited, _, obstacles, err := restampPOM(ecosystem.ToRestamp{Stamp: planner, All: c.all}, []byte(c.pom))
		if err != nil || !strings.Contains(string(edited), c.want) || (c.obstacle == "") != (len(obstacles) == 0) ||
			c.obstacle != "" && !strings.Contains(obstacles[0].Reason, c.obstacle) {
			t.Errorf("%s: %v, %+v, %v", c.pom, string(edited), obstacles, err)
		}
	}
}

const manifest = "Manifest-Version: 1.0\r\n" +
	"Implementation-Title: the planner of berths, buoys, buoys and other places to stay, old and new\r\n" +
	"Implementation-Version: 1.4.0-SNAPSHOT\r\nBundle-Version: 1.4.0.SNAPSHOT\r\n" +
	"Class-Path: lib/tide-model-1.4.0-SNAPSHOT.jar lib/brine-http-2.1.0.jar lib\r\n /fare-engine-2.0.0-SNAPSHOT.jar\r\n" +
	"\r\n"

// TestRestampManifest unfolds and folds only what it changes.
func TestRestampManifest(t *testing.T) {
	f := ecosystem.ToRestamp{Stamp: planner, All: ecosystem.Stamps{planner, tides, fares}}
	edited, changes := restampManifest(f, []byte(manifest))
	want := "Manifest-Version: 1.0\r\n" +
		"Implementation-Title: the planner of berths, buoys, buoys and other places to stay, old and new\r\n" +
		"Implementation-Version: 1.4.0\r\nBundle-Version: 1.4.0\r\n" +
		"Class-Path: lib/tide-model-1.4.0.jar lib/brine-http-2.1.0.jar lib/fare\r\n -engine-2.0.0.jar\r\n\r\n"
	if string(edited) != want || len(changes) != 3 {
		t.Errorf("%q\ninstead of\n%q\n%+v", edited, want, changes)
	}
	for _, line := range strings.Split(string(edited), "\r\n")[2:] {
		if len(line) > 70 {
			t.Errorf("a line has %d bytes: %s", len(line), line)
		}
	}
}

// TestRestampJar restamps jars with all kinds of things in them: nothing but what
// is planned changes.
func TestRestampJar(t *testing.T) {
	pom := `<project><groupId>example.skerry.berth</groupId><artifactId>berth-planner</artifactId><version>1.4.0-SNAPSHOT</version></project>`
	own := []madeup.Entry{
		{Name: "META-INF/MANIFEST.MF", Content: manifest},
		{Name: "META-INF/maven/example.skerry.berth/berth-planner/pom.xml", Content: pom},
		{Name: "META-INF/maven/example.skerry.berth/berth-planner/pom.properties",
			Content: "#Generated\r\nversion=1.4.0-SNAPSHOT\r\ngroupId=example.skerry.berth\r\n"},
		{Name: "build.properties", Content: "# of 1.4.0 \nplanner.version = 1.4.0-SNAPSHOT\nother=1.4.0\n"},
		{Name: "README.md", Content: "This is 1.4.0-SNAPSHOT.\n"},
	}
	source := rand.NewChaCha8([32]byte{4})
	for round := range 40 {
		entries := append([]madeup.Entry{}, own...)
		for n := range source.Uint64() % 20 {
			content := make([]byte, source.Uint64()%3000)
			_, _ = source.Read(content) // it never fails
			entries = append(entries, madeup.Entry{Name: fmt.Sprintf("example/skerry/Part%d.class", n),
				Content: string(content) + []string{"", "1.4.0-SNAPSHOTS", "\x0e1.4.0.SNAPSHOT", "1.4.0"}[n%4]})
		}
		rand.New(source).Shuffle(len(entries)-1, func(i, j int) { entries[i+1], entries[j+1] = entries[j+1], entries[i+1] })
		r, _ := ecosystemtest.CheckRestamp(t, Maven{},
			ecosystemtest.Restamp{Name: "berth-planner-1.4.0-SNAPSHOT.jar", Content: madeup.Zip(entries...), Stamp: planner,
				All: ecosystem.Stamps{tides, fares}})
		if round == 0 && (len(r.Changes) != 6 || len(r.Mentions) != 1 || r.Name != "berth-planner-1.4.0.jar") {
			t.Errorf("%s: %+v, %v", r.Name, r.Changes, r.Mentions)
		}
	}
	for what, extra := range map[string]madeup.Entry{
		"META-INF/BERTH.SF: the archive is signed": {Name: "META-INF/BERTH.SF", Content: "Signature-Version: 1.0\r\n"},
		"Version.class: it states 1.4.0-SNAPSHOT": {Name: "example/skerry/Version.class",
			Content: "\xca\xfe\xba\xbe\x00\x0e1.4.0-SNAPSHOT\x01"},
		"native.dll: it states 1.4.0-SNAPSHOT": {Name: "native.dll",
			Content: "M\x001\x00.\x004\x00.\x000\x00-\x00S\x00N\x00A\x00P\x00S\x00H\x00O\x00T\x00\x00\x00"},
		"tide-model-1.4.0-SNAPSHOT.jar: its name states": {Name: "lib/tide-model-1.4.0-SNAPSHOT.jar", Content: "nested"},
		"late.class: it states 1.4.0-SNAPSHOT": {Name: "late.class", Content: strings.Repeat("x", 64<<10-5) +
			"1.4.0-SNAPSHOT"},
	} {
		ecosystemtest.CheckRestamp(t, Maven{}, ecosystemtest.Restamp{Name: "berth-planner-1.4.0-SNAPSHOT.jar",
			Content: madeup.Zip(append(own, extra)...), Stamp: planner,
			All: ecosystem.Stamps{tides, fares}, Obstacles: []string{what}})
	}
	script := append([]byte("#!/bin/sh\nexec java -jar $0\n"), madeup.Zip(own...)...)
	if _, err := (Maven{}).Restamp(t.Context(), ecosystem.ToRestamp{SizedReaderAt: ecosystemtest.Bytes(script),
		Stamp: planner, All: ecosystem.Stamps{planner}, File: catalog.File{Extension: "jar"}}); err == nil {
		t.Error("a jar with a script before it was restamped")
	}
}

// TestRestampModule changes Gradle's module metadata, with the digests of the new
// files.
func TestRestampModule(t *testing.T) {
	const module = `{
  "formatVersion": "1.1",
  "component": { "group": "example.skerry.berth", "module": "berth-planner", "version": "1.4.0-SNAPSHOT" },
  "variants": [ { "name": "api",
      "dependencies": [ { "group": "example.skerry.berth", "module": "tide-model", "version": { "requires": "1.4.0-SNAPSHOT" } },
                        { "group": "org.openshore", "module": "brine-http", "version": { "requires": "1.4.0-SNAPSHOT" } } ],
      "files": [ { "name": "berth-planner-1.4.0-SNAPSHOT.jar", "url": "berth-planner-1.4.0-20261101.080910-3.jar", "size": 99, "sha256": "00" } ] } ]
}`
	f := ecosystem.ToRestamp{SizedReaderAt: ecosystemtest.Bytes([]byte(module)), Stamp: planner,
		All: ecosystem.Stamps{planner, tides}, File: catalog.File{Extension: "module"}}
	r, err := (Maven{}).Restamp(t.Context(), f)
	if err != nil || !r.Late || len(r.Changes) != 6 {
		t.Fatalf("%+v, %v", r, err)
	}
	var b strings.Builder
	var asked []string
	if err := r.WriteTo(&b, func(name string) (catalog.Digests, bool) {
		asked = append(asked, name)
		return catalog.Digests{Size: 1234, SHA256: [32]byte{0xab}}, true
	}); err != nil {
		t.Fatal(err)
	}
	want := strings.NewReplacer(`"berth-planner", "version": "1.4.0-SNAPSHOT"`, `"berth-planner", "version": "1.4.0"`,
		`"tide-model", "version": { "requires": "1.4.0-SNAPSHOT"`, `"tide-model", "version": { "requires": "1.4.0"`,
		"berth-planner-1.4.0-SNAPSHOT.jar", "berth-planner-1.4.0.jar", "berth-planner-1.4.0-20261101.080910-3.jar",
		"berth-planner-1.4.0.jar", "99", "1234", `"00"`, `"ab`+strings.Repeat("0", 62)+`"`).Replace(module)
	if b.String() != want || asked[0] != "berth-planner-1.4.0.jar" {
		t.Errorf("%s\ninstead of\n%s", b.String(), want)
	}
}

// TestRestampBeside: what stands beside a jar.
func TestRestampBeside(t *testing.T) {
	for extension, dropped := range map[string]bool{"jar.asc": true, "txt": false} {
		r, err := (Maven{}).Restamp(t.Context(), ecosystem.ToRestamp{SizedReaderAt: ecosystemtest.Bytes([]byte("x")),
			Stamp: planner, All: ecosystem.Stamps{planner}, File: catalog.File{Extension: extension}})
		if err != nil || (r.Dropped != "") != dropped || r.Name != "berth-planner-1.4.0."+extension || r.WriteTo != nil {
			t.Errorf("%s: %+v, %v", extension, r, err)
		}
	}
}

func FuzzRestampPOM(f *testing.F) {
	f.Add([]byte(plannerPOM))
	f.Add([]byte("<project><version>1.4.0-SNAPSHOT</version></project>"))
	f.Add([]byte("<project><parent><version/></parent><properties><a>1.4.0-SNAPSHOT</a></properties></project>"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		edited, changes, _, err := restampPOM(ecosystem.ToRestamp{Stamp: planner,
			All: ecosystem.Stamps{planner, tides, fares}}, raw)
		if err == nil && len(changes) == 0 && string(edited) != string(raw) {
			t.Errorf("%q became %q without a change", raw, edited)
		}
	})
}
