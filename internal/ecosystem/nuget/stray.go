package nuget

import (
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// straysWith is what keeps NuGet from asking the source that it is pointed at: that it is
// switched off, that a mapping gives packages to other sources, or a variable with
// another secret.
func straysWith(personal string) func(f ecosystem.Files, p ecosystem.Pointing) []string {
	return func(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
		mapped, ours := "", false
		for _, name := range []string{projectFile, "nuget.config", personal} {
			root, err := splice.ReadXML(f.Read(name))
			if err != nil || root == nil {
				continue // which is said already
			}
			if off(root, p.ID) != nil {
				said = append(said, fmt.Sprintf("%s switches the source %s off: take it out of disabledPackageSources", name, p.ID))
			}
			for _, source := range root.Below("packageSourceMapping", "packageSource") {
				mapped = name
				ours = ours || source.Attrs["key"] == p.ID
			}
		}
		if mapped != "" && !ours {
			said = append(said,
				fmt.Sprintf(
					"packageSourceMapping in %s gives packages to other sources, and none to %s: add a packageSource with that key "+
						"there", mapped, p.ID))
		}
		if variable := "NuGetPackageSourceCredentials_" + p.ID; f.Env(variable) != "" {
			said = append(said, fmt.Sprintf("the variable %s goes before what the files say of who you are: unset it", variable))
		}
		return said
	}
}

// off is the entry by which a file switches a source off; nil if there is none. NuGet
// looks at its key alone, in any case, and passes over a value of false.
func off(root *splice.Element, id string) *splice.Element {
	for _, e := range root.Below("disabledPackageSources", "add") {
		if strings.EqualFold(e.Attrs["key"], id) {
			return e
		}
	}
	return nil
}

// mendsWith switches the source on, and gives it everything where a mapping gives it
// nothing and everything is to come from it.
func mendsWith(personal string) func(f ecosystem.Files, p ecosystem.Pointing) []ecosystem.Piece {
	return func(f ecosystem.Files, p ecosystem.Pointing) (pieces []ecosystem.Piece) {
		add := func(name, title, attr, value string, steps ...splice.Step) {
			pieces = append(pieces, ecosystem.Piece{Title: title, File: name, Language: "xml",
				Edit: func(text string) (string, error) {
					return splice.SetXML(text, append([]splice.Step{{Name: "configuration"}}, steps...), attr, value)
				}})
		}
		for _, name := range []string{projectFile, "nuget.config", personal} {
			root, err := splice.ReadXML(f.Read(name))
			if err != nil || root == nil {
				continue
			}
			if entry := off(root, p.ID); entry != nil {
				way := []splice.Step{{Name: "configuration"}, {Name: "disabledPackageSources"},
					{Name: "add", Attr: "key", Value: entry.Attrs["key"]}}
				pieces = append(pieces, ecosystem.Piece{Title: "A source that was switched off", File: name, Language: "xml",
					Edit: func(text string) (string, error) { return splice.RemoveXML(text, way) }})
			}
			if sources := root.Below("packageSourceMapping", "packageSource"); p.Everything && len(sources) > 0 &&
				!slices.ContainsFunc(sources, func(e *splice.Element) bool { return e.Attrs["key"] == p.ID }) {
				add(name, "What comes from where", "pattern", "*", splice.Step{Name: "packageSourceMapping"},
					splice.Step{Name: "packageSource", Attr: "key", Value: p.ID}, splice.Step{Name: "package"})
			}
		}
		return pieces
	}
}
