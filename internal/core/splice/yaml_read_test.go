package splice

import (
	"strings"
	"testing"
)

func TestReadYAML(t *testing.T) {
	var into struct {
		Name    string            `yaml:"name"`
		App     string            `yaml:"appVersion"`
		Words   []string          `yaml:"keywords"`
		Notes   map[string]string `yaml:"annotations"`
		Retired bool              `yaml:"deprecated"`
	}
	if err := ReadYAML([]byte("# a chart\nname: gangway\nappVersion: 1.5\nkeywords: [a, 'b']\ndeprecated: true\nmore:\n"+
		"  deep: {x: [1]}\nannotations:\n  text: |\n    - [one\n    - {two\n"), &into); err != nil {
		t.Fatal(err)
	}
	if into.Name != "gangway" || into.App != "1.5" || len(into.Words) != 2 || !into.Retired ||
		into.Notes["text"] != "- [one\n- {two\n" {
		t.Errorf("%+v", into)
	}
	for name, text := range map[string]string{
		"brackets": strings.Repeat("[", 100_000), "maps": strings.Repeat("{a: ", 100_000),
		"lists": strings.Repeat("- ", 100_000) + "x", "questions": strings.Repeat("? ", 100_000) + "x",
		"lines": func() string {
			var b strings.Builder
			for i := range 200 {
				b.WriteString(strings.Repeat(" ", i) + "a:\n")
			}
			return b.String()
		}(),
		"aliases": "a: &a [x]\nkeywords: *a\n", "merged": "a: &a {name: x}\n<<: *a\n", "two": "name: a\n---\nname: b\n",
		"another type": "name: [a]\n", "no YAML": "name: \"a\n"} {
		if err := ReadYAML([]byte(text), &into); err == nil || strings.Contains(err.Error(), "\n") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := ReadYAML(nil, &into); err != nil {
		t.Error(err)
	}
	var read []string
	if err := EachYAML([]byte("  - name: a\n  - name: [b]\n  - name: c\n"), func(one func(any) error) error {
		if one(&into) == nil {
			read = append(read, into.Name)
		}
		return nil
	}); err != nil || strings.Join(read, " ") != "a c" {
		t.Errorf("%q, %v", read, err)
	}
	if EachYAML([]byte("a: b"), nil) == nil {
		t.Error("a map was read as a list")
	}
}

func TestScalarsYAML(t *testing.T) {
	const text = `# é
version: 1.5.0-dev.7 # as of now
appVersion: "1.5.0-dev.7"
é: 'it''s'
number: 1.5
list:
  - name: tide
    version: '1.2.3'
  - {name: "a\"b", version: 2}
folded: >
  1.5.0-dev.7
`
	all, err := ScalarsYAML([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	said := map[string]string{}
	for _, s := range all {
		said[strings.Join(s.Path, ".")] = text[s.From:s.To] + " -> " + s.Written("9.0.0")
	}
	for path, want := range map[string]string{"version": "1.5.0-dev.7 -> 9.0.0", "appVersion": `"1.5.0-dev.7" -> "9.0.0"`,
		"é": "'it''s' -> '9.0.0'", "number": "1.5 -> 9.0.0", "list.0.name": "tide -> 9.0.0",
		"list.0.version": "'1.2.3' -> '9.0.0'", "list.1.name": `"a\"b" -> "9.0.0"`, "list.1.version": "2 -> 9.0.0"} {
		if said[path] != want {
			t.Errorf("%s: %q, want %q", path, said[path], want)
		}
	}
	if s := (ScalarYAML{}); s.Written("1.5") != `"1.5"` || s.Written("a b") != `"a b"` || s.Written("1.5.0") != "1.5.0" {
		t.Error(s.Written("1.5"), s.Written("a b"))
	}
}

func FuzzScalarsYAML(f *testing.F) {
	f.Add("version: 1.5.0\nlist:\n  - 'x'\n  - \"y\"\n")
	f.Add("- - a: [b, {c: d}]\n")
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ScalarsYAML([]byte(text))
		if err != nil {
			return
		}
		for _, s := range all {
			if s.From < 0 || s.To < s.From || s.To > len(text) || s.Quote == 0 && text[s.From:s.To] != s.Value {
				t.Errorf("%+v", s)
			}
		}
	})
}
