package ecosystem

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// ParseTOMLPlaces reads the places of a document. Values that are no texts have none.
func ParseTOMLPlaces(raw []byte) ([]TextPlace, error) {
	var found []TextPlace
	p := unstable.Parser{}
	p.Reset(raw)
	var table []string
	count := map[string]int{} // of the tables in an array
	path := func(at []string, keys unstable.Iterator) []string {
		at = at[:len(at):len(at)]
		for keys.Next() {
			at = append(at, string(keys.Node().Data))
		}
		return at
	}
	var add func(at []string, value *unstable.Node)
	add = func(at []string, value *unstable.Node) {
		switch value.Kind {
		case unstable.String:
			from := int(value.Raw.Offset)
			found = append(found, TextPlace{Path: at, Value: string(value.Data), From: from,
				To: from + int(value.Raw.Length), quoted: JSONText})
		case unstable.Array:
			children := value.Children()
			for i := 0; children.Next(); i++ {
				add(append(at[:len(at):len(at)], strconv.Itoa(i)), children.Node())
			}
		case unstable.InlineTable:
			for children := value.Children(); children.Next(); {
				add(path(at, children.Node().Key()), children.Node().Value())
			}
		}
	}
	for p.NextExpression() {
		if len(found) > maxParts {
			return nil, fmt.Errorf("it has more than %d values", maxParts)
		}
		switch e := p.Expression(); e.Kind {
		case unstable.Table:
			table = path(nil, e.Key())
		case unstable.ArrayTable:
			table = path(nil, e.Key())
			key := strings.Join(table, "\x00")
			table = append(table, strconv.Itoa(count[key]))
			count[key]++
		case unstable.KeyValue:
			add(path(table, e.Key()), e.Value())
		}
	}
	return linked(found, func(i, up int) string { return found[i].parent(up) }), p.Error()
}
