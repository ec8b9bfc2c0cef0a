package spdx

import (
	"strings"
	"testing"
)

const (
	mitText = `MIT License

Copyright (c) 2026 The Openshore Project

Permission is hereby granted, free of charge, to any person obtaining a copy
of this software and associated documentation files (the "Software"), to deal
in the Software without restriction, including without limitation the rights
to use, copy, modify, merge, publish, distribute, sublicense, and/or sell
copies of the Software, and to permit persons to whom the Software is
furnished to do so, subject to the following conditions:

The above copyright notice and this permission notice shall be included in all
copies or substantial portions of the Software.

THE SOFTWARE IS PROVIDED "AS IS", WITHOUT WARRANTY OF ANY KIND, EXPRESS OR
IMPLIED, INCLUDING BUT NOT LIMITED TO THE WARRANTIES OF MERCHANTABILITY,
FITNESS FOR A PARTICULAR PURPOSE AND NONINFRINGEMENT. IN NO EVENT SHALL THE
AUTHORS OR COPYRIGHT HOLDERS BE LIABLE FOR ANY CLAIM, DAMAGES OR OTHER
LIABILITY.
`
	bsdText = `Copyright (c) 2026, The Openshore Project

Redistribution and use in source and binary forms, with or without
modification, are permitted provided that the following conditions are met:

1. Redistributions of source code must retain the above copyright notice, this
   list of conditions and the following disclaimer.
2. Redistributions in binary form must reproduce the above copyright notice,
   this list of conditions and the following disclaimer in the documentation
   and/or other materials provided with the distribution.
`
	bsdThird = `3. Neither the name of the copyright holder nor the names of its
   contributors may be used to endorse or promote products derived from
   this software without specific prior written permission.
`
	iscText = `Permission to use, copy, modify, and/or distribute this software for any
purpose with or without fee is hereby granted, provided that the above
copyright notice and this permission notice appear in all copies.

THE SOFTWARE IS PROVIDED "AS IS" AND THE AUTHOR DISCLAIMS ALL WARRANTIES
WITH REGARD TO THIS SOFTWARE.
`
)

func TestRecognise(t *testing.T) {
	noNotice := strings.Replace(iscText, `, provided that the above
copyright notice and this permission notice appear in all copies`, "", 1)
	for _, c := range []struct {
		what, text, id string
		sure           int
	}{
		{"MIT", mitText, "MIT", 100}, {"MIT with other line ends", strings.ReplaceAll(mitText, "\n", "\r\n"), "MIT", 100},
		{"MIT without its notice", strings.Replace(mitText, "The above copyright notice", "This notice", 1), "MIT", 75},
		{"half of MIT", mitText[:500], "", 0}, {"BSD-2", bsdText, "BSD-2-Clause", 100},
		{"BSD-3", bsdText + bsdThird, "BSD-3-Clause", 100}, {"ISC", iscText, "ISC", 100}, {"0BSD", noNotice, "0BSD", 100},
		{"the head of the GPL", "GNU GENERAL PUBLIC LICENSE\n  Version 3, 29 June 2007\n\nThe GNU General Public License is a " +
			"free, copyleft license for software and other kinds of works.", "GPL-3.0-only", 100},
		{"two", mitText + bsdText + bsdThird, "", 0}, {"nothing", "", "", 0}, {"other words", "All rights reserved.", "", 0},
	} {
		if id, sure := Recognise(c.text); id != c.id || sure != c.sure {
			t.Errorf("%s is %q, %d %%", c.what, id, sure)
		}
	}
	for _, m := range marks {
		if _, ok := Known(m.id); !ok {
			t.Errorf("SPDX has no %s", m.id)
		}
		for _, passage := range append(m.has, m.without...) {
			if words(passage) != passage {
				t.Errorf("%s: %q is not in plain words", m.id, passage)
			}
		}
	}
}

func FuzzRecognise(f *testing.F) {
	f.Add(mitText)
	f.Add(bsdText + bsdThird)
	f.Fuzz(func(t *testing.T, text string) {
		if id, sure := Recognise(text); (id == "") != (sure == 0) || sure < 0 || sure > 100 {
			t.Errorf("%q is %q, %d %%", text, id, sure)
		}
	})
}
