package splice

import (
	"strings"

	"github.com/tidwall/gjson"
	"github.com/tidwall/pretty"
	"github.com/tidwall/sjson"
)

// jsonPath is a path of keys in the form of gjson and sjson.
func jsonPath(path []string) string {
	escaped := make([]string, len(path))
	for i, key := range path {
		escaped[i] = gjson.Escape(key)
	}
	return strings.Join(escaped, ".")
}

// PutJSON writes a text into an object of a JSON file, and makes the objects on its path
// where they are not there; every other byte stays. "" is a file that is not there.
func PutJSON(existing string, path []string, value string) (string, error) {
	if strings.TrimSpace(existing) == "" {
		fresh, err := sjson.Set("{}", jsonPath(path), value)
		return string(pretty.PrettyOptions([]byte(fresh), &pretty.Options{Indent: "\t"})), err
	}
	if _, _, err := textIn(existing, path); err != nil {
		return "", err
	}
	if !gjson.Parse(existing).IsObject() {
		return "", cannot("it is no object")
	}
	if was := gjson.Get(existing, jsonPath(path)); was.Type == gjson.String && was.Str == value {
		return existing, nil
	}
	return sjson.Set(existing, jsonPath(path), value)
}

// GetJSON gives the text at a path of keys.
func GetJSON(text string, path []string) (string, bool) {
	if !gjson.Valid(text) {
		return "", false
	}
	found := gjson.Get(text, jsonPath(path))
	return found.Str, found.Type == gjson.String
}
