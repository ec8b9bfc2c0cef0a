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
	if Identifier(" The Apache License, Version 2.0") != "Apache-2.0" || Identifier("Tidal") != "Tidal" {
		t.Error("names are not known")
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
