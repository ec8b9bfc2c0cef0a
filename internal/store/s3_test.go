package store_test

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"crelvo/internal/store"
	"crelvo/internal/store/storetest"
)

func openS3(t *testing.T, o store.S3Options) *store.S3 {
	t.Helper()
	s, err := store.OpenS3(o)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// lost counts objects that no stored file consists of, and removes them.
func lost(t *testing.T, server *storetest.S3, o store.S3Options) int {
	t.Helper()
	before := server.Objects(t)
	for _, name := range before {
		if !strings.HasPrefix(name, o.Prefix) {
			t.Errorf("an object is called %s", name)
		}
	}
	if err := openS3(t, o).Tidy(t.Context(), time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	return len(before) - len(server.Objects(t))
}

func TestS3(t *testing.T) {
	server := storetest.Start(t)
	for name, cache := range map[string]int64{"": 0, "with a cache": 64 << 20} {
		t.Run("store"+name, func(t *testing.T) {
			o := server.Options(t)
			storetest.Conform(t, func(t *testing.T) store.Store {
				for _, name := range server.Objects(t) {
					remove(t, server, name)
				}
				o.Cache, o.Prefix = cache, "crelvo/"
				return openS3(t, o)
			}, func() int { return lost(t, server, o) })
		})
	}
}

func remove(t *testing.T, server *storetest.S3, name string) {
	t.Helper()
	if err := server.Client(t).RemoveObject(t.Context(), storetest.Bucket, name, minio.RemoveObjectOptions{}); err != nil {
		t.Fatal(err)
	}
}

// TestS3Faults: what goes wrong on the way is never stored or given as good, is told for
// what it is, and is over when it is over.
func TestS3Faults(t *testing.T) {
	server := storetest.Start(t)
	s := openS3(t, server.Options(t))
	small, large := storetest.Random(100_000), storetest.Random(20<<20)
	var all []*store.Staged
	for _, content := range [][]byte{small, storetest.Random(1 << 20), large} {
		all = append(all, storetest.Kept(t, s, content))
	}
	faults := server.Faults
	for name, c := range map[string]struct {
		on          func()
		read, write error
	}{
		"away":     {func() { faults.Away.Store(true) }, store.ErrAway, store.ErrAway},
		"refusing": {func() { faults.Status.Store(403) }, store.ErrRefused, store.ErrRefused},
		"busy":     {func() { faults.Status.Store(503) }, store.ErrAway, store.ErrAway},
		"flipping": {func() { faults.Flip.Store(true) }, store.ErrDamaged, store.ErrAway},
	} {
		t.Run(name, func(t *testing.T) {
			s, cached := openS3(t, server.Options(t)), openS3(t, withCache(server.Options(t)))
			c.on()
			for _, of := range all {
				for range 2 { // by itself, and through a copy
					if _, err := storetest.Read(t, cached, of.Digests.SHA256, of.Digests.Size); !errors.Is(err, c.read) {
						t.Errorf("reading %d bytes: %v; want %v", of.Digests.Size, err, c.read)
					}
				}
			}
			for _, content := range [][]byte{small[1:], large[1:]} {
				staged, err := s.Stage(t.Context(), bytes.NewReader(content), -1)
				if err == nil {
					err = s.Keep(t.Context(), staged)
					_ = staged.Discard() // what is left is dropped by Tidy
				}
				if !errors.Is(err, c.write) || errors.Is(err, store.ErrCut) {
					t.Errorf("writing %d bytes: %v; want %v", len(content), err, c.write)
				}
			}
			faults.Away.Store(false)
			faults.Flip.Store(false)
			faults.Status.Store(0)
			for _, of := range all {
				for { // it is left alone for a moment
					got, err := storetest.Read(t, cached, of.Digests.SHA256, of.Digests.Size)
					if errors.Is(err, store.ErrAway) {
						continue
					}
					if err != nil || sha256.Sum256(got) != of.Digests.SHA256 {
						t.Errorf("reading afterwards: %d bytes, %v", len(got), err)
					}
					break
				}
				cached = openS3(t, withCache(server.Options(t))) // to read from the object store again
			}
			for _, content := range [][]byte{small[1:], large[1:]} {
				if has, err := s.Has(t.Context(), sha256.Sum256(content)); has || err != nil && !errors.Is(err, store.ErrAway) {
					t.Errorf("has what was refused: %v, %v", has, err)
				}
			}
		})
	}
}

// TestS3Cut: an answer that breaks off is gone on with.
func TestS3Cut(t *testing.T) {
	server := storetest.Start(t)
	s := openS3(t, server.Options(t))
	content := storetest.Random(3 << 20)
	kept := storetest.Kept(t, s, content)
	server.Faults.Cut.Store(1_200_000)
	if got, err := storetest.Read(t, s, kept.Digests.SHA256, kept.Digests.Size); err != nil || !bytes.Equal(got, content) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
	cached := openS3(t, withCache(server.Options(t)))
	if got, err := storetest.Read(t, cached, kept.Digests.SHA256, kept.Digests.Size); err != nil ||
		!bytes.Equal(got, content) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
}

func withCache(o store.S3Options) store.S3Options {
	o.Cache = 128 << 20
	return o
}

// TestCache: what was read is read again without the object store, for many at once by one
// request, within its bounds, and whoever deletes it does no harm.
func TestCache(t *testing.T) {
	server := storetest.Start(t)
	o := withCache(server.Options(t))
	s := openS3(t, o)
	content := storetest.Random(10 << 20)
	kept := storetest.Kept(t, s, content)
	sum := kept.Digests.SHA256
	reads := func(s *store.S3) {
		t.Helper()
		if got, err := storetest.Read(t, s, sum, kept.Digests.Size); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes, %v", len(got), err)
		}
	}
	server.Faults.Slow.Store(100)
	before := server.Faults.Requests.Load()
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() { reads(s) })
	}
	all.Wait()
	// One for where it is, from whoever asked first or at the same time, one for it by whoever
	// was first, and one for the copy that the others wait for.
	if n := server.Faults.Requests.Load() - before; n > 22 {
		t.Errorf("%d requests for 20 who read the same", n)
	}
	server.Faults.Away.Store(true)
	reads(s)
	r, err := s.Open(t.Context(), sum, kept.Digests.Size)
	if _, isFile := r.(*os.File); err != nil || !isFile {
		t.Errorf("a copy must be a file, to leave by sendfile: %T, %v", r, err)
	} else {
		r.Close()
	}
	reads(openS3(t, o)) // after a restart
	server.Faults.Away.Store(false)
	server.Faults.Slow.Store(0)
	if err := os.RemoveAll(filepath.Join(o.Local, "cache")); err != nil {
		t.Fatal(err)
	}
	reads(openS3(t, server.Options(t)))
	reads(s)

	o = server.Options(t)
	o.Cache = 4 << 20
	bounded := openS3(t, o)
	for i := range 10 {
		one := storetest.Random(900_000 + i)
		k := storetest.Kept(t, bounded, one)
		for range 2 { // what is read once has no copy
			if _, err := storetest.Read(t, bounded, k.Digests.SHA256, k.Digests.Size); err != nil {
				t.Fatal(err)
			}
		}
	}
	total := int64(0)
	if err := filepath.WalkDir(filepath.Join(o.Local, "cache"), func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			info, _ := entry.Info()
			total += info.Size()
		}
		return err
	}); err != nil || total > 4<<20 || total < 3<<20 {
		t.Errorf("the cache has %d bytes, %v", total, err)
	}
}

// TestS3Killed is what a killed process leaves: bytes that may have no record are
// reported, and objects that nothing leads to are dropped.
func TestS3Killed(t *testing.T) {
	server := storetest.Start(t)
	o := server.Options(t)
	s := openS3(t, o)
	kept, err := s.Stage(t.Context(), bytes.NewReader(storetest.Random(100)), -1)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Keep(t.Context(), kept); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Stage(t.Context(), bytes.NewReader(storetest.Random(9<<20)), -1); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Continue(t.Context(), "7-x", 0, bytes.NewReader(storetest.Random(1000))); err != nil {
		t.Fatal(err)
	}
	again := openS3(t, o)
	found, err := again.Leftovers(t.Context())
	if err != nil || len(found) != 1 || found[0].SHA256 != kept.Digests.SHA256 {
		t.Fatalf("leftovers: %+v, %v", found, err)
	}
	if err := again.Forget(found[0]); err != nil {
		t.Fatal(err)
	}
	if found, err := again.Leftovers(t.Context()); err != nil || len(found) != 0 {
		t.Errorf("leftovers: %+v, %v", found, err)
	}
	if n := lost(t, server, server.Options(t)); n != 1 {
		t.Errorf("%d objects were lost; want the large one", n)
	}
	if staged, err := again.StageBegun(t.Context(), "7-x"); err != nil || staged.Digests.Size != 1000 {
		t.Errorf("what was begun: %v, %v", staged, err)
	}
}
