package spdx

import (
	"slices"
	"strings"
	"testing"
)

func TestSatisfied(t *testing.T) {
	for _, c := range []struct {
		text, allowed string
		want          bool
	}{
		{"MIT", "mit", true}, {"MIT", "apache-2.0", false}, {"mit or GPL-3.0-only", "mit", true},
		{"MIT AND GPL-3.0-only", "mit", false},
		{"MIT AND Apache-2.0", "mit apache-2.0", true}, {"MIT OR Apache-2.0 AND BSD-3-Clause", "apache-2.0", false},
		{"(MIT OR Apache-2.0) AND BSD-3-Clause", "apache-2.0 bsd-3-clause", true},
		{"MIT OR Apache-2.0 AND BSD-3-Clause", "mit", true},
		{"GPL-2.0-only WITH Classpath-exception-2.0", "gpl-2.0-only", true},
		{"GPL-2.0-only WITH Classpath-exception-2.0", "mit", false},
		{"EPL-1.0+", "epl-1.0", true}, {"((MIT))", "mit", true},
	} {
		e, err := Parse(c.text)
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		list := strings.Fields(c.allowed)
		if got := e.Satisfied(func(l string) bool { return slices.Contains(list, l) }); got != c.want {
			t.Errorf("%s with %s: %v", c.text, c.allowed, got)
		}
	}
	for _, text := range []string{"", "MIT OR", "(MIT", "MIT)", "MIT Apache-2.0", "OR MIT", "MIT WITH",
		strings.Repeat("(", 100) + "MIT"} {
		if e, err := Parse(text); err == nil || e.Satisfied(func(string) bool { return true }) {
			t.Errorf("%q is an expression", text)
		}
	}
}

// TestIdentifier has names as packages of each ecosystem write them.
func TestIdentifier(t *testing.T) {
	for name, want := range map[string]string{
		" The Apache License, Version 2.0": "Apache-2.0", "Apache 2.0": "Apache-2.0", "apache-2.0": "Apache-2.0",
		"The Apache Software License, Version 2.0": "Apache-2.0", "Apache Software License": "Apache-2.0",
		"http://www.apache.org/licenses/LICENSE-2.0.txt": "Apache-2.0",
		"MIT License": "MIT", "The MIT License": "MIT", "mit": "MIT", "https://licences.openshore.example/MIT": "MIT",
		"https://licences.openshore.example/BSD-3-Clause.html": "BSD-3-Clause",
		"BSD 3-Clause": "BSD-3-Clause", "New BSD License": "BSD-3-Clause", "ISC License (ISCL)": "ISC",
		"Eclipse Public License - v 2.0": "EPL-2.0", "Mozilla Public License 2.0 (MPL 2.0)": "MPL-2.0",
		"GNU General Public License v3 (GPLv3)": "GPL-3.0-only", "GPL-3.0": "GPL-3.0",
		"GNU General Public License v3 or later (GPLv3+)": "GPL-3.0-or-later",
		"GNU Lesser General Public License, version 2.1":  "LGPL-2.1-only",
		"GNU Affero General Public License v3":            "AGPL-3.0-only",
		"The Unlicense (Unlicense)":                       "Unlicense",
		// What could be several is none of them.
		"BSD License": "BSD License", "Tidal": "Tidal", "": "", "Public Domain": "Public Domain",
		"https://openshore.example/terms": "https://openshore.example/terms", "SEE LICENSE IN LICENSE.md": "SEE LICENSE IN LICENSE.md",
	} {
		if got := Identifier(name); got != want {
			t.Errorf("%q is %q, not %q", name, got, want)
		}
	}
	for text, allowed := range map[string]string{"MIT License": "mit", "MIT OR Tidal": "tidal", "Our Own (2026)": "our own (2026)"} {
		if !Read(text).Satisfied(func(l string) bool { return l == allowed }) {
			t.Errorf("%q is not satisfied by %q", text, allowed)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("MIT OR (Apache-2.0 WITH x AND BSD)")
	f.Add("((((")
	f.Fuzz(func(t *testing.T, text string) {
		if e, err := Parse(text); err == nil && !e.Satisfied(func(string) bool { return true }) {
			t.Errorf("%q is not satisfied by everything", text)
		}
	})
}
