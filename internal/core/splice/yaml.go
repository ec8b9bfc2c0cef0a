package splice

import (
	"strconv"
	"strings"
)

// SetYAML sets a value in a YAML file of nested maps in block form, by the keys
// on the way to it; value is YAML. Lists and what is written in other forms stay
// as they are, and are an error if they are in the way.
func SetYAML(existing string, path []string, value string) (string, error) {
	made, err := setYAML(existing, path, value)
	if err == nil {
		err = checkYAML(existing, made, path, value)
	}
	if err != nil {
		return "", err
	}
	return made, nil
}

func setYAML(existing string, path []string, value string) (string, error) {
	all, nl := lines(closed(existing)), ending(existing)
	start, end, indent := 0, len(all), ""
	for depth, key := range path {
		at, childEnd, found := yamlKey(all, start, end, indent, key)
		last := depth == len(path)-1
		if !found {
			insert := ""
			for ; depth < len(path); depth++ {
				line := indent + yamlName(path[depth]) + ":"
				if depth == len(path)-1 {
					line += " " + value
				}
				insert += line + nl
				indent += "  "
			}
			for end > start && strings.TrimSpace(all[end-1]) == "" {
				end--
			}
			return strings.Join(all[:end], "") + insert + strings.Join(all[end:], ""), nil
		}
		_, rest := yamlLine(all[at])
		if last {
			if rest == value && childEnd == at+1 {
				return existing, nil
			}
			head := indentOf(all[at]) + yamlName(key) + ": "
			return strings.Join(all[:at], "") + head + value + nl + strings.Join(all[childEnd:], ""), nil
		}
		if rest != "" {
			return "", cannot("%s is written in one line; write what it holds in lines below it",
				strings.Join(path[:depth+1], "."))
		}
		start, end = at+1, childEnd
		indent = indentOf(all[at]) + "  "
		for i := start; i < end; i++ {
			if k, _ := yamlLine(all[i]); k != "" {
				indent = indentOf(all[i])
				break
			}
		}
	}
	return existing, nil
}

// GetYAML gives a scalar by the keys on the way to it, without its quotes.
func GetYAML(existing string, path ...string) (string, bool) {
	all := lines(existing)
	start, end, indent := 0, len(all), ""
	for depth, key := range path {
		at, childEnd, found := yamlKey(all, start, end, indent, key)
		if !found {
			return "", false
		}
		if depth == len(path)-1 {
			_, rest := yamlLine(all[at])
			for i := at + 1; i < childEnd; i++ {
				rest += "\n" + strings.TrimSpace(all[i]) // a quoted text may go on
			}
			return unquote(rest), true
		}
		start, end = at+1, childEnd
		for i := start; i < end; i++ {
			if k, _ := yamlLine(all[i]); k != "" {
				indent = indentOf(all[i])
				break
			}
		}
	}
	return "", false
}

// KeysYAML lists the keys below a path.
func KeysYAML(existing string, path ...string) (keys []string) {
	all := lines(existing)
	start, end, indent := 0, len(all), ""
	for _, key := range path {
		at, childEnd, found := yamlKey(all, start, end, indent, key)
		if !found {
			return nil
		}
		start, end = at+1, childEnd
		for i := start; i < end; i++ {
			if k, _ := yamlLine(all[i]); k != "" {
				indent = indentOf(all[i])
				break
			}
		}
	}
	for i := start; i < end; i++ {
		if k, _ := yamlLine(all[i]); k != "" && indentOf(all[i]) == indent {
			keys = append(keys, k)
		}
	}
	return keys
}

// yamlKey finds a key among lines with an indentation, and the end of what is
// below it.
func yamlKey(all []string, start, end int, indent, key string) (at, childEnd int, found bool) {
	for i := start; i < end; i++ {
		k, _ := yamlLine(all[i])
		if k != key || indentOf(all[i]) != indent {
			continue
		}
		childEnd = i + 1
		for childEnd < end {
			line := all[childEnd]
			text := strings.TrimSpace(line)
			if text != "" && len(indentOf(line)) <= len(indent) && !(strings.HasPrefix(text, "- ") && indentOf(line) == indent) {
				break
			}
			childEnd++
		}
		for childEnd > i+1 && (strings.TrimSpace(all[childEnd-1]) == "" ||
			strings.HasPrefix(strings.TrimSpace(all[childEnd-1]), "#")) {
			childEnd--
		}
		return i, childEnd, true
	}
	return 0, 0, false
}

// yamlLine splits key: value; key is "" for other lines.
func yamlLine(line string) (key, value string) {
	text := strings.TrimSpace(line)
	if text == "" || text[0] == '#' || strings.HasPrefix(text, "- ") {
		return "", ""
	}
	if text[0] == '"' || text[0] == '\'' {
		if close := strings.IndexByte(text[1:], text[0]); close >= 0 && strings.HasPrefix(text[close+2:], ":") {
			return unquote(text[:close+2]), strings.TrimSpace(text[close+3:])
		}
		return "", ""
	}
	at := strings.Index(text+" ", ": ")
	if at <= 0 {
		return "", ""
	}
	value = strings.TrimSpace((text + " ")[at+1:])
	return text[:at], value
}

// yamlName writes a key, in quotes where it needs them.
func yamlName(key string) string {
	if strings.Trim(key, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-.") == "" && key != "" {
		return key
	}
	return strconv.Quote(key)
}

func unquote(text string) string {
	if len(text) >= 2 && (text[0] == '"' || text[0] == '\'') && text[len(text)-1] == text[0] {
		if text[0] == '"' {
			if plain, err := strconv.Unquote(text); err == nil {
				return plain
			}
		}
		return text[1 : len(text)-1]
	}
	return text
}
