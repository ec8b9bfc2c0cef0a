package splice

import (
	"encoding/json"
	"io"
	"strings"
)

// SetJSON gives a text that stands in an object of a JSON file another value. Where
// there is none at the path, nothing is changed.
func SetJSON(existing string, path []string, value string) (string, error) {
	from, to, err := textIn(existing, path)
	if err != nil || to == 0 {
		return existing, err
	}
	var was string
	if json.Unmarshal([]byte(existing[from:to]), &was) == nil && was == value {
		return existing, nil
	}
	var quoted strings.Builder
	encoder := json.NewEncoder(&quoted)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(value); err != nil {
		return "", err
	}
	return existing[:from] + strings.TrimSuffix(quoted.String(), "\n") + existing[to:], nil
}

// textIn finds where the text at a path stands; to is 0 if there is none.
func textIn(existing string, path []string) (from, to int, err error) {
	if strings.TrimSpace(existing) == "" {
		return 0, 0, nil
	}
	decoder := json.NewDecoder(strings.NewReader(existing))
	var open []string // the keys on the way, "" of a list
	key, isKey := "", false
	for {
		token, err := decoder.Token()
		if err == io.EOF && len(open) == 0 {
			return from, to, nil
		}
		if err != nil {
			return 0, 0, cannot("it is no JSON: %v", err)
		}
		end := int(decoder.InputOffset())
		switch t := token.(type) {
		case json.Delim:
			switch t {
			case '{', '[':
				if len(open) > maxDepth {
					return 0, 0, cannot("it is nested too deep")
				}
				open, isKey = append(open, key), t == '{'
				if key = ""; t == '[' {
					open[len(open)-1] = "[" // not on any path
				}
			default:
				open = open[:len(open)-1]
				isKey = len(open) > 0 && open[len(open)-1] != "["
			}
			continue
		case string:
			if isKey {
				key, isKey = t, false
				continue
			}
			if len(open) == len(path) && key == path[len(path)-1] && same(open[1:], path[:len(path)-1]) {
				from, to = strings.LastIndexByte(existing[:end-1], '"'), end
				for from > 0 && escaped(existing, from) {
					from = strings.LastIndexByte(existing[:from], '"')
				}
			}
		}
		isKey = len(open) > 0 && open[len(open)-1] != "["
		key = ""
	}
}

func same(a, b []string) bool { return strings.Join(a, "\x00") == strings.Join(b, "\x00") }

// escaped tells whether the letter at a place stands after an odd number of backslashes.
func escaped(text string, at int) bool {
	n := 0
	for at-n-1 >= 0 && text[at-n-1] == '\\' {
		n++
	}
	return n%2 == 1
}
