package purl

import (
	"errors"
	"fmt"
	"net/url"
	"strings"
)

// Range is a version range in the vers notation
// (https://github.com/package-url/vers-spec): vers:maven/>=2.0|<3.0. Its
// constraints are taken in the order of the ecosystem's versions.
type Range struct{ constraints []constraint }

type constraint struct{ comparator, version string }

// ParseRange reads vers:<type>/<constraints>, constraints being separated by |.
func ParseRange(text string) (Range, error) {
	rest, ok := strings.CutPrefix(text, "vers:")
	_, list, found := strings.Cut(rest, "/")
	if !ok || !found || list == "" {
		return Range{}, errors.New("a range is written vers:maven/>=2.0|<3.0")
	}
	var r Range
	for _, part := range strings.Split(list, "|") {
		c := constraint{comparator: "="}
		for _, comparator := range []string{">=", "<=", "!=", ">", "<", "=", "*"} {
			if after, ok := strings.CutPrefix(part, comparator); ok {
				c.comparator, part = comparator, after
				break
			}
		}
		version, err := url.PathUnescape(strings.TrimSpace(part))
		if err != nil || (version == "") != (c.comparator == "*") {
			return Range{}, fmt.Errorf("%q is no constraint of a range", part)
		}
		c.version = version
		r.constraints = append(r.constraints, c)
	}
	return r, nil
}

// Contains tells whether a version of the ecosystem lies in the range: it is
// named, or it is not excluded and lies between a lower bound and the upper
// bound that follows it, either of which may be open.
func (r Range) Contains(ecosystem, version string) bool {
	var bounds []constraint
	named, listed := false, false
	for _, c := range r.constraints {
		order := Compare(ecosystem, version, c.version)
		switch c.comparator {
		case "*":
			return true
		case "=":
			listed = true
			named = named || order == 0
		case "!=":
			if order == 0 {
				return false
			}
		default:
			bounds = append(bounds, c)
		}
	}
	if named || len(bounds) == 0 {
		return named || !listed
	}
	within := func(c constraint) bool {
		order := Compare(ecosystem, version, c.version)
		switch c.comparator {
		case ">":
			return order > 0
		case ">=":
			return order >= 0
		case "<":
			return order < 0
		}
		return order <= 0
	}
	for i := 0; i < len(bounds); i++ {
		ok := within(bounds[i])
		if bounds[i].comparator[0] == '>' && i+1 < len(bounds) && bounds[i+1].comparator[0] == '<' {
			i++
			ok = ok && within(bounds[i])
		}
		if ok {
			return true
		}
	}
	return false
}
