//go:build linux

package storetest

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"crelvo/internal/store"
)

// Random gives so many bytes, always the same.
func Random(n int) []byte {
	b := make([]byte, n)
	source := rand.NewChaCha8([32]byte{7})
	_, _ = source.Read(b)
	return b
}

// Arriving counts the files that a folder of a store has of what is arriving or being kept.
func Arriving(t testing.TB, dir string) (n int) {
	t.Helper()
	err := filepath.WalkDir(filepath.Join(dir, "staging"), func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() && entry.Name() != "lock" {
			n++
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// Kept stores bytes and gives what was staged of them, discarded already.
func Kept(t testing.TB, s store.Store, content []byte) *store.Staged {
	t.Helper()
	staged, err := s.Stage(t.Context(), bytes.NewReader(content), int64(len(content)))
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.Keep(t.Context(), staged), staged.Discard()); err != nil {
		t.Fatal(err)
	}
	return staged
}

// Read gives what is stored, or why not.
func Read(t testing.TB, s store.Store, digest [32]byte, size int64) ([]byte, error) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	r, err := s.Open(ctx, digest, size)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// Conform checks what every store promises. open gives the store, whose bytes outlive what
// it gives; left tells how many things are there that no stored file consists of.
func Conform(t *testing.T, open func(t *testing.T) store.Store, left func() int) {
	t.Helper()
	for name, check := range map[string]func(*testing.T, store.Store){
		"sizes": checkSizes, "cut": checkCut, "openly": checkOpenly, "begun": checkBegun, "drop": checkDrop,
		"identity": checkIdentity, "again": checkAgain, "documents": checkDocuments,
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			check(t, s)
			if n := left(); n != 0 {
				t.Errorf("%d things are left", n)
			}
			if err := s.Close(); err != nil {
				t.Error(err)
			}
		})
	}
}

// checkSizes covers sizes around the boundaries of digesting and of parts.
func checkSizes(t *testing.T, s store.Store) {
	const chunk, part = 256 << 10, 8 << 20
	for _, size := range []int{0, 1, chunk - 1, chunk, chunk + 1, 2 * chunk, 2*chunk + 1, 20*chunk + 5, part - 1, part,
		part + 1, 3*part + chunk + 7} {
		content := Random(size)
		for _, r := range []io.Reader{bytes.NewReader(content), iotest.DataErrReader(bytes.NewReader(content))} {
			staged, err := s.Stage(t.Context(), r, int64(size))
			if err != nil {
				t.Fatalf("%d bytes: %v", size, err)
			}
			d := staged.Digests
			if d.Size != int64(size) || d.MD5 != md5.Sum(content) || d.SHA1 != sha1.Sum(content) ||
				d.SHA256 != sha256.Sum256(content) || d.SHA512 != sha512.Sum512(content) {
				t.Errorf("%d bytes: wrong digests %+v", size, d)
			}
			readsAnywhere(t, staged, content)
			if err := s.Keep(t.Context(), staged); err != nil {
				t.Fatalf("%d bytes: %v", size, err)
			}
			if err := s.Keep(t.Context(), staged); err != nil {
				t.Fatalf("%d bytes, once more: %v", size, err)
			}
			if err := staged.Discard(); err != nil {
				t.Fatal(err)
			}
		}
		digest := sha256.Sum256(content)
		if got, err := Read(t, s, digest, int64(size)); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes come back as %d, %v", size, len(got), err)
		}
		if _, err := Read(t, s, digest, int64(size)+1); !errors.Is(err, store.ErrDamaged) &&
			!errors.Is(err, store.ErrMissing) {
			t.Errorf("%d bytes as one more: %v", size, err)
		}
		if has, err := s.Has(t.Context(), digest); err != nil || !has {
			t.Errorf("%d bytes: has %v, %v", size, has, err)
		}
		r, err := s.Open(t.Context(), digest, int64(size))
		if err != nil {
			t.Fatal(err)
		}
		readsAnywhere(t, r, content)
		if size > 10 {
			if at, err := r.Seek(-7, io.SeekEnd); err != nil || at != int64(size)-7 {
				t.Errorf("%d bytes: seeks to %d, %v", size, at, err)
			}
			if rest, err := io.ReadAll(r); err != nil || !bytes.Equal(rest, content[size-7:]) {
				t.Errorf("%d bytes: the end is %d bytes, %v", size, len(rest), err)
			}
		}
		r.Close()
	}
	sizes := map[[32]byte]int64{}
	if err := s.Walk(t.Context(), time.Now().Add(time.Hour), func(digest [32]byte, size int64) error {
		sizes[digest] = size
		return nil
	}); err != nil || len(sizes) != 12 || sizes[sha256.Sum256(Random(part+1))] != part+1 {
		t.Errorf("%d files are found, %v", len(sizes), err)
	}
}

func readsAnywhere(t *testing.T, r io.ReaderAt, content []byte) {
	t.Helper()
	for _, off := range []int{len(content) - 1, 0, len(content) / 2, len(content) / 3} {
		if off < 0 {
			continue
		}
		p := make([]byte, min(70_000, len(content)-off))
		if n, err := r.ReadAt(p, int64(off)); err != nil && err != io.EOF || !bytes.Equal(p[:n], content[off:off+len(p)]) {
			t.Errorf("of %d bytes at %d: %d, %v", len(content), off, n, err)
		}
	}
	if n, err := r.ReadAt(make([]byte, 1), int64(len(content))); n != 0 || err != io.EOF {
		t.Errorf("behind %d bytes: %d, %v", len(content), n, err)
	}
}

func checkCut(t *testing.T, s store.Store) {
	content := Random(9 << 20)
	canceled, cancel := context.WithCancel(t.Context())
	cancel()
	for name, c := range map[string]struct {
		ctx    context.Context
		r      io.Reader
		length int64
	}{
		"too short":       {t.Context(), bytes.NewReader(content[:len(content)-1]), int64(len(content))},
		"too long":        {t.Context(), bytes.NewReader(content), int64(len(content)) - 1},
		"short and small": {t.Context(), bytes.NewReader(content[:9]), 10},
		"failing": {t.Context(), io.MultiReader(bytes.NewReader(content), iotest.ErrReader(io.ErrUnexpectedEOF)),
			-1},
		"failing and small": {t.Context(), io.MultiReader(bytes.NewReader(content[:9]),
			iotest.ErrReader(io.ErrUnexpectedEOF)), -1},
		"canceled": {canceled, bytes.NewReader(content), -1},
	} {
		if staged, err := s.Stage(c.ctx, c.r, c.length); !errors.Is(err, store.ErrCut) {
			t.Errorf("%s: %v, %v; want ErrCut", name, staged, err)
		}
	}
	// What is whole, and nobody wants to keep.
	staged, err := s.Stage(t.Context(), bytes.NewReader(content), -1)
	if err != nil {
		t.Fatal(err)
	}
	if err := staged.Discard(); err != nil {
		t.Error(err)
	}
	if has, err := s.Has(t.Context(), staged.Digests.SHA256); has || err != nil {
		t.Errorf("what was not kept: %v, %v", has, err)
	}
}

// watched remembers what a staging file was seen to hold.
type watched struct {
	t    *testing.T
	open func() (*os.File, error)
	seen []byte
}

func (w *watched) Begun(open func() (*os.File, error)) { w.open = open }

func (w *watched) Arrived(n int64) {
	f, err := w.open()
	if err != nil {
		w.t.Fatal(err)
	}
	defer f.Close()
	if w.seen, err = io.ReadAll(io.LimitReader(f, n)); err != nil || int64(len(w.seen)) != n {
		w.t.Errorf("%d bytes can be read of %d that arrived, %v", len(w.seen), n, err)
	}
}

// checkOpenly lets others read while the bytes arrive, as they come and not only when much
// of it is there.
func checkOpenly(t *testing.T, s store.Store) {
	content := Random(9<<20 + 5)
	reading, writing := io.Pipe()
	w := &watched{t: t}
	go func() {
		for piece := range slices.Chunk(content, 400_000) {
			if _, err := writing.Write(piece); err != nil {
				t.Error(err)
			}
		}
		writing.Close()
	}()
	staged, err := s.StageOpenly(t.Context(), reading, int64(len(content)), w)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(w.seen, content) || staged.Digests.SHA256 != sha256.Sum256(content) {
		t.Errorf("%d of %d bytes were seen", len(w.seen), len(content))
	}
	if err := errors.Join(s.Keep(t.Context(), staged), staged.Discard()); err != nil {
		t.Error(err)
	}
	if got, err := Read(t, s, staged.Digests.SHA256, staged.Digests.Size); err != nil || !bytes.Equal(got, content) {
		t.Errorf("%d bytes come back, %v", len(got), err)
	}
	if _, err := s.StageOpenly(t.Context(), bytes.NewReader(content[:10]), 11, w); !errors.Is(err, store.ErrCut) {
		t.Errorf("cut bytes: %v", err)
	}
	if _, err := w.open(); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("cut bytes are still there: %v", err)
	}
}

// checkBegun: a file arrives in pieces, goes on from where it was cut, and can be stored;
// nobody adds to it from then on.
func checkBegun(t *testing.T, s store.Store) {
	const chunk = 256 << 10
	ctx := t.Context()
	for _, size := range []int{5*chunk + 17, 50*chunk + 17} {
		content := Random(size)
		cut := io.MultiReader(bytes.NewReader(content[:chunk+5]), iotest.ErrReader(errors.New("gone")))
		if n, err := s.Continue(ctx, "7-one", 0, cut); n != chunk+5 || !errors.Is(err, store.ErrCut) {
			t.Fatalf("%d bytes, %v", n, err)
		}
		if n, err := s.Continue(ctx, "7-one", 3, bytes.NewReader(content)); n != chunk+5 ||
			!errors.Is(err, store.ErrOffset) {
			t.Errorf("from the wrong place: %d, %v", n, err)
		}
		if all, err := s.AllBegun(ctx, "7-"); err != nil || len(all) != 1 || all[0].Size != chunk+5 ||
			all[0].Name != "7-one" {
			t.Errorf("%v, %v", all, err)
		}
		twoAtOnce(t, s, content)
		staged, err := s.StageBegun(ctx, "7-one")
		wholeBegun(t, staged, err, content)
		if err := staged.Discard(); err != nil { // it was refused
			t.Fatal(err)
		}
		staged, err = s.StageBegun(ctx, "7-one")
		wholeBegun(t, staged, err, content)
		if err := s.Keep(ctx, staged); err != nil {
			t.Fatal(err)
		}
		if n, err := s.Continue(ctx, "7-one", 0, bytes.NewReader(nil)); n != 0 || err != nil {
			t.Errorf("after it was stored: %d, %v", n, err)
		}
		if err := errors.Join(staged.Discard(), s.DropBegun(ctx, "7-one"), s.DropBegun(ctx, "7-one")); err != nil {
			t.Fatal(err)
		}
		if got, err := Read(t, s, staged.Digests.SHA256, int64(size)); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes are stored, %v", len(got), err)
		}
		if all, err := s.AllBegun(ctx, ""); err != nil || len(all) != 0 {
			t.Errorf("left are %v, %v", all, err)
		}
		if _, err := s.StageBegun(ctx, "7-one"); !errors.Is(err, store.ErrMissing) {
			t.Errorf("what is not begun any more: %v", err)
		}
	}
	manyPieces(t, s)
	for _, name := range []string{"", "../x", "A", "a/b"} {
		if _, err := s.Continue(ctx, name, 0, bytes.NewReader(nil)); err == nil {
			t.Errorf("%q is taken as a name", name)
		}
	}
}

func wholeBegun(t *testing.T, s *store.Staged, err error, content []byte) {
	t.Helper()
	if err != nil || s.Digests.SHA256 != sha256.Sum256(content) || s.Digests.Size != int64(len(content)) ||
		s.CRC32C != crc32.Checksum(content, crc32.MakeTable(crc32.Castagnoli)) {
		t.Fatalf("%+v, %v", s, err)
	}
	readsAnywhere(t, s, content)
}

// twoAtOnce: a second one at the same time waits for nobody, and spoils nothing.
func twoAtOnce(t *testing.T, s store.Store, content []byte) {
	t.Helper()
	const from = 256<<10 + 5
	slow, w := io.Pipe()
	done := make(chan error)
	go func() {
		_, err := s.Continue(t.Context(), "7-one", from, slow)
		done <- err
	}()
	if _, err := w.Write(content[from : 2*from]); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Continue(t.Context(), "7-one", 2*from, bytes.NewReader(content)); !errors.Is(err, store.ErrBusy) {
		t.Errorf("two at once: %v", err)
	}
	if _, err := s.StageBegun(t.Context(), "7-one"); !errors.Is(err, store.ErrBusy) {
		t.Errorf("staged while it arrives: %v", err)
	}
	if _, err := w.Write(content[2*from:]); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(w.Close(), <-done); err != nil {
		t.Fatal(err)
	}
}

// manyPieces: a file that comes in very many pieces is stored like any other, and what is
// dropped in the middle is gone.
func manyPieces(t *testing.T, s store.Store) {
	t.Helper()
	content := Random(150_000)
	for at := 0; at < len(content); at += 1000 {
		if n, err := s.Continue(t.Context(), "7-two", int64(at), bytes.NewReader(content[at:at+1000])); err != nil ||
			n != int64(at)+1000 {
			t.Fatalf("%d, %v", n, err)
		}
	}
	if _, err := s.Continue(t.Context(), "7-three", 0, bytes.NewReader(content)); err != nil {
		t.Fatal(err)
	}
	if err := s.DropBegun(t.Context(), "7-three"); err != nil {
		t.Error(err)
	}
	staged, err := s.StageBegun(t.Context(), "7-two")
	wholeBegun(t, staged, err, content)
	if err := errors.Join(s.Keep(t.Context(), staged), staged.Discard()); err != nil {
		t.Fatal(err)
	}
	if got, err := Read(t, s, staged.Digests.SHA256, int64(len(content))); err != nil || !bytes.Equal(got, content) {
		t.Errorf("%d bytes are stored, %v", len(got), err)
	}
}

func checkDrop(t *testing.T, s store.Store) {
	for _, size := range []int{100, 9 << 20} {
		staged := Kept(t, s, Random(size))
		for range 2 {
			if err := s.Drop(t.Context(), staged.Digests.SHA256); err != nil {
				t.Error(err)
			}
		}
		if _, err := s.Open(t.Context(), staged.Digests.SHA256, int64(size)); !errors.Is(err, store.ErrMissing) {
			t.Errorf("dropped bytes: %v", err)
		}
		if has, err := s.Has(t.Context(), staged.Digests.SHA256); err != nil || has {
			t.Errorf("has dropped bytes: %v, %v", has, err)
		}
	}
}

// checkDocuments: documents are replaced whole, listed and dropped, and are no files.
func checkDocuments(t *testing.T, s store.Store) {
	ctx := t.Context()
	if _, err := s.Document(ctx, "backup-1"); !errors.Is(err, store.ErrMissing) {
		t.Errorf("one that is not there: %v", err)
	}
	long := Random(100_000)
	for _, content := range [][]byte{[]byte("one"), long} {
		if err := errors.Join(s.SetDocument(ctx, "backup-1", content), s.SetDocument(ctx, "backup-2", nil)); err != nil {
			t.Fatal(err)
		}
		if got, err := s.Document(ctx, "backup-1"); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes, %v", len(got), err)
		}
	}
	if names, err := s.Documents(ctx); err != nil || strings.Join(names, " ") != "backup-1 backup-2" {
		t.Errorf("%v, %v", names, err)
	}
	for _, name := range []string{"", "../x", "A", "a/b"} {
		if err := s.SetDocument(ctx, name, nil); err == nil {
			t.Errorf("%q is taken as a name", name)
		}
	}
	if err := errors.Join(s.DropDocument(ctx, "backup-1"), s.DropDocument(ctx, "backup-2"),
		s.DropDocument(ctx, "backup-2")); err != nil {
		t.Error(err)
	}
	if names, err := s.Documents(ctx); err != nil || len(names) != 0 {
		t.Errorf("left are %v, %v", names, err)
	}
}

func checkIdentity(t *testing.T, s store.Store) {
	if name, err := s.Identity(); err != nil || name != "" {
		t.Errorf("%q, %v", name, err)
	}
	if err := s.SetIdentity("heron"); err != nil {
		t.Fatal(err)
	}
	if name, err := s.Identity(); err != nil || name != "heron" {
		t.Errorf("%q, %v", name, err)
	}
}

// checkAgain: bytes that are dropped while they are being stored once more are there in
// the end, if they are kept again.
func checkAgain(t *testing.T, s store.Store) {
	for _, size := range []int{100, 9 << 20} {
		content := Random(size)
		first := Kept(t, s, content)
		staged, err := s.Stage(t.Context(), bytes.NewReader(content), -1)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(s.Keep(t.Context(), staged), s.Drop(t.Context(), first.Digests.SHA256),
			s.Keep(t.Context(), staged), staged.Discard()); err != nil {
			t.Fatalf("%d bytes: %v", size, err)
		}
		if got, err := Read(t, s, staged.Digests.SHA256, int64(size)); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes come back as %d, %v", size, len(got), err)
		}
	}
}
