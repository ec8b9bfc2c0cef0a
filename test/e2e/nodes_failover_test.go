package e2e

import (
	"errors"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/record/privatepg"
	"crelvo/test/house"
)

// sql asks a server one thing, which is a text.
func sql(t *testing.T, at, statement string) (answer string) {
	t.Helper()
	c, err := pgx.Connect(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	if err := c.QueryRow(t.Context(), statement).Scan(&answer); err != nil && !errors.Is(err, pgx.ErrNoRows) {
		t.Fatalf("%s: %v", statement, err)
	}
	return answer
}

// startStandby starts a second server that has all of the first one before that says that
// anything is committed.
func startStandby(t *testing.T, primary *privatepg.Server, dir string) *privatepg.Server {
	t.Helper()
	backup, err := exec.LookPath("pg_basebackup")
	if err != nil {
		found, globErr := filepath.Glob("/usr/lib/postgresql/*/bin/pg_basebackup")
		if globErr != nil || len(found) == 0 {
			t.Fatal("pg_basebackup is not installed", err)
		}
		backup = found[len(found)-1]
	}
	standby := dir + "/standby"
	command := exec.CommandContext(t.Context(), backup, "--pgdata", standby, "--dbname", primary.URL,
		"--write-recovery-conf", "--wal-method=stream", "--checkpoint=fast")
	if out, err := command.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	// It belongs to the account that the first one runs as.
	stat, err := os.Stat(dir + "/primary")
	if err != nil {
		t.Fatal(err)
	}
	of := stat.Sys().(*syscall.Stat_t)
	if err := filepath.WalkDir(standby, func(path string, _ fs.DirEntry, err error) error {
		return errors.Join(err, os.Lchown(path, int(of.Uid), int(of.Gid)))
	}); err != nil {
		t.Fatal(err)
	}
	password, err := os.ReadFile(dir + "/primary-password")
	if err == nil {
		err = os.WriteFile(standby+"-password", password, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	second := startPostgres(t, standby)
	c, err := pgx.Connect(t.Context(), primary.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	if _, err := c.Exec(t.Context(), `alter system set synchronous_standby_names = '*'`); err != nil {
		t.Fatal(err)
	}
	sql(t, primary.URL, `select pg_reload_conf()::text`)
	eventually(t, 20*time.Second, "the standby is in step", func() bool {
		return sql(t, primary.URL, `select coalesce(max(sync_state), '') from pg_stat_replication`) == "sync"
	})
	return second
}

// TestFailover: the server of the database is lost, and its standby takes its place. The nodes
// find it by themselves; nothing that was acknowledged is lost, and all that fails meanwhile
// says that the database is away.
func TestFailover(t *testing.T) {
	t.Parallel()
	dir := fleetDir(t)
	primary := startPostgres(t, dir+"/primary")
	standby := startStandby(t, primary, dir)
	at, err := url.Parse(primary.URL)
	if err != nil {
		t.Fatal(err)
	}
	second, err := url.Parse(standby.URL)
	if err != nil {
		t.Fatal(err)
	}
	at.Host += "," + second.Host
	at.RawQuery = "sslmode=disable&connect_timeout=2&target_session_attrs=read-write"
	f := newFleetOn(t, dir, at.String(), 2)
	all := f.at()
	if err := all.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	w, stop := newWork(t, all, 4)
	w.goOn(t, 20)
	if wrong := w.takeWrong(); len(wrong) > 0 {
		t.Errorf("before anything happened: %q", wrong)
	}

	if err := primary.Abandon(); err != nil {
		t.Fatal(err)
	}
	w.goOn(t, 8)
	if sql(t, standby.URL, `select pg_promote()::text`) != "true" {
		t.Fatal("the standby is not promoted")
	}
	promoted := time.Now()
	eventually(t, 60*time.Second, "all goes on by itself", func() bool {
		for _, wrong := range w.takeWrong() {
			if !strings.Contains(wrong, " 503 ") && !strings.Contains(wrong, " 502 ") && !strings.Contains(wrong, ": 0 ") {
				t.Errorf("while the database was away: %s", wrong)
			}
		}
		w.goOn(t, 8)
		w.mu.Lock()
		defer w.mu.Unlock()
		return len(w.wrong) == 0
	})
	t.Logf("it went on %v after the standby was promoted", time.Since(promoted).Round(100*time.Millisecond))
	// What is committed now waits for no other standby.
	if got := sql(t, standby.URL, `select pg_is_in_recovery()::text`); got != "false" {
		t.Error("the standby still follows")
	}
	stop()
	if wrong := w.takeWrong(); len(wrong) > 0 {
		t.Errorf("after it: %q", wrong)
	}
	w.isThere(t, f.all(), 20)
	for _, n := range f.all() {
		for line := range strings.Lines(n.Log()) {
			if strings.Contains(line, "status=500") {
				t.Errorf("%s", line)
			}
		}
	}
	for _, n := range f.all() {
		if a, err := n.Ask(t.Context(), "GET", "/api/v1/events/chain", house.Token, nil); err != nil || a.Status != 200 ||
			strings.Contains(string(a.Body), `"broken"`) {
			t.Errorf("the record of what was done: %d %.200s %v", a.Status, a.Body, err)
		}
	}
}
