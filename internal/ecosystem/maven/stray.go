package maven

import (
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// straysMaven finds mirrors in a person's settings that Maven takes before what it is
// pointed at. Of several it takes the one that names a repository's id, and else the
// first whose pattern fits (Maven's guide to mirror settings).
func straysMaven(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	settings, err := splice.ReadXML(f.Read(settingsFile))
	if err != nil {
		return nil // which is said already
	}
	asked := p.ID
	if p.Everything {
		asked = "central"
	}
	ours := false // our own mirror was seen
	for _, m := range settings.Below("mirrors", "mirror") {
		if f.Ours(f.Expand(m.Says("url"))) {
			ours = true
			continue
		}
		of := m.Says("mirrorOf")
		if of != asked && (ours || !mirrors(of, asked)) {
			continue
		}
		address, _, _ := ecosystem.Separate(f.Expand(m.Says("url")))
		said = append(said, fmt.Sprintf("the mirror %s in %s, of %s, goes before it and leads to %s: take it out, or write !%s into its mirrorOf",
			m.Says("id"), settingsFile, of, address, asked))
	}
	return said
}

// mirrors tells whether the pattern of a mirror fits a repository's id. That one is on
// this machine, which external:* leaves out, is not looked at.
func mirrors(pattern, id string) bool {
	all := strings.FieldsFunc(pattern, func(r rune) bool { return r == ',' || r == ' ' || r == '\n' || r == '\t' })
	if slices.Contains(all, "!"+id) {
		return false
	}
	return slices.Contains(all, "*") || slices.Contains(all, "external:*") || slices.Contains(all, id)
}
