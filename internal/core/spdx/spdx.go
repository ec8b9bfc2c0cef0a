// Package spdx reads licence expressions (SPDX specification 2.3, annex D), as
// far as is needed to tell whether licences that are allowed satisfy one, and knows
// identifiers by the names that packages write instead.
package spdx

import (
	"fmt"
	"strings"
)

// maxDepth bounds how deep expressions are nested.
const maxDepth = 32

// Expression is a licence expression. The zero value satisfies nothing.
type Expression struct {
	licence string // in lower case; with " with exception"
	any     bool   // of parts one is enough
	parts   []Expression
}

// Parse reads an expression: MIT, Apache-2.0 OR (GPL-2.0-only WITH
// Classpath-exception-2.0 AND MIT). The operators may be in lower case.
func Parse(text string) (Expression, error) {
	p := parser{tokens: strings.Fields(strings.NewReplacer("(", " ( ", ")", " ) ").Replace(text))}
	e, err := p.either(0)
	if err == nil && len(p.tokens) > 0 {
		err = fmt.Errorf("%q follows where nothing should", p.tokens[0])
	}
	if err != nil {
		return Expression{}, fmt.Errorf("%q is no licence expression: %w", text, err)
	}
	return e, nil
}

// Satisfied tells whether licences that are allowed are enough: of an OR one
// side, of an AND both. allowed gets an identifier in lower case, with its
// exception if it has one, and is asked for both.
func (e Expression) Satisfied(allowed func(licence string) bool) bool {
	if len(e.parts) == 0 {
		if e.licence == "" {
			return false
		}
		plain, _, with := strings.Cut(e.licence, " with ")
		return allowed(e.licence) || with && allowed(plain) || allowed(strings.TrimSuffix(e.licence, "+"))
	}
	for _, part := range e.parts {
		if part.Satisfied(allowed) == e.any {
			return e.any
		}
	}
	return !e.any
}

type parser struct{ tokens []string }

func (p *parser) next(word string) bool {
	if len(p.tokens) > 0 && strings.EqualFold(p.tokens[0], word) {
		p.tokens = p.tokens[1:]
		return true
	}
	return false
}

func (p *parser) either(depth int) (Expression, error) {
	return p.row(depth, "OR", true, func(depth int) (Expression, error) { return p.row(depth, "AND", false, p.one) })
}

func (p *parser) row(depth int, operator string, any bool, part func(int) (Expression, error)) (Expression, error) {
	first, err := part(depth)
	if err != nil {
		return first, err
	}
	all := Expression{any: any, parts: []Expression{first}}
	for p.next(operator) {
		more, err := part(depth)
		if err != nil {
			return more, err
		}
		all.parts = append(all.parts, more)
	}
	if len(all.parts) == 1 {
		return first, nil
	}
	return all, nil
}

func (p *parser) one(depth int) (Expression, error) {
	switch {
	case depth > maxDepth:
		return Expression{}, fmt.Errorf("it is nested deeper than %d", maxDepth)
	case len(p.tokens) == 0:
		return Expression{}, fmt.Errorf("it ends where a licence should be")
	case p.next("("):
		inner, err := p.either(depth + 1)
		if err == nil && !p.next(")") {
			err = fmt.Errorf("a bracket is not closed")
		}
		return inner, err
	}
	word := strings.ToLower(p.tokens[0])
	if word == "or" || word == "and" || word == "with" || word == ")" {
		return Expression{}, fmt.Errorf("%q stands where a licence should be", p.tokens[0])
	}
	p.tokens = p.tokens[1:]
	if p.next("WITH") {
		if len(p.tokens) == 0 {
			return Expression{}, fmt.Errorf("WITH names no exception")
		}
		word += " with " + strings.ToLower(p.tokens[0])
		p.tokens = p.tokens[1:]
	}
	return Expression{licence: word}, nil
}
