package service

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
	"crelvo/internal/store/storetest"
)

func TestMain(m *testing.M) { recordtest.Main(m) }

// faulty is a store with switchable faults.
type faulty struct {
	bytestore.Store
	stage, openly, keep error
	// openly is what StageOpenly fails with, after so many bytes, in a file of dir,
	// when read is closed.
	after int64
	dir   string
	read  chan struct{}
	// kept, if set, is called once, after bytes were kept.
	kept func()
	// looked, if set, is called once, after bytes were found to be there.
	looked func()
}

func (f *faulty) Has(ctx context.Context, digest [32]byte) (bool, error) {
	has, err := f.Store.Has(ctx, digest)
	if looked := f.looked; looked != nil && has {
		f.looked = nil
		looked()
	}
	return has, err
}

func (f *faulty) Stage(ctx context.Context, r io.Reader, length int64) (*bytestore.Staged, error) {
	if f.stage != nil {
		return nil, f.stage
	}
	return f.Store.Stage(ctx, r, length)
}

func (f *faulty) StageOpenly(
	ctx context.Context, r io.Reader, length int64, w bytestore.Watcher,
) (*bytestore.Staged, error) {
	if f.openly == nil {
		return f.Store.StageOpenly(ctx, r, length, w)
	}
	if f.after == 0 {
		return nil, f.openly
	}
	// Some of it is taken before the disk is full.
	path := filepath.Join(f.dir, "part")
	part, err := io.ReadAll(io.LimitReader(r, f.after))
	if err = errors.Join(err, os.WriteFile(path, part, 0o600)); err != nil {
		return nil, err
	}
	w.Begun(func() (*os.File, error) { return os.Open(path) })
	w.Arrived(int64(len(part)))
	<-f.read
	return nil, f.openly
}

func (f *faulty) Keep(ctx context.Context, s *bytestore.Staged) error {
	if f.keep != nil {
		return f.keep
	}
	err := f.Store.Keep(ctx, s)
	if kept := f.kept; kept != nil && err == nil {
		f.kept = nil
		kept()
	}
	return err
}

// node is a service on a database, with its store.
type node struct {
	*Service
	store *faulty
	dir   string
	admin access.Caller
}

// stores are the folders of the stores that belong to databases.
var stores sync.Map

func newNode(t *testing.T, url string) *node {
	t.Helper()
	dir := t.TempDir()
	if known, ok := stores.LoadOrStore(url, dir); ok {
		dir = known.(string) // nodes on one database have one store
	}
	folder, err := bytestore.OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	n := &node{store: &faulty{Store: folder}, dir: dir}
	if n.Service, err = New(t.Context(), recordtest.Open(t, url), n.store,
		act.Settings{Log: slog.New(slog.DiscardHandler), Folder: t.TempDir(), Cache: 32 << 20}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(n.EndAll)
	if _, err := n.Rights.Bootstrap(t.Context(), "a-password-for-tests", ""); err != nil {
		t.Fatal(err)
	}
	if n.admin, err = n.Rights.CallerNamed(t.Context(), "admin"); err != nil {
		t.Fatal(err)
	}
	return n
}

// chore does what the service does in the background, by its name.
func (n *node) chore(ctx context.Context, what string) error {
	for _, c := range n.AllChores() {
		if c.What == what {
			return c.Do(ctx)
		}
	}
	panic("there is no chore " + what)
}

func (n *node) repository(t *testing.T) catalog.Repository {
	t.Helper()
	r, err := n.Repositories.AddRepository(t.Context(), n.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "releases", Kind: catalog.House,
			Holds: catalog.Releases}})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func jar(t *testing.T, content string) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create("content")
	if err == nil {
		_, err = io.WriteString(w, content)
	}
	if err = errors.Join(err, z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func (n *node) publish(t *testing.T, r catalog.Repository, version, content string) error {
	t.Helper()
	as, err := purl.Parse("pkg:maven/example.skerry.berth/tide-model@" + version)
	if err != nil {
		t.Fatal(err)
	}
	given := false
	_, err = n.Publishing.PublishByHand(t.Context(), n.admin, r, as, func() (publishing.ByHand, error) {
		if given {
			return publishing.ByHand{}, io.EOF
		}
		given = true
		return publishing.ByHand{Name: "tide.jar", Body: strings.NewReader(jar(t, content))}, nil
	})
	return err
}

// stored counts the files of the store.
func (n *node) stored(t *testing.T) (count int) {
	t.Helper()
	err := filepath.WalkDir(n.dir, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() && entry.Name() != "identity" && entry.Name() != "lock" {
			count++
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return count
}

// TestStoreFaults: a full or failing disk is told as what it is, nothing is
// recorded and nothing left behind, and what was there can still be read.
func TestStoreFaults(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0", "there already"); err != nil {
		t.Fatal(err)
	}
	before := n.stored(t)
	for name, c := range map[string]struct {
		stage, keep error
		kind        fault.Kind
		code        string
	}{
		"full while it arrives": {stage: fmt.Errorf("write: %w", syscall.ENOSPC), kind: fault.Full, code: "disk-full"},
		"full while it is kept": {keep: fmt.Errorf("fsync: %w", syscall.ENOSPC), kind: fault.Full, code: "disk-full"},
		"over the disk's quota": {stage: syscall.EDQUOT, kind: fault.Full, code: "disk-full"},
		"read-only": {stage: &fs.PathError{Op: "open", Err: syscall.EROFS}, kind: fault.Internal,
			code: "store-read-only"},
		"another failure": {keep: errors.New("the controller is on fire"), kind: fault.Internal, code: "internal"},
	} {
		n.store.stage, n.store.keep = c.stage, c.keep
		err := n.publish(t, r, "2.0", "new")
		if f := fault.Of(err); err == nil || f.Kind != c.kind || f.Code != c.code {
			t.Errorf("%s: %v (%v); want %s", name, err, f, c.code)
		}
	}
	n.store.stage, n.store.keep = nil, nil
	if got := n.stored(t); got != before {
		t.Errorf("%d files are in the store; want %d", got, before)
	}
	if left := storetest.Arriving(t, n.dir); left != 0 {
		t.Errorf("%d files were left", left)
	}
	p, err := n.Resolving.Package(t.Context(), catalog.PackageKey{RepositoryID: r.ID, Ecosystem: "maven",
		Namespace: "example.skerry.berth", Name: "tide-model"})
	if err != nil || len(p.Versions) != 1 {
		t.Fatalf("%+v, %v; want what was there before", p, err)
	}
	if err := n.publish(t, r, "2.0", "new"); err != nil {
		t.Errorf("after the disk is well again: %v", err)
	}
}

// TestRefusedBytes: bytes of a refused publication do not stay, those that
// somebody else's records name do.
func TestRefusedBytes(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	for version, content := range map[string]string{"1.0": "first", "2.0": "second"} {
		if err := n.publish(t, r, version, content); err != nil {
			t.Fatal(err)
		}
	}
	before := n.stored(t)
	if err := n.publish(t, r, "1.0", "other"); !fault.Is(err, fault.Conflict) ||
		!strings.Contains(fault.Of(err).Hint, "next free version is 1.1") {
		t.Errorf("other bytes: %v", err)
	}
	if err := n.publish(t, r, "1.0", "second"); !fault.Is(err, fault.Conflict) {
		t.Errorf("the bytes of another version: %v", err)
	}
	if got := n.stored(t); got != before {
		t.Errorf("%d files are in the store; want %d", got, before)
	}
}

// TestHandOverOpen: what is published by hand is whole in itself. It neither
// completes what a build tool is still sending nor is held up by what was cut.
func TestHandOverOpen(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	e := n.Ecosystem("maven")
	send := func(version, extension, content string, length int64) error {
		place := ecosystem.Place{Namespace: "example.skerry.berth", Name: "tide-model", Version: version,
			FileName: "tide-model-" + version + "." + extension, Extension: extension}
		_, err := n.Publishing.Receive(t.Context(), n.admin, r, e, place, strings.NewReader(content), length)
		return err
	}
	content := jar(t, "x")
	if err := send("1.0", "jar", content, int64(len(content))); err != nil {
		t.Fatal(err)
	}
	if err := n.publish(t, r, "1.0", "x"); fault.Of(err).Code != "being-published" {
		t.Errorf("by hand while a build tool sends it: %v", err)
	}
	if err := send("2.0", "tar.gz", content, int64(len(content))+1); fault.Of(err).Code != "cut-upload" {
		t.Fatalf("a cut upload: %v", err)
	}
	if err := n.publish(t, r, "2.0", "x"); err != nil {
		t.Errorf("by hand after an upload was cut: %v", err)
	}
	if err := n.publish(t, r, "2.0", "x"); err != nil {
		t.Errorf("the same again: %v", err)
	}
	p, err := n.Resolving.Package(t.Context(), catalog.PackageKey{RepositoryID: r.ID, Ecosystem: "maven",
		Namespace: "example.skerry.berth", Name: "tide-model"})
	if err != nil || len(p.Versions) != 1 || p.Versions[0].Version != "2.0" || len(p.Versions[0].Files) != 2 {
		t.Errorf("%+v, %v; want 2.0 with its jar and pom", p, err)
	}
}

// TestQuietVersions: each open version is looked at once after its client went
// quiet, again when something more came, and given up after a day.
func TestQuietVersions(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	clock := time.Now()
	n.Settings.Now = func() time.Time { return clock }
	e := n.Ecosystem("maven")
	send := func(version, extension, content string) {
		t.Helper()
		place := ecosystem.Place{Namespace: "example.skerry.berth", Name: "tide-model", Version: version,
			FileName: "tide-model-" + version + "." + extension, Extension: extension}
		if _, err := n.Publishing.Receive(t.Context(), n.admin, r, e, place, strings.NewReader(content), -1); err != nil {
			t.Fatal(err)
		}
	}
	tick := func(after time.Duration) (versions []string) {
		t.Helper()
		clock = clock.Add(after)
		if err := errors.Join(n.chore(t.Context(), "completing quiet versions"),
			n.chore(t.Context(), "giving up versions")); err != nil {
			t.Fatal(err)
		}
		p, err := n.Resolving.Package(t.Context(), catalog.PackageKey{RepositoryID: r.ID, Ecosystem: "maven",
			Namespace: "example.skerry.berth", Name: "tide-model"})
		if errors.Is(err, ecosystem.ErrNoPackage) {
			return nil
		}
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range p.Versions {
			versions = append(versions, v.Version)
		}
		return versions
	}
	pom := func(version string) string {
		return "<project><groupId>example.skerry.berth</groupId><artifactId>tide-model</artifactId><version>" + version +
			"</version></project>"
	}
	send("1.0", "jar", jar(t, "late"))
	send("2.0", "jar", jar(t, "never"))
	if got := tick(2 * time.Minute); got != nil {
		t.Errorf("without a pom: %v", got)
	}
	send("1.0", "pom", pom("1.0"))
	if got := tick(30 * time.Second); got != nil {
		t.Errorf("before it is quiet: %v", got)
	}
	if got := tick(time.Minute); len(got) != 1 || got[0] != "1.0" {
		t.Errorf("after the pom came: %v; want 1.0", got)
	}
	if got := tick(25 * time.Hour); len(got) != 1 {
		t.Errorf("a day later: %v", got)
	}
	open, err := n.DB.OpenOf(t.Context(), catalog.PackageKey{RepositoryID: r.ID, Ecosystem: "maven",
		Namespace: "example.skerry.berth", Name: "tide-model"})
	if err != nil || len(open) != 0 {
		t.Errorf("still open: %+v, %v; want 2.0 given up", open, err)
	}
}

// TestMissingBytes: a file that is gone from the store is told as such.
func TestMissingBytes(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	for _, size := range []int64{10, store.SmallSize + 1} {
		_, err := n.Store.Open(t.Context(), catalog.File{Name: "gone.jar", Digests: catalog.Digests{Size: size}})
		if f := fault.Of(err); f.Code != "bytes-missing" || !strings.Contains(f.Message, "gone.jar") {
			t.Errorf("%d bytes: %v", size, err)
		}
	}
}

// TestTwoNodes: what one node changes, another on the same database sees.
func TestTwoNodes(t *testing.T) {
	url := recordtest.URL(t)
	a, b := newNode(t, url), newNode(t, url)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); b.Run(ctx) }()
	defer func() { stop(); <-ended }()
	changes := b.Watch(ctx)
	r := a.repository(t)
	await := func(what string, holds func() bool) {
		t.Helper()
		deadline := time.Now().Add(20 * time.Second)
		for !holds() {
			if time.Now().After(deadline) {
				t.Fatalf("the other node does not see %s", what)
			}
			time.Sleep(10 * time.Millisecond) // between two looks
		}
	}
	await("the repository", func() bool {
		_, err := b.Directory.Repository(b.admin, "releases", access.Read)
		return err == nil
	})
	key := catalog.PackageKey{RepositoryID: r.ID, Ecosystem: "maven", Namespace: "example.skerry.berth",
		Name: "tide-model"}
	versions := func() int {
		p, err := b.Resolving.Package(ctx, key)
		if errors.Is(err, ecosystem.ErrNoPackage) {
			return 0
		}
		if err != nil {
			t.Fatal(err)
		}
		return len(p.Versions)
	}
	for want := 1; want <= 3; want++ {
		if err := a.publish(t, r, fmt.Sprint(want), "x"); err != nil {
			t.Fatal(err)
		}
		await("the new version", func() bool { return versions() == want })
	}
	secret, _, err := a.Rights.AddToken(ctx, a.admin, rights.NewToken{Name: "test"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Rights.ByToken(ctx, secret, rights.Origin{}); err != nil {
		t.Fatal(err)
	}
	if err := a.Rights.RevokeToken(ctx, a.admin, "", "test"); err != nil {
		t.Fatal(err)
	}
	await("that the token is revoked", func() bool {
		_, err := b.Rights.ByToken(ctx, secret, rights.Origin{})
		return fault.Of(err).Code == "token-revoked"
	})
	kinds := map[record.ChangeKind]bool{}
	for len(kinds) < 3 {
		select {
		case c := <-changes:
			kinds[c.Kind] = true
		case <-time.After(20 * time.Second):
			t.Fatalf("the watcher was told of %v only", kinds)
		}
	}
}

func TestPasswords(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	if _, err := n.Rights.BySecret(ctx, "admin", "a-password-for-tests", rights.Origin{}); err != nil {
		t.Error(err)
	}
	// Another password from the environment replaces it, and is remembered
	// nowhere.
	if _, err := n.Rights.Bootstrap(ctx, "another-password", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Rights.BySecret(ctx, "admin", "a-password-for-tests", rights.Origin{}); !fault.Is(err, fault.Unknown) {
		t.Errorf("the old password: %v", err)
	}
	for _, weak := range [][2]string{{"short", ""}, {"", "short"}} {
		if _, err := n.Rights.Bootstrap(ctx, weak[0], weak[1]); !fault.Is(err, fault.Invalid) {
			t.Errorf("%v: %v", weak, err)
		}
	}
	if first, err := n.Rights.Bootstrap(ctx, "", ""); err != nil || first.Password != "" {
		t.Errorf("a later start shows a password: %+v, %v", first, err)
	}
}

// TestDownloadsAreCounted, also after the database could not be asked.
func TestDownloadsAreCounted(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0", "x"); err != nil {
		t.Fatal(err)
	}
	p, err := n.Resolving.Package(t.Context(), catalog.PackageKey{RepositoryID: r.ID, Ecosystem: "maven",
		Namespace: "example.skerry.berth", Name: "tide-model"})
	if err != nil {
		t.Fatal(err)
	}
	f := p.Versions[0].Files[0]
	for range 3 {
		n.Resolving.Downloaded(n.admin, f, false)
		n.Resolving.Downloaded(access.Caller{}, f, false)
	}
	canceled, cancel := context.WithCancel(t.Context())
	cancel()
	if err := n.Counting.Flush(canceled); err == nil {
		t.Error("counting without a database went well")
	}
	n.Resolving.Downloaded(n.admin, f, false)
	if err := n.Counting.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	uses, err := n.DB.Uses(t.Context(), []int64{p.Versions[0].ID})
	if err != nil || uses[f.VersionID].Downloads != 7 || uses[f.VersionID].Users != 1 || uses[f.VersionID].UsedAt == nil {
		t.Errorf("%+v, %v; want 7 downloads by one user", uses, err)
	}
}

// TestTidy: what a killed process left in the store is dropped unless a record
// names it.
func TestTidy(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0", "recorded"); err != nil {
		t.Fatal(err)
	}
	before := n.stored(t)
	killed, err := bytestore.OpenFolder(n.dir)
	if err != nil {
		t.Fatal(err)
	}
	staged, err := killed.Stage(t.Context(), strings.NewReader("never recorded"), -1)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(killed.Keep(t.Context(), staged), killed.Close()); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(n.dir+"/staging/arriving.X", []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := n.Store.Tidy(t.Context(), true); err != nil {
		t.Fatal(err)
	}
	if got := n.stored(t); got != before {
		t.Errorf("%d files are in the store; want %d", got, before)
	}
}
