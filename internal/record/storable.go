package record

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"

	"crelvo/internal/core/catalog"
)

// writeDetails is details as they are stored: bounded, whatever they were read
// from.
func writeDetails(d catalog.Details) ([]byte, error) {
	raw, err := json.Marshal(d.Bounded())
	return storableJSON(raw), err
}

// storable is text without what PostgreSQL cannot keep.
func storable(text string) string {
	return strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "\uFFFD")
}

// storableJSON is a JSON document without what PostgreSQL cannot keep in a text:
// bytes that are no UTF-8, the character 0, and halves of surrogate pairs, which
// JSON may have as escapes.
func storableJSON(raw []byte) []byte {
	raw = bytes.ToValidUTF8(raw, []byte("\uFFFD"))
	if !bytes.Contains(raw, []byte(`\u0000`)) && !bytes.Contains(raw, []byte(`\ud`)) &&
		!bytes.Contains(raw, []byte(`\uD`)) {
		return raw
	}
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); {
		if raw[i] != '\\' || i+1 == len(raw) {
			out = append(out, raw[i])
			i++
			continue
		}
		unit, ok := escapedUnit(raw[i:])
		switch {
		case !ok: // another escape
			out = append(out, raw[i:i+2]...)
			i += 2
			continue
		case unit == 0:
		case unit>>11 != 0xd800>>11:
			out = append(out, raw[i:i+6]...)
		default:
			second, ok := escapedUnit(raw[i+6:])
			if unit < 0xdc00 && ok && second>>10 == 0xdc00>>10 {
				out = append(out, raw[i:i+12]...)
				i += 6
			} else {
				out = append(out, `\ufffd`...)
			}
		}
		i += 6
	}
	return out
}

// escapedUnit reads an escape \uXXXX at the beginning.
func escapedUnit(raw []byte) (unit uint64, ok bool) {
	if len(raw) < 6 || raw[0] != '\\' || raw[1] != 'u' {
		return 0, false
	}
	unit, err := strconv.ParseUint(string(raw[2:6]), 16, 16)
	return unit, err == nil
}
