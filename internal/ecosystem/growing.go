package ecosystem

import (
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
)

// Growing is an ecosystem whose versions may get further files after they are
// complete, such as those that other jobs make for other platforms. In the others
// a release that is complete takes signatures and attestations alone.
type Growing interface {
	// MayNotGrow says in a clause why a file may not be added to a release that has
	// others; "" if it may. A file that clients would choose before one that is
	// there may not.
	MayNotGrow(there []catalog.File, name, classifier, extension string) string
}

// attestations are the endings of files that say something of the file whose name
// stands before.
var attestations = []string{".asc", ".sig", ".sigstore.json", ".sigstore", ".publish.attestation", ".prov"}

// Attests tells whether a file is a signature or an attestation of one that is
// there.
func Attests(name string, there []catalog.File) bool {
	return slices.ContainsFunc(attestations, func(ending string) bool {
		of, ok := strings.CutSuffix(name, ending)
		return ok && slices.ContainsFunc(there, func(f catalog.File) bool {
			return f.Name == of || strings.TrimSuffix(f.Name, "."+f.Extension) == of
		})
	})
}
