package ecosystem

import (
	"fmt"
	"strings"

	"crelvo/internal/core/splice"
)

// ParseYAMLPlaces reads the places of a document. Texts of several lines have none.
func ParseYAMLPlaces(raw []byte) ([]TextPlace, error) {
	scalars, err := splice.ScalarsYAML(raw)
	if err != nil {
		return nil, err
	}
	if len(scalars) > maxParts {
		return nil, fmt.Errorf("it has more than %d values", maxParts)
	}
	found := make([]TextPlace, len(scalars))
	for i, s := range scalars {
		found[i] = TextPlace{Path: s.Path, Value: s.Value, From: s.From, To: s.To, Number: s.Number, quoted: s.Written}
	}
	return linked(found, func(i, up int) string {
		path := found[i].Path
		return strings.Join(path[:max(0, len(path)-up)], "\x00")
	}), nil
}
