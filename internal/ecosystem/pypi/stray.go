package pypi

import (
	"fmt"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// straysPip is what sends pip elsewhere. Of two sources it takes the higher version,
// wherever that is.
func straysPip(f ecosystem.Files, _ ecosystem.Pointing) []string {
	said := f.Overridden("PIP_INDEX_URL")
	const also = "pip takes the higher version of both, so anybody can put a name of ours there; take it out, and let a chain ask there"
	said = append(said, f.Alone("the environment", "PIP_EXTRA_INDEX_URL", f.Env("PIP_EXTRA_INDEX_URL"), also)...)
	for _, file := range []string{"~/.config/pip/pip.conf", "~/.pip/pip.conf"} {
		extra, _ := splice.GetINI(f.Read(file), "global", "extra-index-url")
		said = append(said, f.Alone(file, "extra-index-url", extra, also)...)
	}
	return said
}

// straysUV is what sends uv elsewhere.
func straysUV(f ecosystem.Files, p ecosystem.Pointing) []string {
	said := f.Overridden("UV_DEFAULT_INDEX", "UV_INDEX_URL")
	if p.Publishes() {
		said = append(said, f.Overridden("UV_PUBLISH_URL")...)
	}
	return said
}

// straysPoetry is what sends Poetry elsewhere: another main source of the project, and
// variables that go before its files.
func straysPoetry(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	for _, what := range []string{"_USERNAME", "_PASSWORD"} {
		if name := "POETRY_HTTP_BASIC_" + variable(p.ID) + what; f.Env(name) != "" {
			said = append(said, fmt.Sprintf("the variable %s goes before what auth.toml says of who you are: unset it", name))
		}
	}
	if p.Publishes() {
		said = append(said, f.Overridden("POETRY_REPOSITORIES_"+variable(p.ID)+"_URL")...)
	}
	for _, source := range splice.GetTOML(f.Read("pyproject.toml"), "tool.poetry.source") {
		// Without a priority, a source is a main one.
		if main := source["priority"] == "" || source["priority"] == "primary" || source["priority"] == "default"; !p.Everything || !main || source["name"] == p.ID {
			continue
		}
		said = append(said, f.Alone("pyproject.toml", "the source "+source["name"], source["url"], "Poetry takes what it finds at any main source; take it out, or give it the priority explicit")...)
	}
	return said
}
