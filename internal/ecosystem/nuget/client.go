package nuget

import (
	"fmt"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// Point implements ecosystem.Ecosystem.
func (NuGet) Point(p ecosystem.Pointing) []ecosystem.Snippet {
	var snippets []ecosystem.Snippet
	if p.PURL.Name != "" {
		version := p.PURL.Version
		if version == "" {
			version = "*"
		}
		snippets = append(snippets, ecosystem.Snippet{Title: "Reference it", File: "the project's .csproj", Language: "xml",
			Text: fmt.Sprintf("<PackageReference Include=%q Version=%q />\n", p.PURL.Name, version)})
	}
	name := p.Repository.Name
	snippets = append(snippets,
		ecosystem.Snippet{Title: "Where packages come from", File: "NuGet.Config beside the solution", Language: "xml",
			Text: fmt.Sprintf("<configuration>\n  <packageSources>\n    <clear />\n    <add key=%q value=\"%sindex.json\" protocolVersion=\"3\" />\n  </packageSources>\n</configuration>\n", name, p.Address)},
		ecosystem.Snippet{Title: "Who you are (the name is the same in both files)", File: "~/.nuget/NuGet/NuGet.Config", Language: "xml",
			Text: fmt.Sprintf("<configuration>\n  <packageSourceCredentials>\n    <%[1]s>\n      <add key=\"Username\" value=%[2]q />\n      <add key=\"ClearTextPassword\" value=\"%%CRELVO_TOKEN%%\" />\n    </%[1]s>\n  </packageSourceCredentials>\n</configuration>\n", name, p.User)})
	if p.Repository.AsOf == 0 && p.Repository.Kind != catalog.Mirror {
		snippets = append(snippets, ecosystem.Snippet{Title: "Publish", File: "shell", Language: "shell",
			Text: fmt.Sprintf("nuget push PACKAGE.nupkg -Source %sindex.json -ApiKey \"$CRELVO_TOKEN\"\n", p.Address)})
	}
	return snippets
}
