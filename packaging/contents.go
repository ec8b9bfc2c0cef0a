package main

import (
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/CycloneDX/cyclonedx-go"
)

// contents writes what a program consists of, as a CycloneDX document (an SBOM): the modules
// that the compiler says it took, and the console's packages.
func (m making) contents(program, into string) error {
	is, err := buildinfo.ReadFile(program)
	if err != nil {
		return err
	}
	component := func(kind, name, version string) cyclonedx.Component {
		at := "pkg:" + kind + "/" + strings.ReplaceAll(name, "@", "%40") + "@" + version
		return cyclonedx.Component{Type: cyclonedx.ComponentTypeLibrary, BOMRef: at, PackageURL: at, Name: name,
			Version: version}
	}
	itself := component("generic", "crelvo", m.number())
	itself.Type = cyclonedx.ComponentTypeApplication
	all := []cyclonedx.Component{component("golang", "stdlib", strings.TrimPrefix(is.GoVersion, "go"))}
	for _, module := range is.Deps {
		if module.Replace != nil {
			module = module.Replace
		}
		all = append(all, component("golang", module.Path, module.Version))
	}
	console, err := m.console()
	if err != nil {
		return err
	}
	for _, p := range console {
		all = append(all, component("npm", p.name, p.version))
	}
	document := cyclonedx.NewBOM()
	document.Metadata = &cyclonedx.Metadata{Timestamp: m.at.Format("2006-01-02T15:04:05Z"), Component: &itself}
	document.Components = &all
	parts := make([]string, 0, len(all))
	for _, c := range all {
		parts = append(parts, c.BOMRef)
	}
	document.Dependencies = &[]cyclonedx.Dependency{{Ref: itself.BOMRef, Dependencies: &parts}}
	file, err := os.Create(into)
	if err != nil {
		return err
	}
	if err := cyclonedx.NewBOMEncoder(file, cyclonedx.BOMFileFormatJSON).SetPretty(true).Encode(document); err != nil {
		file.Close()
		return err
	}
	return file.Close()
}

type npmPackage struct{ name, version string }

// console are the packages that the console is built from, and not those that build it.
func (m making) console() (all []npmPackage, err error) {
	raw, err := os.ReadFile(filepath.Join(m.root, "console", "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version string
			Dev     bool
		}
	}
	if err := json.Unmarshal(raw, &lock); err != nil {
		return nil, fmt.Errorf("package-lock.json: %w", err)
	}
	for path, p := range lock.Packages {
		if at := strings.LastIndex(path, "node_modules/"); at >= 0 && !p.Dev {
			all = append(all, npmPackage{path[at+len("node_modules/"):], p.Version})
		}
	}
	slices.SortFunc(all, func(a, b npmPackage) int {
		return strings.Compare(a.name+" "+a.version, b.name+" "+b.version)
	})
	return slices.Compact(all), nil
}
