package splice

import (
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// SetTOML sets keys of a table of a TOML file to strings, to true and false where the
// value is one of those words, or to a list where it is written as one of texts.
// Names of tables that have dots are in quotes.
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

// tomlTable is a table as it stands in a text: its head, and its settings in their order.
type tomlTable struct {
	name    string
	array   bool
	end     int // of the line of its head, or of its last setting
	entries []tomlEntry
}

// tomlEntry is a setting, and where its value stands.
type tomlEntry struct {
	key      string
	from, to int
}

// readTOML finds the tables of a text by the places that the parser gives; the settings
// above all of them are of one without a name.
func readTOML(text string) ([]tomlTable, error) {
	raw := []byte(text)
	lineEnd := func(at int) int {
		if end := strings.IndexByte(text[at:], '\n'); end >= 0 {
			return at + end + 1
		}
		return len(text)
	}
	tables := []tomlTable{{}}
	p := unstable.Parser{}
	p.Reset(raw)
	for p.NextExpression() {
		e := p.Expression()
		var keys []string
		last := 0
		for it := e.Key(); it.Next(); {
			n := it.Node()
			keys, last = append(keys, string(n.Data)), int(n.Raw.Offset+n.Raw.Length)
		}
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			tables = append(tables, tomlTable{name: strings.Join(keys, "."), array: e.Kind == unstable.ArrayTable,
				end: lineEnd(last)})
		case unstable.KeyValue:
			end := int(e.Raw.Offset + e.Raw.Length)
			from := last + strings.IndexByte(text[last:end], '=') + 1
			from += len(text[from:end]) - len(strings.TrimLeft(text[from:end], " \t"))
			t := &tables[len(tables)-1]
			t.end = lineEnd(end)
			t.entries = append(t.entries, tomlEntry{strings.Join(keys, "."), from, end})
		}
	}
	if p.Error() != nil {
		// Whoever looks for what is set up finds a value that was cut, too.
		t := &tables[len(tables)-1]
		for at := t.end; at < len(text); at = lineEnd(at) {
			if key, _, ok := strings.Cut(text[at:lineEnd(at)], "="); ok {
				from := at + len(key) + 1
				t.entries = append(t.entries, tomlEntry{strings.TrimSpace(key), from, max(from, lineEnd(at)-1)})
				break
			}
		}
	}
	return tables, p.Error()
}

// value is that of a setting, as it is written; "" if there is none.
func (t tomlTable) value(text, key string) string {
	for _, e := range t.entries {
		if e.key == key {
			return text[e.from:e.to]
		}
	}
	return ""
}

func setTOML(existing, table, by string, values []Setting) (string, error) {
	want := ""
	for _, v := range values {
		if strings.ContainsAny(v.Value, "\r\n") {
			return "", cannot("the value of %s has a line break", v.Key)
		}
		if v.Key == by {
			want = v.Value
		}
	}
	text, nl := closed(existing), ending(existing)
	tables, err := readTOML(text)
	if err != nil {
		return "", cannot("it is not TOML: %v", err)
	}
	name := strings.Join(tablePath(table), ".")
	at := slices.IndexFunc(tables[1:], func(t tomlTable) bool {
		return t.name == name && t.array == (by != "") && (by == "" || tomlText(t.value(text, by)) == want)
	}) + 1
	if at == 0 {
		head := "[" + table + "]"
		if by != "" {
			head = "[[" + table + "]]"
		}
		if text != "" {
			text += nl
		}
		text += head + nl
		for _, v := range values {
			text += v.Key + " = " + tomlValue(v.Value) + nl
		}
		return text, nil
	}
	// From the end, so that what stands before stays where it is.
	t := tables[at]
	added := ""
	var changed []tomlEntry
	set := map[int]string{}
	for _, v := range values {
		i := slices.IndexFunc(t.entries, func(e tomlEntry) bool { return e.key == v.Key })
		if i < 0 {
			added += v.Key + " = " + tomlValue(v.Value) + nl
		} else if e := t.entries[i]; tomlText(text[e.from:e.to]) != v.Value {
			changed = append(changed, e)
			set[e.from] = tomlValue(v.Value)
		}
	}
	text = text[:t.end] + added + text[t.end:]
	slices.SortFunc(changed, func(a, b tomlEntry) int { return b.from - a.from })
	for _, e := range changed {
		text = text[:e.from] + set[e.from] + text[e.to:]
	}
	return text, nil
}

// tablePath are the names on the way to a table, of which the last may be in quotes.
func tablePath(table string) []string {
	way, last, quoted := strings.Cut(table, `."`)
	path := strings.Split(way, ".")
	if quoted {
		path = append(path, strings.TrimSuffix(last, `"`))
	}
	return path
}

// GetTOML gives the settings of a table, strings without their quotes; those of every
// table of an array. What is not TOML has those up to where it is none.
func GetTOML(existing, table string) (found []map[string]string) {
	tables, _ := readTOML(existing)
	for _, t := range tables[1:] {
		if t.name != table {
			continue
		}
		settings := map[string]string{}
		for _, e := range t.entries {
			settings[e.key] = tomlText(existing[e.from:e.to])
		}
		found = append(found, settings)
	}
	return found
}

// TablesTOML names the tables of a TOML file.
func TablesTOML(existing string) (names []string) {
	tables, _ := readTOML(existing)
	for _, t := range tables[1:] {
		names = append(names, t.name)
	}
	return names
}

// tomlText is a value without quotes, if it is a string; else as it is written.
func tomlText(value string) string {
	var read map[string]any
	if toml.Unmarshal([]byte("x = "+value), &read) == nil {
		if text, ok := read["x"].(string); ok {
			return text
		}
	}
	return strings.Trim(strings.TrimSpace(value), `"`)
}

// isList tells whether a value is a list of texts, which is written as it is.
func isList(text string) bool { return strings.HasPrefix(text, `["`) && strings.HasSuffix(text, `"]`) }

// tomlValue writes a string, and true, false and lists as they are.
func tomlValue(text string) string {
	if text == "true" || text == "false" || isList(text) {
		return text
	}
	return strconv.Quote(text)
}
