package purl

import "testing"

func TestReleaseOf(t *testing.T) {
	for _, c := range [][4]string{
		{"maven", "1.4.0-SNAPSHOT", "1.4.0", "1.5.0-SNAPSHOT"}, {"npm", "1.4.0-dev.7", "1.4.0", "1.5.0-dev.1"},
		{"npm", "2.0.0-rc.1+b.5", "2.0.0", "2.1.0-dev.1"},
		{"pypi", "1.4.0.dev7", "1.4.0", "1.5.0.dev1"}, {"pypi", "1!2.0rc1.dev3", "1!2.0", "1!2.1.dev1"},
		{"nuget", "4.1.0-dev.71", "4.1.0", "4.2.0-dev.1"},
		{"maven", "7-SNAPSHOT", "7", "8-SNAPSHOT"}, {"maven", "SNAPSHOT", "", ""}, {"maven", "1.4.0", "", ""},
		{"npm", "1.4.0", "", ""},
	} {
		release := ReleaseOf(c[0], c[1])
		if release != c[2] || release != "" && NextDevelopment(c[0], release) != c[3] {
			t.Errorf("%s %s leads to %q, and then %q; want %q and %q", c[0], c[1], release, NextDevelopment(c[0], release), c[2],
				c[3])
		}
	}
}
