package purl

import (
	"strings"
)

// mavenItem is one element of a parsed Maven version: a number, a qualifier
// or a list of items.
type mavenItem struct {
	kind   itemKind
	number string // digits without leading zeros; "" is zero
	text   string // lower case, aliases resolved
	list   []mavenItem
}

type itemKind int

const (
	numberItem itemKind = iota
	textItem
	listItem
)

// mavenQualifiers in their order; "" is the release itself.
var mavenQualifiers = map[string]int{
	"alpha": 0, "beta": 1, "milestone": 2, "rc": 3, "snapshot": 4, "": 5, "sp": 6,
}

// compareMaven orders versions by the "Version Order Specification" of the
// Maven POM reference.
func compareMaven(a, b string) int {
	return compareItems(parseMaven(a), parseMaven(b))
}

// parseMaven splits a version at dots, hyphens, underscores and at each change
// between digits and letters; a hyphen or such a change opens a sub-list, and
// trailing "null" values (0, "", final, ga, release) of each list are dropped.
func parseMaven(version string) mavenItem {
	version = strings.ToLower(version)
	// lists holds the open lists, the innermost last.
	lists := [][]mavenItem{nil}
	add := func(item mavenItem) {
		lists[len(lists)-1] = append(lists[len(lists)-1], item)
	}
	open := func() {
		if n := len(lists[len(lists)-1]); n > 0 {
			lists[len(lists)-1] = trimNulls(lists[len(lists)-1])
			lists = append(lists, nil)
		}
	}
	for i := 0; i < len(version); {
		switch c := version[i]; {
		case c == '.' || c == '-' || c == '_':
			if i == 0 || isSeparator(version[i-1]) {
				add(mavenItem{kind: numberItem})
			}
			if c != '.' {
				open()
			}
			i++
		case isDigit(c):
			end := i
			for end < len(version) && isDigit(version[end]) {
				end++
			}
			if i > 0 && !isSeparator(version[i-1]) {
				open()
			}
			add(mavenItem{kind: numberItem, number: strings.TrimLeft(version[i:end], "0")})
			i = end
		default:
			end := i
			for end < len(version) && !isDigit(version[end]) && !isSeparator(version[end]) {
				end++
			}
			if i > 0 && isDigit(version[i-1]) {
				open()
			}
			add(mavenItem{kind: textItem, text: mavenAlias(version[i:end], end < len(version) && isDigit(version[end]))})
			i = end
		}
		// Bounds the depth that a hostile version can ask for.
		if len(lists) > 64 {
			break
		}
	}
	var inner []mavenItem
	for n := len(lists) - 1; n >= 0; n-- {
		list := lists[n]
		if inner != nil {
			list = append(list, mavenItem{kind: listItem, list: inner})
		}
		inner = trimNulls(list)
	}
	return mavenItem{kind: listItem, list: inner}
}

func isDigit(c byte) bool     { return c >= '0' && c <= '9' }
func isSeparator(c byte) bool { return c == '.' || c == '-' || c == '_' }

func mavenAlias(text string, digitFollows bool) string {
	switch text {
	case "a", "b", "m":
		if digitFollows {
			return map[string]string{"a": "alpha", "b": "beta", "m": "milestone"}[text]
		}
	case "cr":
		return "rc"
	case "ga", "final", "release":
		return ""
	}
	return text
}

func (m mavenItem) isNull() bool {
	return m.kind == numberItem && m.number == "" ||
		m.kind == textItem && m.text == "" ||
		m.kind == listItem && len(m.list) == 0
}

func trimNulls(list []mavenItem) []mavenItem {
	for len(list) > 0 && list[len(list)-1].isNull() {
		list = list[:len(list)-1]
	}
	return list
}

// compareItems orders two items.
func compareItems(a, b mavenItem) int {
	if a.kind != b.kind {
		// A qualifier comes before a sub-list, a sub-list before a number.
		rank := [...]int{numberItem: 2, textItem: 0, listItem: 1}
		return rank[a.kind] - rank[b.kind]
	}
	switch a.kind {
	case numberItem:
		if len(a.number) != len(b.number) {
			return len(a.number) - len(b.number)
		}
		return strings.Compare(a.number, b.number)
	case textItem:
		return compareQualifiers(a.text, b.text)
	default:
		for i := 0; i < len(a.list) || i < len(b.list); i++ {
			var c int
			switch {
			case i >= len(a.list):
				c = -compareToNothing(b.list[i])
			case i >= len(b.list):
				c = compareToNothing(a.list[i])
			default:
				c = compareItems(a.list[i], b.list[i])
			}
			if c != 0 {
				return c
			}
		}
		return 0
	}
}

// compareToNothing orders an item against the absence of one.
func compareToNothing(item mavenItem) int {
	switch item.kind {
	case numberItem:
		return len(item.number)
	case textItem:
		return compareQualifiers(item.text, "")
	default:
		for _, inner := range item.list {
			if c := compareToNothing(inner); c != 0 {
				return c
			}
		}
		return 0
	}
}

func compareQualifiers(a, b string) int {
	rankA, knownA := mavenQualifiers[a]
	rankB, knownB := mavenQualifiers[b]
	switch {
	case knownA && knownB:
		return rankA - rankB
	case knownA:
		return -1
	case knownB:
		return 1
	}
	return strings.Compare(a, b)
}

func snapshotMaven(version string) bool {
	return strings.HasSuffix(version, "-SNAPSHOT") || version == "SNAPSHOT"
}
