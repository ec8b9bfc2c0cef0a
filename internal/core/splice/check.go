package splice

import (
	"reflect"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/pelletier/go-toml/v2"
)

// What was edited line by line is read back with a parser of the format: all must
// be as it was but for what was set. Where it is not, the file is written in a way
// that the edit does not know, and it is refused.

// misread is the fault of an edit that would have said something else.
func misread(what string) error {
	return cannot("it is written in a way that %s cannot be set in safely", what)
}

func checkTOML(before, after, table, by string, values []Setting) error {
	want, got := map[string]any{}, map[string]any{}
	if err := toml.Unmarshal([]byte(before), &want); err != nil {
		return cannot("it is not TOML: %v", err)
	}
	if err := toml.Unmarshal([]byte(after), &got); err != nil {
		return misread("[" + table + "]")
	}
	set := map[string]any{}
	for _, v := range values {
		set[v.Key] = v.Value
		if v.Value == "true" || v.Value == "false" {
			set[v.Key] = v.Value == "true"
		}
		if isList(v.Value) {
			one := map[string]any{}
			if err := toml.Unmarshal([]byte("x = "+v.Value), &one); err != nil {
				return misread("[" + table + "]")
			}
			set[v.Key] = one["x"]
		}
	}
	if !setTable(want, tablePath(table), by, set) || !reflect.DeepEqual(want, got) {
		return misread("[" + table + "]")
	}
	return nil
}

// setTable sets keys of the table at the end of a way of names; with by, of the one
// in an array of tables that has the same value of that key.
func setTable(in map[string]any, way []string, by string, values map[string]any) bool {
	name, rest := way[0], way[1:]
	if len(rest) == 0 && by != "" {
		tables, ok := in[name].([]any)
		if !ok && in[name] != nil {
			return false
		}
		for _, t := range tables {
			if one, ok := t.(map[string]any); ok && one[by] == values[by] {
				for k, v := range values {
					one[k] = v
				}
				return true
			}
		}
		in[name] = append(tables, values)
		return true
	}
	if in[name] == nil {
		in[name] = map[string]any{}
	}
	below, ok := in[name].(map[string]any)
	if !ok {
		return false
	}
	if len(rest) > 0 {
		return setTable(below, rest, by, values)
	}
	for k, v := range values {
		below[k] = v
	}
	return true
}

func checkYAML(before, after string, path []string, value string) error {
	want, got := map[string]any{}, map[string]any{}
	var set any
	if err := yaml.Unmarshal([]byte(before), &want); err != nil {
		return cannot("it is not YAML that can be read: %s", firstLine(err.Error()))
	}
	if yaml.Unmarshal([]byte(after), &got) != nil || yaml.Unmarshal([]byte(value), &set) != nil {
		return misread(strings.Join(path, "."))
	}
	if want == nil {
		want = map[string]any{}
	}
	last := len(path) - 1
	if last > 0 && !setTable(want, path[:last], "", map[string]any{path[last]: set}) {
		return misread(strings.Join(path, "."))
	}
	if last == 0 {
		want[path[0]] = set
	}
	if !reflect.DeepEqual(want, got) {
		return misread(strings.Join(path, "."))
	}
	return nil
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// checkINI: the forms of this format differ from client to client, so that what
// they would read differently is refused: heads with anything but the bare name,
// a section or a key that is there twice, and a key with another sign than =.
func checkINI(text, section, key string) error {
	heads, keys := 0, 0
	in := section == ""
	for _, line := range lines(text) {
		bare := strings.TrimSpace(line)
		if strings.HasPrefix(bare, "[") && !continues(line) {
			name, behind, _ := strings.Cut(bare[1:], "]")
			in = strings.Trim(name, " \t\"'") == section
			switch {
			case !in:
			case name != section || behind != "":
				return cannot("its section [%s] is written as %s", section, bare)
			default:
				heads++
			}
			continue
		}
		if !in || continues(line) && section != "" {
			continue
		}
		sign, ok := signAfter(bare, key, section != "")
		if !ok {
			continue
		}
		if keys++; sign != "=" {
			return cannot("its %s is not written with =", key)
		}
	}
	switch {
	case heads > 1:
		return cannot("it has the section [%s] more than once", section)
	case keys > 1:
		return cannot("it has %s more than once", key)
	case keys == 0:
		return misread(key)
	}
	return nil
}

// signAfter gives what stands between a key and its value, if the line is about
// that key.
func signAfter(line, key string, foldsCase bool) (sign string, ok bool) {
	line = strings.TrimPrefix(strings.TrimPrefix(line, `"`), "'")
	if len(line) < len(key) || line[:len(key)] != key && !(foldsCase && strings.EqualFold(line[:len(key)], key)) {
		return "", false
	}
	rest := strings.TrimLeft(line[len(key):], `"'`)
	switch bare := strings.TrimLeft(rest, " \t"); {
	case strings.HasPrefix(bare, "="):
		return "=", true
	case strings.HasPrefix(bare, ":"):
		return ":", true
	case strings.HasPrefix(bare, "[]"):
		return "[]", true
	case rest == "" || bare != rest:
		return "", true
	}
	return "", false // another key that begins so
}

// checkSafeNetrc refuses what words alone do not tell apart.
func checkSafeNetrc(text string) error {
	for _, word := range strings.Fields(text) {
		if word == "macdef" {
			return cannot("it has a macro (macdef), whose text may look like an entry")
		}
		if strings.HasPrefix(word, `"`) {
			return cannot("it has quoted words")
		}
	}
	return nil
}

func checkXML(text string, steps []Step, attr, value string) error {
	now, err := ReadXML(text)
	if err != nil {
		return misread("<" + steps[len(steps)-1].Name + ">")
	}
	for _, step := range steps[1:] {
		var next *Element
		for _, c := range now.Children {
			if next == nil && step.fits(c) {
				next = c
			}
		}
		if next == nil {
			return misread("<" + step.Name + ">")
		}
		now = next
	}
	if attr != "" && now.Attrs[attr] != value || attr == "" && strings.TrimSpace(now.Text) != strings.TrimSpace(value) {
		return misread("<" + now.Name + ">")
	}
	return nil
}
