package e2e

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/store/storetest"
	"crelvo/test/house"
)

// databaseOf gives the address of a house's private database, from what its
// folder says.
func databaseOf(t *testing.T, h *house.House) string {
	t.Helper()
	password, err := os.ReadFile(h.Data + "/postgres-password")
	if err != nil {
		t.Fatal(err)
	}
	pid, err := os.ReadFile(h.Data + "/postgres/postmaster.pid")
	if err != nil {
		t.Fatal(err)
	}
	port := strings.Split(string(pid), "\n")[3] // PostgreSQL's file: pid, folder, start, port
	return fmt.Sprintf("postgres://crelvo:%s@127.0.0.1:%s/postgres?sslmode=disable", strings.TrimSpace(string(password)),
		port)
}

func recordedFiles(t *testing.T, h *house.House) map[string]bool {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), databaseOf(t, h))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(t.Context()))
	rows, err := conn.Query(t.Context(), "select sha256 from stored_file")
	if err != nil {
		t.Fatal(err)
	}
	digests, err := pgx.CollectRows(rows, pgx.RowTo[[]byte])
	if err != nil {
		t.Fatal(err)
	}
	recorded := map[string]bool{}
	for _, d := range digests {
		recorded[hex.EncodeToString(d)] = true
	}
	return recorded
}

// refused runs crelvo serve and wants it to end at once with one clear line.
func refused(t *testing.T, prepare func(*exec.Cmd), args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, house.Program(), append([]string{"serve"}, args...)...)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	if prepare != nil {
		prepare(cmd)
	}
	err := cmd.Run()
	var exit *exec.ExitError
	if !errors.As(err, &exit) || exit.ExitCode() != 1 {
		t.Errorf("crelvo serve %s ended with %v; want exit code 1: %s", strings.Join(args, " "), err, errs.String())
	}
	text := strings.TrimSpace(errs.String())
	if strings.Contains(text, "\n") || !strings.HasPrefix(text, "crelvo: ") {
		t.Errorf("want one clear line, not %q", text)
	}
	return text
}

func says(t *testing.T, text string, pieces ...string) {
	t.Helper()
	for _, piece := range pieces {
		if !strings.Contains(text, piece) {
			t.Errorf("%q does not say %q", text, piece)
		}
	}
}

// TestStartRefused: what is wrong is said in one line that tells what to do.
func TestStartRefused(t *testing.T) {
	t.Parallel()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	t.Run("port in use", func(t *testing.T) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		says(t, refused(t, nil, "--data", dir+"/port", "--listen", l.Addr().String()), "address already in use", "--listen")
	})
	t.Run("folder not writable", func(t *testing.T) {
		// Root may write anywhere but to what is no folder.
		says(t, refused(t, nil, "--data", "/proc/crelvo"), "/proc/crelvo", "--data")
	})
	t.Run("one process per folder", func(t *testing.T) {
		says(t, refused(t, nil, "--data", shared.Data, "--listen", "127.0.0.1:0"), "process "+
			strconv.Itoa(shared.Command.Process.Pid), shared.Data)
	})
	t.Run("no database there", func(t *testing.T) {
		says(t, refused(t, nil, "--data", dir+"/away", "--listen", "127.0.0.1:0", "--database",
			"postgres://nobody@127.0.0.1:1/none"), "database", "--database")
	})
	t.Run("no PostgreSQL installed", func(t *testing.T) {
		if os.Geteuid() != 0 {
			t.Skip("hiding the server's binaries takes root")
		}
		// A mount namespace of its own hides the server's binaries.
		text := refused(t, func(cmd *exec.Cmd) {
			script := `mount -t tmpfs none /usr/lib/postgresql && exec "$@"`
			cmd.Args = append([]string{"unshare", "-m", "sh", "-c", script, "sh"}, cmd.Args...)
			cmd.Path = "/usr/bin/unshare"
			cmd.Env = append(os.Environ(), "PATH=/usr/bin:/bin")
		}, "--data", dir+"/none", "--listen", "127.0.0.1:0")
		says(t, text, "no PostgreSQL server is installed", "--database")
	})
	t.Run("a database of a newer version", func(t *testing.T) {
		h, err := house.Start(dir + "/newer")
		if err != nil {
			t.Fatal(err)
		}
		change := func(statement string, arguments ...any) {
			t.Helper()
			conn, err := pgx.Connect(t.Context(), databaseOf(t, h))
			if err == nil {
				_, err = conn.Exec(t.Context(), statement, arguments...)
			}
			if err != nil {
				t.Fatal(err)
			}
			conn.Close(t.Context())
		}
		change("insert into goose_db_version (version_id, is_applied) values (99999, true)")
		// What a schema said of itself is nothing about a later one.
		change("update identity set value = '99998 works from 1' where what = 'schema'")
		if err := h.Stop(); err != nil {
			t.Fatal(err)
		}
		says(t, refused(t, nil, "--data", dir+"/newer", "--listen", "127.0.0.1:0"), "newer", "schema 99999", "backup")
		if h, err = house.Start(dir + "/newer-but-known"); err != nil {
			t.Fatal(err)
		}
		change("insert into goose_db_version (version_id, is_applied) values (99999, true)")
		change("update identity set value = '99999 works from 1' where what = 'schema'")
		if err := errors.Join(h.Stop(), h.Restart()); err != nil {
			t.Fatalf("a schema that says that it works with this program: %v", err)
		}
		if err := errors.Join(h.AddRepository(t.Context(), "releases", "releases"), h.Stop()); err != nil {
			t.Error(err)
		}
	})
}

// TestRestart stops a service in order while a request runs, and starts it
// again on the same data. The first start has no settings from the environment.
func TestRestart(t *testing.T) {
	t.Parallel()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	h, err := house.Start(dir + "/data")
	if err != nil {
		t.Fatal(err)
	}
	if err := h.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	// A body that is still arriving when the service is told to stop.
	content := jar(t, strings.Repeat("slow", 10000))
	body, w := io.Pipe()
	half := make(chan struct{})
	go func() {
		_, _ = io.WriteString(w, content[:len(content)/2])
		close(half)
		eventually(t, 20*time.Second, "the service has heard the signal", func() bool {
			_, err := http.Get(h.Address + "/livez")
			return err != nil
		})
		_, _ = io.WriteString(w, content[len(content)/2:])
		w.Close()
	}()
	answered := make(chan error, 1)
	file := "/at/releases/maven/" + groupPath + "/tide-model/1.0/tide-model-1.0.jar"
	go func() {
		a, err := h.Ask(context.WithoutCancel(t.Context()), http.MethodPut, file, house.Token, body)
		if err == nil && a.Status != 201 {
			err = fmt.Errorf("%d %s", a.Status, a.Body)
		}
		answered <- err
	}()
	<-half
	// Only a request that the service has begun is one that it must finish.
	eventually(t, 20*time.Second, "the body arrives", func() bool {
		return storetest.Arriving(t, h.Data+"/store") > 0
	})
	if err := h.Stop(); err != nil {
		t.Errorf("stopping: %v\n%s", err, h.Log())
	}
	if err := <-answered; err != nil {
		t.Errorf("the running request was not finished: %v", err)
	}
	if _, err := os.Stat(h.Data + "/postgres/postmaster.pid"); err == nil {
		t.Error("the private PostgreSQL still runs")
	}
	if err := h.Restart(); err != nil {
		t.Fatal(err)
	}
	defer h.Stop()
	if a, err := h.Ask(t.Context(), "PUT", file, house.Token, strings.NewReader(content)); err != nil || a.Status != 200 {
		t.Errorf("the file of before the restart: %d %s %v", a.Status, a.Body, err)
	}
}

// TestFirstSignIn: without settings a password is made, shown once and kept in
// a file that only its owner may read; an ordinary user can run all of it.
func TestFirstSignIn(t *testing.T) {
	t.Parallel()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	// bin/ may be where the ordinary user cannot go.
	program := dir + "/crelvo"
	if err := copyFile(house.Program(), program, 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "serve", "--data", dir+"/home/data", "--listen", "127.0.0.1:0", "--log-format", "json")
	cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=" + dir + "/home"}
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := os.Mkdir(dir+"/home", 0o755); err != nil {
		t.Fatal(err)
	}
	if os.Geteuid() == 0 {
		nobody, err := user.Lookup("nobody")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.Atoi(nobody.Uid)
		gid, _ := strconv.Atoi(nobody.Gid)
		if err := os.Chown(dir+"/home", uid, gid); err != nil {
			t.Fatal(err)
		}
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	var output bytes.Buffer
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = &output
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	text := make([]byte, 0, 4096)
	buffer := make([]byte, 1024)
	for !bytes.Contains(text, []byte("ready on ")) {
		n, err := out.Read(buffer)
		text = append(text, buffer[:n]...)
		if err != nil {
			t.Fatalf("%v: %s %s", err, text, output.String())
		}
	}
	found := regexp.MustCompile(`first sign-in: name admin, password (\S+) `).FindSubmatch(text)
	address := regexp.MustCompile(`ready on (\S+)`).FindSubmatch(text)
	if found == nil || address == nil {
		t.Fatalf("no first sign-in is shown: %s", text)
	}
	file := filepath.Join(dir, "home/data/first-sign-in")
	kept, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(kept), string(found[1])) {
		t.Errorf("%s: %s, %v", file, kept, err)
	}
	if stat, err := os.Stat(file); err != nil || stat.Mode().Perm() != 0o600 {
		t.Errorf("%s has mode %v, %v; want 0600", file, stat.Mode(), err)
	}
	r, err := http.NewRequest(http.MethodGet, string(address[1])+"/api/v1/me", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.SetBasicAuth("admin", string(found[1]))
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if me, err := io.ReadAll(response.Body); err != nil || !strings.Contains(string(me), `"admin":true`) {
		t.Errorf("signing in with the shown password: %s %v", me, err)
	}
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("stopping with SIGINT: %v: %s", err, output.String())
	}
}

func copyFile(from, to string, mode os.FileMode) error {
	content, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, content, mode)
}

// TestMemoryStaysFlat sends a large file and looks at the service's memory.
func TestMemoryStaysFlat(t *testing.T) {
	r := repository(t, "snapshots")
	const size = 768 << 20
	before := residentBytes(t)
	path := "/at/" + r + "/maven/" + groupPath + "/chart-tiles/1.0-SNAPSHOT/chart-tiles-1.0-20261101.080000-1.bin"
	peak := before
	done := make(chan struct{})
	go func() {
		defer close(done)
		a, err := shared.Ask(context.WithoutCancel(t.Context()), http.MethodPut, path, house.Token,
			io.LimitReader(zeros{}, size))
		if err != nil || a.Status != 201 {
			t.Errorf("%d %s %v", a.Status, a.Body, err)
		}
	}()
	for running := true; running; {
		select {
		case <-done:
			running = false
		case <-time.After(20 * time.Millisecond):
		}
		peak = max(peak, residentBytes(t))
	}
	if grown := peak - before; grown > 32<<20 {
		t.Errorf("receiving %d MiB took %d MiB of memory; want less than 32", size>>20, grown>>20)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

func residentBytes(t *testing.T) int64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", shared.Command.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	pages, err := strconv.ParseInt(strings.Fields(string(raw))[1], 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	return pages * int64(os.Getpagesize())
}
