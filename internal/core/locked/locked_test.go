package locked

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

const npmThree = `{"name": "ferry", "lockfileVersion": 3, "packages": {
 "": {"name": "ferry", "version": "1.0.0"},
 "node_modules/kelp-colors": {"version": "1.2.0", "resolved": "https://shore.example/kelp-colors-1.2.0.tgz"},
 "node_modules/@skerry/deck-ui": {"version": "2.0.0"},
 "node_modules/kelp-colors/node_modules/wrack": {"version": "0.1.0"},
 "node_modules/alias": {"name": "tide", "version": "3.0.0"},
 "node_modules/part": {"resolved": "parts/one", "link": true}, "parts/one": {"version": "1.0.0"}}}`

const npmOne = `{"lockfileVersion": 1, "dependencies": {"kelp-colors": {"version": "1.2.0",
 "dependencies": {"wrack": {"version": "0.1.0"}}},
 "alias": {"version": "npm:@skerry/tide@3.0.0"},
 "source": {"version": "git+https://shore.example/source.git#abc"}}}`

const pnpmNine = `lockfileVersion: '9.0'
packages:
  '@skerry/deck-ui@2.0.0':
    resolution: {integrity: sha512-x}
  kelp-colors@1.2.0(wrack@0.1.0):
    resolution: {integrity: sha512-x}
  local@file:../local:
    resolution: {directory: ../local, type: directory}
`

const pnpmFive = `lockfileVersion: 5.4
packages:
  /@skerry/deck-ui/2.0.0_kelp-colors@1.2.0:
    resolution: {integrity: sha512-x}
  /kelp-colors/1.2.0:
    resolution: {integrity: sha512-x}
`

const yarnOne = `# yarn lockfile v1


"@skerry/deck-ui@^2.0.0", "@skerry/deck-ui@~2.0.0":
  version "2.0.0"
  resolved "https://shore.example/deck-ui-2.0.0.tgz#abc"
  dependencies:
    kelp-colors "^1.0.0"

kelp-colors@^1.0.0:
  version "1.2.0"
`

const yarnTwo = `__metadata:
  version: 8
  cacheKey: 10

"@skerry/deck-ui@npm:^2.0.0":
  version: 2.0.0
  resolution: "@skerry/deck-ui@npm:2.0.0"
  dependencies:
    kelp-colors: "npm:^1.0.0"

"ferry@workspace:.":
  version: 0.0.0-use.local

"short@npm:tide@^3.0.0":
  version: 3.0.0
`

const requirements = `# made by hand
soundings==2.4.0 \
    --hash=sha256:abc
moonphase_lite[phases] == 0.8.1 ; python_version > "3.8"
unpinned>=1.0
-r more.txt
`

const poetry = `[[package]]
name = "soundings"
version = "2.4.0"

[[package]]
name = "moonphase-lite"
version = "0.8.1"

[[package]]
name = "ours"
version = "1.0.0"
source = {type = "directory", url = "../ours"}
`

const pipfile = `{"_meta": {"hash": {}}, "default": {"soundings": {"version": "==2.4.0"}, "odd": "*"},
 "develop": {"moonphase-lite": {"version": "==0.8.1"}}}`

const nugetLock = `{"version": 1, "dependencies": {"net8.0": {
 "Openshore.Serial": {"type": "Direct", "requested": "[2.1.0, )", "resolved": "2.1.0"},
 "ferry": {"type": "Project"}}}}`

const cargoLock = `version = 4

[[package]]
name = "ferry"
version = "0.1.0"

[[package]]
name = "brine-codec"
version = "0.3.0"
source = "sparse+https://shore.example/"

[[package]]
name = "brine-codec"
version = "0.2.0"
source = "registry+https://shore.example/index"
`

const goSum = `example.com/tide v1.2.0 h1:abc=
example.com/tide v1.2.0/go.mod h1:def=
example.com/moon/v2 v2.0.0/go.mod h1:ghi=
`

const mavenTree = `example.skerry:ferry:jar:1.0
+- org.openshore:brine-http:jar:2.1.0:compile
|  \- org.openshore:brine-core:jar:2.0.0:runtime
+- org.openshore:native:jar:linux:1.1:provided
\- (org.openshore:brine-core:jar:1.0.0:compile - omitted for conflict with 2.0.0)
`

const cyclonedx = `{"bomFormat": "CycloneDX", "specVersion": "1.6", "components": [
 {"type": "library", "name": "kelp-colors", "purl": "pkg:npm/kelp-colors@1.2.0?vcs_url=x",
  "components": [{"type": "library", "purl": "pkg:npm/%40skerry/deck-ui@2.0.0"}]},
 {"type": "file", "name": "x"}]}`

const cyclonedXML = `<?xml version="1.0" encoding="UTF-8"?>
<bom xmlns="http://cyclonedx.org/schema/bom/1.6" version="1">
  <metadata><component type="application"><purl>pkg:npm/ferry@1.0.0</purl></component></metadata>
  <components>
    <component type="library"><name>kelp-colors</name><purl>pkg:npm/kelp-colors@1.2.0</purl><components>
      <component type="library"><purl> pkg:npm/%40skerry/deck-ui@2.0.0 </purl></component></components></component>
    <component type="file"><purl>no purl</purl></component>
  </components>
</bom>`

const spdxText = `SPDXVersion: SPDX-2.3
PackageName: kelp-colors
PackageComment: ExternalRef is below
ExternalRef: PACKAGE-MANAGER purl pkg:npm/kelp-colors@1.2.0
ExternalRef: PACKAGE_MANAGER purl nothing
`

const spdx = `{"spdxVersion": "SPDX-2.3", "packages": [{"name": "kelp-colors", "externalRefs": [
 {"referenceType": "cpe23Type", "referenceLocator": "cpe:x"},
 {"referenceType": "purl", "referenceLocator": "pkg:npm/kelp-colors@1.2.0"}]}]}`

// TestRead has a file of each kind, of each form that it comes in.
func TestRead(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"package-lock.json", npmThree, "npm/@skerry/deck-ui@2.0.0:4 npm/kelp-colors@1.2.0:3 npm/tide@3.0.0:6 npm/wrack@0.1.0:5"},
		{"npm-shrinkwrap.json", npmOne, "npm/@skerry/tide@3.0.0:3 npm/kelp-colors@1.2.0:1 npm/wrack@0.1.0:2"},
		{"pnpm-lock.yaml", pnpmNine, "npm/@skerry/deck-ui@2.0.0:3 npm/kelp-colors@1.2.0:5"},
		{"web/pnpm-lock.yaml", pnpmFive, "npm/@skerry/deck-ui@2.0.0:3 npm/kelp-colors@1.2.0:5"},
		{"yarn.lock", yarnOne, "npm/@skerry/deck-ui@2.0.0:5 npm/kelp-colors@1.2.0:11"},
		{"yarn.lock", yarnTwo, "npm/@skerry/deck-ui@2.0.0:6 npm/tide@3.0.0:15"},
		{"requirements-dev.txt", requirements, "pypi/moonphase-lite@0.8.1:4 pypi/soundings@2.4.0:2"},
		{"poetry.lock", poetry, "pypi/moonphase-lite@0.8.1:6 pypi/soundings@2.4.0:2"},
		{"Pipfile.lock", pipfile, "pypi/moonphase-lite@0.8.1:2 pypi/soundings@2.4.0:1"},
		{"packages.lock.json", nugetLock, "nuget/openshore.serial@2.1.0:2"},
		{"Cargo.lock", cargoLock, "cargo/brine-codec@0.2.0:14 cargo/brine-codec@0.3.0:9"},
		{"go.sum", goSum, "golang/example.com/tide@v1.2.0:1"},
		{"target/dependency-tree.txt", mavenTree,
			"maven/org.openshore/brine-core@2.0.0:3 maven/org.openshore/brine-http@2.1.0:2 maven/org.openshore/native@1.1:4"},
		{"whatever.txt", mavenTree,
			"maven/org.openshore/brine-core@2.0.0:3 maven/org.openshore/brine-http@2.1.0:2 maven/org.openshore/native@1.1:4"},
		{"ferry.cdx.json", cyclonedx, "npm/@skerry/deck-ui@2.0.0:3 npm/kelp-colors@1.2.0:2"},
		{"sbom.json", cyclonedx, "npm/@skerry/deck-ui@2.0.0:3 npm/kelp-colors@1.2.0:2"},
		{"bom.xml", cyclonedXML, "npm/@skerry/deck-ui@2.0.0:6 npm/kelp-colors@1.2.0:5"},
		{"what.xml", cyclonedXML, "npm/@skerry/deck-ui@2.0.0:6 npm/kelp-colors@1.2.0:5"},
		{"ferry.spdx", spdxText, "npm/kelp-colors@1.2.0:4"},
		{"sbom.txt", spdxText, "npm/kelp-colors@1.2.0:4"},
		{"sbom.json", spdx, "npm/kelp-colors@1.2.0:3"},
	} {
		all, what, err := Read(c.name, []byte(c.text))
		if err != nil || what == "" {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var got []string
		for _, p := range all {
			got = append(got, fmt.Sprintf("%s:%d", strings.TrimPrefix(p.PURL.Typed(), "pkg:"), p.Line))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s has\n%s, not\n%s", c.name, strings.Join(got, " "), c.want)
		}
	}
	for name, text := range map[string]string{"notes.txt": "nothing", "package-lock.json": "{}", "Cargo.lock": "[[",
		"pnpm-lock.yaml": "a: b", "yarn.lock": "kelp@1:\n", "bom.json": `{"bomFormat": "other"}`, "x.spdx.json": "{}",
		"x.spdx": "SPDXVersion: 3", "bom.xml": "<other/>", "y.cdx.xml": "",
		"dependency-tree.txt": "nothing", "packages.lock.json": "{}", "Pipfile.lock": "[]"} {
		if all, _, err := Read(name, []byte(text)); err == nil {
			t.Errorf("%s is read as %v", name, all)
		}
	}
	if !Known("app/yarn.lock") || Known("app/yarn.lock.bak") || len(Forms()) != len(forms) {
		t.Error("the names are not known")
	}
}

// TestLinesAreBounded: a file in the worst order is read as quickly as any.
func TestLinesAreBounded(t *testing.T) {
	var b strings.Builder
	b.WriteString(`{"lockfileVersion": 3, "packages": {`)
	const n = 20_000
	for i := n; i > 0; i-- {
		fmt.Fprintf(&b, "\"node_modules/kelp-%06d\": {\"version\": \"1.0.0\"},\n", i)
	}
	b.WriteString(`"": {}}}`)
	begun := time.Now()
	all, _, err := Read("package-lock.json", []byte(b.String()))
	if took := time.Since(begun); err != nil || len(all) != n || took > 5*time.Second {
		t.Errorf("%d packages, %v, in %v", len(all), err, took)
	}
}

func FuzzRead(f *testing.F) {
	for name, text := range map[string]string{"package-lock.json": npmThree, "pnpm-lock.yaml": pnpmNine,
		"yarn.lock":        yarnTwo,
		"requirements.txt": requirements, "poetry.lock": poetry, "Cargo.lock": cargoLock, "x.txt": mavenTree,
		"x.json": spdx, "x.xml": cyclonedXML, "x.spdx": spdxText} {
		f.Add(name, []byte(text))
	}
	f.Fuzz(func(t *testing.T, name string, raw []byte) {
		all, _, err := Read(name, raw)
		if err != nil {
			return
		}
		for _, p := range all {
			if p.PURL.Version == "" || p.Line < 0 || p.Line > 1+strings.Count(string(raw), "\n") {
				t.Errorf("%+v of %q", p, raw)
			}
		}
	})
}
