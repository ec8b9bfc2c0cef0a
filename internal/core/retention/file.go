package retention

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/query"
)

// The limits of a policy.
const (
	maxFile  = 64 << 10
	maxList  = 100
	maxGrace = 366 * 24 * time.Hour
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// Lines tells where the settings of a file stand, from 1; an entry of a list by
// its name and index: keep[2].
type Lines map[string]int

// Wrong says that a setting is wrong, with its line; it gives nil for nil.
func (l Lines) Wrong(key string, err error) error {
	line, ok := l[key]
	if err == nil || !ok {
		return err
	}
	f := fault.Of(err)
	return fault.New(fault.Invalid, "bad-policy", "%s", f.Message).AtLine(line).WithHint("%s", f.Hint)
}

// ParseFile reads a policy as it is written in YAML (docs/retention.md has its
// form). The error is a fault that names the line.
func ParseFile(text string) (Policy, Lines, error) {
	if len(text) > maxFile {
		return Policy{}, nil, fault.New(fault.Invalid, "bad-policy", "a policy has at most %d bytes", maxFile)
	}
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return Policy{}, nil, unreadable(err)
	}
	r := reader{policy: Policy{Grace: DefaultGrace}, lines: Lines{}}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		return Policy{}, nil, fault.New(fault.Invalid, "bad-policy", "a policy is one document of settings, such as keep").
			WithHint(formHint)
	}
	var entries []*ast.MappingValueNode
	switch body := file.Docs[0].Body.(type) {
	case *ast.MappingNode:
		entries = body.Values
	case *ast.MappingValueNode:
		entries = []*ast.MappingValueNode{body}
	default:
		return Policy{}, nil, wrongAt(lineOfNode(body), "a policy is a list of settings with values").WithHint(formHint)
	}
	for _, entry := range entries {
		if err := r.setting(entry); err != nil {
			return Policy{}, nil, err
		}
	}
	return r.policy, r.lines, r.whole()
}

const formHint = "See docs/retention.md for the form of a policy."

// unreadable is what is no YAML, with the line where that is seen.
func unreadable(err error) error {
	message, line := err.Error(), 0
	var at yaml.Error
	if errors.As(err, &at) {
		message = at.GetMessage()
		if t := at.GetToken(); t != nil {
			line = t.Position.Line
		}
	}
	return wrongAt(line, "this is not YAML: %s", message).
		WithHint("Check the indentation and the quotes there.")
}

func lineOfNode(n ast.Node) int {
	if t := n.GetToken(); t != nil && t.Position != nil {
		return t.Position.Line
	}
	return 1
}

type reader struct {
	policy Policy
	lines  Lines
}

// settings are how the settings of a policy are read, by name.
var settings = map[string]func(r *reader, key string, n ast.Node) error{
	"name":          text(func(p *Policy) *string { return &p.Name }),
	"description":   text(func(p *Policy) *string { return &p.Description }),
	"schedule":      text(func(p *Policy) *string { return &p.Schedule }),
	"zone":          text(func(p *Policy) *string { return &p.Zone }),
	"repositories":  (*reader).repositories,
	"packages":      (*reader).packages,
	"platforms":     (*reader).platforms,
	"where":         (*reader).where,
	"keep":          (*reader).keep,
	"grace":         (*reader).grace,
	"most-versions": (*reader).mostVersions,
	"most-share":    (*reader).mostShare,
}

// Settings are the names of all settings.
var Settings = []string{"name", "description", "repositories", "packages", "platforms", "where", "keep", "grace", "schedule", "zone",
	"most-versions", "most-share"}

func wrongAt(line int, format string, args ...any) *fault.Error {
	return fault.New(fault.Invalid, "bad-policy", format, args...).AtLine(line)
}

func (r *reader) setting(entry *ast.MappingValueNode) error {
	key, line := entry.Key.GetToken().Value, lineOfNode(entry.Key)
	read, ok := settings[key]
	if !ok {
		return wrongAt(line, "there is no setting %q", key).WithHint("Choose from %s.", strings.Join(Settings, ", "))
	}
	r.lines[key] = line
	return read(r, key, entry.Value)
}

// scalar is the text of a single value.
func scalar(key string, n ast.Node) (string, error) {
	s, ok := n.(ast.ScalarNode)
	if _, null := n.(*ast.NullNode); !ok || null {
		return "", wrongAt(lineOfNode(n), "%s has one value", key)
	}
	if s, ok := n.(*ast.LiteralNode); ok {
		return strings.TrimSpace(s.Value.Value), nil
	}
	return s.GetToken().Value, nil
}

func text(into func(*Policy) *string) func(r *reader, key string, n ast.Node) error {
	return func(r *reader, key string, n ast.Node) error {
		value, err := scalar(key, n)
		if err == nil && len(value) > 500 {
			err = wrongAt(lineOfNode(n), "%s is longer than 500 characters", key)
		}
		*into(&r.policy) = value
		return err
	}
}

// each reads the entries of a list; a single value is a list of one.
func (r *reader) each(key string, n ast.Node, read func(value string) error) error {
	list := []ast.Node{n}
	if sequence, ok := n.(*ast.SequenceNode); ok {
		list = sequence.Values
	}
	if len(list) > maxList {
		return wrongAt(lineOfNode(n), "%s has more than %d entries", key, maxList)
	}
	for i, entry := range list {
		r.lines[fmt.Sprintf("%s[%d]", key, i)] = lineOfNode(entry)
		value, err := scalar(key, entry)
		if err != nil {
			return err
		}
		if err := read(value); err != nil {
			return r.lines.Wrong(fmt.Sprintf("%s[%d]", key, i), err)
		}
	}
	return nil
}

func (r *reader) repositories(key string, n ast.Node) error {
	return r.each(key, n, func(value string) error {
		if value == "" || len(value) > 63 {
			return fault.New(fault.Invalid, "bad-policy", "%q is no name of a repository", value)
		}
		r.policy.Repositories = append(r.policy.Repositories, value)
		return nil
	})
}

func (r *reader) packages(key string, n ast.Node) error {
	return r.each(key, n, func(value string) error {
		p, err := purl.ParsePattern(value)
		r.policy.Packages = append(r.policy.Packages, p)
		return err
	})
}

func (r *reader) platforms(key string, n ast.Node) error {
	return r.each(key, n, func(value string) error {
		if !platformForm.MatchString(value) {
			return fault.New(fault.Invalid, "bad-policy", "%.80q is no platform", value).
				WithHint("Write it as linux/arm64, with * for any run of characters.")
		}
		r.policy.Platforms = append(r.policy.Platforms, value)
		return nil
	})
}

// platformForm is os/architecture, perhaps with a variant.
var platformForm = regexp.MustCompile(`^[a-z0-9*._-]{1,40}/[a-z0-9*._-]{1,40}(/[a-z0-9*._-]{1,40})?$`)

func (r *reader) where(key string, n ast.Node) error {
	value, err := scalar(key, n)
	if err != nil {
		return err
	}
	q, err := query.Parse(value)
	if err == nil {
		err = usable(q)
	}
	r.policy.Where, r.policy.Query = value, q
	return r.lines.Wrong(key, err)
}

// usable refuses what a policy cannot ask for.
func usable(q query.Query) error {
	if len(q.Saved) > 0 {
		return fault.New(fault.Invalid, "bad-policy", "a saved search may change without the policy").
			WithHint("Write out what @%s asks for.", q.Saved[0])
	}
	for _, c := range q.Conditions {
		if c.Key == "removed" {
			return fault.New(fault.Invalid, "bad-policy", "removed: cannot be used in where: a policy is about what is there")
		}
		if c.Key == "repo" {
			return fault.New(fault.Invalid, "bad-policy", "repo: cannot be used in where").
				WithHint("Name them under repositories.")
		}
	}
	return nil
}

func (r *reader) keep(key string, n ast.Node) error {
	return r.each(key, n, func(value string) error {
		reason, err := ParseReason(value)
		r.policy.Keep = append(r.policy.Keep, reason)
		return err
	})
}

func (r *reader) grace(key string, n ast.Node) error {
	value, err := scalar(key, n)
	if err != nil {
		return err
	}
	length, err := ParseLength(value)
	if err != nil || length > maxGrace {
		return wrongAt(lineOfNode(n), "grace is a length of time up to a year, such as 14d, not %q", value)
	}
	r.policy.Grace = length
	return nil
}

func (r *reader) mostVersions(key string, n ast.Node) error {
	value, err := scalar(key, n)
	if err != nil {
		return err
	}
	r.policy.MostVersions, err = strconv.Atoi(strings.ReplaceAll(value, "_", ""))
	if err != nil || r.policy.MostVersions < 1 {
		return wrongAt(lineOfNode(n), "most-versions is a number from 1, not %q", value)
	}
	return nil
}

func (r *reader) mostShare(key string, n ast.Node) error {
	value, err := scalar(key, n)
	if err != nil {
		return err
	}
	r.policy.MostShare, err = strconv.Atoi(strings.TrimSuffix(value, "%"))
	if err != nil || r.policy.MostShare < 1 || r.policy.MostShare > 100 {
		return wrongAt(lineOfNode(n), "most-share is a share from 1%% to 100%%, not %q", value)
	}
	return nil
}

// whole checks that nothing is missing.
func (r *reader) whole() error {
	p := &r.policy
	missing := func(key, why string) error {
		return fault.New(fault.Invalid, "bad-policy", "%s is missing: %s", key, why).WithHint(formHint)
	}
	switch {
	case p.Name == "":
		return missing("name", "a policy has a name")
	case !nameForm.MatchString(p.Name):
		return wrongAt(r.lines["name"], "%q is no name: small letters, digits, and . _ - within, 63 at most", p.Name)
	case len(p.Repositories) == 0:
		return missing("repositories", "name those that the policy is about")
	case len(p.Keep) == 0:
		return missing("keep", "a policy says what stays; one without a reason would sweep everything")
	case p.Schedule == "" && p.Zone != "":
		return wrongAt(r.lines["zone"], "a zone has no meaning without a schedule")
	}
	return nil
}

// Text writes a policy as a file.
func (p *Policy) Text() string {
	var b strings.Builder
	quoted := func(values ...string) string {
		for i, v := range values {
			values[i] = strconv.Quote(v)
		}
		return strings.Join(values, ", ")
	}
	line := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s: %s\n", key, value)
		}
	}
	line("name", p.Name)
	if p.Description != "" {
		line("description", quoted(p.Description))
	}
	line("repositories", "["+quoted(slices.Clone(p.Repositories)...)+"]")
	if len(p.Packages) > 0 {
		var patterns []string
		for _, pattern := range p.Packages {
			patterns = append(patterns, pattern.String())
		}
		line("packages", "["+quoted(patterns...)+"]")
	}
	if len(p.Platforms) > 0 {
		line("platforms", "["+quoted(slices.Clone(p.Platforms)...)+"]")
	}
	if p.Where != "" {
		line("where", quoted(p.Where))
	}
	b.WriteString("keep:\n")
	for _, r := range p.Keep {
		fmt.Fprintf(&b, "  - %s\n", quoted(r.String()))
	}
	line("grace", WriteLength(p.Grace))
	if p.Schedule != "" {
		line("schedule", quoted(p.Schedule))
		line("zone", p.Zone)
	}
	if p.MostVersions > 0 {
		line("most-versions", strconv.Itoa(p.MostVersions))
	}
	if p.MostShare > 0 {
		line("most-share", strconv.Itoa(p.MostShare)+"%")
	}
	return b.String()
}
