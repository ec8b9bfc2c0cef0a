package cli

import (
	"encoding/base64"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/npm"
)

func put(t *testing.T, path, text string, mode fs.FileMode) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
}

func get(t *testing.T, path string) (string, fs.FileMode) {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	stat, err := os.Lstat(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw), stat.Mode()
}

// TestEdit: a file that is changed keeps its mode, unless it gets a secret; a
// link stays a link; how it was is left beside it, and nothing is overwritten.
func TestEdit(t *testing.T) {
	dir := t.TempDir()
	real, link := filepath.Join(dir, "dotfiles-npmrc"), filepath.Join(dir, ".npmrc")
	put(t, real, "old\n", 0o640)
	if err := os.Symlink(real, link); err != nil {
		t.Fatal(err)
	}
	done, err := edit{path: link, before: "old\n", after: "new\n", there: true}.do()
	if err != nil {
		t.Fatal(err)
	}
	if _, mode := get(t, link); mode&fs.ModeSymlink == 0 {
		t.Errorf("the link became %v", mode)
	}
	if text, mode := get(t, real); text != "new\n" || mode.Perm() != 0o640 {
		t.Errorf("%q, %v", text, mode)
	}
	if text, mode := get(t, done.Backup); text != "old\n" || mode.Perm() != 0o600 {
		t.Errorf("%s: %q, %v", done.Backup, text, mode)
	}
	again, err := edit{path: link, before: "new\n", after: "secret\n", there: true, secret: true}.do()
	if err != nil || again.Backup == done.Backup {
		t.Fatalf("%+v, %v; the first backup is %s", again, err, done.Backup)
	}
	if text, mode := get(t, real); text != "secret\n" || mode.Perm() != 0o600 {
		t.Errorf("%q, %v", text, mode)
	}
	if err := restore(again); err != nil {
		t.Fatal(err)
	}
	if text, _ := get(t, real); text != "new\n" {
		t.Errorf("brought back: %q", text)
	}
	if _, err := os.Stat(again.Backup); err == nil {
		t.Error("the backup is still there")
	}
	// A new file in a folder that is not there.
	fresh, err := edit{path: filepath.Join(dir, "a/b/settings.xml"), after: "x", secret: true}.do()
	if err != nil || fresh.Backup != "" {
		t.Fatalf("%+v, %v", fresh, err)
	}
	if _, mode := get(t, fresh.Path); mode.Perm() != 0o600 {
		t.Errorf("%v", mode)
	}
	left, err := filepath.Glob(filepath.Join(dir, ".crelvo-*"))
	if err != nil || left != nil {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

// TestJournal: what was written is known again, in the order of the writing.
func TestJournal(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", "")
	if all, err := readJournal(); err != nil || all != nil {
		t.Fatalf("%v, %v", all, err)
	}
	if err := (pointed{Client: "npm"}).keep(); err != nil { // nothing was written
		t.Fatal(err)
	}
	for _, client := range []string{"npm", "pip"} {
		if err := (pointed{Client: client, Files: []changed{{Path: "/x"}}}).keep(); err != nil {
			t.Fatal(err)
		}
	}
	all, err := readJournal()
	if err != nil || len(all) != 2 || all[0].Client != "npm" || all[1].Client != "pip" {
		t.Fatalf("%+v, %v", all, err)
	}
	path, err := journalPath()
	if err != nil {
		t.Fatal(err)
	}
	put(t, path, "{", 0o600)
	if _, err := readJournal(); err == nil || !strings.Contains(err.Error(), path) {
		t.Errorf("a damaged journal: %v", err)
	}
}

func TestPlace(t *testing.T) {
	for address, want := range map[string]string{
		"http://h/at/platform/npm/":                    "platform npm",
		"https://h:1/at/platform@2026-11-01/maven/x/y": "platform@2026-11-01 maven",
		"http://h/": " ", "http://h/at/platform": " ", "http://h/other/platform/npm/": " ", "://": " ",
	} {
		repository, door := place(address)
		if got := repository + " " + door; got != want {
			t.Errorf("%s: %q; want %q", address, got, want)
		}
	}
}

// TestMask: what is shown of a file shows no secret, whoever's it is.
func TestMask(t *testing.T) {
	for text, want := range map[string]string{
		"-    <password>hunter2</password>":             "-    <password>…</password>",
		"     <password>${env.CRELVO_TOKEN}</password>": "     <password>${env.CRELVO_TOKEN}</password>",
		"+//h/at/platform/npm/:_authToken=YOUR-TOKEN": "+//h/at/platform/npm/:_authToken=(a new " +
			"token)",
		"-//h/at/platform/npm/:_authToken=crelvo_abcdefgh": "-//h/at/platform/npm/:_authToken=…",
		" password = hunter2":                              " password = …",
		"   password hunter2":                              "   password …",
		"+index-url = http://deckhand:YOUR-TOKEN@h/at/platform/pypi/simple/": "+index-url = http://deckhand:(a new " +
			"token)@h/at/platform/pypi/simple/",
		"-index-url = http://deckhand:hunter2@h/at/platform/pypi/simple/": "-index-url = http://deckhand:…@h/at/platform/pypi/simple/",
		`+      <add key="ClearTextPassword" value="hunter2" />`:          `+      <add key="ClearTextPassword" value="…" />`,
		"+    npmAuthToken: \"hunter2\"":                                  "+    npmAuthToken: \"…\"",
		"+platformPassword=hunter2":                                       "+platformPassword=…",
		"+registry=http://127.0.0.1:8700/at/platform/npm/":                "+registry=http://127.0.0.1:8700/at/platform/npm/",
		"+crelvo.token=crelvo_abcdefgh":                                   "+crelvo.token=…",
	} {
		if got := mask(text); got != want {
			t.Errorf("%q is shown as %q; want %q", text, got, want)
		}
	}
}

// TestLinksOutOfAProject: a link in a project, which anybody may have put there,
// does not lead to another file of one's own.
func TestLinksOutOfAProject(t *testing.T) {
	project, outside := t.TempDir(), filepath.Join(t.TempDir(), "precious")
	put(t, outside, "mine\n", 0o600)
	if err := os.Symlink(outside, filepath.Join(project, ".npmrc")); err != nil {
		t.Fatal(err)
	}
	inside := filepath.Join(project, "settings")
	put(t, inside, "", 0o644)
	p := &pointer{project: project}
	c := npm.New().Clients()[0]
	_, _, err := p.edits(c, ecosystem.Files{}, ecosystem.Pointing{Address: "http://127.0.0.1:8700/at/releases/npm/"})
	if err == nil || !strings.Contains(err.Error(), outside) {
		t.Errorf("a link to %s: %v", outside, err)
	}
	if err := os.Remove(filepath.Join(project, ".npmrc")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(inside, filepath.Join(project, ".npmrc")); err != nil {
		t.Fatal(err)
	}
	if _, _, err := p.edits(c, ecosystem.Files{},
		ecosystem.Pointing{Address: "http://127.0.0.1:8700/at/releases/npm/"}); err != nil {
		t.Errorf("a link within the project: %v", err)
	}
}

func TestSecretsIn(t *testing.T) {
	const secret = "crelvo_abcdefghijklmnopqrstuvwxyz234567"
	for _, c := range []struct{ text, want string }{
		{"//h/at/platform/npm/:_authToken=" + secret, secret},
		{"//h/at/platform/npm/:_auth=" + base64.StdEncoding.EncodeToString([]byte("deckhand:"+secret)), secret},
		{"index-url = http://deckhand:" + secret + "@h/at/platform/pypi/simple/", secret},
		{"password = something-of-others", ""},
		{"sha512-" + strings.Repeat("A", 60), ""},
	} {
		if got := strings.Join(secretsIn(c.text), " "); got != c.want {
			t.Errorf("in %s: %q, want %q", c.text, got, c.want)
		}
	}
}
