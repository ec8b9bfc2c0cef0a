package nuget

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/fault"
)

// The limits of a $filter: its length in bytes, and how deep it may be nested.
const maxFilter, maxFilterDepth = 4_000, 40

// condition is a $filter of the v2 protocol, read (OData 2.0, URI conventions, 4.5).
// It gives the value of an expression for an entry: a string, a bool, an int64 or a
// time.Time.
type condition func(e *listed) any

// parseFilter reads a $filter; an empty one fits everything. The functions and
// operators are those that the clients of the protocol use.
func parseFilter(text string) (condition, error) {
	if strings.TrimSpace(text) == "" {
		return func(*listed) any { return true }, nil
	}
	if len(text) > maxFilter {
		return nil, badFilter("it has more than %d letters", maxFilter)
	}
	p := &filterParser{rest: text}
	c, err := p.either()
	if err != nil {
		return nil, err
	}
	if p.space(); p.rest != "" {
		return nil, badFilter("%.40q cannot be read", p.rest)
	}
	return c, nil
}

func badFilter(format string, args ...any) error {
	return fault.New(fault.Invalid, "bad-filter", "the $filter is not right: "+format, args...).
		WithHint("Conditions are such as IsLatestVersion and substringof('berth',Id).")
}

// fits tells whether an entry fits.
func (c condition) fits(e *listed) bool {
	is, ok := c(e).(bool)
	return ok && is
}

type filterParser struct {
	rest  string
	depth int
}

func (p *filterParser) space() { p.rest = strings.TrimLeft(p.rest, " \t") }

// word takes a keyword, if it comes next.
func (p *filterParser) word(word string) bool {
	p.space()
	rest, ok := strings.CutPrefix(p.rest, word)
	if ok && rest != "" && (isLetter(rest[0]) || rest[0] >= '0' && rest[0] <= '9') {
		return false
	}
	if ok {
		p.rest = rest
	}
	return ok
}

func isLetter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c == '/'
}

func (p *filterParser) either() (condition, error) {
	return p.joined("or", p.both, func(a, b bool) bool { return a || b })
}

func (p *filterParser) both() (condition, error) {
	return p.joined("and", p.negated, func(a, b bool) bool { return a && b })
}

func (p *filterParser) joined(
	word string, part func() (condition, error), join func(a, b bool) bool,
) (condition, error) {
	left, err := part()
	for err == nil && p.word(word) {
		var right condition
		if right, err = part(); err == nil {
			before := left
			left = func(e *listed) any { return join(before.fits(e), right.fits(e)) }
		}
	}
	return left, err
}

func (p *filterParser) negated() (condition, error) {
	if p.depth++; p.depth > maxFilterDepth {
		return nil, badFilter("it is nested more than %d deep", maxFilterDepth)
	}
	defer func() { p.depth-- }()
	if !p.word("not") {
		return p.compared()
	}
	of, err := p.negated()
	return func(e *listed) any { return !of.fits(e) }, err
}

var operators = map[string]func(order int) bool{
	"eq": func(o int) bool { return o == 0 }, "ne": func(o int) bool { return o != 0 },
	"gt": func(o int) bool { return o > 0 }, "ge": func(o int) bool { return o >= 0 },
	"lt": func(o int) bool { return o < 0 }, "le": func(o int) bool { return o <= 0 },
}

func (p *filterParser) compared() (condition, error) {
	left, err := p.value()
	if err != nil {
		return nil, err
	}
	for name, is := range operators {
		if !p.word(name) {
			continue
		}
		right, err := p.value()
		return func(e *listed) any {
			order, ok := orderOf(left(e), right(e))
			return ok && is(order)
		}, err
	}
	return left, nil
}

// orderOf compares two values of one kind; ok is false for others.
func orderOf(a, b any) (order int, ok bool) {
	switch x := a.(type) {
	case string:
		y, ok := b.(string)
		return strings.Compare(x, y), ok
	case bool:
		y, ok := b.(bool)
		if x == y {
			return 0, ok
		}
		return 1, ok
	case int64:
		y, ok := b.(int64)
		return cmp.Compare(x, y), ok
	case time.Time:
		y, ok := b.(time.Time)
		return x.Compare(y), ok
	}
	return 0, false
}

func constant(v any) condition { return func(*listed) any { return v } }

// value reads a literal, a property, a function, or what is in parentheses.
func (p *filterParser) value() (condition, error) {
	p.space()
	switch {
	case p.rest == "":
		return nil, badFilter("it ends too early")
	case p.rest[0] == '(':
		p.rest = p.rest[1:]
		c, err := p.either()
		if err == nil && !p.take(')') {
			err = badFilter("a parenthesis is not closed")
		}
		return c, err
	case p.rest[0] == '\'':
		text, err := p.text()
		return constant(text), err
	case p.rest[0] >= '0' && p.rest[0] <= '9' || p.rest[0] == '-':
		end := 1
		for end < len(p.rest) && p.rest[end] >= '0' && p.rest[end] <= '9' {
			end++
		}
		n, err := strconv.ParseInt(p.rest[:end], 10, 64)
		if err != nil {
			return nil, badFilter("%.40q is no number", p.rest[:end])
		}
		p.rest = strings.TrimLeft(p.rest[end:], "LlMm")
		return constant(n), nil
	}
	return p.named()
}

func (p *filterParser) take(c byte) bool {
	p.space()
	if p.rest == "" || p.rest[0] != c {
		return false
	}
	p.rest = p.rest[1:]
	return true
}

// text reads a string in quotes, within which a quote is doubled.
func (p *filterParser) text() (string, error) {
	var b strings.Builder
	for rest := p.rest[1:]; ; {
		part, after, ok := strings.Cut(rest, "'")
		if !ok {
			return "", badFilter("a text is not closed")
		}
		b.WriteString(part)
		if !strings.HasPrefix(after, "'") {
			p.rest = after
			return b.String(), nil
		}
		b.WriteByte('\'')
		rest = after[1:]
	}
}

func (p *filterParser) named() (condition, error) {
	end := 0
	for end < len(p.rest) && isLetter(p.rest[end]) {
		end++
	}
	name := p.rest[:end]
	p.rest = p.rest[end:]
	switch {
	case name == "":
		return nil, badFilter("%.40q cannot be read", p.rest)
	case name == "true" || name == "false":
		return constant(name == "true"), nil
	case name == "null":
		return constant(""), nil
	case (name == "datetime" || name == "datetimeoffset") && strings.HasPrefix(p.rest, "'"):
		text, err := p.text()
		if err != nil {
			return nil, err
		}
		at, err := time.Parse("2006-01-02T15:04:05", strings.TrimSuffix(text, "Z"))
		if err != nil {
			return nil, badFilter("%.40q is no time", text)
		}
		return constant(at), nil
	case p.take('('):
		return p.call(name)
	}
	if _, ok := (&listed{}).property(name); !ok {
		return nil, badFilter("there is no property %.40s", name)
	}
	return func(e *listed) any {
		value, _ := e.property(name)
		return value
	}, nil
}

// functions are those of texts, by name.
var functions = map[string]struct {
	arguments int
	of        func(texts []string) any
}{
	"tolower":     {1, func(t []string) any { return strings.ToLower(t[0]) }},
	"toupper":     {1, func(t []string) any { return strings.ToUpper(t[0]) }},
	"trim":        {1, func(t []string) any { return strings.TrimSpace(t[0]) }},
	"substringof": {2, func(t []string) any { return strings.Contains(t[1], t[0]) }},
	"startswith":  {2, func(t []string) any { return strings.HasPrefix(t[0], t[1]) }},
	"endswith":    {2, func(t []string) any { return strings.HasSuffix(t[0], t[1]) }},
	"concat":      {2, func(t []string) any { return t[0] + t[1] }},
	"indexof":     {2, func(t []string) any { return int64(strings.Index(t[0], t[1])) }},
}

func (p *filterParser) call(name string) (condition, error) {
	if p.depth++; p.depth > maxFilterDepth {
		return nil, badFilter("it is nested more than %d deep", maxFilterDepth)
	}
	defer func() { p.depth-- }()
	f, ok := functions[name]
	if !ok {
		return nil, badFilter("there is no function %.40s", name)
	}
	var arguments []condition
	for {
		argument, err := p.value()
		if err != nil {
			return nil, err
		}
		if arguments = append(arguments, argument); p.take(')') {
			break
		}
		if !p.take(',') {
			return nil, badFilter("%s is not closed", name)
		}
	}
	if len(arguments) != f.arguments {
		return nil, badFilter("%s takes %d values", name, f.arguments)
	}
	return func(e *listed) any {
		texts := make([]string, len(arguments))
		for i, a := range arguments {
			texts[i] = fmt.Sprint(a(e))
		}
		return f.of(texts)
	}, nil
}
