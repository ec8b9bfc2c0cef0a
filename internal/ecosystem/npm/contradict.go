package npm

import (
	"encoding/json"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
)

// Contradicts implements ecosystem.Stating: what a client says of a version beside
// its tarball must be what the package.json in it says, in all that decides what
// is installed, what runs, and under which licence. Clients write some of it in
// another form; only what it means is compared.
func (NPM) Contradicts(said, read catalog.Details) error {
	a, b := fieldsOf(said), fieldsOf(read)
	for _, field := range []struct {
		name    string
		meaning func(fields map[string]json.RawMessage) any
	}{
		{"license", func(f map[string]json.RawMessage) any {
			return append(licences(f["license"]), licences(f["licenses"])...)
		}},
		{"dependencies", func(f map[string]json.RawMessage) any { return needs(f, "dependencies", "optionalDependencies") }},
		{"optionalDependencies", func(f map[string]json.RawMessage) any { return needs(f, "optionalDependencies") }},
		{"peerDependencies", func(f map[string]json.RawMessage) any { return needs(f, "peerDependencies") }},
		{"scripts", installScripts},
		{"bin", commands},
		{"os", valueOf("os")}, {"cpu", valueOf("cpu")}, {"libc", valueOf("libc")}, {"engines", valueOf("engines")},
	} {
		in, of := field.meaning(a), field.meaning(b)
		if reflect.DeepEqual(in, of) {
			continue
		}
		return fault.New(fault.Invalid, "manifest-disagrees",
			"what was sent with the tarball has another %s than the package.json in it", field.name).
			WithHint("Publish what npm pack makes of the package as it is.")
	}
	return nil
}

// fieldsOf puts together what Native took apart.
func fieldsOf(d catalog.Details) map[string]json.RawMessage {
	all := map[string]json.RawMessage{}
	for _, part := range []string{nativeRest, nativeInstall} {
		var fields map[string]json.RawMessage
		if json.Unmarshal(d.Native[part], &fields) == nil {
			maps.Copy(all, fields)
		}
	}
	return all
}

// needs are the dependencies of some groups together; nil if there are none.
func needs(fields map[string]json.RawMessage, groups ...string) any {
	all := map[string]string{}
	for _, group := range groups {
		var list dependencies
		if json.Unmarshal(fields[group], &list) == nil {
			maps.Copy(all, list)
		}
	}
	if len(all) == 0 {
		return nil
	}
	return all
}

// builds is what clients say of packages that are compiled when they are installed
// and do not say so themselves.
const builds = "node-gyp rebuild"

// installScripts are what runs when the package is installed.
func installScripts(fields map[string]json.RawMessage) any {
	var named map[string]text
	_ = json.Unmarshal(fields["scripts"], &named) // anything else is no script
	all := map[string]text{}
	for _, name := range []string{"preinstall", "install", "postinstall"} {
		if script, ok := named[name]; ok && script != "" && !(name == "install" && script == builds) {
			all[name] = script
		}
	}
	return all
}

// commands are the commands of a package, by their names.
func commands(fields map[string]json.RawMessage) any {
	all := map[string]string{}
	var one string
	var several map[string]text
	switch {
	case json.Unmarshal(fields["bin"], &one) == nil && one != "":
		all[path.Base(string(textOf(fields["name"])))] = cleanPath(one)
	case json.Unmarshal(fields["bin"], &several) == nil:
		for name, file := range several {
			all[path.Base(strings.ReplaceAll(name, `\`, "/"))] = cleanPath(string(file))
		}
	}
	return all
}

func cleanPath(file string) string {
	return strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(file, `\`, "/")), "/")
}

// valueOf gives a field as it is; lists in any order, and one text as a list.
func valueOf(name string) func(fields map[string]json.RawMessage) any {
	return func(fields map[string]json.RawMessage) any {
		var value any
		if json.Unmarshal(fields[name], &value) != nil {
			return nil
		}
		switch v := value.(type) {
		case string:
			return []string{v}
		case []any:
			var list []string
			for _, each := range v {
				if s, ok := each.(string); ok {
					list = append(list, s)
				}
			}
			slices.Sort(list)
			return list
		case map[string]any:
			if len(v) == 0 {
				return nil
			}
		}
		return value
	}
}
