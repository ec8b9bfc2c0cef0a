package ecosystemtest

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Restamp is a file of a snapshot that is to become one of a release.
type Restamp struct {
	Name      string // of the file
	Content   []byte
	Stamp     ecosystem.Stamp
	All       ecosystem.Stamps // Stamp is added
	Obstacles []string         // parts of the reasons that are expected
	// Beside: it tells nothing about its version by itself.
	Beside bool
}

// entry is a file in an archive, and how it is packed where that can be seen.
type entry struct {
	name    string
	content string
	raw     string
}

// CheckRestamp restamps a file, and checks that it is done the same way every
// time, that nothing but the places in its plan is changed, and that the result is
// what its release is to be. It gives the result.
func CheckRestamp(t *testing.T, e ecosystem.Ecosystem, c Restamp) (ecosystem.Rewriting, []byte) {
	t.Helper()
	c.All = append(slices.Clone(c.All), c.Stamp)
	as := purl.PURL{}
	if c.Beside {
		as = purl.PURL{Ecosystem: e.Name(), Namespace: c.Stamp.Namespace, Name: c.Stamp.Name, Version: c.Stamp.From}
	}
	placed, err := e.Place(t.Context(), []ecosystem.Handed{{Name: c.Name, SizedReaderAt: Bytes(c.Content)}}, as)
	if err != nil {
		t.Fatalf("%s: %v", c.Name, err)
	}
	p := placed[0].Place
	f := ecosystem.ToRestamp{SizedReaderAt: Bytes(c.Content), Stamp: c.Stamp, All: c.All,
		File: catalog.File{Name: p.FileName, Classifier: p.Classifier, Extension: p.Extension}}
	r, err := e.(ecosystem.Restamping).Restamp(t.Context(), f)
	if err != nil {
		t.Fatalf("%s: %v", c.Name, err)
	}
	checkObstacles(t, c, r)
	if r.Dropped != "" {
		return r, nil
	}
	result := c.Content
	if r.WriteTo != nil {
		result = written(t, r)
		if again := written(t, r); !bytes.Equal(result, again) {
			t.Errorf("%s: written again it is another file", c.Name)
		}
	}
	onlyPlanned(t, c, r, result)
	if len(r.Obstacles) == 0 && !c.Beside {
		release, err := e.Place(t.Context(), []ecosystem.Handed{{Name: r.Name, SizedReaderAt: Bytes(result)}}, purl.PURL{})
		if err != nil {
			t.Fatalf("what became of %s is not recognised: %v", c.Name, err)
		}
		is := release[0].Place
		if is.Version != c.Stamp.To || is.Name != c.Stamp.Name || is.Snapshot || is.FileName != r.Name {
			t.Errorf("%s became %s of %s %s", c.Name, is.FileName, is.Name, is.Version)
		}
		if _, err := e.Inspect(t.Context(), is, Bytes(result)); err != nil {
			t.Errorf("what became of %s does not pass: %v", c.Name, err)
		}
	}
	return r, result
}

func checkObstacles(t *testing.T, c Restamp, r ecosystem.Rewriting) {
	t.Helper()
	for _, want := range c.Obstacles {
		if !slices.ContainsFunc(r.Obstacles, func(o ecosystem.Obstacle) bool {
			return strings.Contains(o.Entry+": "+o.Reason, want)
		}) {
			t.Errorf("%s: nothing about %q stands in the way: %+v", c.Name, want, r.Obstacles)
		}
	}
	if len(c.Obstacles) == 0 && len(r.Obstacles) > 0 {
		t.Errorf("%s: in the way: %+v", c.Name, r.Obstacles)
	}
}

func written(t *testing.T, r ecosystem.Rewriting) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := r.WriteTo(&b, func(string) (catalog.Digests, bool) { return catalog.Digests{Size: 7}, true }); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// onlyPlanned checks that what is not in the plan is what it was.
func onlyPlanned(t *testing.T, c Restamp, r ecosystem.Rewriting, result []byte) {
	t.Helper()
	before, after := entriesOf(t, c.Name, c.Content), entriesOf(t, r.Name, result)
	if len(before) != len(after) {
		t.Fatalf("%s had %d entries, and has %d", c.Name, len(before), len(after))
	}
	for i, was := range before {
		is := after[i]
		changes := slices.DeleteFunc(slices.Clone(r.Changes), func(change ecosystem.Edit) bool {
			return change.Entry != was.name
		})
		renamed := slices.ContainsFunc(changes, func(change ecosystem.Edit) bool {
			return change.What == "name" && change.Old == was.name && change.New == is.name
		})
		if was.name != is.name && !renamed {
			t.Errorf("%s: %s became %s, which was not planned", c.Name, was.name, is.name)
		}
		inside := slices.DeleteFunc(changes, func(change ecosystem.Edit) bool { return change.What == "name" })
		if len(inside) == 0 {
			if was.content != is.content || was.raw != is.raw {
				t.Errorf("%s: %s is not what it was, and nothing was planned", c.Name, was.name)
			}
			continue
		}
		if c.plain(inside) && c.without(was.content) != c.without(is.content) {
			t.Errorf("%s: besides what was planned, %s changed:\n%s\ninstead of\n%s", c.Name, was.name, is.content, was.content)
		}
		for _, change := range inside {
			if !strings.Contains(packed(was.content), packed(change.Old)) ||
				!strings.Contains(packed(is.content), packed(change.New)) {
				t.Errorf("%s: %s did not go from %q to %q", c.Name, was.name, change.Old, change.New)
			}
		}
	}
}

// packed is a text without space, since line breaks may move.
func packed(text string) string { return strings.Join(strings.Fields(text), "") }

// without is a text in which every version, old or new, is the same.
func (c Restamp) without(text string) string {
	text = packed(text)
	for _, s := range c.All {
		for _, old := range []string{s.From, strings.Replace(s.From, "-", ".", 1), s.Upload} {
			if old != "" {
				text = strings.ReplaceAll(text, old, s.To)
			}
		}
	}
	return text
}

// plain tells whether changes are of versions alone, and not of digests.
func (c Restamp) plain(changes []ecosystem.Edit) bool {
	return !slices.ContainsFunc(changes, func(change ecosystem.Edit) bool {
		return c.without(change.Old) != c.without(change.New)
	})
}

// entriesOf are the entries of an archive, or the file as the only one.
func entriesOf(t *testing.T, name string, content []byte) (all []entry) {
	t.Helper()
	switch {
	case bytes.HasPrefix(content, []byte("PK")):
		archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range archive.File {
			raw, err := f.OpenRaw()
			if err != nil {
				t.Fatal(err)
			}
			packed, err := io.ReadAll(raw)
			if err != nil {
				t.Fatal(err)
			}
			plain, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(plain) // its checksum is compared
			if err != nil {
				t.Fatalf("%s: %s: %v", name, f.Name, err)
			}
			all = append(all, entry{f.Name, string(text), string(packed) + f.Modified.String() + f.Mode().String()})
		}
	case bytes.HasPrefix(content, []byte{0x1f, 0x8b}):
		unzipped, err := gzip.NewReader(bytes.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		for archive := tar.NewReader(unzipped); ; {
			header, err := archive.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(archive)
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, entry{header.Name, string(text), header.ModTime.String() + header.FileInfo().Mode().String() +
				header.Uname})
		}
	default:
		all = append(all, entry{"", string(content), ""})
	}
	return all
}
