package helm

import (
	"context"
	"path"
	"strings"

	"crelvo/internal/ecosystem"
)

// Restamp implements ecosystem.Restamping: version and appVersion in Chart.yaml, and those
// of other charts that are restamped too: in its dependencies, in Chart.lock, and where
// they are in the archive themselves. Where references to images change, those in
// values.yaml.
func (k Helm) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	name := k.Named(f.Stamp.Name, f.Stamp.To, f.File.Extension)
	if f.File.Extension == provenance {
		return ecosystem.Rewriting{Name: name, Dropped: "it signs the bytes of before"}, nil
	}
	values := ecosystem.Statement{Document: ecosystem.InFolder("values.yaml"), Places: ecosystem.ParseYAMLPlaces,
		Whose: func(p ecosystem.TextPlace) (ecosystem.Stated, bool) { return imageIn(p, f.Relabelled) }}
	if f.Relabelled == nil {
		values.Document = func(string) bool { return false }
	}
	return ecosystem.RestampFolder(ctx, f, name, values,
		ecosystem.Statement{Document: ecosystem.InFolder("Chart.yaml"), Places: ecosystem.ParseYAMLPlaces, Whose: inChart},
		ecosystem.Statement{Document: ecosystem.InFolder("Chart.lock", "requirements.yaml", "requirements.lock"),
			Places: ecosystem.ParseYAMLPlaces, Whose: dependencyIn},
		ecosystem.Statement{Document: isInner, Places: ecosystem.ParseYAMLPlaces, Whose: inInner})
}

func inChart(p ecosystem.TextPlace) (ecosystem.Stated, bool) {
	if p.Is("version") || p.Is("appVersion") {
		return ecosystem.Stated{Own: true, What: p.Key()}, true
	}
	return dependencyIn(p)
}

func dependencyIn(p ecosystem.TextPlace) (ecosystem.Stated, bool) {
	if !p.Is("dependencies", "*", "version") {
		return ecosystem.Stated{}, false
	}
	return ecosystem.Stated{Name: p.Beside("name")}, true
}

// isInner tells whether an entry is the Chart.yaml of a chart within the archive.
func isInner(name string) bool {
	dir, base := path.Split(path.Clean(name))
	parts := strings.Split(strings.Trim(dir, "/"), "/")
	return base == "Chart.yaml" && len(parts) > 2 && parts[len(parts)-2] == "charts"
}

func inInner(p ecosystem.TextPlace) (ecosystem.Stated, bool) {
	if p.Is("version") || p.Is("appVersion") {
		return ecosystem.Stated{Name: p.Beside("name"), What: p.Key() + " of " + p.Beside("name")}, true
	}
	return dependencyIn(p)
}
