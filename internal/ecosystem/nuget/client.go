package nuget

import (
	"fmt"

	"crelvo/internal/ecosystem"
)

// Clients implements ecosystem.Ecosystem.
func (NuGet) Clients() []ecosystem.PackageClient {
	const variable = "%CRELVO_TOKEN%"
	const windows = `%APPDATA%\NuGet\NuGet.Config`
	const ofNuget, ofDotnet = "~/.config/NuGet/NuGet.Config", "~/.nuget/NuGet/NuGet.Config"
	forNuget, forDotnet := settingsWith(ofNuget, windows), settingsWith(ofDotnet, windows)
	return []ecosystem.PackageClient{
		{Name: "nuget", Title: "nuget", Agents: []string{"NuGet", "dotnet"}, Publishes: true, Parts: forNuget.Parts,
			Reference: variable,
			Uses:      forNuget.Uses, Strays: straysWith(ofNuget),
			Mends: mendsWith(ofNuget), Probe: "index.json", Upload: "PUT package/",
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
		{Name: "dotnet", Title: "dotnet", Publishes: true, Parts: forDotnet.Parts,
			Reference: variable,
			Uses:      forDotnet.Uses, Strays: straysWith(ofDotnet),
			Mends: mendsWith(ofDotnet), Probe: "index.json", Upload: "PUT package/",
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

// settingsWith are those of a client whose personal file is that one. In a project's file
// other sources, of other files too, are not asked where the repository answers for all.
func settingsWith(personalFile, windows string) ecosystem.Settings {
	read := []string{projectFile, "nuget.config", personalFile}
	project := ecosystem.Source{File: projectFile, Title: "Where packages come from", Form: ecosystem.XML, Read: read}
	personal := ecosystem.Source{File: personalFile, Title: "Who you are (the name is the same in both files)",
		Windows: windows, Form: ecosystem.XML, Read: read}
	source := func(attribute string) []string {
		return []string{"configuration", "packageSources", "add@key={id}", attribute}
	}
	credential := func(key string) []string {
		return []string{"configuration", "packageSourceCredentials", "{id}", "add@key=" + key, "@value"}
	}
	return ecosystem.Settings{Name: element, Expand: expandPercent, All: []ecosystem.Setting{
		{In: project, Path: []string{"configuration", "packageSources", "clear"},
			Only: func(p ecosystem.Pointing) bool { return p.Everything }},
		{In: project, Path: source("@value"), Value: "{address}index.json"},
		{In: project, Path: source("@protocolVersion"), Value: "3"},
		{In: project, Path: source("@allowInsecureConnections"), Value: "true", Only: ecosystem.Pointing.Plain},
		{In: personal, Path: credential("Username"), Value: "{user}"},
		{In: personal, Path: credential("ClearTextPassword"), Value: "{token}"}}}
}

// expandPercent puts in a variable that is written %NAME%.
func expandPercent(f ecosystem.Files, text string) string {
	if len(text) > 2 && text[0] == '%' && text[len(text)-1] == '%' {
		return f.Env(text[1 : len(text)-1])
	}
	return text
}
