package pypi

import (
	"fmt"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// Point implements ecosystem.Ecosystem.
func (PyPI) Point(p ecosystem.Pointing) []ecosystem.Snippet {
	var snippets []ecosystem.Snippet
	if p.PURL.Name != "" {
		what := p.PURL.Name
		if p.PURL.Version != "" {
			what += "==" + p.PURL.Version
		}
		snippets = append(snippets, ecosystem.Snippet{Title: "Install it", File: "shell", Language: "shell",
			Text: fmt.Sprintf("pip install --index-url %ssimple/ %s\n", p.Address, what)})
	}
	host := strings.TrimPrefix(strings.TrimPrefix(p.Address, "https://"), "http://")
	host, _, _ = strings.Cut(host, "/")
	host, _, _ = strings.Cut(host, ":")
	snippets = append(snippets,
		ecosystem.Snippet{Title: "Where pip finds everything", File: "~/.config/pip/pip.conf", Language: "ini",
			Text: fmt.Sprintf("[global]\nindex-url = %ssimple/\n", p.Address)},
		ecosystem.Snippet{Title: "Who you are", File: "~/.netrc", Language: "text",
			Text: fmt.Sprintf("machine %s\n  login %s\n  password YOUR-TOKEN\n", host, p.User)})
	if p.Repository.AsOf == 0 && p.Repository.Kind != catalog.Mirror {
		snippets = append(snippets, ecosystem.Snippet{Title: "Where twine publishes", File: "~/.pypirc", Language: "ini",
			Text: fmt.Sprintf("[distutils]\nindex-servers = %[1]s\n\n[%[1]s]\nrepository = %[2]s\nusername = %[3]s\n", p.Repository.Name, p.Address, p.User)})
	}
	return snippets
}
