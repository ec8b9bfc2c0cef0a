// Package locked reads which versions of packages a build will use, from the files in which
// package clients and tools write that down.
package locked

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/purl"
)

// Package is a version that a file names.
type Package struct {
	PURL purl.PURL
	Line int // where the file names it, from 1; 0 if that is not known
}

// Largest is how many bytes a file may have.
const Largest = 64 << 20

// most is how many packages a file may name.
const most = 200_000

// form is how files of a kind are known and read.
type form struct {
	names []string // file names, with * for any run of characters
	what  string   // as people call it
	read  func(raw []byte, found *found) error
}

// forms are the kinds of file, in the order in which they are tried.
var forms = []form{
	{[]string{"package-lock.json", "npm-shrinkwrap.json", ".package-lock.json"}, "npm's lock file", readNPM},
	{[]string{"pnpm-lock.yaml"}, "pnpm's lock file", readPNPM},
	{[]string{"yarn.lock"}, "Yarn's lock file", readYarn},
	{[]string{"requirements*.txt", "constraints*.txt"}, "pip's requirements", readRequirements},
	{[]string{"poetry.lock", "uv.lock", "pdm.lock"}, "a lock file of Python", readPythonLock},
	{[]string{"Pipfile.lock"}, "Pipenv's lock file", readPipfile},
	{[]string{"packages.lock.json"}, "NuGet's lock file", readNuGet},
	{[]string{"Cargo.lock"}, "cargo's lock file", readCargo},
	{[]string{"go.sum"}, "Go's sums", readGoSum},
	{[]string{"dependency-tree.txt", "dependencies.txt", "*.tree.txt"}, "Maven's resolved tree", readMaven},
	{[]string{"*.cdx.json", "bom.json"}, "a CycloneDX document", readCycloneDX},
	{[]string{"*.cdx.xml", "bom.xml"}, "a CycloneDX document in XML", readCycloneDXML},
	{[]string{"*.spdx.json"}, "an SPDX document", readSPDX},
	{[]string{"*.spdx"}, "an SPDX document of tags and values", readSPDXTags},
}

// Forms says which files are known, for people: names and what they are.
func Forms() (all []string) {
	for _, f := range forms {
		all = append(all, strings.Join(f.names, ", ")+": "+f.what)
	}
	return all
}

// Known tells whether the name of a file is one of those that are read.
func Known(name string) bool {
	return slices.ContainsFunc(forms, func(f form) bool { return f.is(name) })
}

func (f form) is(name string) bool {
	return slices.ContainsFunc(f.names, func(p string) bool { return purl.Glob(p, path.Base(name)) })
}

// Read gives the versions that a file names, each once, in the order of their package URLs, and
// what kind of file it is. What has another name is known by what is in it, if it is a document
// in the CycloneDX or SPDX format, or a tree of Maven's.
func Read(name string, raw []byte) (all []Package, what string, err error) {
	for _, f := range forms {
		if f.is(name) {
			all, err = f.take(raw)
			return all, f.what, err
		}
	}
	text := string(raw[:min(len(raw), 64<<10)])
	for _, f := range forms {
		if f.what == "a CycloneDX document" && strings.Contains(text, `"bomFormat"`) ||
			f.what == "a CycloneDX document in XML" && strings.Contains(text, "://cyclonedx.org/schema/bom/") ||
			f.what == "an SPDX document" && strings.Contains(text, `"spdxVersion"`) ||
			f.what == "an SPDX document of tags and values" && spdxTags.MatchString(text) ||
			f.what == "Maven's resolved tree" && mavenLine.MatchString(text) {
			all, err = f.take(raw)
			return all, f.what, err
		}
	}
	return nil, "", fmt.Errorf("it is none of the files that are known")
}

func (f form) take(raw []byte) ([]Package, error) {
	all := &found{lines: newLines(raw), known: map[string]bool{}}
	if err := f.read(raw, all); err != nil {
		return nil, fmt.Errorf("it cannot be read as %s: %w", f.what, err)
	}
	slices.SortFunc(all.all, func(a, b Package) int { return strings.Compare(a.PURL.String(), b.PURL.String()) })
	return all.all, nil
}

// found collects what a file names.
type found struct {
	all   []Package
	known map[string]bool
	lines *lines
}

// add takes a version by the name that its ecosystem gives it. Marks are looked for in the file,
// one after the other, to tell in which line it is.
func (f *found) add(ecosystem, name, version string, marks ...string) error {
	if name == "" || version == "" {
		return nil
	}
	namespace := ""
	switch at := strings.LastIndexByte(name, '/'); {
	case ecosystem == "maven":
		namespace, name, _ = strings.Cut(name, ":")
	case at > 0:
		namespace, name = name[:at], name[at+1:]
	}
	p, err := purl.Parse(purl.PURL{Ecosystem: ecosystem, Namespace: namespace, Name: name, Version: version}.String())
	if err != nil {
		return nil // a name that no package can have is none that could be refused
	}
	return f.addPURL(p, marks...)
}

func (f *found) addPURL(p purl.PURL, marks ...string) error {
	p.Qualifiers = nil
	if f.known[p.String()] || p.Version == "" {
		return nil
	}
	if len(f.all) == most {
		return fmt.Errorf("it names more than %d packages", most)
	}
	f.known[p.String()] = true
	f.all = append(f.all, Package{PURL: p, Line: f.lines.of(marks...)})
	return nil
}

// lines tell in which line of a text something stands.
type lines struct {
	text   string
	at     int // how far it was looked
	number int // the line of that, from 1
	left   int // how many bytes may still be looked through
}

// lookedThrough is how often a file is looked through to find lines: once, if its order is ours.
const lookedThrough = 50

func newLines(raw []byte) *lines {
	return &lines{text: string(raw), number: 1, left: lookedThrough * len(raw)}
}

// of is the line in which the last of some marks stands, behind the ones before it; 0 if they do
// not, or are too much to look for. What is looked for usually stands behind what was looked for
// before.
func (l *lines) of(marks ...string) int {
	if len(marks) == 0 {
		return 0
	}
	for _, from := range []int{l.at, 0} {
		end := l.find(from, marks)
		if end < 0 {
			continue
		}
		if end >= l.at {
			l.number += strings.Count(l.text[l.at:end], "\n")
		} else {
			l.number = 1 + strings.Count(l.text[:end], "\n")
			l.left -= end
		}
		l.at = end
		return l.number
	}
	return 0
}

// find is where the last of some marks stands; -1 if it does not.
func (l *lines) find(from int, marks []string) int {
	for _, m := range marks {
		if l.left <= 0 {
			return -1
		}
		next := strings.Index(l.text[from:], m)
		if next < 0 {
			l.left -= len(l.text) - from
			return -1
		}
		l.left -= next
		from += next
	}
	return from
}
