package splice

import (
	"errors"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// SetYAML sets a value in a YAML file of nested maps, by the keys on the way to it; value
// is YAML in one line. What is on the way and no map is an error.
func SetYAML(existing string, path []string, value string) (string, error) {
	// The parser counts lines by line feeds.
	text := strings.ReplaceAll(closed(existing), "\r\n", "\n")
	made, err := setYAML(text, path, value)
	if err == nil {
		err = checkYAML(existing, made, path, value)
	}
	if err != nil {
		return "", err
	}
	if made == text {
		return existing, nil
	}
	if nl := ending(existing); nl != "\n" {
		if strings.ReplaceAll(text, "\n", nl) != closed(existing) {
			return "", cannot("some of its lines end with a carriage return, and some do not")
		}
		made = strings.ReplaceAll(made, "\n", nl)
	}
	return made, nil
}

func setYAML(text string, path []string, value string) (string, error) {
	node, err := parseYAML(text)
	if err != nil {
		return "", cannot("it is not YAML that can be read: %s", firstLine(err.Error()))
	}
	if node == nil {
		return text + yamlLines("", path, value), nil
	}
	for depth, key := range path {
		m, ok := node.(*ast.MappingNode)
		if !ok {
			return "", cannot("%s is there already, and is no map", strings.Join(path[:depth], "."))
		}
		entry := yamlEntry(m, key)
		if entry == nil {
			return addYAML(text, m, path[depth:], value)
		}
		if depth == len(path)-1 {
			return replaceYAML(text, entry, value)
		}
		if node = entry.Value; isBare(node) {
			at, err := yamlOffset(text, entry.Key.GetToken())
			if err != nil {
				return "", err
			}
			indent := strings.Repeat(" ", entry.Key.GetToken().Position.Column+1)
			at = lineEnd(text, at)
			return text[:at] + yamlLines(indent, path[depth+1:], value) + text[at:], nil
		}
	}
	return "", misread(strings.Join(path, "."))
}

// addYAML adds a key, with those below it, to a map.
func addYAML(text string, m *ast.MappingNode, path []string, value string) (string, error) {
	if m.IsFlowStyle {
		end, err := yamlOffset(text, m.End)
		if err != nil {
			return "", err
		}
		before := strings.TrimRight(text[:end], " \n")
		if len(m.Values) > 0 {
			before = strings.TrimSuffix(before, ",") + ", "
		}
		for i := len(path) - 1; i >= 0; i-- {
			if value = yamlName(path[i]) + ": " + value; i > 0 {
				value = "{" + value + "}"
			}
		}
		return before + value + text[end:], nil
	}
	first, last := m.Values[0].Key.GetToken(), m.Values[len(m.Values)-1]
	end, err := yamlEnd(text, last)
	if err != nil {
		return "", err
	}
	return text[:end] + yamlLines(strings.Repeat(" ", first.Position.Column-1), path, value) + text[end:], nil
}

// replaceYAML puts a value in place of another.
func replaceYAML(text string, entry *ast.MappingValueNode, value string) (string, error) {
	from, to, err := yamlRange(text, entry)
	if err != nil || text[from:to] == value {
		return text, err
	}
	if text[from-1] == ':' {
		value = " " + value
	}
	return text[:from] + value + text[to:], nil
}

// yamlRange is where the value of a key stands.
func yamlRange(text string, entry *ast.MappingValueNode) (from, to int, err error) {
	behind := func(t *token.Token) (int, error) {
		at, err := yamlOffset(text, t)
		return at + 1, err
	}
	n := entry.Value
	if isBare(n) {
		from, err = behind(entry.Start)
		return from, from, err
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		if n.IsFlowStyle {
			to, err = behind(n.End)
		}
	case *ast.SequenceNode:
		if n.IsFlowStyle {
			to, err = behind(n.End)
		}
	case *ast.LiteralNode:
	case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode: // what these say of it would be lost
		return 0, 0, cannot("%s is written with an anchor, an alias or a tag", entry.Key.GetToken().Value)
	case ast.ScalarNode:
		from, err = yamlOffset(text, n.GetToken())
		return from, from + len(strings.TrimSpace(n.GetToken().Origin)), err
	default:
		return 0, 0, misread(entry.Key.GetToken().Value)
	}
	if err == nil && to == 0 {
		if from, err = behind(entry.Start); err == nil {
			to, err = yamlEnd(text, entry)
		}
		return from, to - 1, err
	}
	if err == nil {
		from, err = yamlOffset(text, n.GetToken())
	}
	return from, to, err
}

// GetYAML gives a scalar by the keys on the way to it, without its quotes, and what is no
// scalar as it is written.
func GetYAML(existing string, path ...string) (string, bool) {
	text, node := readYAML(existing)
	for depth, key := range path {
		m, ok := node.(*ast.MappingNode)
		if !ok {
			return "", false
		}
		entry := yamlEntry(m, key)
		if entry == nil {
			return "", false
		}
		if node = entry.Value; depth < len(path)-1 {
			continue
		}
		switch n := node.(type) {
		case *ast.StringNode:
			return n.Value, true
		case *ast.LiteralNode:
			return n.Value.Value, true
		}
		from, to, err := yamlRange(text, entry)
		if err != nil {
			return "", false
		}
		return strings.TrimSpace(text[from:to]), true
	}
	return "", false
}

// KeysYAML lists the keys below a path.
func KeysYAML(existing string, path ...string) (keys []string) {
	_, node := readYAML(existing)
	for _, key := range path {
		m, ok := node.(*ast.MappingNode)
		if !ok {
			return nil
		}
		entry := yamlEntry(m, key)
		if entry == nil {
			return nil
		}
		node = entry.Value
	}
	if m, ok := node.(*ast.MappingNode); ok {
		for _, entry := range m.Values {
			keys = append(keys, entry.Key.GetToken().Value)
		}
	}
	return keys
}

// readYAML parses a text; what is not YAML up to where it is none: whoever looks for what
// is set up finds what stands before a value that was cut, too.
func readYAML(existing string) (text string, node ast.Node) {
	text = strings.ReplaceAll(existing, "\r\n", "\n")
	for {
		node, err := parseYAML(text)
		var wrong *yaml.SyntaxError
		if err == nil || !errors.As(err, &wrong) {
			return text, node
		}
		at := 0
		for range wrong.Token.Position.Line - 1 {
			at = lineEnd(text, at)
		}
		if at == 0 || at >= len(text) {
			return text, nil
		}
		text = text[:at]
	}
}

// parseYAML gives the root of a text of one document; nil if it says nothing.
func parseYAML(text string) (ast.Node, error) {
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return nil, err
	}
	if len(file.Docs) > 1 {
		return nil, cannot("it has more than one document")
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil || isBare(file.Docs[0].Body) {
		return nil, nil
	}
	return file.Docs[0].Body, nil
}

// isBare tells whether there is no value where one could be.
func isBare(n ast.Node) bool {
	null, ok := n.(*ast.NullNode)
	return ok && null.GetToken().Type == token.ImplicitNullType
}

func yamlEntry(m *ast.MappingNode, key string) *ast.MappingValueNode {
	for _, entry := range m.Values {
		if _, plain := entry.Key.(ast.ScalarNode); plain && entry.Key.GetToken().Value == key {
			return entry
		}
	}
	return nil
}

// yamlOffset is where a token begins; an error if the text has something else there.
func yamlOffset(text string, t *token.Token) (int, error) {
	at := 0
	for range t.Position.Line - 1 {
		at = lineEnd(text, at)
	}
	column := 0 // in characters
	for i := range text[at:lineEnd(text, at)] {
		if column++; column == t.Position.Column {
			at += i
			break
		}
	}
	if !strings.HasPrefix(text[at:], strings.TrimSpace(t.Origin)) {
		return 0, cannot("it is written in a way in which %q cannot be found again", t.Value)
	}
	return at, nil
}

// lineEnd is where the next line begins.
func lineEnd(text string, at int) int {
	if end := strings.IndexByte(text[at:], '\n'); end >= 0 {
		return at + end + 1
	}
	return len(text)
}

// yamlEnd is where the lines of an entry of a map in lines end: what is below it stands
// further to the right, but for a list, which may begin where its key does.
func yamlEnd(text string, entry *ast.MappingValueNode) (int, error) {
	at, err := yamlOffset(text, entry.Key.GetToken())
	if err != nil {
		return 0, err
	}
	column := entry.Key.GetToken().Position.Column - 1
	end := lineEnd(text, at)
	for at = end; at < len(text); at = lineEnd(text, at) {
		line := text[at:lineEnd(text, at)]
		bare := strings.TrimSpace(line)
		deep := len(indentOf(line))
		switch {
		case bare == "" || bare[0] == '#' && deep <= column:
		case deep > column || deep == column && (bare == "-" || strings.HasPrefix(bare, "- ")):
			end = lineEnd(text, at)
		default:
			return end, nil
		}
	}
	return end, nil
}

// yamlLines writes a value below its keys.
func yamlLines(indent string, path []string, value string) (lines string) {
	for i, key := range path {
		lines += indent + yamlName(key) + ":"
		if i == len(path)-1 {
			lines += " " + value
		}
		lines += "\n"
		indent += "  "
	}
	return lines
}

// yamlName writes a key, in quotes where it needs them.
func yamlName(key string) string {
	if strings.Trim(key, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-.") == "" && key != "" {
		return key
	}
	return strconv.Quote(key)
}
