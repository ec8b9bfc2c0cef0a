package plain

import (
	"fmt"
	"strings"
	"testing"
)

// files reads "path=content" as files.
func files(list string) (all []File) {
	for one := range strings.FieldsSeq(list) {
		at, content, _ := strings.Cut(one, "=")
		f := File{Path: at}
		copy(f.Sum[:], content)
		all = append(all, f)
	}
	return all
}

func TestBetween(t *testing.T) {
	for _, c := range []struct{ what, holds, wanted, write, remove string }{
		{"nothing", "", "", "", ""},
		{"all is new", "", "a.jar=1 a.sha1=2 meta=3", "a.jar a.sha1 meta", ""},
		{"nothing changed", "a=1 b=2", "a=1 b=2", "", ""},
		{"another order is no change", "a=1 b=2", "b=2 a=1", "", ""},
		{"one more: its document last", "a=1 meta=2", "a=1 b=1 meta=3", "b meta", ""},
		{"one goes, after the document, and last what was there first", "a=1 b=1 b.asc=1 meta=2", "a=1 meta=3", "meta", "b.asc b"},
		{"all goes: the document first", "a=1 meta=2", "", "", "meta a"},
		{"wanted twice", "", "a=1 a=2", "a", ""},
	} {
		wanted := files(c.wanted)
		s := Between(files(c.holds), wanted)
		var write []string
		for _, i := range s.Write {
			write = append(write, wanted[i].Path)
		}
		if got := strings.Join(write, " "); got != c.write {
			t.Errorf("%s: written is %q, not %q", c.what, got, c.write)
		}
		if got := strings.Join(s.Remove, " "); got != c.remove {
			t.Errorf("%s: removed is %q, not %q", c.what, got, c.remove)
		}
	}
}

func TestCheck(t *testing.T) {
	for _, at := range []string{"simple/index.html", "-/tarballs/@skerry/tide-model/-/tide-model-1.4.0.tgz", "3/a/abc",
		"org/skerry/1.0-SNAPSHOT/a.jar", "@skerry/tide-model"} {
		if err := Check(at); err != nil {
			t.Errorf("%s: %v", at, err)
		}
	}
	for _, at := range []string{"", "/etc/passwd", "../up", "a/../b", "a//b", "a/", "a/..", "a\\b", Marker,
		strings.Repeat("a/", 500) + "a", "a/\x00"} {
		if Check(at) == nil {
			t.Errorf("%s is no path of a tree", fmt.Sprintf("%.40q", at))
		}
	}
}
