package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// tiles makes a folder of so many files of so many bytes each, in folders, with a link and a folder that is empty.
func tiles(t *testing.T, files, size int, seed byte) string {
	t.Helper()
	dir := t.TempDir()
	random := rand.NewChaCha8([32]byte{seed})
	for i := range files {
		content := make([]byte, size)
		random.Read(content)
		writeTile(t, dir, fmt.Sprintf("zone-%d/tile-%04d.bin", i%5, i), content)
	}
	if err := os.Symlink("zone-0/tile-0000.bin", filepath.Join(dir, "first")); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(dir, "zone-9", "empty"), 0o750); err != nil {
		t.Fatal(err)
	}
	return dir
}

func writeTile(t *testing.T, dir, name string, content []byte) {
	t.Helper()
	at := filepath.Join(dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, content, 0o640); err != nil {
		t.Fatal(err)
	}
}

// tree is what is in a folder: of each path its mode, time and content, or where it leads.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		switch {
		case info.IsDir():
			all[name] = "folder"
		case info.Mode()&fs.ModeSymlink != 0:
			all[name], err = os.Readlink(path)
		default:
			raw, readErr := os.ReadFile(path)
			all[name], err = fmt.Sprint(info.Mode(), info.ModTime().UTC(), " ", sha1Hex(string(raw))), readErr
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func sameTree(t *testing.T, got, want string) {
	t.Helper()
	a, b := tree(t, got), tree(t, want)
	for name, is := range b {
		if a[name] != is {
			t.Errorf("%s is %q, and not %q", name, a[name], is)
		}
	}
	for name := range a {
		if b[name] == "" {
			t.Errorf("%s is there besides", name)
		}
	}
}

// setAt runs crelvo at a server, which must end well, and gives what it says as JSON.
func setAt(t *testing.T, server string, args ...string) (out struct {
	Sent, Fetched, Bytes    int64
	Files                   int
	Same                    bool
	Missing, Changed, Extra []string
}) {
	t.Helper()
	text, errs, code := crelvoAsAdmin(t, append(args, "--server", server, "--output", "json")...)
	if code != 0 {
		t.Fatalf("%v ended with %d: %s%s", args, code, text, errs)
	}
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		t.Fatalf("%v: %v\n%s", args, err, text)
	}
	return out
}

// TestFileSets: a folder becomes a version, of which only what is new is sent; it is read by address, becomes a folder
// again, of which only what is lacking is fetched, and two versions are compared.
func TestFileSets(t *testing.T) {
	t.Parallel()
	to := repository(t, "both")
	of := func(version string) string { return "pkg:generic/chart-tiles@" + version }
	dir := tiles(t, 60, 200_000, 1)
	writeTile(t, dir, "zone-0/notes.tmp", []byte("not for others"))
	writeTile(t, dir, "scratch/x", []byte("neither"))
	writeTile(t, dir, client.IgnoreFile, []byte("# what nobody wants\n*.tmp\n"))
	publish := []string{"publish", dir, "--to", to, "--exclude", "scratch/"}
	first := setAt(t, shared.Address, append(publish, "--as", of("1.0.0"), "--label", "stable")...)
	if first.Files != 60 || first.Bytes != 60*200_000 || first.Sent != first.Bytes {
		t.Errorf("%+v", first)
	}
	if again := setAt(t, shared.Address, append(publish, "--as", of("1.0.0"))...); !again.Same || again.Sent != 0 {
		t.Errorf("the same once more: %+v", again)
	}
	// Something in front of one file, another name for one, and one less.
	moved, err := os.ReadFile(filepath.Join(dir, "zone-1/tile-0001.bin"))
	if err != nil {
		t.Fatal(err)
	}
	writeTile(t, dir, "zone-1/tile-0001.bin", append([]byte("in front"), moved...))
	for _, err := range []error{os.Rename(filepath.Join(dir, "zone-2/tile-0002.bin"), filepath.Join(dir, "zone-2/other.bin")),
		os.Remove(filepath.Join(dir, "zone-3/tile-0003.bin"))} {
		if err != nil {
			t.Fatal(err)
		}
	}
	second := setAt(t, shared.Address, append(publish, "--as", of("1.1.0"), "--description", "Tiles of the islands")...)
	if second.Files != 59 || second.Sent == 0 || second.Sent > 200_008 {
		t.Errorf("%+v", second)
	}
	_, errs, code := crelvoAsAdmin(t, append(publish, "--as", of("1.0.0"))...)
	if says(t, errs, "is in "+to+" already, with other content"); code != 1 {
		t.Errorf("a release with other content ends with %d", code)
	}
	text, _, _ := crelvoAsAdmin(t, "compare", of("1.0.0"), "1.1.0", "--in", to)
	says(t, text, "59 as they were", "1 added, 1 changed, 2 removed", "zone-2/other.bin")
	text, _, _ = crelvoAsAdmin(t, "show", of("1.1.0"), "--in", to)
	says(t, text, "59 files, 11.3 MiB", "manifest.jsonl")
	text, _, _ = crelvoAsAdmin(t, "show", of("1.1.0"), "--in", to, "--files")
	says(t, text, "leads to zone-0/tile-0000.bin", "zone-9/empty/")
	if strings.Contains(text, "notes.tmp") || strings.Contains(text, "scratch") {
		t.Errorf("what is left out is there:\n%s", text)
	}
	at := "/at/" + to + "/generic/chart-tiles/1.1.0/"
	if a := ask(t, http.MethodGet, at+"zone-1/tile-0001.bin", ""); string(a.Body) != "in front"+string(moved) {
		t.Errorf("%d bytes by its address", len(a.Body))
	}
	if a := ask(t, http.MethodGet, at+"zone-1/tile-0001.bin", "", "Range", "bytes=150000-150009"); a.Status != 206 ||
		string(a.Body) != string(moved[150_000-8:150_010-8]) {
		t.Errorf("a range: %d %q", a.Status, a.Body)
	}

	for query, want := range map[string]bool{"has:other.bin": true, "has:OTHER*": true, "has:zone-2/other*": true,
		"has:zone-2/tile-0002.bin version:1.1.0": false, "has:ther.bin": false, "has:*.exe": false} {
		eventually(t, 20*time.Second, query+" to be found, or not", func() bool {
			return strings.Contains(found(t, "repo:"+to+" "+query), "chart-tiles") == want
		})
	}

	// Into an empty folder, and from there to the next version and back.
	into := filepath.Join(t.TempDir(), "tiles")
	fetched := setAt(t, shared.Address, "fetch", of("1.1.0"), "--in", to, "--into", into)
	if fetched.Fetched != second.Bytes {
		t.Errorf("%+v", fetched)
	}
	for _, left := range []string{"scratch", client.IgnoreFile, "zone-0/notes.tmp"} {
		if err := os.RemoveAll(filepath.Join(dir, left)); err != nil {
			t.Fatal(err)
		}
	}
	sameTree(t, into, dir)
	back := setAt(t, shared.Address, "fetch", of("1.0.0"), "--in", to, "--into", into, "--delete", "--yes")
	if back.Fetched == 0 || back.Fetched > 2*200_008 || len(back.Extra) != 1 {
		t.Errorf("%+v", back)
	}
	if n := len(tree(t, into)); n != 60+1+7 {
		t.Errorf("there are %d files, links and folders", n)
	}
	// A part of it, which another folder has.
	part := filepath.Join(t.TempDir(), "part")
	only := setAt(t, shared.Address, "fetch", of("1.0.0"), "--in", to, "--into", part, "--only", "zone-4/*", "--like",
		into)
	if only.Files != 12 || only.Fetched != 0 {
		t.Errorf("%+v", only)
	}
	if _, errs, code := crelvoAsAdmin(t, "fetch", of("1.0.0"), "--in", to, "--into", into, "--check"); code != 0 {
		t.Errorf("%d: %s", code, errs)
	}
	writeTile(t, into, "zone-4/tile-0004.bin", []byte("changed here"))
	writeTile(t, into, "besides", []byte("x"))
	text, errs, code = crelvoAsAdmin(t, "fetch", of("1.0.0"), "--in", to, "--into", into, "--check")
	says(t, text, "changed    zone-4/tile-0004.bin", "not in it  besides")
	if says(t, errs, "differs from pkg:generic/chart-tiles@1.0.0 in 2 files"); code != 1 {
		t.Errorf("a folder that differs ends with %d", code)
	}
	// Names that are not possible everywhere are told before anything is sent.
	writeTile(t, dir, "aux.txt", []byte("x"))
	_, errs, code = crelvoAsAdmin(t, "publish", dir, "--to", to, "--as", of("1.2.0"))
	if says(t, errs, "aux.txt", "--any-names"); code != 1 {
		t.Errorf("%d", code)
	}
	if err := os.Remove(filepath.Join(dir, "first")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/passwd", filepath.Join(dir, "first")); err != nil {
		t.Fatal(err)
	}
	_, errs, _ = crelvoAsAdmin(t, "publish", dir, "--to", to, "--as", of("1.2.0"), "--any-names")
	says(t, errs, `the link "first" leads to "/etc/passwd", which is not relative`)
}

// TestFileSetLifecycle: snapshots have uploads of their own, are promoted without being copied, are read as of a
// moment, and go when they are removed, but for what others share with them.
func TestFileSetLifecycle(t *testing.T) {
	t.Parallel()
	admin := desk(house.Token)
	name, snapshots, releases := track(t, admin)
	dir := tiles(t, 10, 100_000, 2)
	snapshot := "pkg:generic/turnstile-firmware@2.0.0-dev"
	setAt(t, shared.Address, "publish", dir, "--to", snapshots, "--as", snapshot)
	writeTile(t, dir, "version.txt", []byte("second"))
	if more := setAt(t, shared.Address, "publish", dir, "--to", snapshots, "--as", snapshot); more.Same || more.Sent != 6 {
		t.Errorf("%+v", more)
	}
	p := done(admin.Package(t.Context(), snapshot, snapshots))(t)
	if n := p.Versions[0].UploadCount; n != 2 {
		t.Errorf("%d uploads", n)
	}
	if a := ask(t, http.MethodGet, "/at/"+snapshots+"/generic/turnstile-firmware/2.0.0-dev/version.txt",
		""); string(a.Body) != "second" {
		t.Errorf("the newest upload has %d %q", a.Status, a.Body)
	}
	older := p.Versions[0].Uploads[1]
	if a := ask(t, http.MethodGet, "/at/"+snapshots+"/generic/turnstile-firmware/"+older.Name+"/version.txt",
		""); a.Status != 404 {
		t.Errorf("the upload before has %d %q", a.Status, a.Body)
	}
	if a := ask(t, http.MethodGet, "/at/"+asOf(snapshots, older.PublishedAt.Add(time.Millisecond))+
		"/generic/turnstile-firmware/2.0.0-dev/zone-0/tile-0000.bin", ""); a.Status != 200 || len(a.Body) != 100_000 {
		t.Errorf("as of then: %d, %d bytes", a.Status, len(a.Body))
	}
	if out, errs, code := crelvoAsAdmin(t, "promote", snapshot, "--along", name, "--to", releases); code != 0 {
		t.Fatalf("%d: %s%s", code, out, errs)
	}
	released := "pkg:generic/turnstile-firmware@2.0.0"
	eventually(t, 20*time.Second, "the release", func() bool {
		_, err := admin.Package(t.Context(), released, releases)
		return err == nil
	})
	into := filepath.Join(t.TempDir(), "firmware")
	setAt(t, shared.Address, "fetch", released, "--in", releases, "--into", into)
	sameTree(t, into, dir)
	// What is promoted shares all of its bytes.
	if out, errs, code := crelvoAsAdmin(t, "remove", snapshot, "--in", snapshots, "--yes"); code != 0 {
		t.Fatalf("%d: %s%s", code, out, errs)
	}
	if more := setAt(t, shared.Address, "publish", dir, "--to", releases, "--as",
		"pkg:generic/turnstile-firmware@2.0.1"); more.Sent != 0 {
		t.Errorf("%+v", more)
	}
	if a := ask(t, http.MethodGet, "/at/"+releases+"/generic/turnstile-firmware/2.0.0/version.txt", ""); string(a.Body) != "second" {
		t.Errorf("after the snapshot was removed: %d %q", a.Status, a.Body)
	}
}

// TestFileSetByCurl: curl alone publishes and reads.
func TestFileSetByCurl(t *testing.T) {
	t.Parallel()
	to, dir := repository(t, "releases"), tiles(t, 5, 70_000, 3)
	w := newWorkshop(t)
	at := address(to, "generic") + "report/"
	curl := func(args ...string) string {
		t.Helper()
		return w.run("", "curl", append([]string{"--silent", "--show-error", "--fail-with-body", "--user",
			"ci:" + house.Token}, args...)...)
	}
	w.run("", "tar", "-C", dir, "-czf", "tiles.tar.gz", ".")
	says(t, curl("--upload-file", "tiles.tar.gz", at+"1.0.0?unpack=tar.gz"),
		"pkg:generic/report@1.0.0 is published in "+to+": 5 files")
	w.run("", "mkdir", "out")
	w.run("", "sh", "-c", "curl --silent --fail --user ci:"+house.Token+" '"+at+"1.0.0/?as=tar.gz' | tar -xz -C out --strip-components=1")
	for name, is := range tree(t, dir) {
		if got := tree(t, filepath.Join(w.dir, "out"))[name]; is != "folder" &&
			strings.Fields(is)[len(strings.Fields(is))-1] !=
				strings.Fields(got + " -")[len(strings.Fields(got+" -"))-2] {
			t.Errorf("%s is %q, and not %q", name, got, is)
		}
	}
	says(t, curl("--upload-file", filepath.Join(dir, "zone-1/tile-0001.bin"), at+"1.0.1/one.bin"), "arrived, 70000 bytes")
	says(t, curl("--upload-file", filepath.Join(dir, "zone-2/tile-0002.bin"), at+"1.0.1/sub/two.bin?mode=755"), "POST to")
	w.fails([]string{"404"}, "", "curl", "--silent", "--show-error", "--fail", "--user", "ci:"+house.Token, at+"1.0.1/one.bin")
	says(t, curl("--request", "POST", at+"1.0.1"), "is published in "+to+": 2 files")
	curl("--output", "two.bin", at+"1.0.1/sub/two.bin")
	w.run("", "cmp", "two.bin", filepath.Join(dir, "zone-2/tile-0002.bin"))
	says(t, curl(at+"1.0.1/?as=json"), `"name":"sub","kind":"folder","size":70000,"files":1`)
}

// TestFileSetsTravel: a mirror of another Crelvo has its sets, a transfer and a bundle bring them, and a relay sends
// them on.
func TestFileSetsTravel(t *testing.T) {
	t.Parallel()
	far, _ := another(t)
	dir := tiles(t, 20, 100_000, 4)
	of := func(version string) string { return "pkg:generic/chart-tiles@" + version }
	setAt(t, far.Address, "publish", dir, "--to", "yard", "--as", of("1.0.0"), "--label", "stable")
	writeTile(t, dir, "new.bin", bytes.Repeat([]byte("new"), 1000))
	setAt(t, far.Address, "publish", dir, "--to", "yard", "--as", of("1.1.0"))
	check := func(where string) {
		t.Helper()
		into := filepath.Join(t.TempDir(), "tiles")
		setAt(t, shared.Address, "fetch", of("1.1.0"), "--in", where, "--into", into)
		sameTree(t, into, dir)
	}

	mirror := fmt.Sprintf("far-tiles-%d", made.Add(1))
	if err := shared.AddMirrorOf(t.Context(), "generic", mirror, far.Address+"/at/yard/generic/",
		map[string]any{"secret": house.Token}); err != nil {
		t.Fatal(err)
	}
	if a := ask(t, http.MethodGet, "/at/"+mirror+"/generic/chart-tiles/1.1.0/new.bin",
		""); string(a.Body) != strings.Repeat("new", 1000) {
		t.Errorf("through a mirror: %d %.200s", a.Status, a.Body)
	}
	check(mirror)

	brought := repository(t, "releases")
	if _, became := moved(t, api.NewTransferRun{From: mirror, To: brought}); strings.Count(became, "came") != 2 {
		t.Errorf("the transfer brought\n%s", became)
	}
	check(brought)
	// What came so is there for what is published next.
	writeTile(t, dir, "newer.bin", []byte("newer"))
	if more := setAt(t, shared.Address, "publish", dir, "--to", brought, "--as", of("1.2.0")); more.Sent != 5 {
		t.Errorf("after a transfer %+v", more)
	}
	if err := os.Remove(filepath.Join(dir, "newer.bin")); err != nil {
		t.Fatal(err)
	}

	sent := repository(t, "releases")
	n := made.Add(1)
	admin := desk(house.Token)
	if err := admin.SetTarget(t.Context(), api.NewTarget{Name: fmt.Sprintf("tiles-%d", n), Ecosystem: "generic",
		URL: shared.Address + "/at/" + sent + "/generic/", Secret: house.Token}); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := crelvoAsAdmin(t, "relay", "add", fmt.Sprintf("tiles-%d", n), "--from", brought, "--to",
		fmt.Sprintf("tiles-%d", n)); code != 0 {
		t.Fatal(errs)
	}
	eventually(t, 30*time.Second, "the relay to send", func() bool {
		_, err := admin.Package(t.Context(), of("1.2.0"), sent)
		_, before := admin.Package(t.Context(), of("1.1.0"), sent)
		return err == nil && before == nil
	})
	check(sent)

	file, loaded := filepath.Join(t.TempDir(), "tiles.tar"), repository(t, "releases")
	key := fmt.Sprintf("tiles-%d", n)
	for _, args := range [][]string{{"key", "add", key, "--sign"},
		{"bundle", "create", "--from", sent, "--sign-with", key, "--to", file}, {"bundle", "load", file, "--to", loaded}} {
		if out, errs, code := crelvoAsAdmin(t, args...); code != 0 {
			t.Fatalf("%v: %s%s", args, out, errs)
		}
	}
	check(loaded)
}

// TestFileSetKilled: the client and the service are killed again and again while a set is published; what arrived
// stays, the version is there when it is whole, and never before.
func TestFileSetKilled(t *testing.T) {
	t.Parallel()
	h := ownHouse(t)
	if err := h.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	files, size, step := 120, 1_500_000, 60*time.Millisecond
	if os.Getenv("CRELVO_SOAK") != "" {
		files, size, step = 320, 64<<20, 6*time.Second // 20 GiB
	}
	dir := tiles(t, files, size, 5)
	args := []string{"publish", dir, "--to", "releases", "--as", "pkg:generic/chart-tiles@1.0.0"}
	there := func() bool {
		a, err := h.Ask(t.Context(), http.MethodGet, "/at/releases/generic/chart-tiles/1.0.0/zone-0/tile-0000.bin",
			house.Token, nil)
		return err == nil && a.Status == 200
	}
	for round := range 6 {
		ctx, cancel := context.WithTimeout(t.Context(), time.Duration(round+2)*step)
		cmd := exec.CommandContext(ctx, house.Program(), append(args, "--server", h.Address)...)
		cmd.Env = []string{"HOME=" + t.TempDir(), "CRELVO_TOKEN=" + house.Token}
		err := cmd.Run()
		cancel()
		if err == nil {
			break // this machine is quick
		}
		if there() {
			t.Fatal("a set that did not arrive whole is there")
		}
		if round%2 == 1 {
			if err := h.Kill(); err != nil {
				t.Fatal(err)
			}
			if err := h.Restart(); err != nil {
				t.Fatal(err)
			}
		}
	}
	sent := setAt(t, h.Address, args...)
	if !there() {
		t.Fatal("it is not there")
	}
	t.Logf("the last one sent %d of %d bytes", sent.Sent, sent.Bytes)
	if is := setAt(t, h.Address, "fetch", "pkg:generic/chart-tiles@1.0.0", "--into", dir, "--check"); is.Files != files {
		t.Errorf("%+v", is)
	}
	into := filepath.Join(t.TempDir(), "tiles")
	fetch := []string{"fetch", "pkg:generic/chart-tiles@1.0.0", "--into", into, "--server", h.Address, "--only", "zone-0/*"}
	for round := range 4 {
		ctx, cancel := context.WithTimeout(t.Context(), time.Duration(round+1)*step)
		cmd := exec.CommandContext(ctx, house.Program(), fetch...)
		cmd.Env = []string{"HOME=" + t.TempDir(), "CRELVO_TOKEN=" + house.Token}
		err := cmd.Run()
		cancel()
		if err == nil {
			break
		}
	}
	setAt(t, h.Address, fetch...)
	sameTree(t, filepath.Join(into, "zone-0"), filepath.Join(dir, "zone-0"))
	if out, errs, code := crelvoAsAdmin(t, "verify", "--wait", "--server", h.Address); code != 0 {
		t.Errorf("crelvo verify: %d %s%s", code, out, errs)
	}
}

// TestConsoleFileSet looks into a set on the console, folder by folder, at a text in it, and at what another version
// has.
func TestConsoleFileSet(t *testing.T) {
	to := repository(t, "releases")
	dir := tiles(t, 6, 1000, 6)
	writeTile(t, dir, "zone-1/read-me.txt", []byte("The north side is shallow.\n"))
	setAt(t, shared.Address, "publish", dir, "--to", to, "--as", "pkg:generic/console-tiles@1.0.0")
	writeTile(t, dir, "zone-1/more.txt", []byte("And the south side, too.\n"))
	setAt(t, shared.Address, "publish", dir, "--to", to, "--as", "pkg:generic/console-tiles@1.1.0")
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/package/generic/console-tiles@1.1.0"),
		browser.ShowsText("Contents", "8 files", "zone-0", "zone-9", "2 files"), browser.ClickText("zone-1"),
		browser.ShowsText("read-me.txt", "more.txt", "this folder as"), browser.ClickText("read-me.txt"),
		browser.ShowsText("The north side is shallow.", "SHA-256"), browser.ClickText("all files"),
		browser.ShowsText("zone-9"), typeInto("select[aria-label='Compare with another version']", "1.0.0"),
		browser.ShowsText("1.0.0", "1 file added, 0 changed, 0 removed", "zone-1/more.txt"))
}
