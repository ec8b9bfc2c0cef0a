package pypi

import (
	"strings"
	"testing"

	"crelvo/internal/ecosystem"
)

func TestStraysPoetry(t *testing.T) {
	p := ecosystem.Pointing{Address: "http://h/at/platform/pypi/", ID: "platform", Everything: true, PublishReleases: true}
	for _, c := range []struct {
		name, project string
		env           map[string]string
		want          string // "" is nothing
	}{
		{name: "nothing", project: "[[tool.poetry.source]]\nname = \"platform\"\nurl = \"http://h/at/platform/pypi/simple/\"\n"},
		{name: "another main source", project: "[[tool.poetry.source]]\nname = \"old\"\nurl = \"https://pypi.elsewhere.example/simple/\"\n", want: "the source old in pyproject.toml is https://pypi.elsewhere.example/simple/"},
		{name: "one that is only asked by name", project: "[[tool.poetry.source]]\nname = \"old\"\nurl = \"https://pypi.elsewhere.example/simple/\"\npriority = \"explicit\"\n"},
		{name: "a variable with a password", env: map[string]string{"POETRY_HTTP_BASIC_PLATFORM_PASSWORD": "x"}, want: "POETRY_HTTP_BASIC_PLATFORM_PASSWORD goes before"},
		{name: "a variable with an address", env: map[string]string{"POETRY_REPOSITORIES_PLATFORM_URL": "https://pypi.elsewhere.example/"}, want: "POETRY_REPOSITORIES_PLATFORM_URL is https://pypi.elsewhere.example/"},
	} {
		f := ecosystem.Files{Env: func(name string) string { return c.env[name] }, Ours: func(a string) bool { return strings.HasPrefix(a, "http://h/") },
			Read: func(file string) string {
				if file == "pyproject.toml" {
					return c.project
				}
				return ""
			}}
		said := strings.Join(straysPoetry(f, p), "\n")
		if (said == "") != (c.want == "") || !strings.Contains(said, c.want) {
			t.Errorf("%s: %q, want %q", c.name, said, c.want)
		}
	}
}
