package e2e

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crelvo/test/house"
)

// TestCommandLine walks through the commands as one person would.
func TestCommandLine(t *testing.T) {
	home, snapshots, releases := t.TempDir(), "cli-snapshots", "cli-releases"
	run := func(code int, stdin string, args ...string) (string, string) {
		t.Helper()
		out, errs, got := crelvo(t, home, stdin, args...)
		if got != code {
			t.Fatalf("crelvo %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), got, code, out, errs)
		}
		return out, errs
	}
	_, errs := run(4, "", "whoami")
	says(t, errs, "not signed in", "crelvo login")
	_, errs = run(4, "wrong\n", "login", "--name", "admin")
	says(t, errs, "name or the password is wrong")
	out, _ := run(0, house.Password+"\n", "login", "--name", "admin")
	says(t, out, "Signed in", "config.yaml")
	config := filepath.Join(home, ".config/crelvo/config.yaml")
	if stat, err := os.Stat(config); err != nil || stat.Mode().Perm() != 0o600 {
		t.Errorf("%s: %v, %v; want mode 0600", config, stat, err)
	}
	out, _ = run(0, "", "whoami")
	says(t, out, "admin", "admin on *", "cli-")

	out, _ = run(0, "", "repo", "add", snapshots, "--holds", "snapshots", "--description", "of the command line's test")
	says(t, out, snapshots, "holds", "/at/"+snapshots+"/")
	run(0, "", "repo", "add", releases, "--holds", "releases")
	_, errs = run(0, "", "repo", "add", releases, "--holds", "releases")
	says(t, errs, "so already")
	_, errs = run(1, "", "repo", "add", releases, "--holds", "snapshots")
	says(t, errs, "there is a repository", "another name")
	_, errs = run(1, "", "repo", "add", "Not A Name")
	says(t, errs, "cannot be the name", "lower-case")
	out, _ = run(0, "", "repo", "edit", releases, "--description", "what sails", "--anonymous-read")
	says(t, out, "what sails", "anonymous reading  yes")
	out, _ = run(0, "", "repo", "list")
	says(t, out, "NAME", snapshots, releases, "what sails")
	_, errs = run(2, "", "repo", "edit", releases)
	says(t, errs, "nothing to change")
	_, errs = run(3, "", "repo", "show", "no-such-place")
	says(t, errs, "no-such-place", "crelvo repo list")

	work := t.TempDir()
	write := func(name, content string) string {
		path := filepath.Join(work, name)
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	t.Run("publish a jar with its pom inside", func(t *testing.T) {
		file := write("anything.jar", jarWithPOM(t, pom("example.skerry.berth", "cli-inside", "1.0.0")))
		out, _ := run(0, "", "publish", file, "--to", releases)
		says(t, out, "Published pkg:maven/example.skerry.berth/cli-inside@1.0.0", "cli-inside-1.0.0.jar",
			"cli-inside-1.0.0.pom")
		out, _ = run(0, "", "publish", file, "--to", releases)
		says(t, out, "already, byte for byte")
		_, errs := run(1, "", "publish", file, "--to", snapshots)
		says(t, errs, "holds snapshots", "It belongs in", releases)
	})
	t.Run("publish a jar with its pom beside it", func(t *testing.T) {
		file := write("cli-beside-1.0.0.jar", jar(t, "beside"))
		write("cli-beside-1.0.0.pom", pom("example.skerry.berth", "cli-beside", "1.0.0"))
		out, _ := run(0, "", "publish", file, "--to", releases)
		says(t, out, "cli-beside@1.0.0")
	})
	t.Run("publish a third-party file", func(t *testing.T) {
		file := write("brine.jar", jar(t, "brine"))
		_, errs := run(1, "", "publish", file, "--to", releases)
		says(t, errs, "says what it is", "--as pkg:maven/")
		out, _ := run(0, "", "publish", file, "--to", releases, "--as", "pkg:maven/org.openshore/brine-http@2.1.0")
		says(t, out, "brine-http-2.1.0.jar", "brine-http-2.1.0.pom")
		file = write("brine.jar", jar(t, "other"))
		_, errs = run(1, "", "publish", file, "--to", releases, "--as", "pkg:maven/org.openshore/brine-http@2.1.0")
		says(t, errs, "was published by admin on", "The next free version is 2.1.1")
	})
	t.Run("publish a snapshot twice", func(t *testing.T) {
		for n := range 2 {
			file := write("tides.jar", jar(t, strings.Repeat("tide", n+1)))
			out, _ := run(0, "", "publish", file, "--to", snapshots, "--as",
				"pkg:maven/example.skerry.berth/cli-tides@1.0-SNAPSHOT", "-o", "json")
			var published struct{ Name string }
			if err := json.Unmarshal([]byte(out), &published); err != nil ||
				!strings.HasSuffix(published.Name, map[int]string{0: "-1", 1: "-2"}[n]) {
				t.Errorf("%s: %v", out, err)
			}
		}
	})
	out, _ = run(0, "", "search", "cli-in")
	says(t, out, "pkg:maven/example.skerry.berth/cli-inside", releases, "1.0.0", "admin")
	out, _ = run(0, "", "search", "nothing-like-this")
	says(t, out, "Nothing found")
	out, _ = run(0, "", "show", "pkg:maven/example.skerry.berth/cli-tides")
	says(t, out, "1.0-SNAPSHOT", snapshots, "UPLOADS")
	out, _ = run(0, "", "show", "pkg:maven/org.openshore/brine-http@2.1.0", "-o", "yaml")
	says(t, out, "purl: pkg:maven/org.openshore/brine-http@2.1.0", "sha256:")
	_, errs = run(2, "", "show", "brine-http")
	says(t, errs, "is not a package URL")

	target := t.TempDir()
	out, _ = run(0, "", "fetch", "pkg:maven/org.openshore/brine-http@2.1.0?type=jar", "--dir", target)
	if content, err := os.ReadFile(filepath.Join(target, "brine-http-2.1.0.jar")); err != nil ||
		string(content) != jar(t, "brine") {
		t.Errorf("fetched: %s %d bytes, %v", out, len(content), err)
	}
	if entries, err := os.ReadDir(target); err != nil || len(entries) != 1 {
		t.Errorf("the folder holds %v, %v; want one file", entries, err)
	}
	t.Run("fetch again", func(t *testing.T) {
		again := []string{"fetch", "pkg:maven/org.openshore/brine-http@2.1.0?type=jar", "--dir", target}
		file, right := filepath.Join(target, "brine-http-2.1.0.jar"), jar(t, "brine")
		out, _ := run(0, "", again...)
		says(t, out, file, "was there already")
		change := func(name, content string) {
			t.Helper()
			if err := os.WriteFile(name, []byte(content), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		holds := func(want string) {
			t.Helper()
			if content, err := os.ReadFile(file); err != nil || string(content) != want {
				t.Errorf("%d bytes, %v; want %d", len(content), err, len(want))
			}
		}
		change(file, "of our own")
		_, errs := run(1, "n\n", again...)
		says(t, errs, file+" is there with other content", "nothing was changed")
		holds("of our own")
		run(0, "", append(again, "--yes")...)
		holds(right)
		// What broke off goes on where it was: what had come is not fetched again, so
		// that it was changed meanwhile is seen at the end, and the next one begins anew.
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256([]byte(right))
		part := filepath.Join(target, fmt.Sprintf(".brine-http-2.1.0.jar.%x.part", sum[:6]))
		change(part, strings.Repeat("x", len(right)-5))
		_, errs = run(1, "", again...)
		says(t, errs, "arrived damaged")
		change(part, right[:len(right)-5])
		run(0, "", again...)
		holds(right)
		// What had come whole is only moved, and no link leads out of the folder.
		if err := os.Rename(file, part); err != nil {
			t.Fatal(err)
		}
		run(0, "", again...)
		holds(right)
		elsewhere := filepath.Join(t.TempDir(), "of-somebody")
		change(elsewhere, "theirs")
		if err := errors.Join(os.Remove(file), os.Symlink(elsewhere, part)); err != nil {
			t.Fatal(err)
		}
		run(1, "", again...)
		if content, err := os.ReadFile(elsewhere); err != nil || string(content) != "theirs" {
			t.Errorf("a file elsewhere holds %q, %v", content, err)
		}
		if err := os.Remove(part); err != nil {
			t.Fatal(err)
		}
		run(0, "", again...)
		if entries, err := os.ReadDir(target); err != nil || len(entries) != 1 {
			t.Errorf("the folder holds %v, %v; want one file", entries, err)
		}
	})
	_, errs = run(3, "", "fetch", "pkg:maven/org.openshore/brine-http@9.9.9")
	says(t, errs, "no repository that you may read holds")

	secret, errs := run(0, "", "token", "new", "cli-test", "--can", "read", "--on", releases, "--expires", "12h")
	says(t, secret, "crelvo_")
	says(t, errs, "shown this once")
	out, _ = run(0, "", "token", "list")
	says(t, out, "cli-test", "read", releases)
	_, errs = run(2, "", "token", "new", "other", "--expires", "soon")
	says(t, errs, "12h, 7d")
	run(0, "", "token", "revoke", "cli-test")
	_, errs = run(3, "", "token", "revoke", "cli-test")
	says(t, errs, "has no token")

	out, _ = run(0, "", "events", "--limit", "200")
	says(t, out, "repository made", "repository changed", "version published", "token made", "token revoked")
	out, _ = run(0, "", "status", "-o", "json")
	says(t, out, `"database": "ok"`)

	_, errs = run(1, "", "repo", "remove", snapshots, "--yes")
	says(t, errs, "holds 1 package", "--with-contents")
	_, errs = run(1, "n\n", "repo", "remove", snapshots, "--with-contents")
	says(t, errs, "nothing was changed")
	out, _ = run(0, "y\n", "repo", "remove", snapshots, "--with-contents")
	says(t, out, "crelvo repo remove "+snapshots+" --undo brings it back")
	run(3, "", "repo", "show", snapshots)
	out, _ = run(0, "", "repo", "remove", snapshots, "--undo")
	says(t, out, snapshots+" is back, with 1 package")
	out, _ = run(0, "", "show", "pkg:maven/example.skerry.berth/cli-tides")
	says(t, out, "1.0-SNAPSHOT", snapshots)
	_, errs = run(1, "", "repo", "remove", snapshots, "--undo")
	says(t, errs, "there is a repository "+snapshots)

	_, errs = run(5, "", "repo", "list", "--server", "http://127.0.0.1:1")
	says(t, errs, "cannot reach http://127.0.0.1:1", "--server")
	_, errs = run(2, "", "repo", "list", "--output", "prose")
	says(t, errs, "table, json or yaml")
	_, errs = run(2, "", "repo", "list", "--no-such-flag")
	says(t, errs, "--help")
	for _, args := range [][]string{{"frob"}, {"repo", "frob"}, {"repo", "show"}, {"token", "new", "a", "b"}} {
		_, errs = run(2, "", args...)
		says(t, errs, "crelvo")
	}
	out, _ = run(0, "", "completion", "bash")
	says(t, out, "complete")
	out, _ = run(0, "", "__complete", "repo", "show", "cli")
	says(t, out, releases)

	run(0, "", "logout")
	run(4, "", "whoami")
}
