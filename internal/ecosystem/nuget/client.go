package nuget

import (
	"fmt"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Clients implements ecosystem.Ecosystem.
func (NuGet) Clients() []ecosystem.PackageClient {
	const variable = "%CRELVO_TOKEN%"
	const windows = `%APPDATA%\NuGet\NuGet.Config`
	return []ecosystem.PackageClient{
		{Name: "nuget", Title: "nuget", Publishes: true, Parts: partsWith("~/.config/NuGet/NuGet.Config", windows),
			Reference: variable,
			Uses:      usesWith("~/.config/NuGet/NuGet.Config"), Strays: straysWith("~/.config/NuGet/NuGet.Config"),
			Mends: mendsWith("~/.config/NuGet/NuGet.Config"), Probe: "index.json", Upload: "PUT package/",
			Commands: func(p ecosystem.Pointing) []string {
				all := []string{"nuget restore"}
				if p.PURL.Name != "" {
					all = []string{"nuget install " + p.PURL.Name + versionFlag(" -Version ", p)}
				}
				if p.Publishes() {
					all = append(all, "nuget push PACKAGE.nupkg -Source "+p.ID)
				}
				return all
			}},
		{Name: "dotnet", Title: "dotnet", Publishes: true, Parts: partsWith("~/.nuget/NuGet/NuGet.Config", windows),
			Reference: variable,
			Uses:      usesWith("~/.nuget/NuGet/NuGet.Config"), Strays: straysWith("~/.nuget/NuGet/NuGet.Config"),
			Mends: mendsWith("~/.nuget/NuGet/NuGet.Config"), Probe: "index.json", Upload: "PUT package/",
			Commands: func(p ecosystem.Pointing) []string {
				all := []string{"dotnet restore"}
				if p.PURL.Name != "" {
					all = []string{"dotnet add package " + p.PURL.Name + versionFlag(" --version ", p)}
				}
				if p.Publishes() {
					all = append(all, "dotnet nuget push PACKAGE.nupkg --source "+p.ID)
				}
				return all
			}},
	}
}

func versionFlag(flag string, p ecosystem.Pointing) string {
	if p.PURL.Version == "" {
		return ""
	}
	return flag + p.PURL.Version
}

const projectFile = "NuGet.Config"

// element is a name as NuGet writes it where an XML element is named after it.
func element(name string) string {
	if name != "" && name[0] >= '0' && name[0] <= '9' {
		return fmt.Sprintf("_x%04X_", name[0]) + name[1:]
	}
	return name
}

func partsWith(personal, windows string) func(p ecosystem.Pointing) []ecosystem.Piece {
	return func(p ecosystem.Pointing) []ecosystem.Piece {
		root := splice.Step{Name: "configuration"}
		source := func(attr, value string) func(string) (string, error) {
			return func(text string) (string, error) {
				return splice.SetXML(text, []splice.Step{root, {Name: "packageSources"}, {Name: "add", Attr: "key", Value: p.ID}},
					attr, value)
			}
		}
		credential := func(key, value string) func(string) (string, error) {
			return func(text string) (string, error) {
				return splice.SetXML(text, []splice.Step{root, {Name: "packageSourceCredentials"}, {Name: element(p.ID)},
					{Name: "add", Attr: "key", Value: key}}, "value", value)
			}
		}
		address := []func(string) (string, error){source("value", p.Address+"index.json"), source("protocolVersion", "3")}
		if p.Plain() {
			address = append(address, source("allowInsecureConnections", "true"))
		}
		if p.Everything {
			// Other sources, of other files too, are not asked then.
			address = append([]func(string) (string, error){func(text string) (string, error) {
				return splice.SetXML(text, []splice.Step{root, {Name: "packageSources"}, {Name: "clear"}}, "", "")
			}}, address...)
		}
		return []ecosystem.Piece{
			{Title: "Where packages come from", File: projectFile, Language: "xml", Edit: ecosystem.Sequence(address...)},
			{Title: "Who you are (the name is the same in both files)", File: personal, Windows: windows, Language: "xml",
				Secret: true,
				Edit:   ecosystem.Sequence(credential("Username", p.User), credential("ClearTextPassword", p.Token()))},
		}
	}
}

func usesWith(personal string) func(f ecosystem.Files) []ecosystem.Use {
	return func(f ecosystem.Files) (uses []ecosystem.Use) {
		type file struct {
			name string
			root *splice.Element
		}
		var files []file
		for _, name := range []string{projectFile, "nuget.config", personal} {
			if root, err := splice.ReadXML(f.Read(name)); err == nil && root != nil {
				files = append(files, file{name, root})
			}
		}
		for _, in := range files {
			for _, add := range in.root.Below("packageSources", "add") {
				address := strings.TrimSuffix(add.Attrs["value"], "index.json")
				if !f.Ours(address) {
					continue
				}
				u := ecosystem.Use{Address: address, ID: add.Attrs["key"], In: in.name, Publish: true}
				other := ""
				for _, with := range files {
					for _, credentials := range with.root.Below("packageSourceCredentials") {
						for _, c := range credentials.Children {
							if c.Name != element(u.ID) {
								other, u.SecretIn = c.Name, with.name
								continue
							}
							for _, pair := range c.Below("add") {
								switch pair.Attrs["key"] {
								case "Username":
									u.User = pair.Attrs["value"]
								case "ClearTextPassword":
									u.Secret, u.SecretIn, other = expandPercent(f, pair.Attrs["value"]), with.name, ""
								}
							}
						}
					}
					if u.Secret != "" {
						break
					}
				}
				if u.Secret == "" && other != "" {
					u.Elsewhere(other)
				}
				uses = append(uses, u)
			}
		}
		return uses
	}
}

// expandPercent puts in a variable that is written %NAME%.
func expandPercent(f ecosystem.Files, text string) string {
	if len(text) > 2 && text[0] == '%' && text[len(text)-1] == '%' {
		return f.Env(text[1 : len(text)-1])
	}
	return text
}
