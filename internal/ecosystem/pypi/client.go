package pypi

import (
	"net"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Clients implements ecosystem.Ecosystem.
func (PyPI) Clients() []ecosystem.PackageClient {
	return []ecosystem.PackageClient{
		{Name: "pip", Title: "pip", Agents: []string{"pip/"}, Parts: pipParts, Uses: usesPip, Strays: straysPip,
			Probe: "simple/",
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				return []splice.Setting{{Key: "PIP_INDEX_URL", Value: p.WithSecret(simple(p))}}
			},
			Commands: func(p ecosystem.Pointing) []string { return []string{"pip install " + wanted(p)} }},
		{Name: "twine", Title: "twine", Agents: []string{"twine"}, Publishes: true, Parts: twineParts, Uses: usesTwine,
			Strays: func(f ecosystem.Files, _ ecosystem.Pointing) []string {
				return f.Overridden("TWINE_REPOSITORY_URL")
			}, Upload: "POST ",
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				return []splice.Setting{{Key: "TWINE_REPOSITORY_URL", Value: p.Address}, {Key: "TWINE_USERNAME", Value: p.User},
					{Key: "TWINE_PASSWORD", Value: p.Token()}}
			},
			Commands: func(p ecosystem.Pointing) []string { return []string{"twine upload -r " + p.ID + " dist/*"} }},
		{Name: "uv", Title: "uv", Agents: []string{"uv/"}, Publishes: true, Parts: uvParts,
			Uses: usesTOML("tool.uv.index", nil), Strays: straysUV,
			Probe: "simple/", Upload: "POST ",
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				name := "UV_INDEX_" + variable(p.ID)
				all := []splice.Setting{{Key: name + "_USERNAME", Value: p.User}, {Key: name + "_PASSWORD", Value: p.Token()}}
				if p.Publishes() {
					all = append(all, splice.Setting{Key: "UV_PUBLISH_USERNAME", Value: p.User},
						splice.Setting{Key: "UV_PUBLISH_PASSWORD", Value: p.Token()})
				}
				return all
			},
			Commands: func(p ecosystem.Pointing) []string {
				all := []string{"uv sync"}
				if p.PURL.Name != "" {
					all = []string{"uv add " + wanted(p)}
				}
				if p.Publishes() {
					all = append(all, "uv publish --index "+p.ID)
				}
				return all
			}},
		{Name: "poetry", Title: "Poetry", Agents: []string{"poetry"}, Publishes: true, Parts: poetryParts,
			Uses: usesTOML("tool.poetry.source", fromPoetry), Strays: straysPoetry, Probe: "simple/", Upload: "POST ",
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				name := "POETRY_HTTP_BASIC_" + variable(p.ID)
				return []splice.Setting{{Key: name + "_USERNAME", Value: p.User}, {Key: name + "_PASSWORD", Value: p.Token()}}
			},
			Commands: func(p ecosystem.Pointing) []string {
				all := []string{"poetry install"}
				if p.PURL.Name != "" {
					all = []string{"poetry add " + wanted(p)}
				}
				if p.Publishes() {
					all = append(all, "poetry publish -r "+p.ID)
				}
				return all
			}},
	}
}

func simple(p ecosystem.Pointing) string { return p.Address + "simple/" }

func variable(id string) string { return strings.ToUpper(strings.ReplaceAll(id, "-", "_")) }

func wanted(p ecosystem.Pointing) string {
	switch {
	case p.PURL.Name == "":
		return "-r requirements.txt"
	case p.PURL.Version != "":
		return p.PURL.Name + "==" + p.PURL.Version
	}
	return p.PURL.Name
}

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

func twineParts(p ecosystem.Pointing) []ecosystem.Piece {
	set := func(key, value string) func(string) (string, error) {
		return func(text string) (string, error) { return splice.SetINI(text, p.ID, key, value) }
	}
	return []ecosystem.Piece{{Title: "Where it publishes, and who you are", File: "~/.pypirc",
		Windows: `%USERPROFILE%\.pypirc`, Language: "ini", Secret: true,
		Edit: ecosystem.Sequence(func(text string) (string, error) {
			return splice.AddToINI(text, "distutils", "index-servers", p.ID)
		},
			set("repository", p.Address), set("username", p.User), set("password", p.Token()))}}
}

func usesTwine(f ecosystem.Files) (uses []ecosystem.Use) {
	const file = "~/.pypirc"
	text := f.Read(file)
	if address := f.Env("TWINE_REPOSITORY_URL"); f.Ours(address) {
		return []ecosystem.Use{{Address: address, In: "the variable TWINE_REPOSITORY_URL", Publish: true,
			User:   f.Env("TWINE_USERNAME"),
			Secret: f.Env("TWINE_PASSWORD"), SecretIn: "the variable TWINE_PASSWORD"}}
	}
	servers, _ := splice.GetINI(text, "distutils", "index-servers")
	listed := strings.Fields(strings.ReplaceAll(servers, ",", " "))
	for _, section := range splice.SectionsINI(text) {
		address, ok := splice.GetINI(text, section, "repository")
		if !ok || !f.Ours(address) {
			continue
		}
		u := ecosystem.Use{Address: address, ID: section, In: file, Publish: true, SecretIn: file}
		u.User, _ = splice.GetINI(text, section, "username")
		u.Secret, _ = splice.GetINI(text, section, "password")
		found := false
		for _, name := range listed {
			found = found || name == section
		}
		if !found && len(listed) > 0 {
			u.Wrong = file + " has a section [" + section + "], but its list index-servers says " + strings.Join(listed, ", ") +
				": write the same name in both"
		}
		uses = append(uses, u)
	}
	return uses
}

func uvParts(p ecosystem.Pointing) []ecosystem.Piece {
	values := []splice.Setting{{Key: "name", Value: p.ID}, {Key: "url", Value: simple(p)}}
	if p.Publishes() {
		values = append(values, splice.Setting{Key: "publish-url", Value: p.Address})
	}
	if p.Everything {
		values = append(values, splice.Setting{Key: "default", Value: "true"})
	}
	return []ecosystem.Piece{
		{Title: "Where packages come from", File: "pyproject.toml", Language: "toml", There: true,
			Edit: func(text string) (string, error) { return splice.SetTOML(text, "tool.uv.index", "name", values) }},
		ecosystem.InNetrc(p),
	}
}

func poetryParts(p ecosystem.Pointing) []ecosystem.Piece {
	parts := []ecosystem.Piece{
		{Title: "Where packages come from", File: "pyproject.toml", Language: "toml", There: true,
			Edit: func(text string) (string, error) {
				source := []splice.Setting{{Key: "name", Value: p.ID}, {Key: "url", Value: simple(p)}}
				if !p.Everything {
					source = append(source, splice.Setting{Key: "priority", Value: "supplemental"})
				} else if _, there := poetrySource(text, p.ID)["priority"]; there {
					// Poetry before 1.5 refuses the key, and a source without it is a primary one.
					source = append(source, splice.Setting{Key: "priority", Value: "primary"})
				}
				return splice.SetTOML(text, "tool.poetry.source", "name", source)
			}},
		{Title: "Who you are (the name is the same in all files)", File: "~/.config/pypoetry/auth.toml",
			Windows: `%APPDATA%\pypoetry\auth.toml`, Language: "toml", Secret: true,
			Edit: func(text string) (string, error) {
				return splice.SetTOML(text, "http-basic."+p.ID, "",
					[]splice.Setting{{Key: "username", Value: p.User}, {Key: "password", Value: p.Token()}})
			}},
	}
	if p.Publishes() {
		parts = append(parts, ecosystem.Piece{Title: "Where it publishes", File: "~/.config/pypoetry/config.toml",
			Windows: `%APPDATA%\pypoetry\config.toml`, Language: "toml",
			Edit: func(text string) (string, error) {
				return splice.SetTOML(text, "repositories."+p.ID, "", []splice.Setting{{Key: "url", Value: p.Address}})
			}})
	}
	return parts
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

// usesTOML reads the sources that a project names; secret finds who signs in,
// nil by ~/.netrc.
func usesTOML(table string, secret func(f ecosystem.Files, u *ecosystem.Use)) func(f ecosystem.Files) []ecosystem.Use {
	return func(f ecosystem.Files) (uses []ecosystem.Use) {
		for _, source := range splice.GetTOML(f.Read("pyproject.toml"), table) {
			address, user, password := ecosystem.Separate(source["url"])
			if !f.Ours(address) {
				continue
			}
			u := ecosystem.Use{Address: strings.TrimSuffix(strings.TrimSuffix(address, "/"), "simple"), ID: source["name"],
				In:      "pyproject.toml",
				Publish: source["publish-url"] != "" || publishes(f, source["name"]), User: user, Secret: password,
				SecretIn: "pyproject.toml"}
			if password == "" {
				u.SecretIn = ""
				if secret == nil {
					f.FromNetrc(&u)
				} else {
					secret(f, &u)
				}
			}
			uses = append(uses, u)
		}
		return uses
	}
}

// publishes tells whether Poetry has an address to publish to under a name.
func publishes(f ecosystem.Files, name string) bool {
	return len(splice.GetTOML(f.Read("~/.config/pypoetry/config.toml"), "repositories."+name)) > 0
}

func fromPoetry(f ecosystem.Files, u *ecosystem.Use) {
	const file = "~/.config/pypoetry/auth.toml"
	text := f.Read(file)
	for _, table := range splice.GetTOML(text, "http-basic."+u.ID) {
		u.User, u.Secret, u.SecretIn = table["username"], strings.Trim(table["password"], `"`), file
		return
	}
	for _, section := range splice.SectionsINI(text) {
		if other, ok := strings.CutPrefix(section, "http-basic."); ok {
			u.SecretIn = file
			u.Elsewhere(other)
			return
		}
	}
}
