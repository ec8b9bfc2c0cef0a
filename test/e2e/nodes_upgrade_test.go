package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"crelvo/test/house"
)

// before builds the program of before the newest migration, which is what is upgraded from.
func before(t *testing.T) string {
	t.Helper()
	root := filepath.Dir(filepath.Dir(house.Program()))
	git := func(args ...string) string {
		t.Helper()
		out, err := exec.CommandContext(t.Context(), "git", append([]string{"-C", root}, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("git %s: %v: %s", strings.Join(args, " "), err, out)
		}
		return strings.TrimSpace(string(out))
	}
	migrations, err := filepath.Glob(root + "/internal/record/migrations/*.sql")
	if err != nil || len(migrations) == 0 {
		t.Fatal(migrations, err)
	}
	slices.Sort(migrations)
	came := git("log", "--diff-filter=A", "--format=%H", "--", migrations[len(migrations)-1])
	if came == "" || git("rev-parse", "--is-shallow-repository") == "true" {
		t.Skip("the history of the sources does not go back to the program of before")
	}
	old := t.TempDir()
	git("archive", "--output", old+"/sources.tar", strings.Fields(came)[0]+"^")
	if err := os.Mkdir(old+"/sources", 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.CommandContext(t.Context(), "tar", "-x", "-C", old+"/sources", "-f",
		old+"/sources.tar").CombinedOutput(); err != nil {
		t.Fatalf("tar: %v: %s", err, out)
	}
	build := exec.CommandContext(t.Context(), "go", "build", "-trimpath", "-buildvcs=false", "-ldflags",
		"-X crelvo/internal/cli.Version=before", "-o", old+"/crelvo", "./cmd/crelvo")
	build.Dir = old + "/sources"
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("building the program of before: %v: %s", err, out)
	}
	return old + "/crelvo"
}

// TestUpgrade: the program of before and this one are one service on one database and store, as
// while it is upgraded node by node, and back: all go on, and each has what the other took.
func TestUpgrade(t *testing.T) {
	t.Parallel()
	old := before(t)
	dir := fleetDir(t)
	f := newFleetOn(t, dir, startPostgres(t, dir+"/postgres").URL, 2, old, old)
	all := f.at()
	if err := all.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	w, stop := newWork(t, all, 4)
	w.goOn(t, 10)
	take := func(what string) {
		t.Helper()
		if wrong := w.takeWrong(); len(wrong) > 0 {
			t.Errorf("%s: %q", what, wrong)
		}
	}
	take("the program of before alone")
	// The schema is brought up to date while the others go on with it.
	newer := f.start(t, "")
	w.goOn(t, 20)
	take("two of before and one newer")
	bench := newWorkshop(t)
	out := func(n *house.House, back ...string) {
		t.Helper()
		bench.run("", "env", append([]string{"CRELVO_SERVER=" + newer.Address, "CRELVO_TOKEN=" + house.Token,
			house.Program(), "node", "drain", strings.TrimPrefix(n.Address, "http://")}, back...)...)
	}
	for _, n := range f.nodes[:2] {
		out(n, "--wait")
		if err := n.Stop(); err != nil {
			t.Error(err)
		}
		n.Program = ""
		if err := n.Restart(); err != nil {
			t.Fatal(err)
		}
		w.goOn(t, 12)
		take("while a node was replaced by a newer one")
	}
	// And back: a program of before is started again, and works with the newer schema.
	n := f.nodes[0]
	out(n, "--wait")
	if err := n.Stop(); err != nil {
		t.Error(err)
	}
	n.Program = old
	if err := n.Restart(); err != nil {
		t.Fatal(err)
	}
	w.goOn(t, 20)
	take("after one went back")
	stop()
	take("at the end")
	w.isThere(t, f.all(), 40)
}
