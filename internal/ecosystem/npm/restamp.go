package npm

import (
	"context"
	"fmt"
	"path"
	"strings"

	"crelvo/internal/ecosystem"
)

// Restamp implements ecosystem.Restamping: the version in package.json, and
// those by which it, or npm-shrinkwrap.json beside it, names packages that are
// restamped too.
func (NPM) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	return ecosystem.RestampTarGz(ctx, f, fileName(f.Stamp.Name, f.Stamp.To), ecosystem.ArchiveEdit{
		Wants: func(name string) bool {
			folder, base := path.Split(path.Clean(name))
			return strings.Count(folder, "/") == 1 && (base == "package.json" || base == "npm-shrinkwrap.json")
		},
		Edit: func(name string, raw []byte) ([]byte, []ecosystem.Change, error) {
			places, err := ecosystem.ParseJSONPlaces(raw)
			if err != nil {
				return nil, nil, fmt.Errorf("it is no JSON: %w", err)
			}
			var splices []ecosystem.Splice
			var changes []ecosystem.Change
			for _, p := range places {
				stamp, what := stampAt(f, p)
				if stamp == nil || p.Number {
					continue
				}
				one := ecosystem.ToRestamp{Stamp: *stamp, All: ecosystem.Stamps{*stamp}}
				if text := one.Swap(p.Value, nil); text != p.Value {
					changes = append(changes, ecosystem.Change{Entry: name, What: what, Old: p.Value, New: text})
					splices = append(splices, ecosystem.Splice{Start: p.From, End: p.To, New: ecosystem.JSONText(text)})
				}
			}
			return ecosystem.Spliced(raw, splices), changes, nil
		},
	})
}

// stampAt is the stamp of the package whose version stands at a place; nil if
// none does.
func stampAt(f ecosystem.ToRestamp, p ecosystem.JSONPlace) (*ecosystem.Stamp, string) {
	own := len(p.Path) == 1 && p.Key() == "version" ||
		len(p.Path) == 3 && p.Path[0] == "packages" && p.Path[1] == "" && p.Key() == "version"
	if own {
		return &f.Stamp, "version"
	}
	if len(p.Path) < 2 || !strings.HasSuffix(strings.ToLower(p.Path[len(p.Path)-2]), "dependencies") {
		return nil, ""
	}
	scope, base, ok := splitName(p.Key())
	if !ok {
		return nil, ""
	}
	return f.All.Of(scope, base), "dependency on " + p.Key()
}
