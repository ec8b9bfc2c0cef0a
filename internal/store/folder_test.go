package store_test

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"crelvo/internal/store"
	"crelvo/internal/store/storetest"
)

func open(t *testing.T) (*store.Folder, string) {
	t.Helper()
	dir := t.TempDir()
	f, err := store.OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	return f, dir
}

// entries counts what is in the folders of what arrives.
func entries(t *testing.T, dir string) int {
	t.Helper()
	begun, err := os.ReadDir(filepath.Join(dir, "begun"))
	if err != nil {
		t.Fatal(err)
	}
	return len(begun) + storetest.Arriving(t, dir)
}

func TestFolder(t *testing.T) {
	var dir string
	storetest.Conform(t, func(t *testing.T) (s store.Store) {
		s, dir = open(t)
		return s
	}, func() int { return entries(t, dir) })
	f, dir := open(t)
	kept := storetest.Kept(t, f, storetest.Random(1<<20))
	r, err := f.Open(t.Context(), kept.Digests.SHA256, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if _, isFile := r.(*os.File); !isFile {
		t.Error("a stored file must be a file, to leave by sendfile")
	}
	if err := f.Close(); err != nil {
		t.Error(err)
	}
	if left, err := os.ReadDir(filepath.Join(dir, "staging")); err != nil || len(left) != 0 {
		t.Errorf("left are %v, %v", left, err)
	}
}

// TestLeftovers is what a killed process leaves: a file that was arriving is removed, one
// that was kept is reported. What others have in use is not touched.
func TestLeftovers(t *testing.T) {
	ctx := t.Context()
	f, dir := open(t)
	if _, err := f.Stage(ctx, bytes.NewReader(storetest.Random(10)), -1); err != nil {
		t.Fatal(err)
	}
	kept, err := f.Stage(ctx, bytes.NewReader(storetest.Random(20)), -1)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Keep(ctx, kept); err != nil {
		t.Fatal(err)
	}
	again, err := store.OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	if found, err := again.Leftovers(ctx); err != nil || len(found) != 0 || entries(t, dir) != 2 {
		t.Fatalf("while it is in use: %+v, %v, and %d are left", found, err, entries(t, dir))
	}
	if err := f.Close(); err != nil { // as when it was killed
		t.Fatal(err)
	}
	found, err := again.Leftovers(ctx)
	if err != nil || len(found) != 1 || found[0].SHA256 != kept.Digests.SHA256 {
		t.Fatalf("leftovers: %+v, %v; want the one that was kept", found, err)
	}
	if err := errors.Join(again.Drop(ctx, found[0].SHA256), again.Forget(found[0]), again.Forget(found[0])); err != nil {
		t.Fatal(err)
	}
	if _, err := again.Open(ctx, found[0].SHA256, 1); !errors.Is(err, store.ErrMissing) {
		t.Errorf("the dropped bytes: %v", err)
	}
	if found, err := again.Leftovers(ctx); err != nil || len(found) != 0 || entries(t, dir) != 0 {
		t.Errorf("%v, %v; %d files are left", found, err, entries(t, dir))
	}
	if folders, err := os.ReadDir(filepath.Join(dir, "staging")); err != nil || len(folders) != 1 {
		t.Errorf("%d processes are known, %v", len(folders), err)
	}
}

// TestBegunAfterRestart: a restart forgets what was known of a begun file, and what is on
// the disk counts.
func TestBegunAfterRestart(t *testing.T) {
	f, dir := open(t)
	content := storetest.Random(3 << 20)
	if n, err := f.Continue(t.Context(), "7-two", 0, bytes.NewReader(content[:1<<20])); n != 1<<20 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	f, err := store.OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := f.Continue(t.Context(), "7-two", 1<<20, bytes.NewReader(content[1<<20:])); n != 3<<20 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	staged, err := f.StageBegun(t.Context(), "7-two")
	if err != nil || staged.Digests.SHA256 != storetest.Kept(t, f, content).Digests.SHA256 {
		t.Fatalf("%+v, %v", staged, err)
	}
	if err := errors.Join(staged.Discard(), f.DropBegun(t.Context(), "7-two")); err != nil || entries(t, dir) != 0 {
		t.Errorf("%v; %d are left", err, entries(t, dir))
	}
}

// TestKeptBesideDropping: the same bytes can be stored at any moment while others drop them.
func TestKeptBesideDropping(t *testing.T) {
	f, _ := open(t)
	content := storetest.Random(100)
	done := make(chan struct{})
	var dropping, keeping sync.WaitGroup
	dropping.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
				if err := f.Drop(t.Context(), sha256.Sum256(content)); err != nil {
					t.Error(err)
					return
				}
			}
		}
	})
	for range 2 {
		keeping.Go(func() {
			for range 500 {
				staged, err := f.Stage(t.Context(), bytes.NewReader(content), -1)
				if err == nil {
					err = errors.Join(f.Keep(t.Context(), staged), staged.Discard())
				}
				if err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	keeping.Wait()
	close(done)
	dropping.Wait()
	storetest.Kept(t, f, content)
	if got, err := storetest.Read(t, f, sha256.Sum256(content), 100); err != nil || !bytes.Equal(got, content) {
		t.Errorf("%d bytes come back, %v", len(got), err)
	}
}
