package text

import (
	"strings"
	"testing"
	"unicode/utf8"

	"crelvo/internal/core/fault"
)

func TestFit(t *testing.T) {
	for _, c := range []struct {
		text        string
		line, lines bool
	}{
		{"", true, true}, {"Fähre 渡し船", true, true}, {"a\nb\tc\r\n", false, true}, {"a\x00b", false, false},
		{"\xff", false, false}, {"\uFFFD", true, true}, {"cut \xc3", false, false}, {"ab\u202ecd", false, false},
		{"\x7f", false, false}, {"\u0085", false, false}, {"\ufeffx", false, false}, {"👩‍🚀", true, true},
	} {
		if got := Fit(c.text, false); got != c.line {
			t.Errorf("%q as a line: %v", c.text, got)
		}
		if got := Fit(c.text, true); got != c.lines {
			t.Errorf("%q as lines: %v", c.text, got)
		}
	}
}

func TestClean(t *testing.T) {
	for _, c := range []struct {
		text  string
		lines bool
		max   int
		want  string
	}{
		{"plain", false, 10, "plain"}, {"a\x00b\xffc", false, 10, "abc"}, {"a\nb", false, 10, "a b"},
		{"a\nb", true, 10, "a\nb"},
		{"Fähre", false, 2, "F"}, {"Fähre", false, 3, "Fä"}, {strings.Repeat("x", 300), false, 200, strings.Repeat("x", 200)},
		{"ok\u202egnp", false, 10, "okgnp"},
	} {
		if got := Clean(c.text, c.lines, c.max); got != c.want {
			t.Errorf("%q to %d: %q, want %q", c.text, c.max, got, c.want)
		}
	}
}

func TestCheckFileName(t *testing.T) {
	for _, bad := range []string{"", ".", "..", "../x", `a\b`, "a\r\nb", "<b>.jar", "x\u202ejar", strings.Repeat("x", 256),
		"a\x00"} {
		if err := CheckFileName(bad); !fault.Is(err, fault.Invalid) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	for _, good := range []string{"tide-model-1.0.jar", "name_2.12-1.0.pom", "a+b~c.tar.gz", "Größe.txt"} {
		if err := CheckFileName(good); err != nil {
			t.Errorf("%q: %v", good, err)
		}
	}
}

func FuzzClean(f *testing.F) {
	f.Add("a\x00b\xff", 3)
	f.Fuzz(func(t *testing.T, s string, max int) {
		max &= 0xffff
		got := Clean(s, false, max)
		if len(got) > max || !utf8.ValidString(got) || !Fit(got, false) {
			t.Errorf("%q to %d gives %q", s, max, got)
		}
		if len(s) <= max && Fit(s, false) && got != s {
			t.Errorf("%q was changed to %q", s, got)
		}
	})
}

func TestClosest(t *testing.T) {
	names := []string{"snapshots", "staging", "releases"}
	for word, want := range map[string]string{"snapshotz": "snapshots", "snaphsots": "snapshots", "release": "releases",
		"stage": "", "x": "", "": "", strings.Repeat("s", 5000): ""} {
		if got := Closest(word, names); got != want {
			t.Errorf("%.20s is close to %q; want %q", word, got, want)
		}
	}
}
