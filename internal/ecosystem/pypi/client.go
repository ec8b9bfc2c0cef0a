package pypi

import (
	"net"
	"slices"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Where twine, uv and Poetry have their settings
// (https://packaging.python.org/en/latest/specifications/pypirc/,
// https://docs.astral.sh/uv/concepts/indexes/, https://python-poetry.org/docs/repositories/).
var (
	pypirc = ecosystem.Source{File: "~/.pypirc", Windows: `%USERPROFILE%\.pypirc`,
		Title: "Where it publishes, and who you are", Form: ecosystem.INI}
	pyproject = ecosystem.Source{File: "pyproject.toml", Title: "Where packages come from",
		Form: ecosystem.TOML, There: true}
	auth = ecosystem.Source{File: "~/.config/pypoetry/auth.toml", Windows: `%APPDATA%\pypoetry\auth.toml`,
		Title: "Who you are (the name is the same in all files)", Form: ecosystem.TOML}
	config = ecosystem.Source{File: "~/.config/pypoetry/config.toml", Windows: `%APPDATA%\pypoetry\config.toml`,
		Title: "Where it publishes", Form: ecosystem.TOML}

	everything = func(p ecosystem.Pointing) bool { return p.Everything }
	ofTwine    = ecosystem.Settings{All: []ecosystem.Setting{
		{In: pypirc, Path: []string{"distutils", "index-servers"}, Value: "{id}", List: true},
		{In: pypirc, Path: []string{"{id}", "repository"}, Value: "{address}"},
		{In: pypirc, Path: []string{"{id}", "username"}, Value: "{user}"},
		{In: pypirc, Path: []string{"{id}", "password"}, Value: "{token}"}}}
	ofUV = ecosystem.Settings{All: []ecosystem.Setting{
		{In: pyproject, Path: inUV("url"), Value: "{address}simple/"},
		{In: pyproject, Path: inUV("publish-url"), Value: "{address}", Only: ecosystem.Pointing.Publishes, Publishes: true},
		{In: pyproject, Path: inUV("default"), Value: "true", Only: everything},
		{Value: "{user}", Env: "UV_INDEX_{ID}_USERNAME"}, {Value: "{token}", Env: "UV_INDEX_{ID}_PASSWORD"},
		{Value: "{user}", Env: "UV_PUBLISH_USERNAME", Only: ecosystem.Pointing.Publishes},
		{Value: "{token}", Env: "UV_PUBLISH_PASSWORD", Only: ecosystem.Pointing.Publishes}}}
	ofPoetry = ecosystem.Settings{All: []ecosystem.Setting{
		{In: pyproject, Path: inPoetry("url"), Value: "{address}simple/"},
		{In: pyproject, Path: inPoetry("priority"), Value: "supplemental",
			Only: func(p ecosystem.Pointing) bool { return !p.Everything }},
		// Poetry before 1.5 refuses the key, and a source without it is a primary one.
		{In: pyproject, Path: inPoetry("priority"), Value: "primary", Only: everything, IfThere: true},
		{In: auth, Path: []string{"http-basic", "{id}", "username"}, Value: "{user}",
			Env: "POETRY_HTTP_BASIC_{ID}_USERNAME"},
		{In: auth, Path: []string{"http-basic", "{id}", "password"}, Value: "{token}",
			Env: "POETRY_HTTP_BASIC_{ID}_PASSWORD"},
		{In: config, Path: []string{"repositories", "{id}", "url"}, Value: "{address}",
			Only: ecosystem.Pointing.Publishes, Publishes: true}}}
)

func inUV(key string) []string     { return []string{"tool", "uv", "index@name={id}", key} }
func inPoetry(key string) []string { return []string{"tool", "poetry", "source@name={id}", key} }

// Clients implements ecosystem.Ecosystem.
func (PyPI) Clients() []ecosystem.PackageClient {
	orders := func(build, add, publish string) func(p ecosystem.Pointing) []string {
		return ecosystem.Orders{Build: build, Add: add, Version: "==", Publish: publish}.Of(ecosystem.PlainName)
	}
	return []ecosystem.PackageClient{
		{Name: "pip", Title: "pip", Agents: []string{"pip/"}, Parts: pipParts, Uses: usesPip, Strays: straysPip,
			Probe: "simple/",
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				return []splice.Setting{{Key: "PIP_INDEX_URL", Value: p.WithSecret(simple(p))}}
			},
			Commands: orders("pip install -r requirements.txt", "pip install {what}", "")},
		{Name: "twine", Title: "twine", Agents: []string{"twine"}, Publishes: true, Parts: ofTwine.Parts, Uses: usesTwine,
			Strays: func(f ecosystem.Files, _ ecosystem.Pointing) []string {
				return f.Overridden("TWINE_REPOSITORY_URL")
			}, Upload: "POST ",
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				return []splice.Setting{{Key: "TWINE_REPOSITORY_URL", Value: p.Address}, {Key: "TWINE_USERNAME", Value: p.User},
					{Key: "TWINE_PASSWORD", Value: p.Token()}}
			},
			Commands: func(p ecosystem.Pointing) []string { return []string{"twine upload -r " + p.ID + " dist/*"} }},
		{Name: "uv", Title: "uv", Agents: []string{"uv/"}, Publishes: true, Uses: ofUV.Uses, Strays: straysUV,
			Parts: func(p ecosystem.Pointing) []ecosystem.Piece { return append(ofUV.Parts(p), ecosystem.InNetrc(p)) },
			Probe: "simple/", Upload: "POST ", Variables: ofUV.Variables,
			Commands: orders("uv sync", "uv add {what}", "uv publish --index {id}")},
		{Name: "poetry", Title: "Poetry", Agents: []string{"poetry"}, Publishes: true, Parts: ofPoetry.Parts,
			Uses: ofPoetry.Uses, Strays: straysPoetry, Probe: "simple/", Upload: "POST ", Variables: ofPoetry.Variables,
			Commands: orders("poetry install", "poetry add {what}", "poetry publish -r {id}")},
	}
}

func simple(p ecosystem.Pointing) string { return p.Address + "simple/" }

func variable(id string) string { return strings.ToUpper(strings.ReplaceAll(id, "-", "_")) }

// The address of pip has the secret in it: ~/.netrc would know one for the whole
// host only, and the project has no file that pip reads.
func pipParts(p ecosystem.Pointing) []ecosystem.Piece {
	edit := func(text string) (string, error) {
		return splice.SetINI(text, "global", "index-url", p.WithSecret(simple(p)))
	}
	if ip := net.ParseIP(p.Host()); p.Plain() && p.Host() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		edit = ecosystem.Sequence(edit, func(text string) (string, error) {
			return splice.AddToINI(text, "global", "trusted-host", p.Host())
		})
	}
	return []ecosystem.Piece{{Title: "Where packages come from, and who you are", File: "~/.config/pip/pip.conf",
		Windows:  `%APPDATA%\pip\pip.ini`,
		Language: "ini", Secret: true, Edit: edit}}
}

func usesPip(f ecosystem.Files) []ecosystem.Use {
	raw, in, cut := f.Env("PIP_INDEX_URL"), "the variable PIP_INDEX_URL", false
	if raw == "" {
		in = "~/.config/pip/pip.conf"
		raw, _ = splice.GetINI(f.Read(in), "global", "index-url")
		// A line break in a token cuts the address in two.
		if _, rest, ok := strings.Cut(f.Read(in), raw+"\n"); ok && raw != "" && !strings.Contains(raw, "/at/") {
			next, _, _ := strings.Cut(rest, "\n")
			raw, cut = raw+next, true
		}
	}
	address, user, secret := ecosystem.Separate(strings.Join(strings.Fields(raw), ""))
	if !f.Ours(address) {
		return nil
	}
	u := ecosystem.Use{Address: strings.TrimSuffix(strings.TrimSuffix(address, "/"), "simple"), In: in, User: user,
		Secret: secret, SecretIn: in}
	if secret == "" {
		f.FromNetrc(&u)
	}
	if cut {
		u.Cut()
	}
	return []ecosystem.Use{u}
}

// usesTwine reads variables, which go before ~/.pypirc, and tells of what its list of servers
// lacks.
func usesTwine(f ecosystem.Files) []ecosystem.Use {
	if address := f.Env("TWINE_REPOSITORY_URL"); f.Ours(address) {
		return []ecosystem.Use{{Address: address, In: "the variable TWINE_REPOSITORY_URL", Publish: true,
			User:   f.Env("TWINE_USERNAME"),
			Secret: f.Env("TWINE_PASSWORD"), SecretIn: "the variable TWINE_PASSWORD"}}
	}
	uses := ofTwine.Uses(f)
	servers, _ := splice.GetINI(f.Read(pypirc.File), "distutils", "index-servers")
	listed := strings.Fields(strings.ReplaceAll(servers, ",", " "))
	for i := range uses {
		if u := &uses[i]; len(listed) > 0 && !slices.Contains(listed, u.ID) {
			u.Wrong = u.In + " has a section [" + u.ID + "], but its list index-servers says " + strings.Join(listed, ", ") +
				": write the same name in both"
		}
	}
	return uses
}

// poetrySource is what a project says of a source; nil if it does not name it.
func poetrySource(project, id string) map[string]string {
	for _, source := range splice.GetTOML(project, "tool.poetry.source") {
		if source["name"] == id {
			return source
		}
	}
	return nil
}
