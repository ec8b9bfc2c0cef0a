package store

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"hash/crc32"
	"io"
	"slices"
	"testing"
	"testing/iotest"
)

// TestBegun: a file arrives in pieces, goes on from where it was cut, and can be stored;
// nobody adds to it from then on.
func TestBegun(t *testing.T) {
	ctx := t.Context()
	f, dir := open(t)
	content := random(5*chunkSize + 17)
	cut := io.MultiReader(bytes.NewReader(content[:chunkSize+5]), iotest.ErrReader(errors.New("gone")))
	if n, err := f.Continue(ctx, "7-one", 0, cut); n != chunkSize+5 || !errors.Is(err, ErrCut) {
		t.Fatalf("%d bytes, %v", n, err)
	}
	if n, err := f.Continue(ctx, "7-one", 3, bytes.NewReader(content)); n != chunkSize+5 || !errors.Is(err, ErrOffset) {
		t.Errorf("from the wrong place: %d, %v", n, err)
	}
	if all, err := f.AllBegun(ctx, "7-"); err != nil || len(all) != 1 || all[0].Size != chunkSize+5 {
		t.Errorf("%v, %v", all, err)
	}
	// A second one at the same time waits for nobody, and spoils nothing.
	slow, w := io.Pipe()
	done := make(chan error)
	go func() {
		_, err := f.Continue(ctx, "7-one", chunkSize+5, slow)
		done <- err
	}()
	if _, err := w.Write(content[chunkSize+5 : 2*chunkSize]); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Continue(ctx, "7-one", 2*chunkSize, bytes.NewReader(content)); !errors.Is(err, ErrBusy) {
		t.Errorf("two at once: %v", err)
	}
	if _, err := f.StageBegun(ctx, "7-one"); !errors.Is(err, ErrBusy) {
		t.Errorf("staged while it arrives: %v", err)
	}
	if _, err := w.Write(content[2*chunkSize:]); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(w.Close(), <-done); err != nil {
		t.Fatal(err)
	}

	s, err := f.StageBegun(ctx, "7-one")
	whole := func(s *Staged, err error) {
		t.Helper()
		if err != nil || s.Digests.SHA256 != sha256.Sum256(content) || s.Digests.Size != int64(len(content)) ||
			s.CRC32C != crc32.Checksum(content, castagnoli) {
			t.Fatalf("%+v, %v", s, err)
		}
	}
	whole(s, err)
	if err := s.Discard(); err != nil { // it was refused
		t.Fatal(err)
	}
	s, err = f.StageBegun(ctx, "7-one")
	whole(s, err)
	if err := errors.Join(f.Keep(ctx, s)); err != nil {
		t.Fatal(err)
	}
	if n, err := f.Continue(ctx, "7-one", 0, bytes.NewReader(nil)); n != 0 || err != nil {
		t.Errorf("after it was stored: %d, %v", n, err)
	}
	if err := errors.Join(s.Discard(), f.DropBegun(ctx, "7-one"), f.DropBegun(ctx, "7-one")); err != nil {
		t.Fatal(err)
	}
	r, err := f.Open(ctx, s.Digests.SHA256, s.Digests.Size)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if stored, err := io.ReadAll(r); err != nil || !slices.Equal(stored, content) {
		t.Errorf("%d bytes are stored, %v", len(stored), err)
	}
	if all, err := f.AllBegun(ctx, ""); err != nil || len(all) != 0 || entries(t, dir) != 0 {
		t.Errorf("left are %v and %d, %v", all, entries(t, dir), err)
	}
	if _, err := f.StageBegun(ctx, "7-one"); !errors.Is(err, ErrMissing) {
		t.Errorf("what was never begun: %v", err)
	}
	// A restart forgets what was known of it, and what is on the disk counts.
	if n, err := f.Continue(ctx, "7-two", 0, bytes.NewReader(content[:chunkSize])); n != chunkSize || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	if f, err = OpenFolder(dir); err != nil {
		t.Fatal(err)
	}
	if n, err := f.Continue(ctx, "7-two", chunkSize, bytes.NewReader(content[chunkSize:])); n != int64(len(content)) ||
		err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	s, err = f.StageBegun(ctx, "7-two")
	whole(s, err)
	if err := errors.Join(s.Discard(), f.DropBegun(ctx, "7-two")); err != nil || len(f.arriving) != 0 {
		t.Errorf("%v; %d are still known", err, len(f.arriving))
	}
	for _, name := range []string{"", "../x", "A", "a/b"} {
		if _, err := f.Continue(ctx, name, 0, bytes.NewReader(nil)); err == nil {
			t.Errorf("%q is taken as a name", name)
		}
	}
}
