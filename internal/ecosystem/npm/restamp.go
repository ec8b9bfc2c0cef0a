package npm

import (
	"context"
	"strings"

	"crelvo/internal/ecosystem"
)

// Restamp implements ecosystem.Restamping: the version in package.json, and
// those by which it, or npm-shrinkwrap.json beside it, names packages that are
// restamped too.
func (n NPM) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	return ecosystem.RestampTarGz(ctx, f, n.FileName(f.Stamp.Name, f.Stamp.To), ecosystem.Declared(f, nil,
		ecosystem.Statement{Document: ecosystem.InFolder("package.json", "npm-shrinkwrap.json"),
			Places: ecosystem.ParseJSONPlaces, Whose: whose}))
}

func whose(p ecosystem.TextPlace) (ecosystem.Stated, bool) {
	if p.Is("version") || p.Is("packages", "", "version") {
		return ecosystem.Stated{Own: true, What: "version"}, true
	}
	if len(p.Path) < 2 || !strings.HasSuffix(strings.ToLower(p.Path[len(p.Path)-2]), "dependencies") {
		return ecosystem.Stated{}, false
	}
	scope, base, ok := splitName(p.Key())
	return ecosystem.Stated{Namespace: scope, Name: base, What: "dependency on " + p.Key()}, ok
}
