package locked

import (
	"encoding/json"
	"errors"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// pinned is a requirement that names one version (PEP 508, with the arbitrary and exact
// operators of PEP 440).
var pinned = regexp.MustCompile(`^([A-Za-z0-9][A-Za-z0-9._-]*)\s*(?:\[[^\]]*\])?\s*===?\s*([A-Za-z0-9.!+_-]+)`)

func readRequirements(raw []byte, found *found) error {
	line := 0
	for text := range strings.Lines(string(raw)) {
		line++
		m := pinned.FindStringSubmatch(strings.TrimSpace(text))
		if m == nil {
			continue
		}
		before := len(found.all)
		if err := found.add("pypi", m[1], m[2]); err != nil {
			return err
		}
		if len(found.all) > before {
			found.all[before].Line = line
		}
	}
	return nil
}

// lockedTOML are the packages of a lock file in TOML.
type lockedTOML struct {
	Package []struct {
		Name    string `toml:"name"`
		Version string `toml:"version"`
		Source  any    `toml:"source"`
	} `toml:"package"`
}

func readPythonLock(raw []byte, found *found) error {
	var lock lockedTOML
	if err := toml.Unmarshal(raw, &lock); err != nil {
		return err
	}
	for _, p := range lock.Package {
		if source, ok := p.Source.(map[string]any); ok && (source["virtual"] != nil || source["editable"] != nil ||
			source["directory"] != nil || source["type"] == "directory" || source["type"] == "git") {
			continue // it is the project itself, or not a package
		}
		if err := found.add("pypi", p.Name, p.Version, `name = "`+p.Name+`"`); err != nil {
			return err
		}
	}
	return nil
}

func readPipfile(raw []byte, found *found) error {
	var lock map[string]map[string]json.RawMessage
	if err := json.Unmarshal(raw, &lock); err != nil {
		return err
	}
	for _, group := range slices.Sorted(maps.Keys(lock)) {
		if group == "_meta" {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(lock[group])) {
			var p struct {
				Version string `json:"version"`
			}
			if json.Unmarshal(lock[group][name], &p) != nil {
				continue
			}
			if err := found.add("pypi", name, strings.TrimLeft(p.Version, "="), `"`+name+`"`); err != nil {
				return err
			}
		}
	}
	return nil
}

// readNuGet reads a packages.lock.json
// (https://learn.microsoft.com/nuget/consume-packages/package-references-in-project-files).
func readNuGet(raw []byte, found *found) error {
	var lock struct {
		Dependencies map[string]map[string]struct {
			Type     string `json:"type"`
			Resolved string `json:"resolved"`
		} `json:"dependencies"`
	}
	if err := json.Unmarshal(raw, &lock); err != nil {
		return err
	}
	if lock.Dependencies == nil {
		return errors.New("it has no dependencies")
	}
	for _, framework := range slices.Sorted(maps.Keys(lock.Dependencies)) {
		for _, name := range slices.Sorted(maps.Keys(lock.Dependencies[framework])) {
			d := lock.Dependencies[framework][name]
			if d.Type == "Project" {
				continue
			}
			if err := found.add("nuget", name, d.Resolved, `"`+name+`"`); err != nil {
				return err
			}
		}
	}
	return nil
}

func readCargo(raw []byte, found *found) error {
	var lock lockedTOML
	if err := toml.Unmarshal(raw, &lock); err != nil {
		return err
	}
	for _, p := range lock.Package {
		source, _ := p.Source.(string)
		if !strings.HasPrefix(source, "registry+") && !strings.HasPrefix(source, "sparse+") {
			continue // part of the workspace, or from a repository of source code
		}
		if err := found.add("cargo", p.Name, p.Version, `name = "`+p.Name+`"`, `version = "`+p.Version+`"`); err != nil {
			return err
		}
	}
	return nil
}

// readGoSum reads lines of a module, its version and its sum; those about a go.mod alone are no
// module that is used (https://go.dev/ref/mod#go-sum-files).
func readGoSum(raw []byte, found *found) error {
	for text := range strings.Lines(string(raw)) {
		fields := strings.Fields(text)
		if len(fields) != 3 || strings.HasSuffix(fields[1], "/go.mod") {
			continue
		}
		if err := found.add("golang", fields[0], fields[1], fields[0]+" "+fields[1]); err != nil {
			return err
		}
	}
	return nil
}

// mavenLine is a line of dependency:tree or dependency:list:
// group:artifact:type[:classifier]:version:scope.
var mavenLine = regexp.MustCompile(`(?m)(?:^|[\s|+\\-])([A-Za-z0-9_.-]+):([A-Za-z0-9_.-]+):(?:[A-Za-z0-9_-]+):` +
	`(?:[A-Za-z0-9_.-]+:)?([A-Za-z0-9_.+-]+):(compile|runtime|test|provided|system|import)\b`)

func readMaven(raw []byte, found *found) error {
	any := false
	line := 0
	for text := range strings.Lines(string(raw)) {
		line++
		m := mavenLine.FindStringSubmatch(text)
		if m == nil || strings.Contains(text, "omitted for") {
			continue
		}
		any = true
		before := len(found.all)
		if err := found.add("maven", m[1]+":"+m[2], m[3]); err != nil {
			return err
		}
		if len(found.all) > before {
			found.all[before].Line = line
		}
	}
	if !any {
		return errors.New("it has no line of group:artifact:type:version:scope; mvn dependency:tree -DoutputFile=FILE writes such")
	}
	return nil
}
