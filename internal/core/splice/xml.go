package splice

import (
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"slices"
	"strings"
)

// Step is an element on the way to a setting in an XML file. Where there may be
// several of a name, Value tells which: what stands in its attribute Attr, or in
// its child Child.
type Step struct{ Name, Attr, Child, Value string }

// Element is an element of an XML file.
type Element struct {
	Name     string
	Attrs    map[string]string
	Text     string // without that of its children
	Children []*Element

	start, inner, innerEnd, end int // offsets
}

// Child gives the first child of a name; nil if there is none. It may be asked
// of nil.
func (e *Element) Child(name string) *Element {
	if e != nil {
		for _, c := range e.Children {
			if c.Name == name {
				return c
			}
		}
	}
	return nil
}

// Says is the text of the first child of a name, without space around it.
func (e *Element) Says(name string) string {
	if c := e.Child(name); c != nil {
		return strings.TrimSpace(c.Text)
	}
	return ""
}

// Below gives the elements at the end of a way of names.
func (e *Element) Below(names ...string) []*Element {
	if e == nil {
		return nil
	}
	if len(names) == 0 {
		return []*Element{e}
	}
	var all []*Element
	for _, c := range e.Children {
		if c.Name == names[0] {
			all = append(all, c.Below(names[1:]...)...)
		}
	}
	return all
}

const maxDepth = 100

// ReadXML reads an XML file; nil if it is empty.
func ReadXML(text string) (*Element, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	decoder := xml.NewDecoder(strings.NewReader(text))
	decoder.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	var root *Element
	var open []*Element
	for {
		at := int(decoder.InputOffset())
		token, err := decoder.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, cannot("it is no XML: %v", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			e := &Element{Name: t.Name.Local, Attrs: map[string]string{}, start: at, inner: int(decoder.InputOffset())}
			for _, a := range t.Attr {
				e.Attrs[a.Name.Local] = a.Value
			}
			if len(open) > 0 {
				parent := open[len(open)-1]
				parent.Children = append(parent.Children, e)
			} else if root == nil {
				root = e
			}
			if open = append(open, e); len(open) > maxDepth {
				return nil, cannot("it is nested too deep")
			}
		case xml.EndElement:
			e := open[len(open)-1]
			e.innerEnd, e.end = at, int(decoder.InputOffset())
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) > 0 {
				open[len(open)-1].Text += string(t)
			}
		}
	}
	if root == nil {
		return nil, errors.New("it has no element")
	}
	return root, nil
}

func (s Step) fits(e *Element) bool {
	switch {
	case e.Name != s.Name:
		return false
	case s.Attr != "":
		return e.Attrs[s.Attr] == s.Value
	case s.Child != "":
		return e.Says(s.Child) == s.Value
	}
	return true
}

// SetXML sets the text of an element, or with attr an attribute of it, and makes
// the elements on the way that are missing. The first step is the root.
func SetXML(existing string, steps []Step, attr, value string) (string, error) {
	made, err := setXML(existing, steps, attr, value)
	if err == nil {
		err = checkXML(made, steps, attr, value)
	}
	if err != nil {
		return "", err
	}
	return made, nil
}

func setXML(existing string, steps []Step, attr, value string) (string, error) {
	if strings.TrimSpace(existing) == "" {
		existing += "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<" + steps[0].Name + ">\n</" + steps[0].Name + ">\n"
	}
	root, err := ReadXML(existing)
	if err != nil {
		return "", err
	}
	if root.Name != steps[0].Name {
		return "", cannot("its root is <%s>, and not <%s>", root.Name, steps[0].Name)
	}
	now := root
	for i, step := range steps[1:] {
		var next *Element
		for _, c := range now.Children {
			if step.fits(c) {
				next = c
				break
			}
		}
		if next == nil {
			return insertXML(existing, now, steps[1+i:], attr, value), nil
		}
		now = next
	}
	if attr != "" {
		return setAttribute(existing, now, attr, value)
	}
	if len(now.Children) > 0 {
		return "", cannot("<%s> has elements where a text is expected", now.Name)
	}
	if strings.TrimSpace(now.Text) == value {
		return existing, nil
	}
	if now.selfClosed(existing) {
		return expand(existing, now, escapeXML(value)), nil
	}
	return existing[:now.inner] + escapeXML(value) + existing[now.innerEnd:], nil
}

// AddXML adds one more element with a text at the end of a way, whose other
// elements it makes if they are missing.
func AddXML(existing string, steps []Step, value string) (string, error) {
	parent, err := ReadXML(existing)
	if err != nil {
		return "", err
	}
	last := len(steps) - 1
	if parent != nil && parent.Name == steps[0].Name {
		for _, step := range steps[1:last] {
			parent = parent.Child(step.Name)
		}
		if parent != nil {
			return insertXML(existing, parent, steps[last:], "", value), nil
		}
	}
	return SetXML(existing, steps, "", value)
}

// RemoveXML takes an element out, with its line if nothing else stands there. What is
// not there is no mistake. The first step is the root.
func RemoveXML(existing string, steps []Step) (string, error) {
	now, err := ReadXML(existing)
	if err != nil || now == nil || !steps[0].fits(now) {
		return existing, err
	}
	for _, step := range steps[1:] {
		i := slices.IndexFunc(now.Children, step.fits)
		if i < 0 {
			return existing, nil
		}
		now = now.Children[i]
	}
	from, to := now.start, max(now.inner, now.end)
	line := strings.LastIndexByte(existing[:from], '\n') + 1
	if after := strings.TrimLeft(existing[to:], " \t\r"); strings.TrimSpace(existing[line:from]) == "" &&
		strings.HasPrefix(after, "\n") {
		from, to = line, len(existing)-len(after)+1
	}
	made := existing[:from] + existing[to:]
	_, err = ReadXML(made)
	return made, err
}

func (e *Element) selfClosed(text string) bool {
	return strings.HasSuffix(strings.TrimSpace(text[e.start:e.inner]), "/>")
}

// expand gives an element that closes itself a content.
func expand(text string, e *Element, content string) string {
	tag := strings.TrimRight(strings.TrimSuffix(strings.TrimSpace(text[e.start:e.inner]), "/>"), " \t\r\n")
	name, _, _ := strings.Cut(strings.TrimPrefix(tag, "<"), " ")
	return text[:e.start] + tag + ">" + content + "</" + name + ">" + text[max(e.inner, e.end):]
}

func escapeXML(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(text)
}

// insertXML makes elements within one that is there, behind its other children.
func insertXML(text string, parent *Element, steps []Step, attr, value string) string {
	nl := ending(text)
	outer := lineIndent(text, parent.start)
	unit := "  "
	if len(parent.Children) > 0 {
		if inner := lineIndent(text, parent.Children[0].start); len(inner) > len(outer) && strings.HasPrefix(inner, outer) {
			unit = inner[len(outer):]
		}
	} else if strings.Contains(text, nl+"\t<") {
		unit = "\t"
	}
	made := nl + newXML(steps, outer+unit, unit, nl, attr, value)
	if parent.selfClosed(text) {
		return expand(text, parent, made+nl+outer)
	}
	at := parent.inner
	if n := len(parent.Children); n > 0 {
		at = parent.Children[n-1].end
	}
	if rest := text[at:parent.innerEnd]; !strings.Contains(rest, "\n") {
		made += nl + outer
	}
	return text[:at] + made + text[at:]
}

// newXML writes new elements, without a line end.
func newXML(steps []Step, indent, unit, nl, attr, value string) string {
	s := steps[0]
	tag := indent + "<" + s.Name
	if s.Attr != "" {
		tag += " " + s.Attr + `="` + escapeXML(s.Value) + `"`
	}
	if len(steps) == 1 {
		if attr != "" && attr == s.Attr {
			return tag + " />"
		}
		if attr != "" {
			return tag + " " + attr + `="` + escapeXML(value) + `" />`
		}
		if s.Child == "" {
			return tag + ">" + escapeXML(value) + "</" + s.Name + ">"
		}
	}
	inner := ""
	if s.Child != "" {
		inner += nl + indent + unit + "<" + s.Child + ">" + escapeXML(s.Value) + "</" + s.Child + ">"
	}
	if len(steps) > 1 && !(len(steps) == 2 && steps[1].Name == s.Child) {
		inner += nl + newXML(steps[1:], indent+unit, unit, nl, attr, value)
	}
	return tag + ">" + inner + nl + indent + "</" + s.Name + ">"
}

// lineIndent is the space before an offset, if nothing else stands before it in
// its line.
func lineIndent(text string, at int) string {
	from := strings.LastIndexByte(text[:at], '\n') + 1
	return indentOf(text[from:at] + "x")
}

func setAttribute(text string, e *Element, attr, value string) (string, error) {
	old, known := e.Attrs[attr]
	if known && old == value {
		return text, nil
	}
	tag := text[e.start:e.inner]
	if known {
		place := regexp.MustCompile(`\s` + regexp.QuoteMeta(attr) + `\s*=\s*("[^"]*"|'[^']*')`).FindStringSubmatchIndex(tag)
		if place == nil {
			return "", cannot("the attribute %s of <%s> cannot be found", attr, e.Name)
		}
		tag = tag[:place[2]] + `"` + escapeXML(value) + `"` + tag[place[3]:]
	} else {
		cut := strings.TrimRight(strings.TrimSuffix(strings.TrimSuffix(tag, ">"), "/"), " \t")
		tag = cut + " " + attr + `="` + escapeXML(value) + `"` + tag[len(cut):]
	}
	return text[:e.start] + tag + text[e.inner:], nil
}
