package ecosystem

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
)

var oneStamp = Stamp{Name: "x", From: "1.0-dev.1", To: "1.0"}

func toRestamp(content []byte) ToRestamp {
	return ToRestamp{SizedReaderAt: bytes.NewReader(content), Stamp: oneStamp, All: Stamps{oneStamp}}
}

// swapping edits every entry of a name.
func swapping(name string) ArchiveEdit {
	return ArchiveEdit{Wants: func(n string) bool {
		return n == name
	}, Edit: func(n string, raw []byte) ([]byte, []Edit, error) {
		return bytes.ReplaceAll(raw, []byte("1.0-dev.1"), []byte("1.0")),
			[]Edit{{Entry: n, What: "version", Old: "1.0-dev.1", New: "1.0"}}, nil
	}}
}

func rewritten(t *testing.T, r Rewriting, err error) []byte {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := r.WriteTo(&b, func(string) (catalog.Digests, bool) { return catalog.Digests{}, false }); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestRestampZipKeeps: method, comment, extra fields and attributes of what is
// changed and of what is not.
func TestRestampZipKeeps(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	if err := w.SetComment("the whole"); err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 11, 1, 8, 9, 10, 0, time.UTC)
	for _, h := range []zip.FileHeader{{Name: "stored.txt", Method: zip.Store, Comment: "as it is",
		Extra: []byte{0xfe, 0xca, 0, 0}}, {Name: "version.json", Method: zip.Store, ExternalAttrs: 0o755 << 16,
		CreatorVersion: 3 << 8, Comment: "first"},
		{Name: "packed.bin", Method: zip.Deflate, Modified: at}, {Name: "folder/"},
		{Name: "version.json", Method: zip.Deflate}} {
		into, err := w.CreateHeader(&h)
		if err == nil && !strings.HasSuffix(h.Name, "/") {
			_, err = io.WriteString(into, strings.Repeat("tide ", 500)+"1.0-dev.1")
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	r, err := RestampZip(t.Context(), toRestamp(b.Bytes()), "x.zip", swapping("version.json"))
	result := rewritten(t, r, err)
	if len(r.Changes) != 2 || len(r.Obstacles) != 1 || len(r.Mentions) != 1 {
		t.Errorf("%+v", r)
	}
	before, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	after, err := zip.NewReader(bytes.NewReader(result), int64(len(result)))
	if err != nil || after.Comment != "the whole" || len(after.File) != len(before.File) {
		t.Fatalf("%q, %d, %v", after.Comment, len(after.File), err)
	}
	for i, was := range before.File {
		is := after.File[i]
		if is.Name != was.Name || is.Method != was.Method || is.Comment != was.Comment || !bytes.Equal(is.Extra, was.Extra) ||
			is.ExternalAttrs != was.ExternalAttrs || !is.Modified.Equal(was.Modified) {
			t.Errorf("%+v became %+v", was.FileHeader, is.FileHeader)
		}
		if is.Name == "folder/" {
			continue
		}
		if from, err := is.Open(); err != nil {
			t.Error(err)
		} else if content, err := io.ReadAll(from); err != nil ||
			strings.Contains(string(content), "dev") == (was.Name == "version.json") {
			t.Errorf("%s: %v", is.Name, err)
		}
	}
}

// TestRestampTarKeeps: long names in both forms, folders, owners, times and what
// the compression says of itself.
func TestRestampTarKeeps(t *testing.T) {
	var b bytes.Buffer
	zipped := gzip.NewWriter(&b)
	zipped.Name, zipped.Comment, zipped.ModTime = "x.tar", "packed by hand", time.Unix(1_790_000_000, 0)
	w := tar.NewWriter(zipped)
	long := "folder/" + strings.Repeat("a-rather-long-name/", 12) + "end"
	headers := []*tar.Header{{Name: "folder/", Typeflag: tar.TypeDir, Mode: 0o750},
		{Name: "folder/version", Mode: 0o640, Uname: "deckhand", Uid: 7},
		{Name: long, Mode: 0o600, Format: tar.FormatGNU},
		{Name: "folder/é" + strings.Repeat("n", 120), Mode: 0o755, Format: tar.FormatPAX,
			PAXRecords: map[string]string{"SKERRY.note": "kept"}}}
	for _, h := range headers {
		content := "tide 1.0-dev.1"
		if h.Typeflag == tar.TypeDir {
			content = ""
		}
		h.Size, h.ModTime = int64(len(content)), time.Unix(1_790_000_123, 0)
		err := w.WriteHeader(h)
		if err == nil {
			_, err = io.WriteString(w, content)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := zipped.Close(); err != nil {
		t.Fatal(err)
	}
	edit := swapping("folder/version")
	edit.Rename = func(name string) string { return strings.Replace(name, "folder/", "folder-1.0/", 1) }
	r, err := RestampTarGz(t.Context(), toRestamp(b.Bytes()), "x.tgz", edit)
	result := rewritten(t, r, err)
	unzipped, err := gzip.NewReader(bytes.NewReader(result))
	if err != nil || unzipped.Name != "x.tar" || unzipped.Comment != "packed by hand" ||
		!unzipped.ModTime.Equal(time.Unix(1_790_000_000, 0)) {
		t.Fatalf("%+v, %v", unzipped, err)
	}
	archive := tar.NewReader(unzipped)
	for _, was := range headers {
		is, err := archive.Next()
		if err != nil {
			t.Fatal(err)
		}
		if is.Name != edit.Rename(was.Name) || is.Mode != was.Mode || is.Uname != was.Uname || is.Uid != was.Uid ||
			!is.ModTime.Equal(was.ModTime) || is.PAXRecords["SKERRY.note"] != was.PAXRecords["SKERRY.note"] {
			t.Errorf("%+v became %+v", was, is)
		}
		content, err := io.ReadAll(archive)
		if changed := was.Name == "folder/version"; err != nil || changed != (string(content) == "tide 1.0") {
			t.Errorf("%s: %q, %v", is.Name, content, err)
		}
	}
}

// TestStatedIn finds a version wherever it stands, also across two windows.
func TestStatedIn(t *testing.T) {
	source := rand.New(rand.NewPCG(6, 6))
	old := [][]byte{[]byte("1.0-dev.1"), utf16("1.0-dev.1")}
	window := make([]byte, 64)
	for range 3000 {
		text := bytes.Repeat([]byte{'.'}, source.IntN(300))
		form := old[source.IntN(2)]
		text = append(text, form...)
		alone := source.IntN(2) == 0
		if !alone {
			text = append(text, '7')
		}
		text = append(text, bytes.Repeat([]byte{'-'}, source.IntN(200))...)
		found, err := statedIn(iotestReader{bytes.NewReader(text), source}, old, window)
		if err != nil || (found != "") != alone {
			t.Fatalf("in %d bytes, alone %v: %q, %v", len(text), alone, found, err)
		}
	}
}

// iotestReader gives as little as it likes.
type iotestReader struct {
	from   io.Reader
	source *rand.Rand
}

func (r iotestReader) Read(p []byte) (int, error) { return r.from.Read(p[:1+r.source.IntN(len(p))]) }

// TestRestampDamaged: what cannot be read is an error, not half a file.
func TestRestampDamaged(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	into, err := w.Create("version.json")
	if err == nil {
		_, err = io.WriteString(into, strings.Repeat("1.0-dev.1 ", 100))
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	flipped := bytes.Clone(b.Bytes())
	flipped[45] ^= 0xff
	for name, content := range map[string][]byte{"cut": b.Bytes()[:b.Len()-10], "flipped": flipped, "none": []byte("none"),
		"empty": {}} {
		if r, err := RestampZip(t.Context(), toRestamp(content), "x.zip", swapping("version.json")); err == nil {
			t.Errorf("%s zip: %+v", name, r)
		}
		if r, err := RestampTarGz(t.Context(), toRestamp(content), "x.tgz", swapping("version.json")); err == nil {
			t.Errorf("%s tar: %+v", name, r)
		}
	}
	if r, err := RestampText(toRestamp(make([]byte, 100)), "x", 50, nil); err == nil {
		t.Errorf("a text that is too large: %+v", r)
	}
}
