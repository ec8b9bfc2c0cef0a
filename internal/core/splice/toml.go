package splice

import (
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// SetTOML sets keys of a table of a TOML file to strings, to true and false where the
// value is one of those words, or to a list where it is written as one of texts.
// With by, the table is one of an array of tables: the one whose key by has the value
// that values give for it. A missing table comes last. What cannot be set so that all
// else stays as it is is an error.
func SetTOML(existing, table, by string, values []Setting) (string, error) {
	made, err := setTOML(existing, table, by, values)
	if err == nil {
		err = checkTOML(existing, made, table, by, values)
	}
	if err != nil {
		return "", err
	}
	return made, nil
}

func setTOML(existing, table, by string, values []Setting) (string, error) {
	for _, v := range values {
		if strings.ContainsAny(v.Value, "\r\n") {
			return "", cannot("the value of %s has a line break", v.Key)
		}
	}
	all, nl := lines(closed(existing)), ending(existing)
	start, end := tomlTable(all, table, by, values)
	if start < 0 {
		text := strings.Join(all, "")
		if text != "" {
			text += nl
		}
		head := "[" + table + "]"
		if by != "" {
			head = "[[" + table + "]]"
		}
		text += head + nl
		for _, v := range values {
			text += v.Key + " = " + tomlValue(v.Value) + nl
		}
		return text, nil
	}
	for _, v := range values {
		done := false
		for i := start; i < end; i++ {
			k, old, ok := tomlLine(all[i])
			if !ok || k != v.Key {
				continue
			}
			done = true
			if old == tomlValue(v.Value) {
				break
			}
			if strings.HasPrefix(old, "[") && !strings.HasSuffix(old, "]") || strings.HasPrefix(old, `"""`) {
				return "", cannot("%s goes over several lines", v.Key)
			}
			all[i] = indentOf(all[i]) + v.Key + " = " + tomlValue(v.Value) + tomlComment(old) + nl
			break
		}
		if !done {
			at := end
			for at > start && strings.TrimSpace(all[at-1]) == "" {
				at--
			}
			all = append(all[:at:at], append([]string{v.Key + " = " + tomlValue(v.Value) + nl}, all[at:]...)...)
			end++
		}
	}
	return strings.Join(all, ""), nil
}

// GetTOML gives the settings of a table, strings without their quotes; with by,
// those of every table of the array.
func GetTOML(existing, table string) (tables []map[string]string) {
	all := lines(existing)
	var now map[string]string
	for _, line := range all {
		if head, ok := tomlHead(line); ok {
			now = nil
			if head == table {
				now = map[string]string{}
				tables = append(tables, now)
			}
			continue
		}
		if k, v, ok := tomlLine(line); ok && now != nil {
			now[k] = unquote(v)
		}
	}
	return tables
}

// TablesTOML names the tables of a TOML file, as they are written.
func TablesTOML(existing string) (names []string) {
	for _, line := range lines(existing) {
		if head, ok := tomlHead(line); ok {
			names = append(names, head)
		}
	}
	return names
}

func tomlTable(all []string, table, by string, values []Setting) (start, end int) {
	want := ""
	for _, v := range values {
		if v.Key == by {
			want = tomlValue(v.Value)
		}
	}
	for i := 0; i < len(all); i++ {
		if head, ok := tomlHead(all[i]); !ok || head != table {
			continue
		}
		end = i + 1
		fits := by == ""
		for ; end < len(all); end++ {
			if _, ok := tomlHead(all[end]); ok {
				break
			}
			if k, v, ok := tomlLine(all[end]); ok && k == by && v == want {
				fits = true
			}
		}
		if fits {
			return i + 1, end
		}
	}
	return -1, 0
}

func tomlHead(line string) (string, bool) {
	text := strings.TrimSpace(line)
	if !strings.HasPrefix(text, "[") {
		return "", false
	}
	text, _, _ = strings.Cut(text, "#")
	text = strings.TrimSpace(text)
	if !strings.HasSuffix(text, "]") || strings.Contains(text, "=") || strings.Contains(text, ",") {
		return "", false
	}
	text = strings.TrimSuffix(strings.TrimPrefix(text, "["), "]")
	return strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(text, "["), "]")), true
}

func tomlLine(line string) (key, value string, ok bool) {
	text := strings.TrimSpace(line)
	if text == "" || text[0] == '#' || text[0] == '[' {
		return "", "", false
	}
	key, value, ok = strings.Cut(text, "=")
	return strings.TrimSpace(key), strings.TrimSpace(value), ok
}

// tomlComment is the comment behind a value, with the space before it.
func tomlComment(value string) string {
	for i := range value {
		if value[i] != '#' {
			continue
		}
		var read map[string]any
		if bare := strings.TrimRight(value[:i], " \t"); toml.Unmarshal([]byte("k = "+bare), &read) == nil {
			return value[len(bare):]
		}
	}
	return ""
}

// tomlValue writes a string, and true and false as they are.
// isList tells whether a value is a list of texts, which is written as it is.
func isList(text string) bool { return strings.HasPrefix(text, `["`) && strings.HasSuffix(text, `"]`) }

func tomlValue(text string) string {
	if text == "true" || text == "false" || isList(text) {
		return text
	}
	return strconv.Quote(text)
}
