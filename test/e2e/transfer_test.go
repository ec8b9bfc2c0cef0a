package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// folderOf writes files below a new folder.
func folderOf(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for path, content := range files {
		path = filepath.Join(dir, path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// transferred runs the command through a way that counts, and reads what came of it.
func transferred(t *testing.T, server string, args ...string) (out api.Transfer, code int) {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), house.Program(), append([]string{"transfer", "-o", "json"}, args...)...)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir(), "CRELVO_SERVER=" + server,
		"CRELVO_TOKEN=" + house.Token}
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(stdout.Bytes(), &out); err != nil {
		t.Fatalf("transfer %v: %v: %s%s", args, err, stdout.Bytes(), stderr.Bytes())
	}
	return out, cmd.ProcessState.ExitCode()
}

// states lists what became of each version: "came pkg:npm/kelp@1.0.0".
func states(out api.Transfer) string {
	var all []string
	for _, v := range out.Versions {
		name := v.PURL
		if name == "" {
			name = strings.Join(v.Files, " ")
		}
		all = append(all, v.State+" "+strings.ReplaceAll(name, "%40", "@"))
	}
	return strings.Join(all, "\n")
}

// TestTransfer takes a Maven tree, a heap of packages and a cache to a repository: what is planned
// comes, what is there is not sent again, and what does not come is named with the reason.
func TestTransfer(t *testing.T) {
	t.Parallel()
	if err := shared.AddRepository(t.Context(), "moved-in", "releases"); err != nil {
		t.Fatal(err)
	}
	noise := make([]byte, 2<<20)
	if _, err := rand.Read(noise); err != nil {
		t.Fatal(err)
	}
	pom := func(version string) string {
		return "<project><modelVersion>4.0.0</modelVersion><groupId>example.moved</groupId><artifactId>brine</artifactId><version>" +
			version + "</version></project>"
	}
	kelp := func(version string) madeup.Package {
		return madeup.Package{Name: "moved-kelp", Version: version, Licence: "MIT"}
	}
	sound := madeup.Package{Name: "moved-soundings", Version: "1.0.0", Licence: "MIT"}
	// What it is stands behind all else that it has.
	late := madeup.TarGz(madeup.Entry{Name: "package/noise", Content: string(noise)},
		madeup.Entry{Name: "package/package.json", Content: `{"name":"moved-late","version":"1.0.0"}`})
	tree := "m2/example/moved/brine/"
	files := map[string]string{
		tree + "1.0.0/brine-1.0.0.pom":           pom("1.0.0"),
		tree + "1.0.0/brine-1.0.0.jar":           jar(t, "1.0.0"),
		tree + "1.0.0/brine-1.0.0-sources.jar":   jar(t, "sources of 1.0.0"),
		tree + "1.0.0/brine-1.0.0.jar.sha1":      "0",
		tree + "1.0.0/_remote.repositories":      "brine-1.0.0.jar>shore=\n",
		tree + "maven-metadata-local.xml":        "<metadata/>",
		tree + "2.0.0/brine-2.0.0.pom":           pom("2.0.0"),
		tree + "2.0.0/brine-2.0.0.jar":           jarWithPOM(t, pom("1.9.0")), // says another version itself
		"heap/moved-kelp-1.0.0.tgz":              string(kelp("1.0.0").NPM()),
		"heap/moved-kelp-1.1.0.tgz":              string(kelp("1.1.0").NPM()),
		"heap/" + sound.WheelName():              string(sound.Wheel()),
		"heap/" + sound.SdistName():              string(sound.Sdist()),
		"heap/deeper/moved-late-1.0.0.tgz":       string(late),
		"heap/again/moved-kelp-1.0.0.tgz":        string(kelp("1.0.0").NPM()),
		"cache/sha512/ab/0123456789abcdef012345": string(kelp("1.2.0").NPM()),
	}
	address, sent, _ := counted(t)
	from := folderOf(t, files)
	planned, code := transferred(t, address, "--from", from, "--to", "moved-in", "--dry-run")
	all := "new pkg:maven/example.moved/brine@1.0.0\nnew pkg:maven/example.moved/brine@2.0.0\n" +
		"new pkg:npm/moved-kelp@1.0.0\nnew pkg:npm/moved-kelp@1.1.0\nnew pkg:npm/moved-kelp@1.2.0\n" +
		"new pkg:npm/moved-late@1.0.0\nnew pkg:pypi/moved-soundings@1.0.0"
	if got := states(planned); got != all || code != 0 || planned.PassedOver != 3 {
		t.Errorf("planned are, with %d:\n%s\npassed over are %d", code, got, planned.PassedOver)
	}
	if a, err := shared.Ask(t.Context(), http.MethodGet, "/at/moved-in/npm/moved-kelp", house.Token, nil); err != nil ||
		a.Status != 404 {
		t.Errorf("a plan published something: %d, %v", a.Status, err)
	}
	came, code := transferred(t, address, "--from", from, "--to", "moved-in")
	if got := states(came); got != strings.ReplaceAll(all, "new ", "came ") || code != 0 {
		t.Errorf("with %d:\n%s", code, got)
	}
	for path, want := range map[string]string{
		"maven/example/moved/brine/1.0.0/brine-1.0.0-sources.jar": files[tree+"1.0.0/brine-1.0.0-sources.jar"],
		"maven/example/moved/brine/2.0.0/brine-2.0.0.jar":         files[tree+"2.0.0/brine-2.0.0.jar"],
		"npm/moved-late/-/moved-late-1.0.0.tgz":                   string(late),
	} {
		a, err := shared.Ask(t.Context(), http.MethodGet, "/at/moved-in/"+path, house.Token, nil)
		if err != nil || a.Status != 200 || string(a.Body) != want {
			t.Errorf("%s: %d, %d bytes, %v", path, a.Status, len(a.Body), err)
		}
	}
	before := sent.Load()
	again, code := transferred(t, address, "--from", from, "--to", "moved-in")
	if got := states(again); got != strings.ReplaceAll(all, "new ", "there ") || code != 0 {
		t.Errorf("once more, with %d:\n%s", code, got)
	}
	size := 0
	for _, content := range files {
		size += len(content)
	}
	if more := sent.Load() - before; more > int64(size)/50 {
		t.Errorf("what is all there made %d bytes travel, of %d", more, size)
	}

	// What nobody knows, what is damaged, and what has other bytes than before is told of, and the rest comes.
	other := kelp("1.1.0")
	other.Description = "other bytes"
	odd := folderOf(t, map[string]string{"notes.txt": "buy rope", "broken-1.0.0.tgz": "no archive",
		"moved-kelp-1.1.0.tgz": string(other.NPM()), "moved-kelp-2.0.0.tgz": string(kelp("2.0.0").NPM())})
	out, code := transferred(t, address, "--from", odd, "--to", "moved-in")
	if got, want := states(out), "refused pkg:npm/moved-kelp@1.1.0\ncame pkg:npm/moved-kelp@2.0.0\nrefused broken-1.0.0.tgz\n"+
		"refused notes.txt"; got != want || code != 1 {
		t.Errorf("with %d:\n%s", code, got)
	}
	for _, v := range out.Versions {
		if v.State == api.TransferRefused && v.Why == "" {
			t.Errorf("nobody says why %v is refused", v.Files)
		}
	}
	// The same from an archive, out of which no name leads.
	var entries []madeup.Entry
	for path, content := range files {
		entries = append(entries, madeup.Entry{Name: "all/" + path, Content: content})
	}
	archives := folderOf(t, map[string]string{"all.zip": string(madeup.Zip(entries...)),
		"all.tar.gz":  string(madeup.TarGz(entries...)),
		"evil.tar.gz": string(madeup.TarGz(madeup.Entry{Name: "../../evil-1.0.0.tgz", Content: "x"}))})
	for _, name := range []string{"all.zip", "all.tar.gz"} {
		out, code = transferred(t, address, "--from", archives+"/"+name, "--to", "moved-in")
		if got := states(out); got != strings.ReplaceAll(all, "new ", "there ") || code != 0 {
			t.Errorf("%s, with %d:\n%s", name, code, got)
		}
	}
	_, errs, code := crelvoAsAdmin(t, "transfer", "--from", archives+"/evil.tar.gz", "--to", "moved-in")
	says(t, errs, "evil.tar.gz cannot be unpacked")
	if code == 0 {
		t.Error("a name that leads out of an archive was taken")
	}
	out, _ = transferred(t, address, "--from", from, "--to", "moved-in", "--only", "pkg:pypi/*", "--dry-run")
	if got := states(out); got != "there pkg:pypi/moved-soundings@1.0.0" {
		t.Errorf("only of one kind:\n%s", got)
	}
	text, _, code := crelvoAsAdmin(t, "transfer", "--from", odd, "--to", "moved-in")
	says(t, text, "There already: 1 version", "Not taken:     3 versions", "DOES NOT COME", "notes.txt",
		"pkg:npm/moved-kelp@1.1.0")
	if code != 1 {
		t.Errorf("it ends with %d", code)
	}
}

// TestTransferKilled: a transfer that is killed again and again is complete in the end, and no version
// is seen of which something is missing.
func TestTransferKilled(t *testing.T) {
	t.Parallel()
	if err := shared.AddRepository(t.Context(), "moved-slowly", "releases"); err != nil {
		t.Fatal(err)
	}
	files := map[string]string{}
	const versions = 60
	for i := range versions {
		p := madeup.Package{Name: "moved-often", Version: fmt.Sprintf("1.0.%d", i), Files: []madeup.Entry{
			{Name: "package/content", Content: strings.Repeat(fmt.Sprint(i, " "), 20_000)}}}
		files[fmt.Sprintf("moved-often-1.0.%d.tgz", i)] = string(p.NPM())
	}
	from := folderOf(t, files)
	for i := range 8 {
		ctx, kill := context.WithTimeout(t.Context(), time.Duration(40+12*i)*time.Millisecond)
		cmd := exec.CommandContext(ctx, house.Program(), "transfer", "--from", from, "--to", "moved-slowly")
		cmd.Env = []string{"HOME=" + t.TempDir(), "CRELVO_SERVER=" + shared.Address, "CRELVO_TOKEN=" + house.Token}
		_ = cmd.Run() // it is killed, or has come to its end
		kill()
	}
	out, code := transferred(t, shared.Address, "--from", from, "--to", "moved-slowly")
	came, _, _ := out.Count(api.TransferCame)
	there, _, _ := out.Count(api.TransferThere)
	if came+there != versions || code != 0 {
		t.Errorf("%d came and %d were there, with %d: %s", came, there, code, states(out))
	}
	t.Logf("the last one had %d left", came)
	for name, content := range files {
		a, err := shared.Ask(t.Context(), http.MethodGet, "/at/moved-slowly/npm/moved-often/-/"+name, house.Token, nil)
		if err != nil || a.Status != 200 || string(a.Body) != content {
			t.Errorf("%s: %d, %d bytes, %v", name, a.Status, len(a.Body), err)
		}
	}
}
