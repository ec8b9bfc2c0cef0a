// Package makeup is what a version that consists of layers is made of, and how two of them
// differ: in their layers, in what they are set to, and in the files that the layers make
// together.
package makeup

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Makeup is what a version is made of.
type Makeup struct {
	Platform string    // os/architecture, perhaps with a variant; "" if it says none
	Made     time.Time // zero if it does not say when
	// Settings are what it is set to, by name; of a name that comes again, in its order.
	Settings []Setting
	// Steps are in the order in which they were made, the lowest layer first.
	Steps []Step
}

// Setting is one thing that a version says of how it is to be run.
type Setting struct{ Name, Value string }

// Step is one that made a layer, or changed settings alone.
type Step struct {
	Layer     string // its digest; "" if the step made none
	MediaType string
	Size      int64  // of the layer as it is kept, in bytes
	By        string // the command that made it; "" if that is not known
}

// Layers are the steps that made one.
func (m Makeup) Layers() (layers []Step) {
	for _, s := range m.Steps {
		if s.Layer != "" {
			layers = append(layers, s)
		}
	}
	return layers
}

// Comparison is how two versions differ.
type Comparison struct {
	Same, Before, After []Step // layers of both, of the first alone, of the second alone
	Settings            []Difference
}

// Difference is a setting that is not the same; "" is that it is not there.
type Difference struct{ Name, Before, After string }

// Compare tells how b differs from a. Layers are the same by their digests, wherever they
// stand. Settings that are the same are left out.
func Compare(a, b Makeup) (c Comparison) {
	in := func(layers []Step) map[string]bool {
		all := map[string]bool{}
		for _, l := range layers {
			all[l.Layer] = true
		}
		return all
	}
	before, after := a.Layers(), b.Layers()
	inA, inB := in(before), in(after)
	for _, l := range before {
		if inB[l.Layer] {
			c.Same = append(c.Same, l)
		} else {
			c.Before = append(c.Before, l)
		}
	}
	for _, l := range after {
		if !inA[l.Layer] {
			c.After = append(c.After, l)
		}
	}
	values := map[string]*Difference{}
	at := func(name string) *Difference {
		if values[name] == nil {
			values[name] = &Difference{Name: name}
		}
		return values[name]
	}
	for _, s := range a.all() {
		at(s.Name).Before = join(at(s.Name).Before, s.Value)
	}
	for _, s := range b.all() {
		at(s.Name).After = join(at(s.Name).After, s.Value)
	}
	for _, d := range values {
		if d.Before != d.After {
			c.Settings = append(c.Settings, *d)
		}
	}
	slices.SortFunc(c.Settings, func(x, y Difference) int { return strings.Compare(x.Name, y.Name) })
	return c
}

// all are the settings with what else tells two versions apart.
func (m Makeup) all() []Setting {
	all := slices.Clone(m.Settings)
	if m.Platform != "" {
		all = append(all, Setting{"platform", m.Platform})
	}
	return all
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "\n" + b
}

// File is an entry of a layer.
type File struct {
	Path  string // without a slash in front; clean
	Kind  Kind
	Size  int64
	Mode  int64 // permission bits, and those above them
	Owner string
	Link  string   // where a link leads
	Sum   [32]byte // SHA-256 of its bytes
	Code  string   // for what it is code, as CodeOf says, where that was looked at
}

// Kind is what an entry of a layer is.
type Kind byte

// The kinds of entries. Gone and Hidden are marks (OCI image layout, "Whiteouts"): there is
// nothing at the path any more, and nothing of lower layers below it.
const (
	Regular Kind = iota
	Folder
	Link
	Other
	Gone
	Hidden
)

// Tree is what layers make together, by path. It points into the layers.
type Tree map[string]*File

// Lay puts a layer over the tree, which must not be changed any more. What a layer says of
// itself does not depend on the order of its entries.
func (t Tree) Lay(layer []File) {
	gone, hidden := map[string]bool{}, map[string]bool{}
	for _, f := range layer {
		switch f.Kind {
		case Gone:
			gone[f.Path] = true
		case Hidden:
			hidden[f.Path] = true
		case Folder:
		default: // what is no folder has nothing below it
			hidden[f.Path] = true
		}
	}
	if len(gone)+len(hidden) > 0 {
		for path := range t {
			if gone[path] || below(path, gone) || below(path, hidden) {
				delete(t, path)
			}
		}
	}
	for i := range layer {
		if f := &layer[i]; f.Kind != Gone && f.Kind != Hidden {
			t[f.Path] = f
		}
	}
}

// below tells whether a path is below one of some, or below all.
func below(path string, some map[string]bool) bool {
	if some[""] {
		return true
	}
	for i := strings.LastIndexByte(path, '/'); i > 0; i = strings.LastIndexByte(path[:i], '/') {
		if some[path[:i]] {
			return true
		}
	}
	return false
}

// FileDifference is a file that is not the same; nil is that it is not there.
type FileDifference struct {
	Path          string
	Before, After *File
}

// Differences are the files that are not the same in two trees, by path. Folders have
// nothing of their own to differ in.
func Differences(a, b Tree) (all []FileDifference) {
	for path, before := range a {
		after, there := b[path]
		switch {
		case before.Kind == Folder && (!there || after.Kind == Folder):
		case !there || after.Kind == Folder:
			all = append(all, FileDifference{path, before, nil})
		case before.Kind == Folder:
			all = append(all, FileDifference{path, nil, after})
		case *before != *after:
			all = append(all, FileDifference{path, before, after})
		}
	}
	for path, after := range b {
		if _, there := a[path]; !there && after.Kind != Folder {
			all = append(all, FileDifference{path, nil, after})
		}
	}
	slices.SortFunc(all, func(x, y FileDifference) int { return cmp.Compare(x.Path, y.Path) })
	return all
}
