package e2e

import (
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/store/storetest"
	"crelvo/test/house"
)

// held waits until so many files were acknowledged, and gives them.
func (w *work) held(t *testing.T, least int) map[string]string {
	t.Helper()
	var all map[string]string
	eventually(t, 60*time.Second, "enough is published", func() bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		all = maps.Clone(w.files)
		return len(all) >= least
	})
	return all
}

// has tells which of the files a house has, and fails for one that is not as it was.
func has(t *testing.T, h *house.House, files map[string]string) (there, missing int) {
	t.Helper()
	for path, content := range files {
		a, err := h.Ask(t.Context(), "GET", path, house.Token, nil)
		switch {
		case err != nil:
			t.Fatal(err)
		case a.Status == 404:
			missing++
		case a.Status != 200 || string(a.Body) != content:
			t.Errorf("%s: %d %s, %d bytes of %d", path, a.Status, a.Reason, len(a.Body), len(content))
		default:
			there++
		}
	}
	return there, missing
}

// TestBackup: backups are made while much is published, the second one of what is new alone.
// The machine is lost; what was acknowledged before a backup comes back from it, on an empty
// machine, into another kind of store, and as it was before (R11).
func TestBackup(t *testing.T) {
	t.Parallel()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	target, pass := filepath.Join(dir, "target"), filepath.Join(dir, "passphrase")
	if err := os.WriteFile(pass, []byte("seven herons on the breakwater\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	start := func(data string) (*house.House, error) {
		return house.Start(filepath.Join(dir, data), "--backup-passphrase-file", pass, "--backup-keep", "2")
	}
	h, err := start("one")
	if err != nil {
		t.Fatal(err)
	}
	if err := h.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	run := func(code int, at *house.House, args ...string) string {
		t.Helper()
		if at != nil {
			args = append(args, "--server", at.Address)
		}
		out, errs, got := command(t, append(storetest.Environment(), "HOME="+dir, "CRELVO_TOKEN="+house.Token), "",
			args...)
		if got != code {
			t.Errorf("crelvo %s ended with %d, not %d: %s%s", strings.Join(args, " "), got, code, out, errs)
		}
		return out + errs
	}
	w := &work{files: map[string]string{}}
	publishing, stop := context.WithCancel(t.Context())
	var busy sync.WaitGroup
	for i := range 3 {
		busy.Go(func() { w.publish(publishing, t, h, "releases", i) })
	}
	early := w.held(t, 20)
	says(t, run(0, h, "backup", target, "--wait"), "state      done")
	afterFirst := w.held(t, 0)
	late := w.held(t, len(afterFirst)+20)
	run(0, h, "reclaim")
	second := run(0, h, "backup", target, "--wait")
	says(t, second, "state      done", "of it new")
	stop()
	busy.Wait()
	if wrong := w.takeWrong(); len(wrong) > 0 {
		t.Errorf("while backups were made: %q", wrong)
	}
	listed := strings.Split(strings.TrimSpace(run(0, nil, "backup", "list", target)), "\n")
	if len(listed) != 3 || !strings.Contains(listed[1], "yes") {
		t.Fatalf("%q", listed)
	}
	first, _, _ := strings.Cut(listed[1], " ")
	says(t, run(0, nil, "backup", "verify", target), "2 backups")
	says(t, run(1, nil, "backup", target, "--wait"), "belongs to another Crelvo") // asked of the shared one

	if err := h.Kill(); err != nil {
		t.Fatal(err)
	}
	// Moved, not removed: its database may still be writing there while it ends.
	if err := os.Rename(filepath.Join(dir, "one"), filepath.Join(dir, "lost")); err != nil {
		t.Fatal(err)
	}
	restore := func(code int, data string, more ...string) string {
		t.Helper()
		return run(code, nil, append([]string{"restore", target, "--data", filepath.Join(dir, data), "--passphrase-file",
			pass}, more...)...)
	}
	serve := func(data string, files map[string]string) *house.House {
		t.Helper()
		h, err := start(data)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			if err := h.Stop(); err != nil {
				t.Error(err)
			}
		})
		if _, missing := has(t, h, files); missing > 0 {
			t.Errorf("%d of %d files are not in %s", missing, len(files), data)
		}
		says(t, run(0, h, "verify", "--wait"), "damaged  0")
		says(t, run(0, h, "events", "verify"), "as they were written")
		again := &work{files: map[string]string{}}
		publishing, stop := context.WithCancel(t.Context())
		var busy sync.WaitGroup
		busy.Go(func() { again.publish(publishing, t, h, "releases", 9) })
		again.held(t, 3)
		stop()
		busy.Wait()
		if wrong := again.takeWrong(); len(wrong) > 0 {
			t.Errorf("%s: %q", data, wrong)
		}
		return h
	}

	objects := storetest.Start(t)
	setCredentials(t)
	restore(0, "two", "--store", objects.Setting())
	serve("two", late)
	if len(objects.Objects(t)) < len(late) {
		t.Errorf("the bucket has %d objects", len(objects.Objects(t)))
	}
	says(t, restore(1, "two"), "another Crelvo") // which runs there

	restore(0, "three", "--backup", first)
	three := serve("three", early)
	since := maps.Clone(late)
	maps.DeleteFunc(since, func(path, _ string) bool { _, was := afterFirst[path]; return was })
	if there, _ := has(t, three, since); there > 0 {
		t.Errorf("%d files are there that came after the backup", there)
	}
	// The house that came back goes on with its backups, and the oldest goes.
	says(t, run(0, three, "backup", target, "--wait"), "state      done")
	if listed := run(0, nil, "backup", "list", target); strings.Contains(listed, first) ||
		strings.Count(listed, "backup-") != 2 {
		t.Errorf("%s", listed)
	}
	says(t, run(0, nil, "backup", "verify", target), "2 backups")

	// What is damaged is found, and whatever of it a restore would read is not taken for good.
	// A file is copied again once it was dropped.
	files, err := filepath.Glob(filepath.Join(target, "bytes", "*", "*"))
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	damage := func(files []string) {
		t.Helper()
		for _, path := range files {
			raw, err := os.ReadFile(path)
			if err == nil {
				raw[len(raw)/2] ^= 1
				err = os.WriteFile(path, raw, 0o600)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	one := storedPath(t, target, early)
	damage([]string{one})
	says(t, run(1, nil, "backup", "verify", target), "other bytes", "1 files are not")
	says(t, run(0, nil, "backup", "verify", target, "--quick"), "2 backups")
	says(t, restore(1, "four"), "sha256 "+filepath.Base(one))
	says(t, run(1, nil, "backup", "verify", target, "--repair"), "1 files were not")
	says(t, run(0, three, "backup", target, "--wait"), "of it new  1 files")
	says(t, run(0, nil, "backup", "verify", target), "2 backups")
	restore(0, "four") // goes on where it ended
	says(t, restore(1, "four"), "something in it already")
	if files, err = filepath.Glob(filepath.Join(target, "bytes", "*", "*")); err != nil {
		t.Fatal(err)
	}
	damage(files)
	says(t, restore(1, "five"), "not what was")
	says(t, run(1, nil, "restore", target, "--data", filepath.Join(dir, "five"), "--passphrase-file", pass, "--backup",
		"backup-of-nothing"), "no such backup")
}

// storedPath is where a store in a folder has one of some files.
func storedPath(t *testing.T, dir string, files map[string]string) string {
	t.Helper()
	for _, content := range files {
		sum := fmt.Sprintf("%x", sha256.Sum256([]byte(content)))
		return filepath.Join(dir, "bytes", sum[:2], sum)
	}
	t.Fatal("there are no files")
	return ""
}
