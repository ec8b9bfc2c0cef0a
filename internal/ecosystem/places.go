package ecosystem

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Splice is a run of bytes that is replaced.
type Splice struct {
	Start, End int
	New        string
}

// Spliced is raw with replacements, which must not overlap; every other byte is
// kept.
func Spliced(raw []byte, splices []Splice) []byte {
	slices.SortFunc(splices, func(a, b Splice) int { return a.Start - b.Start })
	var b bytes.Buffer
	at := 0
	for _, s := range splices {
		b.Write(raw[at:s.Start])
		b.WriteString(s.New)
		at = s.End
	}
	b.Write(raw[at:])
	return b.Bytes()
}

// XMLPlace is an element of an XML document, and where it stands.
type XMLPlace struct {
	Name     string // local
	Children []*XMLPlace
	// Text is what is in it besides elements, without space around it. From and
	// To are where it stands, if it stands there as it is: To is 0 otherwise.
	Text     string
	From, To int
	tag      []byte // the start tag
	tagAt    int
}

// maxParts is how many elements, or values, a document may have in which places
// are looked for.
const maxParts = 200_000

// Child finds the first child of that name; nil if there is none.
func (p *XMLPlace) Child(name string) *XMLPlace {
	if p != nil {
		for _, c := range p.Children {
			if c.Name == name {
				return c
			}
		}
	}
	return nil
}

// TextOf is the text of a child, or "".
func (p *XMLPlace) TextOf(name string) string {
	if c := p.Child(name); c != nil {
		return c.Text
	}
	return ""
}

// Attribute finds the value of an attribute that is written without escapes, and
// where it stands.
func (p *XMLPlace) Attribute(name string) (value string, from, to int) {
	rest := p.tag
	for {
		i := bytes.Index(rest, []byte(name))
		if i < 0 {
			return "", 0, 0
		}
		begins := i > 0 && bytes.IndexByte([]byte(" \t\r\n"), rest[i-1]) >= 0
		rest = rest[i+len(name):]
		after := bytes.TrimLeft(rest, " \t\r\n")
		if !begins || len(after) < 2 || after[0] != '=' {
			continue
		}
		after = bytes.TrimLeft(after[1:], " \t\r\n")
		if len(after) == 0 {
			return "", 0, 0
		}
		end := bytes.IndexByte(after[1:], after[0])
		if end < 0 {
			return "", 0, 0
		}
		from = p.tagAt + len(p.tag) - len(after) + 1
		return string(after[1 : 1+end]), from, from + end
	}
}

// ParseXMLPlaces reads the places of a document whose encoding has one byte for
// each ASCII character.
func ParseXMLPlaces(raw []byte) (*XMLPlace, error) {
	decoder := xml.NewDecoder(bytes.NewReader(raw))
	// What is not ASCII does not matter here, but places must stay what they are.
	decoder.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return masked{input}, nil }
	root := &XMLPlace{}
	open := []*XMLPlace{root}
	content := []int{0} // where the content of each begins
	texts := []*strings.Builder{{}}
	parts := 0
	for {
		before := int(decoder.InputOffset())
		token, err := decoder.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		last := open[len(open)-1]
		switch token := token.(type) {
		case xml.Directive:
			return nil, errors.New("it has a document type declaration (DOCTYPE), which is not accepted")
		case xml.StartElement:
			if parts++; parts > maxParts {
				return nil, fmt.Errorf("it has more than %d elements", maxParts)
			}
			if len(open) > maxXMLDepth {
				return nil, fmt.Errorf("its elements are nested deeper than %d", maxXMLDepth)
			}
			after := int(decoder.InputOffset())
			child := &XMLPlace{Name: token.Name.Local, tag: raw[before:after], tagAt: before}
			last.Children = append(last.Children, child)
			open, content, texts = append(open, child), append(content, after), append(texts, new(strings.Builder))
		case xml.CharData:
			texts[len(texts)-1].Write(token)
		case xml.EndElement:
			last.Text = strings.TrimSpace(texts[len(texts)-1].String())
			begin := content[len(content)-1]
			if begin <= before && last.Text != "" {
				if at := bytes.Index(raw[begin:before], []byte(last.Text)); at >= 0 &&
					string(bytes.TrimSpace(raw[begin:before])) == last.Text {
					last.From, last.To = begin+at, begin+at+len(last.Text)
				}
			}
			open, content, texts = open[:len(open)-1], content[:len(content)-1], texts[:len(texts)-1]
		}
	}
	if len(root.Children) != 1 {
		return nil, errors.New("it has no XML element")
	}
	return root.Children[0], nil
}

// masked gives a question mark for each byte that is not ASCII.
type masked struct{ from io.Reader }

// Read implements io.Reader.
func (m masked) Read(p []byte) (int, error) {
	n, err := m.from.Read(p)
	for i, b := range p[:n] {
		if b >= 0x80 {
			p[i] = '?'
		}
	}
	return n, err
}

// TextPlace is a text or number in a document, and where it stands.
type TextPlace struct {
	// Path is keys, and indices of arrays and of arrays of tables; of XML the names of
	// elements, and with an @ those of attributes.
	Path     []string
	Value    string // a text's, decoded; a number's as it is written
	Number   bool
	From, To int // with the quotes of a text, where the form has some
	quoted   func(text string) string
	// What is beside it, and beside what it stands in.
	beside, above map[string]string
}

// Quoted is a text as the document writes it at the place.
func (p TextPlace) Quoted(text string) string { return p.quoted(text) }

// BesideParent is the value of a key beside what the place stands in.
func (p TextPlace) BesideParent(key string) string { return p.above[key] }

// Beside is the value of another key of the same table, object or element; "" if there
// is none.
func (p TextPlace) Beside(key string) string { return p.beside[key] }

// Ends tells whether the path ends with these parts; * is any.
func (p TextPlace) Ends(parts ...string) bool {
	n := len(p.Path) - len(parts)
	if n < 0 {
		return false
	}
	for i, part := range parts {
		if part != "*" && p.Path[n+i] != part {
			return false
		}
	}
	return true
}

// Is tells whether the path is these parts; * is any.
func (p TextPlace) Is(parts ...string) bool { return len(p.Path) == len(parts) && p.Ends(parts...) }

// linked lets places know what is beside them; parent tells what they stand in apart.
func linked(places []TextPlace, parent func(i, up int) string) []TextPlace {
	all := map[string]map[string]string{}
	for i := range places {
		of := parent(i, 1)
		if all[of] == nil {
			all[of] = map[string]string{}
		}
		if key := places[i].Key(); all[of][key] == "" {
			all[of][key] = places[i].Value
		}
		places[i].beside = all[of]
	}
	for i := range places {
		places[i].above = all[parent(i, 2)]
	}
	return places
}

// ParseXMLTexts reads the texts of the elements of a document that stand as they are, and
// of the attributes of these names.
func ParseXMLTexts(attributes ...string) func(raw []byte) ([]TextPlace, error) {
	return func(raw []byte) ([]TextPlace, error) {
		root, err := ParseXMLPlaces(raw)
		if err != nil {
			return nil, err
		}
		var found []TextPlace
		parents := map[int][]string{} // by how far up
		asIs := func(text string) string { return text }
		var walk func(at *XMLPlace, path []string)
		add := func(p TextPlace, of *XMLPlace) {
			p.quoted = asIs
			found = append(found, p)
			parents[1], parents[2] = append(parents[1], fmt.Sprintf("%p", of)), append(parents[2], "")
		}
		walk = func(at *XMLPlace, path []string) {
			path = append(path[:len(path):len(path)], at.Name)
			for _, name := range attributes {
				if value, from, to := at.Attribute(name); to != 0 {
					add(TextPlace{Path: append(path[:len(path):len(path)], "@"+name), Value: value, From: from, To: to}, at)
				}
			}
			for _, child := range at.Children {
				if child.To != 0 {
					add(TextPlace{Path: append(path[:len(path):len(path)], child.Name), Value: child.Text, From: child.From,
						To: child.To}, at)
				}
				walk(child, path)
			}
		}
		walk(root, nil)
		return linked(found, func(i, up int) string { return parents[up][i] }), nil
	}
}

// Key is the last part of the path.
func (p TextPlace) Key() string { return p.Path[len(p.Path)-1] }

// parent tells what a place stands in, so many levels up, from all else.
func (p TextPlace) parent(up int) string {
	return strings.Join(p.Path[:max(0, len(p.Path)-up)], "\x00")
}

// ParseJSONPlaces reads the places of a document.
func ParseJSONPlaces(raw []byte) ([]TextPlace, error) {
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.UseNumber()
	type level struct {
		object, atValue bool
		key             string
		index           int
	}
	var found []TextPlace
	var open []level
	for {
		token, err := decoder.Token()
		if err == io.EOF && len(open) == 0 {
			return linked(found, func(i, up int) string { return found[i].parent(up) }), nil
		}
		if err == io.EOF {
			return nil, io.ErrUnexpectedEOF
		}
		if err != nil {
			return nil, err
		}
		end := int(decoder.InputOffset())
		delim, isDelim := token.(json.Delim)
		if isDelim && (delim == '}' || delim == ']') {
			open = open[:len(open)-1]
		} else if len(open) > 0 && open[len(open)-1].object && !open[len(open)-1].atValue {
			open[len(open)-1].key, open[len(open)-1].atValue = token.(string), true
			continue
		} else if isDelim {
			if len(open) >= maxXMLDepth {
				return nil, fmt.Errorf("it is nested deeper than %d", maxXMLDepth)
			}
			open = append(open, level{object: delim == '{'})
			continue
		} else if len(open) > 0 {
			if len(found) >= maxParts {
				return nil, fmt.Errorf("it has more than %d values", maxParts)
			}
			place := TextPlace{To: end, quoted: JSONText}
			for _, l := range open {
				if l.object {
					place.Path = append(place.Path, l.key)
				} else {
					place.Path = append(place.Path, strconv.Itoa(l.index))
				}
			}
			switch v := token.(type) {
			case string:
				place.Value, place.From = v, beginOfText(raw, end)
				found = append(found, place)
			case json.Number:
				place.Value, place.Number, place.From = v.String(), true, end-len(v)
				found = append(found, place)
			}
		}
		if len(open) > 0 {
			last := &open[len(open)-1]
			last.atValue = false
			last.index++
		}
	}
}

// beginOfText is where the text begins whose closing quote is before end: at the
// last quote before it that is not escaped.
func beginOfText(raw []byte, end int) int {
	for i := end - 2; i >= 0; i-- {
		if raw[i] != '"' {
			continue
		}
		escapes := 0
		for j := i - 1; j >= 0 && raw[j] == '\\'; j-- {
			escapes++
		}
		if escapes%2 == 0 {
			return i
		}
	}
	return 0
}

// JSONText is a text as JSON writes it, with nothing escaped that need not be.
func JSONText(text string) string {
	var b strings.Builder
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(text); err != nil {
		return strconv.Quote(text) // not reached: texts can always be written
	}
	return strings.TrimSuffix(b.String(), "\n")
}
