package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
	"crelvo/internal/store/storetest"
)

// stored finds the one stored file of a size.
func (n *node) storedOf(t *testing.T, sha256 string) string {
	t.Helper()
	return filepath.Join(n.dir, "bytes", sha256[:2], sha256)
}

// TestDamagedBytes: what is stored and is not what it was is never given as good,
// is a concern, and is put right by publishing the very same bytes again.
func TestDamagedBytes(t *testing.T) {
	url := recordtest.URL(t)
	n := newNode(t, url)
	r := n.repository(t)
	if err := n.publish(t, r, "1.0", "precious"); err != nil {
		t.Fatal(err)
	}
	p, err := n.Resolving.Package(t.Context(), r.Key("maven", "example.skerry.berth", "tide-model"))
	if err != nil {
		t.Fatal(err)
	}
	var f catalog.File
	for _, of := range p.Versions[0].Files {
		if of.Extension == "jar" {
			f = of
		}
	}
	path := n.storedOf(t, f.Digests.Hex("sha256"))
	good, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	flipped := append([]byte{}, good...)
	flipped[len(flipped)/2] ^= 1
	for what, content := range map[string][]byte{"cut": good[:len(good)-3], "emptied": nil, "flipped": flipped,
		"longer": append(append([]byte{}, good...), 0)} {
		n := newNode(t, url) // which has nothing in memory
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		if opened, err := n.Store.Open(t.Context(), f); fault.Of(err).Code != "bytes-damaged" {
			t.Errorf("%s: %v, %v", what, opened, err)
		}
		concerns, err := n.Status.Concerns(t.Context(), n.admin)
		if err != nil || len(concerns) == 0 || !strings.Contains(concerns[0].What, f.Name) {
			t.Errorf("%s: %+v, %v", what, concerns, err)
		}
		if err := n.publish(t, r, "1.0", "precious"); err != nil {
			t.Fatalf("%s: published again: %v", what, err)
		}
		opened, err := n.Store.Open(t.Context(), f)
		if err != nil {
			t.Errorf("%s, mended: %v", what, err)
			continue
		}
		if got, err := io.ReadAll(opened); err != nil || string(got) != string(good) {
			t.Errorf("%s, mended: %d bytes, %v", what, len(got), err)
		}
		if err := opened.Close(); err != nil {
			t.Error(err)
		}
	}
}

// TestWordsOfStoreFaults: faults of the store are told as what they are, and not as
// the database's.
func TestWordsOfStoreFaults(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	last := "" // what cannot be written to is one concern, whatever the reason
	for _, c := range []struct {
		err     error
		code    string
		again   bool
		concern bool
	}{
		{&os.PathError{Op: "write", Path: "x", Err: syscall.EIO}, "store-failing", false, true},
		{&os.PathError{Op: "open", Path: "x", Err: syscall.ENOENT}, "store-gone", false, true},
		{&os.PathError{Op: "open", Path: "x", Err: syscall.EACCES}, "store-read-only", false, true},
		{&os.PathError{Op: "open", Path: "x", Err: syscall.EROFS}, "store-read-only", false, true},
		{&os.PathError{Op: "open", Path: "x", Err: syscall.EMFILE}, "too-many-files-open", true, true},
		{&os.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}, "disk-full", false, true},
		{bytestore.ErrReserved, "disk-full", false, false},
	} {
		before := fmt.Sprint(n.Worrying())
		n.store.stage = c.err
		err := n.publish(t, r, "1.0", "x")
		n.store.stage = nil
		f := fault.Of(err)
		if f.Code != c.code || (f.Kind == fault.Unavailable) != c.again || record.Unreachable(err) {
			t.Errorf("%v: %v (%s, %d), taken for the database: %v", c.err, err, f.Code, f.Kind, record.Unreachable(err))
		}
		if strings.Contains(strings.ToLower(f.Hint), "try again") != c.again {
			t.Errorf("%v: %q", c.err, f.Hint)
		}
		if after := fmt.Sprint(n.Worrying()); (after != before) != c.concern && c.code != last {
			t.Errorf("%v: concerns %s", c.err, after)
		}
		last = c.code
	}
}

// TestReserve: files leave room for the database.
func TestReserve(t *testing.T) {
	folder, err := bytestore.OpenFolder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	before, err := folder.Free()
	if err != nil {
		t.Fatal(err)
	}
	folder.Reserve = 100 << 20
	if after, err := folder.Free(); err != nil || before-after < 50<<20 || before-after > 150<<20 {
		t.Errorf("free %d, and with a reserve %d: %v", before, after, err)
	}
	if _, err := folder.Stage(t.Context(), strings.NewReader("x"), 1<<60); !errors.Is(err, bytestore.ErrReserved) {
		t.Errorf("more than there is room for: %v", err)
	}
}

// TestLeftBytes: bytes of uploads that were refused while the database was away do
// not stay for good.
func TestLeftBytes(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	db := n.DB
	n.store.kept = func() { n.DB = recordtest.Away(t, db) }
	if err := n.publish(t, r, "1.0", "left"); err == nil {
		t.Fatal("it was recorded without a database")
	}
	if n.stored(t) == 0 {
		t.Fatal("nothing was stored")
	}
	n.DB = db
	if err := n.chore(t.Context(), "looking after stored bytes"); err != nil || n.stored(t) != 0 {
		t.Errorf("%d files stay: %v", n.stored(t), err)
	}
	if left := storetest.Arriving(t, n.dir); left != 0 {
		t.Errorf("%d notes stay", left)
	}
	// Strays that nobody noted are found by walking the store.
	if err := n.publish(t, r, "1.1", "known"); err != nil {
		t.Fatal(err)
	}
	known := n.stored(t)
	stray := n.storedOf(t, strings.Repeat("ab", 32))
	if err := errors.Join(os.MkdirAll(filepath.Dir(stray), 0o700), os.WriteFile(stray, []byte("stray"), 0o600),
		os.Chtimes(stray, time.Time{}, time.Now().Add(-48*time.Hour))); err != nil {
		t.Fatal(err)
	}
	if err := n.Store.DropStrays(t.Context()); err != nil || n.stored(t) != known {
		t.Errorf("%d files instead of %d: %v", n.stored(t), known, err)
	}
}

// TestOtherStore: a node that finds another store than the records are about does
// not start, unless it is told that this one is to be taken.
func TestOtherStore(t *testing.T) {
	url := recordtest.URL(t)
	n := newNode(t, url)
	begin := func(dir string, adopt bool) error {
		folder, err := bytestore.OpenFolder(dir)
		if err != nil {
			t.Fatal(err)
		}
		_, err = New(t.Context(), recordtest.Open(t, url), folder,
			act.Settings{Log: slog.New(slog.DiscardHandler), AdoptStore: adopt})
		return err
	}
	if err := begin(n.dir, false); err != nil {
		t.Errorf("its own store: %v", err)
	}
	other := t.TempDir()
	if err := begin(other, false); fault.Of(err).Code != "other-store" {
		t.Errorf("another store: %v", err)
	}
	if err := begin(other, true); err != nil {
		t.Errorf("adopted: %v", err)
	}
	if err := begin(n.dir, false); fault.Of(err).Code != "other-store" {
		t.Errorf("the former store: %v", err)
	}
}

// TestHungDatabase: a database that is stopped in the middle, as by a dead network,
// makes nobody wait for long, and all goes on when it goes on.
func TestHungDatabase(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0", "x"); err != nil {
		t.Fatal(err)
	}
	goOn := recordtest.Hang(t)
	var asking sync.WaitGroup
	n.ForgetAll()
	for what, do := range map[string]func(ctx context.Context) error{
		"publishing": func(context.Context) error { return n.publish(t, r, "2.0", "y") },
		"reading": func(ctx context.Context) error {
			_, err := n.Resolving.Package(ctx, r.Key("maven", "example.skerry.berth", "tide-model"))
			return err
		},
		"searching": func(ctx context.Context) error {
			_, err := n.Search.Search(ctx, n.admin, "tide", "", 10, 0)
			return err
		},
		"status": func(ctx context.Context) error { _, err := n.Status.Concerns(ctx, n.admin); return err },
	} {
		asking.Go(func() {
			begun := time.Now()
			err := do(t.Context())
			if took := time.Since(begun); !record.Unreachable(err) || took > 10*time.Second {
				t.Errorf("%s: %v after %s", what, err, took)
			}
		})
	}
	asking.Wait()
	goOn()
	if err := n.publish(t, r, "2.0", "y"); err != nil {
		t.Errorf("afterwards: %v", err)
	}
}

// TestOlderDatabase: a database that was restored to an older state is served as it
// is. What was published since can be published again, and bytes that no record
// knows go in time; not before, so that a newer backup could still be put back.
func TestOlderDatabase(t *testing.T) {
	url := recordtest.URL(t)
	n := newNode(t, url)
	r := n.repository(t)
	for _, version := range []string{"1.0", "2.0", "3.0"} {
		if err := n.publish(t, r, version, "salt of "+version); err != nil {
			t.Fatal(err)
		}
	}
	stored := n.stored(t)
	if _, err := n.DB.ExecContext(t.Context(),
		`with lost as (delete from file f using version v where v.id = f.version_id and v.version <> '1.0'
			returning f.sha256),
		gone as (delete from stored_file where sha256 in (select sha256 from lost) and not exists (select from file f join version v
		on v.id = f.version_id where f.sha256 = stored_file.sha256 and v.version = '1.0'))
		select 1`); err != nil {
		t.Fatal(err)
	}
	if _, err := n.DB.ExecContext(t.Context(), `delete from version where version <> '1.0'`); err != nil {
		t.Fatal(err)
	}
	older := newNode(t, url) // it knows its store
	if _, err := older.Retention.VerifyRecords(t.Context(), older.admin); err != nil {
		t.Fatal(err)
	}
	if got := older.versions(t, r); len(got) != 1 || got[0] != "1.0" {
		t.Errorf("it lists %v", got)
	}
	if err := older.publish(t, r, "2.0", "salt of 2.0"); err != nil {
		t.Errorf("what was published since, again: %v", err)
	}
	if err := older.publish(t, r, "2.0", "something else"); fault.Of(err).Kind != fault.Conflict {
		t.Errorf("and as something else: %v", err)
	}
	if _, err := older.Retention.Reclaim(t.Context(), older.admin, true); err != nil || older.stored(t) != stored {
		t.Errorf("at once there are %d of %d files, %v", older.stored(t), stored, err)
	}
	older.later(store.WalkedEvery + store.StrayFor)
	if _, err := older.Retention.Reclaim(t.Context(), older.admin, true); err != nil || older.stored(t) >= stored {
		t.Errorf("later there are %d of %d files, %v", older.stored(t), stored, err)
	}
	p, err := older.Holdings.Package(t.Context(), tideKey(r))
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range p.Versions {
		for _, f := range v.Files {
			opened, err := older.Store.Open(t.Context(), f)
			if err != nil {
				t.Errorf("%s of %s: %v", f.Name, v.Version, err)
				continue
			}
			_ = opened.Close() // that it is there is enough
		}
	}
}
