package spdx

import (
	"strings"
	"unicode"
)

// mark is by what the text of a licence is known: passages that it has, in plain words, and such
// that it has not.
type mark struct {
	id      string
	has     []string
	without []string
}

const (
	bsdBegins = "redistribution and use in source and binary forms with or without modification are permitted provided " +
		"that the following conditions are met"
	bsdSource = "redistributions of source code must retain the above copyright notice this list of conditions and the " +
		"following disclaimer"
	bsdBinary = "redistributions in binary form must reproduce the above copyright notice this list of conditions and " +
		"the following disclaimer in the documentation"
	bsdNames  = "may be used to endorse or promote products derived from this software without specific prior written permission"
	iscBegins = "permission to use copy modify and or distribute this software for any purpose with or without fee is hereby granted"
	iscNotice = "provided that the above copyright notice and this permission notice appear in all copies"
	iscEnds   = "the software is provided as is and the author disclaims all warranties with regard to this software"
)

// marks are those of the licences that are used most. Where two share passages, what one has more
// keeps it apart.
var marks = []mark{
	{"MIT", []string{
		"permission is hereby granted free of charge to any person obtaining a copy of this software and associated documentation files",
		"to deal in the software without restriction including without limitation the rights to use copy modify merge publish " +
			"distribute sublicense and or sell copies of the software",
		"the above copyright notice and this permission notice shall be included in all copies or substantial portions of the software",
		"the software is provided as is without warranty of any kind express or implied including but not limited to the " +
			"warranties of merchantability fitness for a particular purpose and noninfringement"}, nil},
	{"ISC", []string{iscBegins, iscNotice, iscEnds}, nil},
	{"0BSD", []string{iscBegins, iscEnds}, []string{iscNotice}},
	{"BSD-2-Clause", []string{bsdBegins, bsdSource, bsdBinary}, []string{bsdNames, "all advertising materials"}},
	{"BSD-3-Clause", []string{bsdBegins, bsdSource, bsdBinary, bsdNames}, []string{"all advertising materials"}},
	{"Apache-2.0", []string{"apache license version 2 0", "terms and conditions for use reproduction and distribution",
		"grant of copyright license", "grant of patent license", "submission of contributions"}, nil},
	{"MPL-2.0", []string{"mozilla public license version 2 0", "incompatible with secondary licenses",
		"source code form", "larger work"}, nil},
	{"EPL-2.0", []string{"eclipse public license v 2 0",
		"the accompanying program is provided under the terms of this eclipse public license", "secondary license"}, nil},
	{"EPL-1.0", []string{"eclipse public license v 1 0",
		"the accompanying program is provided under the terms of this eclipse public license"}, nil},
	{"GPL-2.0-only", []string{"gnu general public license version 2 june 1991",
		"activities other than copying distribution and modification are not covered by this license"}, nil},
	{"GPL-3.0-only", []string{"gnu general public license version 3 29 june 2007",
		"the gnu general public license is a free copyleft license for software and other kinds of works"}, nil},
	{"LGPL-2.1-only", []string{"gnu lesser general public license version 2 1 february 1999",
		"a work that uses the library"}, nil},
	{"LGPL-3.0-only", []string{"gnu lesser general public license version 3 29 june 2007",
		"this version of the gnu lesser general public license incorporates the terms and conditions of version 3"}, nil},
	{"AGPL-3.0-only", []string{"gnu affero general public license version 3 19 november 2007",
		"remote network interaction"}, nil},
	{"Unlicense", []string{"this is free and unencumbered software released into the public domain",
		"anyone is free to copy modify publish use compile sell or distribute this software"}, nil},
	{"CC0-1.0", []string{"cc0 1 0 universal", "affirmer"}, nil},
	{"BSL-1.0", []string{"boost software license version 1 0 august 17th 2003",
		"must be included in all copies of the software in whole or in part"}, nil},
	{"Zlib", []string{"this software is provided as is without any express or implied warranty",
		"altered source versions must be plainly marked as such and must not be misrepresented as being the original software",
		"this notice may not be removed or altered from any source distribution"}, nil},
}

// surely is how much of what a text is known by it must have, in percent.
const surely = 60

// LongestText is how many bytes of a licence's text are looked at.
const LongestText = 64 << 10

// Recognise gives the identifier of the licence that a text is, and how sure that is, in percent:
// how much of the passages by which that licence is known it has. It is "" if none fits. A text
// that has several is none.
func Recognise(text string) (id string, sure int) {
	plain := " " + words(text[:min(len(text), LongestText)]) + " "
	second := 0
	for _, m := range marks {
		n := 0
		for _, passage := range m.has {
			if strings.Contains(plain, " "+passage+" ") {
				n++
			}
		}
		for _, passage := range m.without {
			if strings.Contains(plain, passage) {
				n = 0
			}
		}
		switch got := n * 100 / len(m.has); {
		case got > sure:
			id, sure, second = m.id, got, sure
		default:
			second = max(second, got)
		}
	}
	if sure < surely || second == sure {
		return "", 0
	}
	return id, sure
}

// words are the words of a text in lower case, with one blank between them.
func words(text string) string {
	var b strings.Builder
	for word := range strings.FieldsFuncSeq(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(word)
	}
	return b.String()
}
