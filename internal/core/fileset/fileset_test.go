package fileset

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

var day = time.Date(2026, 11, 1, 6, 30, 0, 250_000_000, time.UTC)

func digest(s string) Digest { return sha256.Sum256([]byte(s)) }

// file is an entry of a file with a content of one chunk.
func file(path, content string) Entry {
	return Entry{Path: path, Mode: 0o644, Modified: day, Size: int64(len(content)), Digest: digest(content)}
}

func manifestOf(t *testing.T, entries ...Entry) []byte {
	t.Helper()
	raw, err := Manifest(entries, "Tiles of the islands,\nnorth and south")
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// read reads a manifest.
func read(raw []byte) (h Header, all []Entry, err error) {
	err = Read(bytes.NewReader(raw), func(is Header) error { h = is; return nil }, func(e Entry) error {
		all = append(all, e)
		return nil
	})
	return h, all, err
}

// TestManifest: what was written is read, and the form is the one that docs/file-sets.md has.
func TestManifest(t *testing.T) {
	several := file("tiles/north.bin", "north")
	several.Size, several.Chunks = 10, []Chunk{{digest("nor"), 4}, {digest("th"), 6}}
	entries := []Entry{file(`a "quoted" name`, "quoted"), several, {Path: "empty/", Kind: Folder, Mode: 0o755,
		Modified: day},
		{Path: "latest", Kind: Link, Target: "tiles/north.bin", Modified: day}, file("tiles/zero", "")}
	raw := manifestOf(t, slices.Clone(entries)...)
	if text := string(raw); !strings.HasPrefix(text, `{"fileSet":1,"files":3,"bytes":16,"chunking":{"algorithm":"fastcdc-v1.0.0",`+
		`"min":65536,"normal":262144,"max":1048576},"description":"Tiles of the islands,\nnorth and south"}`+"\n"+
		`{"path":"a \"quoted\" name","size":6,"mode":"644","modified":"2026-11-01T06:30:00.25Z","sha256":"`) ||
		!strings.Contains(text, `{"path":"latest","link":"tiles/north.bin","modified":"2026-11-01T06:30:00.25Z"}`+"\n") ||
		!strings.Contains(text, `:4","`) {
		t.Errorf("the manifest is\n%s", text)
	}
	h, all, err := read(raw)
	if err != nil || h.Files != 3 || h.Bytes != 16 || h.Chunking != Usual {
		t.Fatalf("%+v, %v", h, err)
	}
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	if got, want := fmt.Sprintf("%+v", all), fmt.Sprintf("%+v", entries); got != want {
		t.Errorf("read\n%s\nwant\n%s", got, want)
	}
}

// TestManifestRefused: each of these is refused, with a reason that says what is wrong.
func TestManifestRefused(t *testing.T) {
	good := string(manifestOf(t, file("a/b", "one"), file("c", "two")))
	head, rest, _ := strings.Cut(good, "\n")
	first, second, _ := strings.Cut(rest, "\n")
	for name, c := range map[string]struct{ raw, want string }{
		"empty":              {"", "empty"},
		"cut":                {good[:len(good)-1], "cut"},
		"no set":             {`{"path":"a"}` + "\n", "first line"},
		"later form":         {strings.Replace(good, `"fileSet":1`, `"fileSet":2`, 1), "form 2"},
		"other count":        {head + "\n" + first + "\n", "has 1"},
		"other order":        {head + "\n" + second + first + "\n", "order"},
		"twice":              {head + "\n" + first + "\n" + first + "\n", "order"},
		"blanks":             {strings.Replace(good, `"size":3`, `"size": 3`, 1), "one form"},
		"other key":          {strings.Replace(good, `"size":3`, `"length":3`, 1), "unknown field"},
		"needless escape":    {strings.Replace(good, `"a/b"`, `"a\/b"`, 1), "one form"},
		"time of a zone":     {strings.Replace(good, "06:30:00.25Z", "07:30:00.25+01:00", 1), "one form"},
		"way out":            {strings.Replace(good, `"a/b"`, `"../b"`, 1), "relative and clean"},
		"absolute":           {strings.Replace(good, `"a/b"`, `"/b"`, 1), "relative and clean"},
		"backslash":          {strings.Replace(good, `"a/b"`, `"a\\b"`, 1), "backslash"},
		"control character":  {strings.Replace(good, `"a/b"`, `"a\u0007b"`, 1), "cannot be kept"},
		"decomposed":         {strings.Replace(good, `"a/b"`, "\"a\u0308\"", 1), "normal form C"},
		"mode":               {strings.Replace(good, `"mode":"644"`, `"mode":"4755"`, 1), "octal"},
		"digest":             {strings.Replace(good, `"sha256":"`, `"sha256":"zz`, 1), "SHA-256"},
		"large, of no chunk": {strings.Replace(good, `"size":3`, `"size":9999999`, 1), "chunks"},
		"link out": {head + "\n" + `{"path":"a","link":"../b","modified":"2026-11-01T06:30:00Z"}` + "\n",
			"out of the set"},
		"absolute link": {head + "\n" + `{"path":"a","link":"/etc/passwd","modified":"2026-11-01T06:30:00Z"}` + "\n",
			"not relative"},
	} {
		if _, _, err := read([]byte(c.raw)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v; want something of %q", name, err, c.want)
		}
	}
	if _, _, err := read([]byte(good)); err != nil {
		t.Error(err)
	}
}

// TestUnportable: names that one system or the other cannot hold.
func TestUnportable(t *testing.T) {
	for name, bad := range map[string]bool{"a/b.txt": false, "nul": true, "x/NUL.txt": true, "nullable": false,
		"com7.log":  true,
		"10:30.csv": true, "dot.": true, "dot./x": true, "blank ": true, "ä/ö": false, "what?": true, ".hidden": false} {
		if why := Unportable(name); (why != "") != bad {
			t.Errorf("%q: %q", name, why)
		}
	}
}

// TestPack: a pack tells its chunks, and which of them is not what it should be.
func TestPack(t *testing.T) {
	var b bytes.Buffer
	p := NewPackWriter(&b)
	var want []Chunk
	for _, s := range []string{"one", "two", "three and more"} {
		want = append(want, Chunk{digest(s), uint32(len(s))})
		if err := p.Add(want[len(want)-1], []byte(s)); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.Close(); err != nil || p.Chunks != 3 || p.Bytes != 20 {
		t.Fatal(err, p.Chunks, p.Bytes)
	}
	raw := b.Bytes()
	got, err := CheckPack(bytes.NewReader(raw), int64(len(raw)))
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%v, %v", got, err)
	}
	damaged := slices.Clone(raw)
	damaged[4]++
	other := (*OtherChunk)(nil)
	if _, err := CheckPack(bytes.NewReader(damaged), int64(len(raw))); !errors.As(err, &other) || other.Index != 1 {
		t.Errorf("a damaged chunk: %v", err)
	}
	for _, cut := range []int{0, 1, 15, len(raw) / 2, len(raw) - 1} {
		if _, err := ReadPack(bytes.NewReader(raw[:cut]), int64(cut)); err == nil {
			t.Errorf("a pack that was cut after %d bytes was read", cut)
		}
	}
	if err := NewPackWriter(&b).Add(Chunk{Length: 2}, []byte("x")); err == nil {
		t.Error("a chunk was taken with another length")
	}
}

// TestCutting: the same bytes are cut in the same way, whatever stands in front of them, and the bounds are kept. The
// digests are the test vectors of docs/file-sets.md.
func TestCutting(t *testing.T) {
	cutter, err := NewCutter()
	if err != nil {
		t.Fatal(err)
	}
	content := Vector(8 << 20)
	whole, err := cutter.Measure(bytes.NewReader(content), nil)
	if err != nil || whole.Size != 8<<20 || whole.Digest != sha256.Sum256(content) {
		t.Fatalf("%+v, %v", whole, err)
	}
	for i, c := range whole.Chunks {
		if int(c.Length) > Usual.Max || int(c.Length) < Usual.Min && i+1 < len(whole.Chunks) {
			t.Errorf("chunk %d has %d bytes", i, c.Length)
		}
	}
	if got := whole.Chunks[0]; fmt.Sprintf("%d %x", got.Length, got.Digest[:4]) != firstVector ||
		len(whole.Chunks) != chunksOfVector {
		t.Errorf("%d chunks, the first of %d bytes, %x", len(whole.Chunks), got.Length, got.Digest[:4])
	}
	moved, err := cutter.Measure(bytes.NewReader(append([]byte("in front"), content...)), nil)
	if err != nil {
		t.Fatal(err)
	}
	known := map[Digest]bool{}
	for _, c := range whole.Chunks {
		known[c.Digest] = true
	}
	others := 0
	for _, c := range moved.Chunks {
		if !known[c.Digest] {
			others++
		}
	}
	if others > 2 {
		t.Errorf("after an insertion at the front %d of %d chunks are others", others, len(moved.Chunks))
	}
	for _, small := range []string{"", "x"} {
		if e, err := cutter.Measure(strings.NewReader(small), nil); err != nil || e.Chunks != nil ||
			e.Digest != digest(small) ||
			len(e.Made()) != len(small) {
			t.Errorf("%q: %+v, %v", small, e, err)
		}
	}
}

// laid is a layout of entries, all of whose chunks are in one pack, one behind the other.
func laid(t testing.TB, entries []Entry) *Layout {
	t.Helper()
	b := NewBuilder()
	slices.SortFunc(entries, func(x, y Entry) int { return strings.Compare(x.Path, y.Path) })
	var at int64
	for _, e := range entries {
		var where []Where
		for _, c := range e.Made() {
			where = append(where, Where{Pack{Digest: digest("pack"), Size: 1 << 40}, at})
			at += int64(c.Length)
		}
		if err := b.Add(e, where); err != nil {
			t.Fatal(err)
		}
	}
	raw, err := b.Build()
	if err != nil {
		t.Fatal(err)
	}
	l, err := OpenLayout(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// TestLayout compares what a layout finds and lists with what is in a map, for names that stand close to each other.
func TestLayout(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	names := []string{"a", "a-b", "a.b", "a0", "ab", "b", "A", "ä"}
	by := map[string]Entry{}
	isFolder := func(name string) bool {
		for other := range by {
			if strings.HasPrefix(other, name+"/") {
				return true
			}
		}
		return false
	}
	for range 300 {
		parts := make([]string, 1+random.IntN(3))
		for i := range parts {
			parts[i] = names[random.IntN(len(names))]
		}
		name := strings.Join(parts, "/")
		above := false
		for i := range parts {
			_, taken := by[strings.Join(parts[:i], "/")]
			above = above || taken
		}
		if !above && !isFolder(name) {
			by[name] = file(name, strings.Repeat("x", random.IntN(50)))
		}
	}
	var entries []Entry
	for _, e := range by {
		entries = append(entries, e)
	}
	l := laid(t, append(entries, Entry{Path: "z/empty/", Kind: Folder, Mode: 0o700, Modified: day}))
	for name, e := range by {
		if f, err := l.Find(name); err != nil || f.Size != e.Size || f.Digest != e.Digest {
			t.Errorf("%s: %+v, %v", name, f, err)
		}
	}
	for _, absent := range []string{"", "a/", "zz", "a-", "q/r"} {
		if _, known := by[absent]; !known {
			if _, err := l.Find(absent); !errors.Is(err, ErrNotThere) {
				t.Errorf("%q: %v", absent, err)
			}
		}
	}
	for _, folder := range []string{"", "a/", "b/", "a-b/", "ä/a/", "z/"} {
		want := map[string]string{}
		for name, e := range by {
			rest, below := strings.CutPrefix(name, folder)
			if !below {
				continue
			}
			if first, _, deeper := strings.Cut(rest, "/"); deeper {
				var files int
				var size int64
				for other, o := range by {
					if strings.HasPrefix(other, folder+first+"/") {
						files, size = files+1, size+o.Size
					}
				}
				want[first+"/"] = fmt.Sprint(files, " files, ", size)
			} else {
				want[rest] = fmt.Sprint(e.Size)
			}
		}
		if folder == "" {
			want["z/"] = "0 files, 0"
		}
		if folder == "z/" {
			want["empty/"] = "0 files, 0"
		}
		got := map[string]string{}
		for after, pages := "", 0; ; pages++ {
			lines, more, err := l.List(folder, after, 2)
			if err != nil && len(want) > 0 || len(lines) > 2 || pages > 200 {
				t.Fatalf("%q after %q: %v, %v", folder, after, lines, err)
			}
			for _, line := range lines {
				if after = line.Name; line.Kind == Folder {
					got[line.Name+"/"] = fmt.Sprint(line.Files, " files, ", line.Size)
				} else {
					got[line.Name] = fmt.Sprint(line.Size)
				}
			}
			if !more {
				break
			}
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%q has\n%v\nwant\n%v", folder, got, want)
		}
	}
	if _, _, err := l.List("q/", "", 10); !errors.Is(err, ErrNotThere) {
		t.Errorf("a folder that is not there: %v", err)
	}
}

// TestPieces: of a file with many chunks those are found that have bytes of a stretch.
func TestPieces(t *testing.T) {
	e := Entry{Path: "large", Mode: 0o644, Modified: day}
	for i := range 2000 {
		e.Chunks = append(e.Chunks, Chunk{digest(fmt.Sprint(i)), uint32(100 + i%7)})
		e.Size += int64(100 + i%7)
	}
	l := laid(t, []Entry{file("a", "a"), e, file("z", "z")})
	f, err := l.Find("large")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]int64{{0, 1}, {0, e.Size}, {99, 101}, {5000, 5001}, {e.Size - 1, e.Size}, {7, 7}} {
		pieces, err := l.Pieces(f, c[0], c[1])
		if err != nil {
			t.Fatal(err)
		}
		if c[0] == c[1] {
			if len(pieces) > 0 {
				t.Errorf("%v: %v", c, pieces)
			}
			continue
		}
		first, last := pieces[0], pieces[len(pieces)-1]
		if first.At > c[0] || first.At+int64(first.Length) <= c[0] || last.At >= c[1] || last.At+int64(last.Length) < c[1] ||
			first.Offset != first.At+1 {
			t.Errorf("%v: from %+v to %+v", c, first, last)
		}
	}
	if n := l.PieceCount(); n != 2002 {
		t.Errorf("%d pieces", n)
	}
	if some, err := l.PiecesAt(2000, 2); err != nil || some[1].Offset != e.Size+1 {
		t.Errorf("%+v, %v", some, err)
	}
	if _, err := l.PiecesAt(2001, 2); err == nil {
		t.Error("more pieces than there are")
	}
}

// TestFileAndFolder: no path is both.
func TestFileAndFolder(t *testing.T) {
	b := NewBuilder()
	for _, name := range []string{"a", "a-b", "a/c"} {
		if err := b.Add(file(name, ""), nil); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := b.Build(); err == nil || !strings.Contains(err.Error(), `"a"`) {
		t.Errorf("%v", err)
	}
}

// FuzzRead: whatever a manifest is, it is refused, or written again as the same bytes.
func FuzzRead(f *testing.F) {
	seed, err := Manifest([]Entry{file("a/b", "one"), {Path: "c/", Kind: Folder, Mode: 0o755, Modified: day},
		{Path: "d", Kind: Link, Target: "a/b", Modified: day}}, "what it is")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(seed)
	f.Fuzz(func(t *testing.T, raw []byte) {
		h, entries, err := read(raw)
		if err != nil {
			return
		}
		var b bytes.Buffer
		w, err := NewWriter(&b, h)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			if err := w.Add(e); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Flush(); err != nil || !bytes.Equal(b.Bytes(), raw) {
			t.Errorf("%v\n%s\nbecame\n%s", err, raw, b.Bytes())
		}
	})
}

// FuzzLayout: whatever a layout is, reading it ends.
func FuzzLayout(f *testing.F) {
	b := NewBuilder()
	if err := b.Add(file("a/b", "one"), []Where{{Pack{digest("p"), 10}, 0}}); err != nil {
		f.Fatal(err)
	}
	raw, err := b.Build()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		l, err := OpenLayout(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			return
		}
		if lines, _, err := l.List("", "", 100); err == nil && len(lines) > 100 {
			t.Error(len(lines))
		}
		if e, err := l.Find("a/b"); err == nil {
			_, _ = l.Pieces(e, 0, e.Size) // an error is as good as pieces
		}
	})
}

// FuzzPack: whatever a pack is, it is refused, or its chunks are what it has.
func FuzzPack(f *testing.F) {
	var b bytes.Buffer
	p := NewPackWriter(&b)
	if err := errors.Join(p.Add(Chunk{digest("one"), 3}, []byte("one")), p.Close()); err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		chunks, err := CheckPack(bytes.NewReader(raw), int64(len(raw)))
		at := 0
		for _, c := range chunks {
			if sha256.Sum256(raw[at:at+int(c.Length)]) != c.Digest {
				t.Error("another chunk")
			}
			at += int(c.Length)
		}
		if err == nil && len(chunks) == 0 {
			t.Error("no chunks")
		}
	})
}

// TestCompare: what was added, changed and removed, and how much of it is new.
func TestCompare(t *testing.T) {
	mode := file("mode", "m")
	mode.Mode = 0o755
	later := file("later", "l")
	later.Modified = day.Add(time.Hour)
	before := manifestOf(t, file("changed", "one"), file("gone", "gone"), file("later", "l"), file("mode", "m"), file("same", "s"))
	after := manifestOf(t, file("changed", "three"), later, mode, file("new/a", "fresh"), file("new/b", "gone"), file("same", "s"))
	open := func(raw []byte) func() (io.ReadCloser, error) {
		return func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil }
	}
	c, err := Compare(open(before), open(after), 3)
	if err != nil || c.Added != 2 || c.Changed != 2 || c.Removed != 1 || c.Same != 2 || c.New != 10 {
		t.Errorf("%+v, %v", c, err)
	}
	var got []string
	for _, d := range c.Some {
		got = append(got, fmt.Sprint(d.Path, d.Before != nil, d.After != nil))
	}
	if fmt.Sprint(got) != "[changedtrue true gonetrue false modetrue true]" {
		t.Error(got)
	}
	if _, err := Compare(open(before), open(after[:len(after)-1]), 3); err == nil {
		t.Error("a manifest that was cut was compared")
	}
}
