package ecosystem

import (
	"strings"
	"testing"
)

func TestParseTOMLPlaces(t *testing.T) {
	const text = `# tide = "0"
name = 'x' # "y"
[package]
version = "1.0.0-dev.1"
authors = ["A", "B \"b\""]
[dependencies]
tide = { version = "1", features = ["a"] }
"quoted.key".version = """2"""
[[package.part]]
name = "one"
[[package.part]]
name = "two"
n = 7
`
	places, err := ParseTOMLPlaces([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"name=x='x'", `package.version=1.0.0-dev.1="1.0.0-dev.1"`, `package.authors.0=A="A"`,
		`package.authors.1=B "b"="B \"b\""`,
		`dependencies.tide.version=1="1"`, `dependencies.tide.features.0=a="a"`, `dependencies.quoted.key.version=2="""2"""`,
		`package.part.0.name=one="one"`, `package.part.1.name=two="two"`}
	var got []string
	for _, p := range places {
		got = append(got, strings.Join(p.Path, ".")+"="+p.Value+"="+text[p.From:p.To])
	}
	if a, b := strings.Join(got, "\n"), strings.Join(want, "\n"); a != b {
		t.Errorf("%s\nwant\n%s", a, b)
	}
	if _, err := ParseTOMLPlaces([]byte("x = [1")); err == nil {
		t.Error("what is no TOML was read")
	}
}

func FuzzParseTOMLPlaces(f *testing.F) {
	f.Add([]byte("[a]\nb = \"c\"\n[[d]]\ne = {f='g'}"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		places, err := ParseTOMLPlaces(raw)
		for _, p := range places {
			if err == nil && (p.From < 0 || p.To > len(raw) || p.From >= p.To || len(p.Path) == 0) {
				t.Errorf("%+v", p)
			}
		}
	})
}
