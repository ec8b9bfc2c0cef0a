package splice

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// deepestYAML is how deep foreign YAML may be nested.
const deepestYAML = 60

// ReadYAML reads foreign YAML of one document into a value, as json.Unmarshal does. What
// could cost more than its length is refused: deep nesting, and aliases.
func ReadYAML(raw []byte, into any) error {
	root, err := foreignYAML(string(raw))
	if err != nil || root == nil {
		return err
	}
	return decodeYAML(root, into)
}

// EachYAML is ReadYAML for the elements of a list; read reads one into a value. What is no
// list is an error.
func EachYAML(raw []byte, each func(read func(into any) error) error) error {
	root, err := foreignYAML(string(raw))
	if err != nil || root == nil {
		return err
	}
	list, ok := root.(*ast.SequenceNode)
	if !ok {
		return errors.New("it is no list")
	}
	for _, node := range list.Values {
		if err := each(func(into any) error { return decodeYAML(node, into) }); err != nil {
			return err
		}
	}
	return nil
}

func decodeYAML(node ast.Node, into any) error {
	if err := yaml.NodeToValue(node, into); err != nil {
		return errors.New(firstLine(err.Error()))
	}
	return nil
}

// foreignYAML gives the root of a text; nil if it says nothing.
func foreignYAML(text string) (ast.Node, error) {
	if deepYAML(text) {
		return nil, fmt.Errorf("it is nested deeper than %d levels", deepestYAML)
	}
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return nil, errors.New(firstLine(err.Error()))
	}
	if len(file.Docs) > 1 {
		return nil, errors.New("it has more than one document")
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, nil
	}
	var alias visitor
	ast.Walk(&alias, file.Docs[0].Body)
	if alias.found {
		return nil, errors.New("it uses aliases, which are not read")
	}
	return file.Docs[0].Body, nil
}

type visitor struct{ found bool }

// Visit implements ast.Visitor.
func (v *visitor) Visit(n ast.Node) ast.Visitor {
	switch n.(type) {
	case *ast.AliasNode, *ast.MergeKeyNode:
		v.found = true
	}
	return v
}

// deepYAML tells whether a text may be nested too deep to be parsed: by brackets, by
// what begins lists and maps in one line, or by indentation. Texts in it may look so too,
// where nobody writes so many.
func deepYAML(text string) bool {
	brackets := 0
	var columns []int // of the lines that others stand below
	for line := range strings.Lines(text) {
		bare := strings.TrimLeft(line, " ")
		if bare == "" || bare == "\n" {
			continue
		}
		column := len(line) - len(bare)
		for len(columns) > 0 && columns[len(columns)-1] >= column {
			columns = columns[:len(columns)-1]
		}
		columns = append(columns, column)
		begun := 0
		for len(bare) > 1 && strings.IndexByte("-?:", bare[0]) >= 0 && (bare[1] == ' ' || bare[1] == '\t') {
			bare = strings.TrimLeft(bare[1:], " \t")
			begun++
		}
		for i := range len(bare) {
			switch bare[i] {
			case '[', '{':
				brackets++
			case ']', '}':
				brackets = max(0, brackets-1)
			}
		}
		if len(columns)+begun+brackets > deepestYAML {
			return true
		}
	}
	return false
}

// ScalarYAML is a text or number in a YAML document, and where it stands.
type ScalarYAML struct {
	Path     []string
	Value    string
	From, To int
	Number   bool
	// Quote is what it is written in: " or ' or, if 0, nothing.
	Quote byte
}

// Written is another text in its place.
func (s ScalarYAML) Written(text string) string {
	var number float64
	plain := s.Quote == 0 && strings.Trim(text,
		"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.+:/@-") == "" && text != "" &&
		!strings.HasPrefix(text, "-") && !strings.HasPrefix(text, ":") && !strings.HasSuffix(text, ":")
	if _, err := fmt.Sscanf(text, "%g", &number); err == nil && !math.IsNaN(number) && strings.Count(text, ".") < 2 {
		plain = false
	}
	switch {
	case plain:
		return text
	case s.Quote == '\'':
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

// ScalarsYAML are the scalars of a document that stand in one line.
func ScalarsYAML(raw []byte) (all []ScalarYAML, err error) {
	text := string(raw)
	root, err := foreignYAML(text)
	if err != nil || root == nil {
		return nil, err
	}
	lines := []int{0}
	for i := range len(text) {
		if text[i] == '\n' {
			lines = append(lines, i+1)
		}
	}
	var walk func(path []string, n ast.Node)
	walk = func(path []string, n ast.Node) {
		path = path[:len(path):len(path)]
		switch n := n.(type) {
		case *ast.MappingNode:
			for _, entry := range n.Values {
				walk(append(path, entry.Key.GetToken().Value), entry.Value)
			}
		case *ast.MappingValueNode:
			walk(append(path, n.Key.GetToken().Value), n.Value)
		case *ast.SequenceNode:
			for i, value := range n.Values {
				walk(append(path, fmt.Sprint(i)), value)
			}
		case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode:
			if s, ok := scalarYAML(text, lines, n.GetToken()); ok {
				s.Path = path
				_, isText := n.(*ast.StringNode)
				s.Number = !isText
				all = append(all, s)
			}
		}
	}
	walk(nil, root)
	return all, nil
}

// scalarYAML is where a token stands; ok is false if it cannot be found again.
func scalarYAML(text string, lines []int, t *token.Token) (s ScalarYAML, ok bool) {
	s.Value = t.Value
	line := t.Position.Line - 1
	if line < 0 || line >= len(lines) {
		return s, false
	}
	end := len(text)
	if line+1 < len(lines) {
		end = lines[line+1]
	}
	s.From = lines[line]
	for range t.Position.Column - 1 { // in characters
		_, size := utf8.DecodeRuneInString(text[s.From:end])
		s.From += size
	}
	rest := text[s.From:end]
	switch t.Type {
	case token.DoubleQuoteType:
		s.Quote = '"'
	case token.SingleQuoteType:
		s.Quote = '\''
	}
	if s.Quote == 0 {
		s.To = s.From + len(t.Value)
		return s, t.Value != "" && strings.HasPrefix(rest, t.Value)
	}
	if rest == "" || rest[0] != s.Quote {
		return s, false
	}
	for i := 1; i < len(rest); i++ {
		switch {
		case rest[i] == '\\' && s.Quote == '"':
			i++
		case rest[i] == s.Quote && s.Quote == '\'' && i+1 < len(rest) && rest[i+1] == '\'':
			i++
		case rest[i] == s.Quote:
			s.To = s.From + i + 1
			return s, true
		}
	}
	return s, false
}
