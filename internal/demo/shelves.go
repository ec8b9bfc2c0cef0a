package demo

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"crelvo/internal/ecosystem/madeup"
)

// Here stands in Files for the address of the stand-in that has them.
const Here = "http://here.example/"

// Shelf is made-up packages of one ecosystem, as a stand-in upstream has them,
// below a folder with a slash at its end.
type Shelf func(folder string, packages ...madeup.Package) Files

// Shelves are by ecosystem.
var Shelves = map[string]Shelf{"npm": npmShelf, "pypi": pypiShelf, "nuget": nugetShelf, "cargo": cargoShelf,
	"oci": imageShelf, "helm": chartShelf}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err) // plain values can be written
	}
	return v
}

// byName groups packages, each in the order that they were given in.
func byName(packages []madeup.Package) map[string][]madeup.Package {
	groups := map[string][]madeup.Package{}
	for _, p := range packages {
		groups[p.Name] = append(groups[p.Name], p)
	}
	return groups
}

func npmShelf(folder string, packages ...madeup.Package) Files {
	files := Files{}
	for name, all := range byName(packages) {
		versions, times := map[string]any{}, map[string]string{}
		latest := ""
		for i, p := range all {
			tarball := p.NPM()
			at := name + "/-/" + path.Base(name) + "-" + p.Version + ".tgz"
			files[folder+at] = tarball
			var manifest map[string]any
			if err := json.Unmarshal(p.Manifest(), &manifest); err != nil {
				panic(err) // it was just written
			}
			sum := sha512.Sum512(tarball)
			manifest["dist"] = map[string]any{"tarball": Here + folder + at, "integrity": "sha512-" +
				base64.StdEncoding.EncodeToString(sum[:])}
			if p.Author != "" {
				var people []map[string]string
				for who := range strings.SplitSeq(p.Author, ", ") {
					people = append(people, map[string]string{"name": who})
				}
				manifest["maintainers"], manifest["_npmUser"] = people, people[len(people)-1]
			}
			versions[p.Version] = manifest
			times[p.Version] = fmt.Sprintf("2026-0%d-01T08:00:00.000Z", i%9+1)
			if !p.Published.IsZero() {
				times[p.Version] = p.Published.UTC().Format(time.RFC3339)
			}
			latest = p.Version
		}
		files[folder+name] = must(json.Marshal(map[string]any{"_id": name, "name": name,
			"dist-tags": map[string]string{"latest": latest},
			"versions":  versions, "time": times}))
	}
	return files
}

func pypiShelf(folder string, packages ...madeup.Package) Files {
	files := Files{}
	for name, all := range byName(packages) {
		var page strings.Builder
		page.WriteString("<!DOCTYPE html><html><body>\n")
		for _, p := range all {
			for _, f := range []struct {
				name    string
				content []byte
			}{{p.WheelName(), p.Wheel()}, {p.SdistName(), p.Sdist()}} {
				sum := sha256.Sum256(f.content)
				files[folder+"files/"+f.name] = f.content
				extra := ""
				if strings.HasSuffix(f.name, ".whl") {
					metadata := sha256.Sum256([]byte(p.Metadata()))
					files[folder+"files/"+f.name+".metadata"] = []byte(p.Metadata())
					extra = ` data-core-metadata="sha256=` + hex.EncodeToString(metadata[:]) + `"`
				}
				fmt.Fprintf(&page, "<a href=\"../../files/%s#sha256=%x\" data-requires-python=\"&gt;=3.8\"%s>%s</a><br>\n", f.name,
					sum, extra, f.name)
			}
		}
		files[folder+"simple/"+name+"/"] = []byte(page.String() + "</body></html>\n")
	}
	return files
}

func nugetShelf(folder string, packages ...madeup.Package) Files {
	files := Files{folder + "index.json": must(json.Marshal(map[string]any{"version": "3.0.0",
		"resources": []map[string]string{
			{"@id": Here + folder + "registration/", "@type": "RegistrationsBaseUrl/3.6.0"},
			{"@id": Here + folder + "flat/", "@type": "PackageBaseAddress/3.0.0"}}}))}
	for name, all := range byName(packages) {
		id := strings.ToLower(name)
		var leaves []any
		for _, p := range all {
			at := "flat/" + id + "/" + p.Version + "/" + id + "." + p.Version + ".nupkg"
			files[folder+at] = p.NuGet()
			var needs []any
			for _, need := range slices.Sorted(maps.Keys(p.Needs)) {
				needs = append(needs, map[string]string{"id": need, "range": p.Needs[need]})
			}
			leaves = append(leaves, map[string]any{"packageContent": Here + folder + at,
				"catalogEntry": map[string]any{"id": p.Name, "version": p.Version,
					"authors": p.Author, "description": p.Description, "licenseExpression": p.Licence, "listed": true,
					"published":        "2026-08-01T08:00:00Z",
					"dependencyGroups": []any{map[string]any{"targetFramework": "net45", "dependencies": needs}}}})
		}
		files[folder+"registration/"+id+"/index.json"] = must(json.Marshal(map[string]any{"count": 1, "items": []any{
			map[string]any{"@id": Here + folder + "registration/" + id + "/index.json#page", "count": len(leaves),
				"lower": all[0].Version, "upper": all[len(all)-1].Version, "items": leaves}}}))
	}
	return files
}

func cargoShelf(folder string, packages ...madeup.Package) Files {
	files := Files{folder + "config.json": must(json.Marshal(map[string]string{"dl": Here + folder +
		"crates/{crate}/{crate}-{version}.crate"}))}
	for name, all := range byName(packages) {
		var index strings.Builder
		for _, p := range all {
			crate := p.Cargo("")
			files[folder+"crates/"+name+"/"+name+"-"+p.Version+".crate"] = crate
			needs := []map[string]any{}
			for _, need := range slices.Sorted(maps.Keys(p.Needs)) {
				needs = append(needs, map[string]any{"name": need, "req": p.Needs[need], "features": []string{}, "optional": false,
					"default_features": true, "target": nil, "kind": "normal"})
			}
			sum := sha256.Sum256(crate)
			index.Write(must(json.Marshal(map[string]any{"name": name, "vers": p.Version, "deps": needs,
				"cksum": hex.EncodeToString(sum[:]), "features": map[string]any{}, "yanked": false})))
			index.WriteByte('\n')
		}
		files[folder+name[:2]+"/"+name[2:4]+"/"+name] = []byte(index.String()) // no name here is shorter
	}
	return files
}

// chartShelf is a repository of charts, whose index is written as helm writes it.
func chartShelf(folder string, packages ...madeup.Package) Files {
	files := Files{}
	var index strings.Builder
	index.WriteString("apiVersion: v1\nentries:\n")
	groups := byName(packages)
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		index.WriteString("  " + name + ":\n")
		for _, p := range slices.Backward(groups[name]) {
			chart := p.Chart()
			at := "charts/" + name + "-" + p.Version + ".tgz"
			files[folder+at] = chart
			said := strings.ReplaceAll(strings.TrimSpace(p.ChartYAML()), "\n", "\n    ")
			fmt.Fprintf(&index, "  - %s\n    created: \"2026-08-01T08:00:00Z\"\n    digest: %s\n    urls:\n    - %s\n", said,
				strings.TrimPrefix(madeup.Digest(chart), "sha256:"), at)
		}
	}
	index.WriteString("generated: \"2026-08-01T08:00:00Z\"\n")
	files[folder+"index.yaml"] = []byte(index.String())
	return files
}

// shoreShelves is what the public sources of the scenario have besides Maven
// packages. The last of each has a name of the house, and a higher version.
var shoreShelves = map[string][]madeup.Package{
	"npm": {
		{Name: "kelp-colors", Version: "3.0.0", Description: "Colours of the shallows", Licence: "MIT", Author: "Open Shore",
			Readme: "# kelp-colors\n\nGreens and browns.\n"},
		{Name: "kelp-colors", Version: "3.1.0", Description: "Colours of the shallows", Licence: "MIT", Author: "Open Shore",
			Readme: "# kelp-colors\n\nGreens, browns, and some red.\n"},
		{Name: "fathom-format", Version: "1.2.0", Description: "Writes depths", Licence: "ISC", Author: "Open Shore",
			Readme: "# fathom-format\n"},
		{Name: "kelp-colours", Version: "3.1.1", Description: "Colours of the shallows", Licence: "MIT"},
		{Name: "@skerry/deck-ui", Version: "99.0.0", Description: "Not the one you are looking for", Licence: "unknown"},
	},
	"pypi": {
		{Name: "soundings", Version: "2.3.0", Description: "Depths from echoes", Licence: "BSD-3-Clause",
			Author: "Open Shore", Readme: "# soundings\n"},
		{Name: "soundings", Version: "2.4.0", Description: "Depths from echoes", Licence: "BSD-3-Clause",
			Author: "Open Shore", Readme: "# soundings\n"},
		{Name: "moonphase-lite", Version: "0.8.1", Description: "The moon, roughly", Licence: "MIT", Author: "Open Shore",
			Readme: "# moonphase-lite\n"},
		{Name: "tidecast", Version: "99.0.0", Description: "Not the one you are looking for", Licence: "unknown"},
	},
	"nuget": {
		{Name: "Openshore.Serial", Version: "2.0.0", Description: "Serial ports that stay open", Licence: "MIT",
			Author: "Open Shore"},
		{Name: "Openshore.Serial", Version: "2.1.0", Description: "Serial ports that stay open", Licence: "MIT",
			Author: "Open Shore"},
		{Name: "Skerry.TurnstileLink", Version: "99.0.0", Description: "Not the one you are looking for", Licence: "unknown"},
	},
	"oci": {
		named("openshore/minimal", minimal("1.0.0")), named("openshore/minimal", minimal("1.1.0")),
		{Name: "berth-planner", Version: "99.0.0", Description: "Not the one you are looking for", Licence: "unknown"},
	},
	"helm": {
		{Name: "tide-gauge", Version: "2.0.0", Description: "Shows how high the water stands", Licence: "Apache-2.0",
			Author: "Open Shore", Homepage: "https://openshore.example/tide-gauge", Readme: "# tide-gauge\n"},
		{Name: "tide-gauge", Version: "2.1.0", Description: "Shows how high the water stands", Licence: "Apache-2.0",
			Author: "Open Shore", Homepage: "https://openshore.example/tide-gauge", Readme: "# tide-gauge\n\nNow in fathoms.\n"},
		{Name: "gangway", Version: "99.0.0", Description: "Not the one you are looking for", Licence: "unknown"},
	},
	"cargo": {
		{Name: "brine-codec", Version: "0.3.0", Description: "Packs what sensors under water say", Licence: "MIT",
			Readme: "# brine-codec\n"},
		{Name: "brine-codec", Version: "0.3.1", Description: "Packs what sensors under water say", Licence: "MIT",
			Readme: "# brine-codec\n"},
		{Name: "hull-sensor", Version: "99.0.0", Description: "Not the one you are looking for", Licence: "unknown"},
	},
}

// named is a package under another name.
func named(name string, p madeup.Package) madeup.Package {
	p.Name = name
	return p
}

// ShoreAll is the content of all public sources of the scenario: the Maven
// repository at the root, the others in folders named after their ecosystems.
func ShoreAll() (Files, error) {
	files, err := ShoreMaven()
	for ecosystem, packages := range shoreShelves {
		if ecosystem == "npm" {
			packages = slices.Concat(packages, vettedShelf(time.Now()))
		}
		maps.Copy(files, Shelves[ecosystem](ecosystem+"/", packages...))
	}
	if err != nil {
		return nil, err
	}
	for _, what := range []string{"debuginfo", "executable"} {
		files["symbols/buildid/"+brineID+"/"+what] = madeup.ELF(brineID, what == "executable", what == "debuginfo")
	}
	said, err := advisoryShelf(Advisories + "/")
	maps.Copy(files, said)
	return files, err
}

// brineID is the build id of a library of the shore's, whose symbols are there alone.
const brineID = "b51e0c0de5a17b51e0c0de5a17b51e0c0de5a17b"

// ShorePaths is where the public source of an ecosystem is below the stand-in.
var ShorePaths = map[string]string{"maven": "", "npm": "npm/", "pypi": "pypi/simple/", "nuget": "nuget/",
	"cargo": "cargo/", "oci": "oci/v2/", "helm": "helm/", "symbols": "symbols/"}

// imageShelf has each package as an image for two platforms, with its version as the tag.
func imageShelf(folder string, packages ...madeup.Package) Files {
	files := Files{}
	for name, all := range byName(packages) {
		at := folder + "v2/" + name + "/"
		var tags []string
		put := func(i madeup.Image, tag string) {
			for sum, content := range i.Blobs {
				files[at+"blobs/"+sum] = content
			}
			files[at+"manifests/"+madeup.Digest(i.Manifest)] = i.Manifest
			if tag != "" {
				files[at+"manifests/"+tag] = i.Manifest
				tags = append(tags, tag)
			}
		}
		for _, p := range all {
			plain := p
			plain.Name = path.Base(p.Name)
			amd, arm := plain.Image("linux/amd64", nil), plain.Image("linux/arm64", nil)
			put(amd, "")
			put(arm, "")
			put(plain.Index(amd, arm), p.Version)
		}
		files[at+"tags/list"] = must(json.Marshal(map[string]any{"name": name, "tags": tags}))
	}
	return files
}
