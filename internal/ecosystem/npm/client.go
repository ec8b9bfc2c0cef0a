package npm

import (
	"fmt"
	"strings"

	"crelvo/internal/ecosystem"
)

// Point implements ecosystem.Ecosystem.
func (NPM) Point(p ecosystem.Pointing) []ecosystem.Snippet {
	var snippets []ecosystem.Snippet
	if p.PURL.Name != "" {
		what := joinName(p.PURL.Namespace, p.PURL.Name)
		if p.PURL.Version != "" {
			what += "@" + p.PURL.Version
		}
		snippets = append(snippets, ecosystem.Snippet{Title: "Install it", File: "shell", Language: "shell",
			Text: fmt.Sprintf("npm install %s\n", what)})
	}
	address := strings.TrimPrefix(strings.TrimPrefix(p.Address, "https:"), "http:")
	snippets = append(snippets,
		ecosystem.Snippet{Title: "Where npm, pnpm and yarn 1 find everything", File: ".npmrc beside package.json", Language: "ini",
			Text: fmt.Sprintf("registry=%s\n", p.Address)})
	if scope := p.PURL.Namespace; scope != "" {
		snippets = append(snippets, ecosystem.Snippet{Title: "Or only for this scope", File: ".npmrc beside package.json", Language: "ini",
			Text: fmt.Sprintf("%s:registry=%s\n", scope, p.Address)})
	}
	return append(snippets,
		ecosystem.Snippet{Title: "Who you are", File: "~/.npmrc", Language: "ini",
			Text: fmt.Sprintf("%s:_authToken=${CRELVO_TOKEN}\n", address)},
		ecosystem.Snippet{Title: "yarn 4", File: ".yarnrc.yml", Language: "yaml",
			Text: fmt.Sprintf("npmRegistryServer: %q\nnpmAuthToken: \"${CRELVO_TOKEN}\"\nnpmAlwaysAuth: true\n", p.Address)})
}
