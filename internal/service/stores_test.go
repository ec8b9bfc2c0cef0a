package service

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
	"crelvo/internal/store/storetest"
)

// house makes a repository, in a store.
func (n *node) house(t *testing.T, name, in string) catalog.Repository {
	t.Helper()
	r, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{Store: in,
		Repository: catalog.Repository{Name: name, Kind: catalog.House, Holds: catalog.Releases}})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// folderStore adds a store in a folder, and gives that.
func (n *node) folderStore(t *testing.T, name string) string {
	t.Helper()
	dir := t.TempDir()
	if err := n.Store.AddStore(t.Context(), n.admin, store.NewStore{Name: name, Kind: record.FolderStore,
		Settings: record.StoreSettings{Folder: dir}}); err != nil {
		t.Fatal(err)
	}
	return dir
}

// bucketStore adds a store in a bucket.
func (n *node) bucketStore(t *testing.T, name string, s *storetest.S3) {
	t.Helper()
	if err := n.Store.AddStore(t.Context(), n.admin, store.NewStore{Name: name, Kind: record.S3Store,
		Secret: storetest.SecretKey, Settings: record.StoreSettings{Endpoint: s.Address, Bucket: storetest.Bucket,
			Region: "us-east-1", Addressing: "path", AccessKey: storetest.AccessKey}}); err != nil {
		t.Fatal(err)
	}
}

// kept counts the files that a folder keeps.
func kept(t *testing.T, dir string) (n int) {
	t.Helper()
	all, err := filepath.Glob(filepath.Join(dir, "bytes", "*", "*"))
	if err != nil {
		t.Fatal(err)
	}
	return len(all)
}

// content reads the one file of a version.
func (n *node) content(t *testing.T, r catalog.Repository, version string) (string, error) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	found, err := n.Resolving.File(ctx, catalog.FileQuestion{
		Key: r.Key("maven", "example.skerry.berth", "tide-model"), Version: version, Name: "tide-model-" + version + ".jar"})
	if err != nil {
		return "", err
	}
	f, err := n.Store.Open(ctx, found.File)
	if err != nil {
		return "", err
	}
	defer f.Close()
	raw, err := io.ReadAll(f)
	return string(raw), err
}

// moved moves repositories to a store and works at it until that is done.
func (n *node) moved(t *testing.T, to string, names ...string) {
	t.Helper()
	if err := n.Store.Move(t.Context(), n.admin, names, to); err != nil {
		t.Fatal(err)
	}
	n.workAtMoves(t)
}

func (n *node) workAtMoves(t *testing.T) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); ; {
		err := errors.Join(n.chore(t.Context(), "moving bytes to other stores"),
			n.chore(t.Context(), "copying bytes to other stores"))
		if err != nil {
			t.Fatal(err)
		}
		under, err := n.Store.Moves(t.Context(), n.admin, true)
		if err != nil {
			t.Fatal(err)
		}
		if len(under) == 0 {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("the moves do not end: %+v", under)
		}
	}
}

// TestStores: what is published goes to the store of its repository, is read from whichever
// has it, and is dropped from all of them.
func TestStores(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	first := n.house(t, "first", "")
	if err := n.publish(t, first, "1.0", "old"); err != nil {
		t.Fatal(err)
	}
	before := kept(t, n.dir)
	dir := n.folderStore(t, "archive")
	second := n.house(t, "second", "archive")
	// Other bytes, and the same ones as are in the other store.
	if err := errors.Join(n.publish(t, second, "2.0", "new"), n.publish(t, second, "1.0", "old")); err != nil {
		t.Fatal(err)
	}
	if kept(t, n.dir) != before || kept(t, dir) < 2 {
		t.Errorf("%d of %d files are in the first store, %d in the second", kept(t, n.dir), before, kept(t, dir))
	}
	for _, c := range []struct {
		in      catalog.Repository
		version string
		want    string
	}{{first, "1.0", "old"}, {second, "2.0", "new"}, {second, "1.0", "old"}} {
		if got, err := n.content(t, c.in, c.version); err != nil || got != jar(t, c.want) {
			t.Errorf("%s of %s: %d bytes, %v", c.version, c.in.Name, len(got), err)
		}
	}
	// What is gone from one store is read from another.
	if err := os.RemoveAll(filepath.Join(n.dir, "bytes")); err != nil {
		t.Fatal(err)
	}
	n.ForgetAll()
	again := newNode(t, urlOf(t, n))
	if got, err := again.content(t, first, "1.0"); err != nil || got != jar(t, "old") {
		t.Errorf("with a copy elsewhere: %d bytes, %v", len(got), err)
	}
	all, err := n.Store.Stores(t.Context(), n.admin)
	if err != nil || len(all) != 2 || !slices.Equal(all[0].Repositories, []string{"first"}) ||
		!slices.Equal(all[1].Repositories, []string{"second"}) || all[1].Files < 2 || all[1].Free == 0 {
		t.Errorf("%+v, %v", all, err)
	}
	if err := n.Store.RemoveStore(t.Context(), n.admin, "archive"); fault.Of(err).Code != "store-in-use" {
		t.Errorf("removing what has bytes: %v", err)
	}
	// Nothing of what nothing names stays anywhere.
	for _, r := range []catalog.Repository{first, second} {
		if err := n.Repositories.RemoveRepository(t.Context(), n.admin, r.Name, true); err != nil {
			t.Fatal(err)
		}
	}
	n.later(30 * 24 * time.Hour)
	for range 2 {
		var run record.Reclaiming
		if err := n.Retention.ReclaimAll(t.Context(), &run, 0); err != nil {
			t.Fatal(err)
		}
	}
	if kept(t, dir) != 0 {
		t.Errorf("%d files stay", kept(t, dir))
	}
	if err := n.Store.RemoveStore(t.Context(), n.admin, "archive"); err != nil && fault.Of(err).Code != "store-in-use" {
		t.Error(err)
	}
}

// urlOf is the address of the database of a node.
func urlOf(t *testing.T, n *node) string {
	t.Helper()
	var found string
	stores.Range(func(url, dir any) bool {
		if dir == n.dir {
			found = url.(string)
		}
		return found == ""
	})
	return found
}

// TestStoreSettings: a store is tried before it is taken, is known again, and belongs to
// one Crelvo.
func TestStoreSettings(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	server := storetest.Start(t)
	add := func(name string, kind record.StoreKind, secret string, is record.StoreSettings) string {
		err := n.Store.AddStore(t.Context(), n.admin, store.NewStore{Name: name, Kind: kind, Settings: is, Secret: secret})
		if err == nil {
			return ""
		}
		return fault.Of(err).Code
	}
	bucket := record.StoreSettings{Endpoint: server.Address, Bucket: storetest.Bucket, Region: "us-east-1",
		Addressing: "path", AccessKey: storetest.AccessKey}
	with := func(change func(*record.StoreSettings)) record.StoreSettings {
		is := bucket
		change(&is)
		return is
	}
	foreign := t.TempDir()
	if err := os.WriteFile(filepath.Join(foreign, "identity"), []byte("of-another\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name   string
		kind   record.StoreKind
		secret string
		is     record.StoreSettings
		code   string
	}{
		{"main", record.S3Store, storetest.SecretKey, bucket, "name-taken"},
		{"a b", record.S3Store, storetest.SecretKey, bucket, "bad-name"},
		{"tape", "tape", "", record.StoreSettings{}, "bad-kind"},
		{"bucket", record.S3Store, "wrong", bucket, "store-unusable"},
		{"bucket", record.S3Store, "", bucket, "no-key"},
		{"bucket", record.S3Store, storetest.SecretKey, with(func(s *record.StoreSettings) { s.Bucket = "no-such" }),
			"store-unusable"},
		{"bucket", record.S3Store, storetest.SecretKey, with(func(s *record.StoreSettings) { s.Bucket = "../x" }), "bad-bucket"},
		{"bucket", record.S3Store, storetest.SecretKey, with(func(s *record.StoreSettings) { s.Prefix = "../" }), "bad-prefix"},
		{"bucket", record.S3Store, storetest.SecretKey, with(func(s *record.StoreSettings) { s.Endpoint = "ftp://x" }),
			"bad-endpoint"},
		{"bucket", record.S3Store, storetest.SecretKey, with(func(s *record.StoreSettings) { s.Encryption = "rot13" }),
			"bad-encryption"},
		{"bucket", record.S3Store, storetest.SecretKey, with(func(s *record.StoreSettings) { s.Credentials = "mine" }),
			"bad-credentials"},
		{"bucket", record.S3Store, storetest.SecretKey, with(func(s *record.StoreSettings) { s.Folder = "/x" }), "not-a-folder"},
		{"folder", record.FolderStore, "", record.StoreSettings{Folder: "relative"}, "bad-folder"},
		{"folder", record.FolderStore, "", record.StoreSettings{Folder: "/x", Bucket: "x"}, "not-s3"},
		{"folder", record.FolderStore, "", record.StoreSettings{Folder: "/no/such/folder"}, "store-gone"},
		{"folder", record.FolderStore, "", record.StoreSettings{Folder: foreign}, "store-of-another"},
		{"bucket", record.S3Store, storetest.SecretKey, bucket, ""},
		{"again", record.S3Store, storetest.SecretKey, bucket, "store-known"},
	} {
		if code := add(c.name, c.kind, c.secret, c.is); code != c.code {
			t.Errorf("%s %+v: %q; want %q", c.name, c.is, code, c.code)
		}
	}
	if objects := server.Objects(t); len(objects) != 1 {
		t.Errorf("there are %v", objects)
	}
	if took, err := n.Store.Check(t.Context(), n.admin, "bucket"); err != nil || took <= 0 {
		t.Errorf("%v, %v", took, err)
	}
	other, name := "elsewhere/", "south"
	err := n.Store.EditStore(t.Context(), n.admin, "bucket", store.Change{Prefix: &other})
	if fault.Of(err).Code != "other-store" {
		t.Errorf("another place in its bucket: %v", err)
	}
	yes := true
	if err := n.Store.EditStore(t.Context(), n.admin, "bucket", store.Change{Name: &name, Default: &yes}); err != nil {
		t.Fatal(err)
	}
	r := n.house(t, "releases", "")
	if err := n.publish(t, r, "1.0", "new"); err != nil || kept(t, n.dir) != 0 {
		t.Errorf("%d files are in the former default store, %v", kept(t, n.dir), err)
	}
	if err := n.Store.RemoveStore(t.Context(), n.admin, "main"); err != nil {
		t.Error(err)
	}
	var view store.View
	if view, err = n.Store.StoreNamed(t.Context(), n.admin, "south"); err != nil || view.Secret != nil || !view.Default {
		t.Errorf("%+v, %v", view, err)
	}
	// A node that starts needs no folder, and a bucket that was emptied is another store.
	if got, err := newNode(t, urlOf(t, n)).content(t, r, "1.0"); err != nil || got != jar(t, "new") {
		t.Errorf("from another node: %d bytes, %v", len(got), err)
	}
	if err := server.Client(t).RemoveObject(t.Context(), storetest.Bucket, "identity",
		minio.RemoveObjectOptions{}); err != nil {
		t.Fatal(err)
	}
	folder, err := bytestore.OpenFolder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	_, err = New(t.Context(), recordtest.Open(t, urlOf(t, n)), folder, Settings{Folder: t.TempDir(), Log: n.Log})
	if fault.Of(err).Code != "other-store" {
		t.Errorf("an emptied bucket: %v", err)
	}
}

// TestMove: what a repository holds goes to another store while it is used, is there whole
// before it is dropped where it was, and comes back.
func TestMove(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	server := storetest.Start(t)
	n.bucketStore(t, "bucket", server)
	r, shares := n.house(t, "releases", ""), n.house(t, "others", "")
	large := string(storetest.Random(9 << 20))
	for version, content := range map[string]string{"1.0": "one", "2.0": "two", "3.0": large} {
		if err := n.publish(t, r, version, content); err != nil {
			t.Fatal(err)
		}
	}
	if err := n.publish(t, shares, "1.0", "one"); err != nil {
		t.Fatal(err)
	}
	all := map[string]string{"1.0": jar(t, "one"), "2.0": jar(t, "two"), "3.0": jar(t, large)}
	readsAll := func() {
		t.Helper()
		for version, want := range all {
			if got, err := n.content(t, r, version); err != nil || got != want {
				t.Errorf("%s: %d bytes, %v", version, len(got), err)
			}
		}
	}
	// The object store changes what it is sent; nothing goes there, and nothing is lost.
	server.Faults.Flip.Store(true)
	if err := n.Store.Move(t.Context(), n.admin, []string{"releases"}, "bucket"); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		if err := errors.Join(n.chore(t.Context(), "moving bytes to other stores"),
			n.chore(t.Context(), "copying bytes to other stores")); err != nil {
			t.Fatal(err)
		}
	}
	under, err := n.Store.Moves(t.Context(), n.admin, true)
	if err != nil || len(under) != 1 || under[0].LeftFiles == 0 || under[0].Trouble == "" {
		t.Errorf("%+v, %v", under, err)
	}
	readsAll()
	server.Faults.Flip.Store(false)
	if _, err := n.DB.ExecContext(t.Context(), `update to_place set not_before = '-infinity'`); err != nil {
		t.Fatal(err)
	}
	// Another node goes on with it.
	again := newNode(t, urlOf(t, n))
	again.workAtMoves(t)
	n.ForgetAll()
	readsAll()
	if got, err := n.content(t, shares, "1.0"); err != nil || got != all["1.0"] || kept(t, n.dir) == 0 ||
		kept(t, n.dir) > 2 {
		t.Errorf("what another repository shares: %d bytes, %v; %d files stay", len(got), err, kept(t, n.dir))
	}
	done, err := n.Store.Moves(t.Context(), n.admin, false)
	if err != nil || len(done) != 1 || done[0].State != record.MoveDone || done[0].Freed < 9<<20 {
		t.Errorf("%+v, %v", done, err)
	}
	n.moved(t, "bucket", "others")
	if kept(t, n.dir) != 0 {
		t.Errorf("%d files stay", kept(t, n.dir))
	}
	n.moved(t, "main", "releases", "others")
	readsAll()
	if objects := server.Objects(t); len(objects) != 1 {
		t.Errorf("%v stay", objects)
	}
	var wrong bytes.Buffer
	for _, err := range []error{n.Store.Move(t.Context(), n.admin, []string{"releases"}, "nowhere"),
		n.Store.Move(t.Context(), n.admin, []string{"nothing"}, "main"), n.Store.Move(t.Context(), n.admin, nil, "main")} {
		wrong.WriteString(fault.Of(err).Code + " ")
	}
	if wrong.String() != "no-such-store no-such-repository no-repository " {
		t.Error(wrong.String())
	}
}

// TestMoveWhilePublishing: nothing that is published during moves to and fro is lost.
func TestMoveWhilePublishing(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	n.folderStore(t, "archive")
	r := n.house(t, "releases", "")
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var published []string
	var publishing sync.WaitGroup
	publishing.Go(func() {
		for i := 0; ctx.Err() == nil && i < 60; i++ {
			version := "1." + strings.Repeat("1", 1+i%7) + "." + string(rune('0'+i%10)) + "." + strings.Repeat("2", i/10)
			version = strings.TrimSuffix(version, ".")
			// Some of it has the same bytes as another version.
			if err := n.publish(t, r, version, "content "+string(rune('a'+i%20))); err == nil {
				published = append(published, version)
			} else if fault.Of(err).Status() >= 500 {
				t.Error(err)
			}
		}
	})
	for _, to := range []string{"archive", "main", "archive", "main", "archive"} {
		n.moved(t, to, "releases")
	}
	stop()
	publishing.Wait()
	n.moved(t, "archive", "releases")
	if len(published) < 10 {
		t.Fatalf("only %d were published", len(published))
	}
	for _, version := range published {
		if _, err := n.content(t, r, version); err != nil {
			t.Errorf("%s: %v", version, err)
		}
	}
	n.wholeStore(t)
}

// TestRefusedElsewhere: a node whose publication is refused drops its bytes, but not those
// that another node is just about to record in the same store.
func TestRefusedElsewhere(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	n.folderStore(t, "archive")
	other := newNode(t, urlOf(t, n))
	old, new := n.house(t, "old", "archive"), n.house(t, "new", "")
	for what, before := range map[string]bool{"known nowhere": false, "known in another store": true} {
		t.Run(what, func(t *testing.T) {
			version := map[bool]string{false: "1.0", true: "2.0"}[before]
			content := jar(t, version)
			if before {
				if err := n.publish(t, old, version, version); err != nil {
					t.Fatal(err)
				}
			}
			staged, err := other.Store.Staging(ctx, new, strings.NewReader(content), int64(len(content)), "refused.jar")
			if err != nil {
				t.Fatal(err)
			}
			defer staged.File.Discard()
			refused := errors.New("refused")
			ended := make(chan error, 1)
			n.store.looked = func() {
				go func() {
					ended <- other.Store.Recorded(ctx, []*bytestore.Staged{staged.File}, func(*record.Tx) error { return refused })
				}()
				for waits := 0; waits == 0 && len(ended) == 0; {
					if err := n.DB.GetContext(ctx, &waits, `select count(*) from pg_stat_activity
						where datname = current_database() and wait_event_type = 'Lock'`); err != nil {
						t.Error(err)
						return
					}
				}
			}
			if err := n.publish(t, new, version, version); err != nil {
				t.Fatal(err)
			}
			if err := <-ended; !errors.Is(err, refused) {
				t.Error(err)
			}
			if got, err := n.content(t, new, version); err != nil || got != content {
				t.Errorf("%d bytes of %d, %v", len(got), len(content), err)
			}
			there, err := n.store.Has(ctx, staged.File.Digests.SHA256)
			if err != nil || !there {
				t.Errorf("in the repository's own store: %v, %v", there, err)
			}
		})
	}
}

// TestStoreAway: while an object store is away, what was read lately is served, what is
// published is refused with the reason, and all goes on by itself.
func TestStoreAway(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	server := storetest.Start(t)
	n.bucketStore(t, "bucket", server)
	r := n.house(t, "releases", "bucket")
	large := string(storetest.Random(1 << 20))
	if err := errors.Join(n.publish(t, r, "1.0", large), n.publish(t, r, "2.0", "never read")); err != nil {
		t.Fatal(err)
	}
	for range 2 { // what is read again has a copy here
		if _, err := n.content(t, r, "1.0"); err != nil {
			t.Fatal(err)
		}
	}
	server.Kill()
	if got, err := n.content(t, r, "1.0"); err != nil || got != jar(t, large) {
		t.Errorf("what was read lately: %d bytes, %v", len(got), err)
	}
	begun := time.Now()
	if _, err := n.content(t, r, "2.0"); fault.Of(err).Code != "store-away" || fault.Of(err).Status() != 503 {
		t.Errorf("what was not read: %v", err)
	}
	if err := n.publish(t, r, "3.0", "new"); fault.Of(err).Code != "store-away" {
		t.Errorf("publishing: %v", err)
	}
	if took := time.Since(begun); took > 10*time.Second {
		t.Errorf("the refusals took %v", took)
	}
	if concerns := n.Store.Concerns(); len(concerns) != 1 || !strings.Contains(concerns[0].What, "The store bucket") {
		t.Errorf("%+v", concerns)
	}
	// A node that starts meanwhile answers too, and uses the store once it is back.
	other := newNode(t, urlOf(t, n))
	if _, err := other.content(t, r, "2.0"); fault.Of(err).Code != "store-away" {
		t.Errorf("from a node that began meanwhile: %v", err)
	}
	if err := server.Run(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); len(n.Store.Concerns())+len(other.Store.Concerns()) > 0; {
		if err := errors.Join(n.chore(t.Context(), "looking for stores that are away"),
			other.chore(t.Context(), "looking for stores that are away")); err != nil {
			t.Fatal(err)
		}
		if time.Now().After(end) {
			t.Fatalf("%+v, %+v", n.Store.Concerns(), other.Store.Concerns())
		}
	}
	if err := n.publish(t, r, "3.0", "new"); err != nil {
		t.Error(err)
	}
	for _, version := range []string{"1.0", "2.0", "3.0"} {
		if _, err := other.content(t, r, version); err != nil {
			t.Errorf("%s afterwards: %v", version, err)
		}
	}
}

// TestFromStoreNeedsOne: files in a folder cannot be read from the store itself, nor can what a
// chain shows; and it is not for an admin of one repository to say where clients are sent.
func TestFromStoreNeedsOne(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	so := true
	if _, err := n.Repositories.EditRepository(t.Context(), n.admin, r.Name,
		repositories.SettingsChange{FromStore: &so}); fault.Of(err).Code != "no-object-store" {
		t.Errorf("a repository in a folder: %v", err)
	}
	for what, made := range map[string]catalog.Repository{
		"no-object-store": {Name: "foldered", Kind: catalog.House, Holds: catalog.Both, FromStore: true},
		"holds-nothing":   {Name: "chained", Kind: catalog.Chain, Holds: catalog.Both, FromStore: true}} {
		if _, err := n.Repositories.AddRepository(t.Context(), n.admin,
			repositories.NewRepository{Repository: made}); fault.Of(err).Code != what {
			t.Errorf("%s: %v", made.Name, err)
		}
	}
	if err := n.Rights.AddPrincipal(t.Context(), n.admin, rights.NewPrincipal{Name: "keeper",
		Grants: []access.Grant{{Role: access.Admin, Repositories: r.Name}}}); err != nil {
		t.Fatal(err)
	}
	keeper, err := n.Rights.CallerNamed(t.Context(), "keeper")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Repositories.EditRepository(t.Context(), keeper, r.Name,
		repositories.SettingsChange{FromStore: &so}); !fault.Is(err, fault.Denied) {
		t.Errorf("by its admin: %v", err)
	}
}
