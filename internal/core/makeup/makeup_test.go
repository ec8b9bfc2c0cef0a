package makeup

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
)

// TestCompare: layers are told apart by their digests, settings by their names.
func TestCompare(t *testing.T) {
	base := Step{Layer: "sha256:base", Size: 10}
	a := Makeup{Platform: "linux/amd64", Settings: []Setting{{"user", "deck"}, {"port", "80"}, {"port", "81"}},
		Steps: []Step{base, {By: "ENV A=B"}, {Layer: "sha256:a", Size: 2}}}
	b := Makeup{Platform: "linux/arm64", Settings: []Setting{{"user", "deck"}, {"port", "80"}, {"label x", "1"}},
		Steps: []Step{base, {Layer: "sha256:b", Size: 3}, {Layer: "sha256:c", Size: 4}}}
	c := Compare(a, b)
	if len(c.Same) != 1 || c.Same[0] != base || len(c.Before) != 1 || c.Before[0].Layer != "sha256:a" ||
		len(c.After) != 2 {
		t.Errorf("the layers differ in %+v", c)
	}
	want := []Difference{{"label x", "", "1"}, {"platform", "linux/amd64", "linux/arm64"}, {"port", "80\n81", "80"}}
	if !slices.Equal(c.Settings, want) {
		t.Errorf("the settings differ in %q, want %q", c.Settings, want)
	}
	if c := Compare(a, a); len(c.Settings)+len(c.Before)+len(c.After) != 0 || len(c.Same) != 2 {
		t.Errorf("it differs from itself in %+v", c)
	}
}

// layer makes one: a path with a slash behind is a folder, with a minus in front a mark that
// it is gone, with a tilde that what is below it is.
func layer(entries ...string) (files []File) {
	for _, e := range entries {
		path, content, _ := strings.Cut(e, "=")
		f := File{Path: path, Size: int64(len(content)), Sum: [32]byte([]byte(fmt.Sprintf("%-32s", content)))}
		switch {
		case strings.HasSuffix(path, "/"):
			f = File{Path: strings.TrimSuffix(path, "/"), Kind: Folder}
		case path[0] == '-':
			f = File{Path: path[1:], Kind: Gone}
		case path[0] == '~':
			f = File{Path: path[1:], Kind: Hidden}
		}
		files = append(files, f)
	}
	return files
}

func TestLay(t *testing.T) {
	lower := layer("etc/", "etc/a=1", "etc/b=1", "opt/x/y=1", "opt/x/z=1", "opt/xy=1", "usr=1")
	for name, c := range map[string]struct {
		upper []File
		want  string
	}{
		"added and changed":         {layer("etc/a=2", "etc/c=1"), "etc etc/a etc/b etc/c opt/x/y opt/x/z opt/xy usr"},
		"a file gone":               {layer("-etc/a"), "etc etc/b opt/x/y opt/x/z opt/xy usr"},
		"a folder gone":             {layer("-opt/x"), "etc etc/a etc/b opt/xy usr"},
		"gone, and made anew":       {layer("opt/x/new=1", "-opt/x"), "etc etc/a etc/b opt/x/new opt/xy usr"},
		"hidden below":              {layer("opt/x/new=1", "~opt/x", "opt/x/"), "etc etc/a etc/b opt/x opt/x/new opt/xy usr"},
		"all hidden":                {layer("~", "new=1"), "new"},
		"a file in place of folder": {layer("opt/x=1"), "etc etc/a etc/b opt/x opt/xy usr"},
		"nothing":                   {nil, "etc etc/a etc/b opt/x/y opt/x/z opt/xy usr"},
	} {
		tree := Tree{}
		tree.Lay(lower)
		tree.Lay(c.upper)
		if got := strings.Join(slices.Sorted(maps.Keys(tree)), " "); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
}

func TestDifferences(t *testing.T) {
	a, b := Tree{}, Tree{}
	a.Lay(layer("same=1", "changed=1", "removed=1", "folder/", "turned/", "turned/in=1"))
	b.Lay(layer("same=1", "changed=2", "added=1", "other/", "turned=1"))
	var got []string
	for _, d := range Differences(a, b) {
		got = append(got, fmt.Sprint(d.Path, d.Before != nil, d.After != nil))
	}
	want := "addedfalse true changedtrue true removedtrue false turnedfalse true turned/intrue false"
	if strings.Join(got, " ") != want {
		t.Errorf("%s", got)
	}
}
