package locked

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"crelvo/internal/core/splice"
)

const npm = "npm"

// npmLock is a package-lock.json of any version
// (https://docs.npmjs.com/cli/configuring-npm/package-lock-json).
type npmLock struct {
	Version      int                      `json:"lockfileVersion"`
	Packages     map[string]npmLocked     `json:"packages"`
	Dependencies map[string]npmDependency `json:"dependencies"`
}

type npmLocked struct {
	Name     string `json:"name"` // where it is not that of its folder
	Version  string `json:"version"`
	Resolved string `json:"resolved"`
	Link     bool   `json:"link"`
}

type npmDependency struct {
	Version      string                   `json:"version"`
	Dependencies map[string]npmDependency `json:"dependencies"`
}

func readNPM(raw []byte, found *found) error {
	var lock npmLock
	if err := json.Unmarshal(raw, &lock); err != nil {
		return err
	}
	if lock.Packages == nil && lock.Dependencies == nil && lock.Version == 0 {
		return errors.New("it has neither packages nor dependencies")
	}
	for _, place := range slices.Sorted(maps.Keys(lock.Packages)) {
		p := lock.Packages[place]
		const folder = "node_modules/"
		at := strings.LastIndex(place, folder)
		if at < 0 || p.Link {
			continue // the project itself, or a part of it
		}
		name := place[at+len(folder):]
		if p.Name != "" {
			name = p.Name
		}
		if err := found.add(npm, name, p.Version, `"`+place+`"`); err != nil {
			return err
		}
	}
	if lock.Packages != nil {
		return nil // the older part says the same
	}
	return addNPM(lock.Dependencies, found)
}

func addNPM(all map[string]npmDependency, found *found) error {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		d := all[name]
		version, of := d.Version, name
		if alias, ok := strings.CutPrefix(version, "npm:"); ok {
			of, version = splitAt(alias)
		}
		if !strings.Contains(version, ":") { // else it is an address
			if err := found.add(npm, of, version, `"`+name+`"`); err != nil {
				return err
			}
		}
		if err := addNPM(d.Dependencies, found); err != nil {
			return err
		}
	}
	return nil
}

// splitAt parts name@version.
func splitAt(text string) (name, version string) {
	at := strings.LastIndexByte(text, '@')
	if at <= 0 {
		return text, ""
	}
	return text[:at], text[at+1:]
}

// readPNPM reads the keys of packages: /name/1.0.0, /name@1.0.0 or name@1.0.0, with what they were
// built beside in brackets or after an underscore (https://github.com/pnpm/spec/tree/master/lockfile).
func readPNPM(raw []byte, found *found) error {
	var lock struct {
		Version  any            `json:"lockfileVersion"`
		Packages map[string]any `json:"packages"`
	}
	if err := splice.ReadYAML(raw, &lock); err != nil {
		return err
	}
	if lock.Version == nil {
		return errors.New("it does not say its version")
	}
	older := strings.HasPrefix(fmt.Sprint(lock.Version), "5")
	for _, key := range slices.Sorted(maps.Keys(lock.Packages)) {
		name, version := pnpmKey(key, older)
		if strings.Contains(version, ":") {
			continue
		}
		if err := found.add(npm, name, version, key); err != nil {
			return err
		}
	}
	return nil
}

func pnpmKey(key string, older bool) (name, version string) {
	key, _, _ = strings.Cut(strings.TrimPrefix(key, "/"), "(")
	if !older {
		at := strings.IndexByte(key[min(1, len(key)):], '@') + 1 // one at the beginning is the scope's
		return key[:at], key[min(at+1, len(key)):]
	}
	parts := strings.Split(key, "/")
	last := 1
	if strings.HasPrefix(key, "@") {
		last = 2
	}
	if len(parts) <= last {
		return "", ""
	}
	version, _, _ = strings.Cut(parts[last], "_")
	return strings.Join(parts[:last], "/"), version
}

// yarnEntry begins an entry of a yarn.lock: one or more descriptors, and a colon.
var yarnEntry = regexp.MustCompile(`^"?((?:@[^/@"]+/)?[^/@"\s]+)@([^"]*?)"?:\s*$|^"?((?:@[^/@"]+/)?[^/@"\s]+)@[^"]*"?,.*:\s*$`)

// readYarn reads a yarn.lock, of the first form or of the later one, which is YAML. Of both the
// lines are alike: what begins an entry, and its version below it.
func readYarn(raw []byte, found *found) error {
	if !strings.Contains(string(raw), "yarn lockfile v1") && !strings.Contains(string(raw), "__metadata:") {
		return errors.New("it says neither which form it has")
	}
	name, line := "", 0
	for text := range strings.Lines(string(raw)) {
		line++
		text = strings.TrimRight(text, "\r\n")
		if text == "" || text[0] == '#' {
			continue
		}
		if text[0] != ' ' {
			name = ""
			if m := yarnEntry.FindStringSubmatch(text); m != nil {
				name = m[1] + m[3]
				if target, ok := strings.CutPrefix(m[2], "npm:"); ok && strings.LastIndexByte(target, '@') > 0 {
					name, _ = splitAt(target) // it goes by another name
				}
				if strings.HasPrefix(m[2], "workspace:") || strings.HasPrefix(m[2], "patch:") {
					name = ""
				}
			}
			continue
		}
		key, value, ok := strings.Cut(strings.TrimSpace(text), " ")
		if !ok || name == "" || strings.TrimSuffix(key, ":") != "version" {
			continue
		}
		before := len(found.all)
		if err := found.add(npm, name, strings.Trim(value, `"`)); err != nil {
			return err
		}
		if len(found.all) > before {
			found.all[before].Line = line
		}
		name = ""
	}
	return nil
}
