package bundle

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"
	"time"
)

func example() Manifest {
	sum := Sum(sha256.Sum256([]byte("content")))
	return Manifest{Form: Form, ID: "one", MadeAt: time.Unix(1_800_000_000, 0).UTC(), MadeBy: "purser",
		From: []string{"releases"},
		Packages: []Package{{Repository: "releases", Ecosystem: "npm", Namespace: "@skerry", Name: "deck-ui",
			Labels: map[string]string{"latest": "1.0.0"},
			Versions: []Version{{Version: "1.0.0", PublishedAt: time.Unix(1_700_000_000, 0).UTC(),
				Files: []File{{Name: "deck-ui-1.0.0.tgz", SHA256: sum, Size: 7}}}}}}}
}

func written(t testing.TB, m Manifest) []byte {
	t.Helper()
	raw, err := json.Marshal(m)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	w, err := NewWriter(&b, Signed{Raw: raw, Signature: []byte("signed")}, m.MadeAt)
	if err != nil {
		t.Fatal(err)
	}
	for sum, size := range m.Files() {
		if err := w.Add(sum, size, strings.NewReader("content")); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestBundle: what is written is read, and any tar reads it.
func TestBundle(t *testing.T) {
	raw := written(t, example())
	r, err := NewReader(bytes.NewReader(raw))
	if err != nil || string(r.Signature) != "signed" {
		t.Fatal(err)
	}
	m, err := Parse(r.Raw)
	if versions, size := m.Totals(); err != nil || versions != 1 || size != 7 || m.Packages[0].Versions[0].Bytes() != 7 {
		t.Fatalf("%+v, %v", m, err)
	}
	sum, size, content, err := r.Next()
	if err != nil || size != 7 || sum != m.Packages[0].Versions[0].Files[0].SHA256 {
		t.Fatal(sum, size, err)
	}
	if got, err := io.ReadAll(content); err != nil || string(got) != "content" {
		t.Errorf("%q, %v", got, err)
	}
	if _, _, _, err := r.Next(); err != io.EOF {
		t.Errorf("after the last file: %v", err)
	}
	names := ""
	for plain := tar.NewReader(bytes.NewReader(raw)); ; {
		h, err := plain.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		names += h.Name + " "
	}
	if names != "manifest.json manifest.json.asc files/sha256/"+sum.String()+" " {
		t.Errorf("its members are %s", names)
	}
}

// TestNoBundle: what is none, or ends too early, is told from what is.
func TestNoBundle(t *testing.T) {
	whole := written(t, example())
	for what, raw := range map[string][]byte{"nothing": nil, "text": []byte(strings.Repeat("x", 2000)),
		"half a manifest": whole[:700], "its end": whole[1024:]} {
		if _, err := NewReader(bytes.NewReader(raw)); !errors.Is(err, ErrNoBundle) && !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Errorf("%s: %v", what, err)
		}
	}
	var other bytes.Buffer
	w := tar.NewWriter(&other)
	for _, name := range []string{manifestName, signatureName, "files/sha256/../../etc/passwd"} {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name}); err != nil {
			t.Fatal(err)
		}
	}
	r, err := NewReader(&other)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := r.Next(); err == nil || !strings.Contains(err.Error(), "does not belong there") {
		t.Errorf("a strange member: %v", err)
	}
}

// TestParse: a manifest that cannot be true is refused, whoever signed it.
func TestParse(t *testing.T) {
	type (
		manifest = *Manifest
		version  = *Version
	)
	of := func(change func(v version)) func(manifest) {
		return func(m manifest) { change(&m.Packages[0].Versions[0]) }
	}
	for says, change := range map[string]func(manifest){
		"its form is":               func(m manifest) { m.Form = "crelvo-bundle/2" },
		"the id of the bundle":      func(m manifest) { m.ID = "" },
		"the time when it was made": func(m manifest) { m.MadeAt = time.Time{} },
		"its repository is missing": func(m manifest) { m.Packages[0].Repository = "" },
		"characters that cannot":    func(m manifest) { m.Packages[0].Labels["\x1b[1m"] = "1.0.0" },
		"why it is withdrawn":       func(m manifest) { m.Packages[0].Withdrawn = map[string]string{"1.0.0": "\x1b[2J"} },
		"its name":                  of(func(v version) { v.Version = "1.0.0\x1b[2J" }),
		"the name of its upload":    of(func(v version) { v.Snapshot, v.Upload = true, "1\u202e" }),
		"its build":                 of(func(v version) { v.Build = "x\n#1" }),
		"a promotion of it":         of(func(v version) { v.Promotions = []Promotion{{By: "\x00"}} }),
		"what its publisher said": of(func(v version) {
			v.Said = map[string]json.RawMessage{"x": json.RawMessage(`"` + strings.Repeat("x", maxSaid) + `"`)}
		}),
		"is there twice": func(m manifest) {
			p := &m.Packages[0]
			p.Versions = append(p.Versions, p.Versions[0])
		},
		"it has 0 files":           of(func(v version) { v.Files = nil }),
		"the name of a file":       of(func(v version) { v.Files[0].Name = "../x" }),
		"is not what it is called": of(func(v version) { v.Files[0].Name, v.Files[0].MediaType = "sha256-00", "x/y" }),
		"a file is there twice":    of(func(v version) { v.Files = append(v.Files, v.Files[0]) }),
		"other sizes elsewhere": of(func(v version) {
			f := v.Files[0]
			f.Size++
			v.Files = append(v.Files, f)
		}),
		"is not a pattern":            func(m manifest) { m.Vettings = []Vetting{{Pattern: "x"}} },
		"more than 1000 decisions":    func(m manifest) { m.Waivers = make([]Waiver, 1001) },
		"the id of the bundle before": func(m manifest) { m.Since = &Basis{} },
		"an advisory is missing":      func(m manifest) { m.Waivers = []Waiver{{Pattern: "pkg:npm/x"}} },
	} {
		m := example()
		change(&m)
		raw, err := json.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(raw); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q is refused by %v", says, err)
		}
	}
}

// FuzzBundle: whatever is read, it ends, and what is parsed has sums and names that can be kept.
func FuzzBundle(f *testing.F) {
	f.Add(written(f, example()))
	f.Fuzz(func(t *testing.T, raw []byte) {
		r, err := NewReader(bytes.NewReader(raw))
		if err != nil {
			return
		}
		m, err := Parse(r.Raw)
		if err == nil && m.ID == "" {
			t.Error("a bundle without a name")
		}
		for n := 0; ; n++ {
			_, size, content, err := r.Next()
			if err != nil {
				break
			}
			if n > len(raw) || size < 0 {
				t.Fatal("it does not end")
			}
			if _, err := io.Copy(io.Discard, content); err != nil {
				break
			}
		}
	})
}
