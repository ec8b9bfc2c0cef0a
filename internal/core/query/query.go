// Package query is the form in which people ask for packages and versions:
// words, package URL patterns, and key:value conditions. docs/search.md tells
// users of it.
package query

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
)

// Query is what is asked for: everything must fit.
type Query struct {
	Words      []string
	Patterns   []purl.Pattern
	Conditions []Condition
	// Saved are the names of saved searches, after an @.
	Saved []string
}

// Condition is one key:value.
type Condition struct {
	Key string
	Not bool
	// Op is "=", ">", "<", ">=" or "<="; "=" for all but numbers.
	Op string
	// Text is the value; with * for any run of characters.
	Text   string
	Number int64         // of downloads; bytes of size
	Length time.Duration // of age and used
}

// Kind is what the values of a key are.
type Kind int

// The kinds.
const (
	Text   Kind = iota // with * for any run of characters
	Choice             // one of a few
	Count
	Bytes
	Length // of time
)

// Key is a key of conditions.
type Key struct {
	Name    string
	Kind    Kind
	Means   string
	Example string
	Choices []string // of a Choice
}

// Keys are all keys, in the order of their names.
var Keys = []Key{
	{Name: "age", Kind: Length, Means: "how long ago the version was published", Example: "age:>30d"},
	{Name: "author", Kind: Text, Means: "an author, as the package says", Example: "author:*deck*"},
	{Name: "by", Kind: Text, Means: "who published it", Example: "by:ci-berth"},
	{Name: "downloads", Kind: Count, Means: "how often the version was downloaded", Example: "downloads:0"},
	{Name: "ecosystem", Kind: Text, Means: "the kind of package", Example: "ecosystem:npm"},
	{Name: "has", Kind: Text, Means: "a file in a file set, by its name or path", Example: "has:*.bin"},
	{Name: "holds", Kind: Choice, Means: "the maturity of the version", Example: "holds:snapshots",
		Choices: []string{"snapshots", "releases"}},
	{Name: "label", Kind: Text, Means: "a label that is at the version", Example: "label:latest"},
	{Name: "licence", Kind: Text, Means: "a licence, as the package says", Example: "licence:Apache-*"},
	{Name: "name", Kind: Text, Means: "the name of the package, without its namespace", Example: "name:*-planner"},
	{Name: "namespace", Kind: Text, Means: "the group, scope or the like", Example: "namespace:@skerry"},
	{Name: "needs", Kind: Text, Means: "a dependency, by its name or package URL", Example: "needs:*brine-http"},
	{Name: "removed", Kind: Choice, Means: "whether the version was removed; without this, only what is there is found",
		Example: "removed:yes", Choices: []string{"yes", "no"}},
	{Name: "repo", Kind: Text, Means: "the repository", Example: "repo:releases"},
	{Name: "size", Kind: Bytes, Means: "the size of the version's files", Example: "size:>10MiB"},
	{Name: "used", Kind: Length, Means: "how long ago the version was downloaded last", Example: "used:<7d"},
	{Name: "version", Kind: Text, Means: "the version", Example: "version:1.4.*"},
	{Name: "withdrawn", Kind: Choice, Means: "whether the version was withdrawn", Example: "withdrawn:yes",
		Choices: []string{"yes", "no"}},
}

// KeyNamed finds a key.
func KeyNamed(name string) (Key, bool) {
	i := slices.IndexFunc(Keys, func(k Key) bool { return k.Name == name })
	if i < 0 {
		return Key{}, false
	}
	return Keys[i], true
}

// maxTerms is how many terms a query may have.
const maxTerms = 30

// term is a piece of a query, and at which character it begins, from 1.
type term struct {
	text   string
	at     int
	quoted bool // as a whole
}

// split parts a query at blanks that are not within quotes.
func split(text string) ([]term, error) {
	var terms []term
	var b strings.Builder
	begun, quoted, open, openAt := 0, false, false, 0
	end := func() {
		if begun > 0 && (b.Len() > 0 || quoted) {
			terms = append(terms, term{b.String(), begun, quoted})
		}
		b.Reset()
		begun, quoted = 0, false
	}
	at := 0
	for _, r := range text {
		at++
		switch {
		case r == '"':
			if begun == 0 {
				begun, quoted = at, true
			}
			open, openAt = !open, at
		case !open && (r == ' ' || r == '\t' || r == '\n' || r == ','):
			end()
		default:
			if begun == 0 {
				begun = at
			}
			b.WriteRune(r)
		}
	}
	if open {
		return nil, wrong(openAt, `"`, "the quote is not closed", `End it with another ".`)
	}
	end()
	return terms, nil
}

// wrong is a fault that points at a place of the query.
func wrong(at int, text, why, hint string, args ...any) error {
	return fault.New(fault.Invalid, "bad-query", "at character %d, %q: %s", at, text, why).WithHint(hint, args...)
}

var keyForm = regexp.MustCompile(`^-?[a-z]+$`)

// Parse reads a query. The error is a fault that points at the place.
func Parse(text string) (Query, error) {
	var q Query
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		return q, fault.New(fault.Invalid, "bad-query", "the query is not text")
	}
	terms, err := split(text)
	if err != nil {
		return q, err
	}
	if len(terms) > maxTerms {
		t := terms[maxTerms]
		return q, wrong(t.at, t.text, fmt.Sprintf("a query has at most %d terms", maxTerms), "Leave some out.")
	}
	for _, t := range terms {
		if err := q.add(t); err != nil {
			return q, err
		}
	}
	return q, nil
}

// add takes a term in.
func (q *Query) add(t term) error {
	key, value, hasKey := strings.Cut(t.text, ":")
	switch {
	case t.quoted:
		q.Words = append(q.Words, t.text)
		return nil
	case strings.HasPrefix(t.text, "pkg:"):
		p, err := purl.ParsePattern(t.text)
		if err != nil {
			f := fault.Of(err)
			return wrong(t.at, t.text, "this is no pattern of package URLs", "%s", f.Hint)
		}
		if p.Ranged() {
			return wrong(t.at, t.text, "a range of versions cannot be searched for",
				"Use * in the version, such as pkg:npm/kelp-colors@3.*.")
		}
		q.Patterns = append(q.Patterns, p)
		return nil
	case strings.HasPrefix(t.text, "@") && len(t.text) > 1 && !strings.ContainsAny(t.text, "/:"):
		q.Saved = append(q.Saved, t.text[1:])
		return nil
	case !hasKey || !keyForm.MatchString(key):
		// Coordinates are words too, once their punctuation is gone.
		for word := range strings.FieldsFuncSeq(t.text, func(r rune) bool { return r == ':' || r == '/' }) {
			q.Words = append(q.Words, word)
		}
		return nil
	}
	c := Condition{Key: strings.TrimPrefix(key, "-"), Not: key[0] == '-', Op: "=", Text: value}
	known, ok := KeyNamed(c.Key)
	if !ok {
		if !strings.Contains(value, ":") && strings.Contains(t.text, ".") {
			q.Words = append(q.Words, c.Key, value) // group:artifact
			return nil
		}
		return wrong(t.at, key+":", "there is no such condition", "%s", suggest(c.Key))
	}
	at := t.at + utf8.RuneCountInString(key) + 1
	if value == "" {
		return wrong(t.at, t.text, "it has no value", "Write it like %s.", known.Example)
	}
	if err := c.read(known, at); err != nil {
		return err
	}
	q.Conditions = append(q.Conditions, c)
	return nil
}

// readDependency puts a package URL into the form in which dependencies stand on
// record, however it was typed.
func (c *Condition) readDependency(at int) error {
	p, err := purl.ParsePattern(c.Text)
	if err != nil {
		return wrong(at, c.Text, "this is no pattern of package URLs", "%s", fault.Of(err).Hint)
	}
	if !p.Whole() {
		return wrong(at, c.Text, "what is needed is asked for without a version",
			"Leave the version out: a dependency is met by many.")
	}
	c.Text = p.Canonical()
	return nil
}

// read reads the value of a condition.
func (c *Condition) read(k Key, at int) error {
	switch k.Kind {
	case Text:
		if k.Name == "needs" && strings.HasPrefix(c.Text, "pkg:") {
			return c.readDependency(at)
		}
		return nil
	case Choice:
		if !slices.Contains(k.Choices, c.Text) {
			return wrong(at, c.Text, "this is none of its values", "Choose from %s.", strings.Join(k.Choices, " and "))
		}
		return nil
	}
	number := c.Text
	for _, op := range []string{">=", "<=", ">", "<"} {
		if rest, ok := strings.CutPrefix(number, op); ok {
			c.Op, number = op, rest
			break
		}
	}
	var ok bool
	switch k.Kind {
	case Count:
		n, err := strconv.ParseInt(number, 10, 63)
		c.Number, ok = n, err == nil
	case Bytes:
		c.Number, ok = ParseBytes(number)
	case Length:
		if c.Op == "=" {
			return wrong(at, c.Text, "a length of time needs > or <", "Write it like %s.", k.Example)
		}
		c.Length, ok = parseLength(number)
	}
	if !ok {
		return wrong(at, c.Text, "this cannot be read", "Write it like %s.", k.Example)
	}
	return nil
}

var units = map[string]int64{"": 1, "b": 1, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40, "kb": 1e3,
	"mb": 1e6, "gb": 1e9, "tb": 1e12}

// ParseBytes reads a number of bytes with a unit: 10MiB, 2GB, 512.
func ParseBytes(text string) (int64, bool) {
	end := strings.LastIndexAny(text, "0123456789") + 1
	n, err := strconv.ParseInt(text[:end], 10, 63)
	unit, ok := units[strings.ToLower(text[end:])]
	return n * unit, err == nil && ok && n <= 1<<62/unit
}

var lengths = map[string]time.Duration{"m": time.Minute, "h": time.Hour, "d": 24 * time.Hour, "w": 7 * 24 * time.Hour,
	"y": 365 * 24 * time.Hour}

func parseLength(text string) (time.Duration, bool) {
	end := strings.LastIndexAny(text, "0123456789") + 1
	n, err := strconv.ParseInt(text[:end], 10, 32)
	unit, ok := lengths[text[end:]]
	return time.Duration(n) * unit, err == nil && ok && n <= int64(200*365*24*time.Hour/max(unit, 1))
}

// suggest proposes the key that somebody may have meant.
func suggest(key string) string {
	var names []string
	for _, k := range Keys {
		names = append(names, k.Name)
	}
	if best := text.Closest(key, names); best != "" {
		return fmt.Sprintf("Did you mean %s: ?", best)
	}
	return `Choose from ` + strings.Join(names, ", ") + `; or write it in quotes, if it is a word.`
}

// Join adds what another query asks for.
func (q Query) Join(other Query) Query {
	q.Words = slices.Concat(q.Words, other.Words)
	q.Patterns = slices.Concat(q.Patterns, other.Patterns)
	q.Conditions = slices.Concat(q.Conditions, other.Conditions)
	return q
}

// Completion is how a query could go on: with Text in place of its last term.
type Completion struct{ Text, Means string }

// Complete proposes keys, and with values also values, for the last term of a
// query.
func Complete(text string, values func(key string) []string) (all []Completion) {
	last := text[strings.LastIndexAny(text, " \t\n,")+1:]
	if strings.HasPrefix(last, `"`) || strings.HasPrefix(last, "pkg:") {
		return nil
	}
	if saved, ok := strings.CutPrefix(last, "@"); ok {
		for _, name := range values("@") {
			if strings.HasPrefix(name, saved) {
				all = append(all, Completion{Text: "@" + name, Means: "a saved search"})
			}
		}
		return all
	}
	key, value, hasKey := strings.Cut(last, ":")
	sign := ""
	if rest, ok := strings.CutPrefix(key, "-"); ok {
		sign, key = "-", rest
	}
	if !hasKey {
		for _, k := range Keys {
			if key != "" && strings.HasPrefix(k.Name, key) {
				all = append(all, Completion{Text: sign + k.Name + ":", Means: k.Means})
			}
		}
		return all
	}
	k, ok := KeyNamed(key)
	if !ok {
		return nil
	}
	choices := k.Choices
	if choices == nil {
		choices = values(key)
	}
	for _, choice := range choices {
		if strings.HasPrefix(choice, value) && choice != value {
			all = append(all, Completion{Text: sign + key + ":" + choice, Means: k.Means})
		}
	}
	if len(all) == 0 && value == "" {
		all = append(all, Completion{Text: sign + k.Example, Means: k.Means})
	}
	return all
}
