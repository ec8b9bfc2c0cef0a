package service

import (
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/store/storetest"
)

// verified begins a run and works at it until it has ended.
func (n *node) verified(t *testing.T, repair bool) record.Verification {
	t.Helper()
	if _, err := n.Verifying.Begin(t.Context(), n.admin, repair); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); ; {
		if err := n.chore(t.Context(), "verifying stored bytes"); err != nil {
			t.Fatal(err)
		}
		runs, err := n.Verifying.Runs(t.Context(), n.admin)
		if err != nil || len(runs) == 0 {
			t.Fatal(runs, err)
		}
		if runs[0].EndedAt != nil {
			return runs[0]
		}
		if time.Now().After(end) {
			t.Fatalf("it does not end: %+v", runs[0])
		}
	}
}

// open damage, by file and what it is.
func (n *node) damage(t *testing.T) (open []string) {
	t.Helper()
	all, err := n.Verifying.Damages(t.Context(), n.admin)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range all {
		name := hex.EncodeToString(d.SHA256)
		if len(d.Names) > 0 {
			name = d.Names[0].File
		}
		if d.MendedAt == nil {
			open = append(open, name+": "+d.What)
		}
	}
	slices.Sort(open)
	return open
}

// pathOf is where the jar of a version is stored.
func (n *node) pathOf(t *testing.T, dir string, r catalog.Repository, version string) string {
	t.Helper()
	found, err := n.Resolving.File(t.Context(), catalog.FileQuestion{
		Key: r.Key("maven", "example.skerry.berth", "tide-model"), Version: version, Name: "tide-model-" + version + ".jar"})
	if err != nil {
		t.Fatal(err)
	}
	sum := found.File.Digests.Hex("sha256")
	return filepath.Join(dir, "bytes", sum[:2], sum)
}

// TestVerify: every stored file that was changed, cut or lost is found, wherever it is; what
// another store or an upstream has is mended, the rest is listed with what it belongs to and
// is right again when the same bytes are published again.
func TestVerify(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	content := "x"
	up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if !strings.HasSuffix(q.URL.Path, ".jar") {
			http.NotFound(w, q)
			return
		}
		_, _ = io.WriteString(w, content)
	}))
	defer up.Close()
	content = jar(t, "from the shore")
	r := n.house(t, "releases", "")
	for _, version := range []string{"1.0", "2.0", "3.0", "4.0"} {
		if err := n.publish(t, r, version, strings.Repeat(version, 500_000)); err != nil {
			t.Fatal(err)
		}
	}
	m := n.mirror(t, "shore", up.URL+"/", nil)
	brine := catalog.FileQuestion{Key: m.Key("maven", "org.openshore", "brine"), Version: "1.0", Name: "brine-1.0.jar"}
	fetched, err := n.Resolving.File(t.Context(), brine)
	if err != nil {
		t.Fatal(err)
	}
	kept, err := fetched.Arriving.File(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	archive := n.folderStore(t, "archive")
	n.house(t, "others", "archive")
	others, err := n.Directory.Repository(n.admin, "others", "read")
	if err != nil {
		t.Fatal(err)
	}
	if err := n.publish(t, others, "4.0", strings.Repeat("4.0", 500_000)); err != nil {
		t.Fatal(err)
	}
	if v := n.verified(t, false); v.Damaged != 0 || v.Files < 6 || v.Bytes < 4_000 || len(n.damage(t)) != 0 {
		t.Errorf("before anything is damaged: %+v, %v", v, n.damage(t))
	}

	flip := func(path string) {
		t.Helper()
		raw, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		raw[len(raw)/2] ^= 1
		if err := errors.Join(os.Remove(path), os.WriteFile(path, raw, 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	flip(n.pathOf(t, n.dir, r, "1.0"))
	if err := os.Truncate(n.pathOf(t, n.dir, r, "2.0"), 100); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(n.pathOf(t, n.dir, r, "3.0")); err != nil {
		t.Fatal(err)
	}
	flip(n.pathOf(t, n.dir, r, "4.0"))
	sum := kept.Digests.Hex("sha256")
	flip(filepath.Join(n.dir, "bytes", sum[:2], sum))
	stray := n.storedOf(t, strings.Repeat("ab", 32))
	if err := errors.Join(os.MkdirAll(filepath.Dir(stray), 0o700), os.WriteFile(stray, []byte("stray"), 0o600),
		os.Chtimes(stray, time.Time{}, time.Now().Add(-48*time.Hour))); err != nil {
		t.Fatal(err)
	}
	if v := n.verified(t, false); v.Damaged != 5 || v.Mended != 0 || v.Unknown != 1 || len(n.damage(t)) != 5 {
		t.Errorf("without mending: %+v, %v", v, n.damage(t))
	}
	if v := n.verified(t, true); v.Damaged != 5 || v.Mended != 2 || v.Unknown != 1 {
		t.Errorf("with mending: %+v", v)
	}
	want := []string{"tide-model-1.0.jar: they are other bytes", "tide-model-3.0.jar: missing"}
	if got := n.damage(t); len(got) != 3 || got[0] != want[0] || got[2] != want[1] ||
		!strings.HasPrefix(got[1], "tide-model-2.0.jar: there are 100 bytes of ") {
		t.Errorf("what cannot be mended: %q", got)
	}
	if concerns, err := n.Verifying.Concerns(t.Context()); err != nil || len(concerns) != 1 ||
		!strings.HasPrefix(concerns[0].What, "3 stored files are damaged") {
		t.Errorf("%+v, %v", concerns, err)
	}
	for _, version := range []string{"1.0", "2.0", "3.0"} {
		again, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
			Repository: catalog.Repository{Name: "again-" + version[:1], Kind: catalog.House, Holds: catalog.Releases}})
		if err != nil {
			t.Fatal(err)
		}
		if version == "1.0" { // of the same size as what is there, which is not compared when it is kept
			if err := os.Remove(n.pathOf(t, n.dir, r, version)); err != nil {
				t.Fatal(err)
			}
		}
		if err := n.publish(t, again, version, strings.Repeat(version, 500_000)); err != nil {
			t.Fatal(err)
		}
	}
	if v := n.verified(t, true); v.Damaged != 0 || v.Unknown != 0 || len(n.damage(t)) != 0 {
		t.Errorf("in the end: %+v, %v", v, n.damage(t))
	}
	n.ForgetAll()
	for version, in := range map[string]catalog.Repository{"1.0": r, "2.0": r, "3.0": r, "4.0": r} {
		if got, err := n.content(t, in, version); err != nil || got != jar(t, strings.Repeat(version, 500_000)) {
			t.Errorf("%s: %d bytes, %v", version, len(got), err)
		}
	}
	_ = archive
}

// TestVerifyAway: a run waits for a store that is away, and goes on.
func TestVerifyAway(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	server := storetest.Start(t)
	n.bucketStore(t, "bucket", server)
	r := n.house(t, "releases", "bucket")
	if err := n.publish(t, r, "1.0", "x"); err != nil {
		t.Fatal(err)
	}
	server.Kill()
	if _, err := n.Verifying.Begin(t.Context(), n.admin, true); err != nil {
		t.Fatal(err)
	}
	if err := n.chore(t.Context(), "verifying stored bytes"); err != nil {
		t.Fatal(err)
	}
	runs, err := n.Verifying.Runs(t.Context(), n.admin)
	if err != nil || len(runs) != 1 || runs[0].EndedAt != nil || !strings.Contains(runs[0].Said, "does not answer") ||
		len(n.damage(t)) != 0 {
		t.Errorf("%+v, %v, %v", runs, err, n.damage(t))
	}
	if err := server.Run(); err != nil {
		t.Fatal(err)
	}
	if _, err := n.DB.ExecContext(t.Context(), `update verification set working_until = '-infinity'`); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); len(n.Store.Concerns()) > 0 && time.Now().Before(end); {
		if err := n.chore(t.Context(), "looking for stores that are away"); err != nil {
			t.Fatal(err)
		}
	}
	if v := n.verified(t, true); v.Damaged != 0 || v.Files == 0 {
		t.Errorf("%+v", v)
	}
}
