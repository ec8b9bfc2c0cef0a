package store

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"testing/iotest"
)

func open(t *testing.T) (*Folder, string) {
	t.Helper()
	dir := t.TempDir()
	f, err := OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	return f, dir
}

func random(n int) []byte {
	b := make([]byte, n)
	source := rand.NewChaCha8([32]byte{7})
	_, _ = source.Read(b)
	return b
}

func entries(t *testing.T, dir string) int {
	t.Helper()
	found, err := os.ReadDir(filepath.Join(dir, "staging"))
	if err != nil {
		t.Fatal(err)
	}
	return len(found)
}

// TestStageAndKeep covers sizes around every boundary of the digesting.
func TestStageAndKeep(t *testing.T) {
	ctx := t.Context()
	f, dir := open(t)
	for _, size := range []int{0, 1, chunkSize - 1, chunkSize, chunkSize + 1, smallFile, smallFile + 1, 20*chunkSize + 5} {
		content := random(size)
		for _, r := range []io.Reader{bytes.NewReader(content), iotest.HalfReader(bytes.NewReader(content)),
			iotest.DataErrReader(bytes.NewReader(content))} {
			s, err := f.Stage(ctx, r, int64(size))
			if err != nil {
				t.Fatalf("%d bytes: %v", size, err)
			}
			d := s.Digests
			if d.Size != int64(size) || d.MD5 != md5.Sum(content) || d.SHA1 != sha1.Sum(content) ||
				d.SHA256 != sha256.Sum256(content) || d.SHA512 != sha512.Sum512(content) {
				t.Errorf("%d bytes: wrong digests %+v", size, d)
			}
			if err := f.Keep(ctx, s); err != nil {
				t.Fatal(err)
			}
			if err := s.Discard(); err != nil {
				t.Fatal(err)
			}
			kept, err := f.Open(ctx, d.SHA256, d.Size)
			if err != nil {
				t.Fatal(err)
			}
			got, err := io.ReadAll(kept)
			if err != nil || !bytes.Equal(got, content) {
				t.Errorf("%d bytes come back as %d, %v", size, len(got), err)
			}
			if _, isFile := kept.(*os.File); !isFile {
				t.Error("a stored file must be a file, to leave by sendfile")
			}
			kept.Close()
		}
	}
	if n := entries(t, dir); n != 0 {
		t.Errorf("%d files are left in staging", n)
	}
}

func TestStageCut(t *testing.T) {
	f, dir := open(t)
	content := random(3 * chunkSize)
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
		if s, err := f.Stage(c.ctx, c.r, c.length); !errors.Is(err, ErrCut) {
			t.Errorf("%s: %v, %v; want ErrCut", name, s, err)
		}
	}
	if n := entries(t, dir); n != 0 {
		t.Errorf("%d files are left in staging", n)
	}
}

// TestStageNoRoom: a failure of the disk is not one of the client.
func TestStageNoRoom(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_RDWR, 0)
	if err != nil {
		t.Skip(err)
	}
	defer full.Close()
	for _, size := range []int{10, 4 * chunkSize} {
		err = newDigester().copy(t.Context(), full, bytes.NewReader(random(size)), false)
		if w := (writeError{}); !errors.As(err, &w) {
			t.Errorf("%d bytes: %v; want a write error", size, err)
		}
	}
}

// TestLeftovers is what a killed process leaves: a file that was arriving is
// removed, one that was kept is reported.
func TestLeftovers(t *testing.T) {
	ctx := t.Context()
	f, dir := open(t)
	if _, err := f.Stage(ctx, bytes.NewReader(random(10)), -1); err != nil {
		t.Fatal(err)
	}
	kept, err := f.Stage(ctx, bytes.NewReader(random(20)), -1)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Keep(ctx, kept); err != nil {
		t.Fatal(err)
	}
	again, err := OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	found, err := again.Leftovers(ctx)
	if err != nil || len(found) != 1 || found[0].SHA256 != kept.Digests.SHA256 {
		t.Fatalf("leftovers: %+v, %v; want the one that was kept", found, err)
	}
	if err := again.Drop(ctx, found[0].SHA256); err != nil {
		t.Fatal(err)
	}
	if err := again.Forget(found[0]); err != nil {
		t.Fatal(err)
	}
	if _, err := again.Open(ctx, found[0].SHA256, 1); !errors.Is(err, ErrMissing) {
		t.Errorf("the dropped bytes: %v", err)
	}
	if n := entries(t, dir); n != 0 {
		t.Errorf("%d files are left in staging", n)
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

// TestStageOpenly lets others read while the bytes arrive, as they come and not
// only when a chunk is full.
func TestStageOpenly(t *testing.T) {
	f, err := OpenFolder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	content := random(smallFile + 3*chunkSize)
	reading, writing := io.Pipe()
	w := &watched{t: t}
	go func() {
		for piece := range slices.Chunk(content, 10_000) {
			if _, err := writing.Write(piece); err != nil {
				t.Error(err)
			}
		}
		writing.Close()
	}()
	staged, err := f.StageOpenly(t.Context(), reading, int64(len(content)), w)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(w.seen, content) || staged.Digests.SHA256 != sha256.Sum256(content) {
		t.Errorf("%d of %d bytes were seen", len(w.seen), len(content))
	}
	if err := staged.Discard(); err != nil {
		t.Error(err)
	}
	if _, err := f.StageOpenly(t.Context(), bytes.NewReader(content[:10]), 11, w); !errors.Is(err, ErrCut) {
		t.Errorf("cut bytes: %v", err)
	}
	if _, err := w.open(); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("cut bytes are still there: %v", err)
	}
}
