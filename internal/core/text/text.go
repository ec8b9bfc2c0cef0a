// Package text is the gate that words from outside pass: headers, paths,
// queries, bodies, and what archives and upstreams say. Text that is an input is
// refused where it is not fit to be kept and shown; text that is a remark is
// made so.
package text

import (
	"strings"
	"unicode/utf8"

	"crelvo/internal/core/fault"
)

// Bounds in bytes, by what a text is.
const (
	MaxName   = 255      // one name: of a file, a package, a version
	MaxLine   = 1000     // a title, a link, what somebody asked for
	MaxRemark = 200      // what a client says of itself
	MaxText   = 64 << 10 // a description, a reason
)

// unfit tells whether a character may stand in no text: a control character, one
// that turns the direction of what follows, or one that is no character.
func unfit(r rune, lines bool) bool {
	switch {
	case r == '\n', r == '\r', r == '\t':
		return !lines
	case r < 0x20, 0x7f <= r && r < 0xa0, r == 0x2028, r == 0x2029:
		return true
	case 0x202a <= r && r <= 0x202e, 0x2066 <= r && r <= 0x2069, r == 0x061c, r == 0x200e, r == 0x200f:
		return true
	}
	return r == 0xfeff || 0xfff9 <= r && r <= 0xfffb || 0xfdd0 <= r && r <= 0xfdef || r&0xfffe == 0xfffe
}

// Fit tells whether s is valid UTF-8 without characters that may stand in no
// text. With lines, it may have several.
func Fit(s string, lines bool) bool {
	for i, r := range s {
		if r == utf8.RuneError && !strings.HasPrefix(s[i:], "\uFFFD") || unfit(r, lines) {
			return false
		}
	}
	return true
}

// Check refuses what is not fit, or longer than max bytes. what names the input
// in a sentence; s itself is not repeated.
func Check(what, s string, lines bool, max int) error {
	if len(s) > max {
		return fault.New(fault.Invalid, "too-long", "%s has %d bytes; at most %d are allowed", what, len(s), max)
	}
	if !Fit(s, lines) {
		return fault.New(fault.Invalid, "bad-text", "%s has characters that cannot be kept or shown", what).
			WithHint("Send UTF-8 without control characters.")
	}
	return nil
}

// CheckFileName refuses what cannot be the name of one file on every system that
// might fetch it.
func CheckFileName(name string) error {
	switch {
	case name == "" || name == "." || name == "..":
		return fault.New(fault.Invalid, "bad-file-name", "%q is not the name of a file", name)
	case strings.ContainsAny(name, `/\<>"|?*:`):
		return fault.New(fault.Invalid, "bad-file-name", "the name of a file cannot have any of / \\ < > \" | ? * :").
			WithHint("Letters, digits and . _ - + ~ are safe everywhere.")
	}
	return Check("the name of a file", name, false, MaxName)
}

// Clean makes s fit: what is not is left out, and what is longer than max bytes
// is cut between two characters.
func Clean(s string, lines bool, max int) string {
	if len(s) <= max && Fit(s, lines) {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(s[i:], "\uFFFD"), unfit(r, lines):
			if r == '\n' || r == '\r' || r == '\t' {
				r = ' '
			} else {
				continue
			}
		}
		if b.Len()+utf8.RuneLen(r) > max {
			break
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Closest is the name that somebody may have meant by a word; "" if none is close.
func Closest(word string, names []string) string {
	best, least := "", 3
	if len(word) < 4 {
		least = 2
	}
	for _, name := range names {
		if len(word) > MaxName || len(name) > MaxName {
			continue
		}
		if d := Distance(word, name); d < least {
			best, least = name, d
		}
	}
	return best
}

// Distance is how many letters must be changed, added, left out or swapped with
// their neighbour to make b of a.
func Distance(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
