//go:build linux

// Package recordtest gives tests a real PostgreSQL: one server for a test
// program, and an empty database for each test.
package recordtest

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/record"
	"crelvo/internal/record/privatepg"
)

var (
	server *privatepg.Server
	count  atomic.Int64
)

// Main runs the tests of a package with a server.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "crelvo-test-")
	if err == nil {
		defer os.RemoveAll(dir)
		// The server runs as another account when the tests run as root.
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		server, err = privatepg.Start(context.Background(), dir+"/postgres")
	}
	if err == nil {
		err = forTests(context.Background())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	code := m.Run()
	if err := server.Abandon(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return code
}

// forTests has the server keep little on the disk, and not wait for it: what tests write
// need not outlive the machine, and hundreds of databases must not fill it.
func forTests(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, server.URL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, do := range []string{"alter system set fsync = off", "alter system set full_page_writes = off",
		"alter system set max_wal_size = '128MB'", "select pg_reload_conf()"} {
		if _, err := conn.Exec(ctx, do); err != nil {
			return err
		}
	}
	return nil
}

// schema is a database that has the schema and nothing else: to copy it takes a tenth of the
// time that making one takes.
const schema = "schema"

var makeSchema = sync.OnceValue(func() error {
	ctx := context.Background() // it outlives the test that needs it first
	address, err := create(ctx, schema, "template1")
	if err != nil {
		return err
	}
	db, err := record.Open(ctx, address)
	if err != nil {
		return err
	}
	return db.Close()
})

// URL makes a database that has the schema, and nothing else, as of a service that was never
// asked; it goes with the test.
func URL(t testing.TB) string {
	t.Helper()
	if err := makeSchema(); err != nil {
		t.Fatal(err)
	}
	return made(t, schema)
}

// Empty makes a database that has not even the schema; it goes with the test.
func Empty(t testing.TB) string {
	t.Helper()
	return made(t, "template1")
}

func made(t testing.TB, like string) string {
	t.Helper()
	name := fmt.Sprintf("test%d", count.Add(1))
	t.Cleanup(func() { drop(t, name) })
	address, err := create(t.Context(), name, like)
	if err != nil {
		t.Fatal(err)
	}
	return address
}

// create makes a database like another one, and gives its address.
func create(ctx context.Context, name, like string) (string, error) {
	conn, err := pgx.Connect(ctx, server.URL)
	if err != nil {
		return "", err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "create database "+name+" template "+like); err != nil {
		return "", err
	}
	address, err := url.Parse(server.URL)
	if err != nil {
		return "", err
	}
	address.Path = name
	return address.String(), nil
}

func drop(t testing.TB, name string) {
	ctx := context.Background() // the test's own has ended
	conn, err := pgx.Connect(ctx, server.URL)
	if err != nil {
		t.Error(err)
		return
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "drop database if exists "+name+" with (force)"); err != nil {
		t.Error(err)
	}
}

// Open opens the records in a database.
func Open(t testing.TB, url string) *record.DB {
	t.Helper()
	db, err := record.Open(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := db.Close(); err != nil {
			t.Error(err)
		}
	})
	return db
}

// Away is the records of a database that cannot be reached any more.
func Away(t testing.TB, _ *record.DB) *record.DB {
	t.Helper()
	db, err := record.Open(t.Context(), URL(t))
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	return db
}

// children are the processes that a process began.
func children(t testing.TB, pid int) (all []int) {
	t.Helper()
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range stats {
		raw, err := os.ReadFile(path)
		if err != nil {
			continue // it has ended
		}
		// The name in brackets may have anything in it.
		fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
		child, err := strconv.Atoi(filepath.Base(filepath.Dir(path)))
		if err == nil && len(fields) > 1 && fields[1] == strconv.Itoa(pid) {
			all = append(all, child)
		}
	}
	return all
}

// Hang stops the server's processes, as a machine that is overloaded or a network
// that is dead would, until goOn is called. Tests beside this one wait too.
func Hang(t testing.TB) (goOn func()) {
	t.Helper()
	signal := func(which syscall.Signal) {
		for _, pid := range append(children(t, server.Pid()), server.Pid()) {
			if err := syscall.Kill(pid, which); err != nil && !errors.Is(err, syscall.ESRCH) {
				t.Fatal(err)
			}
		}
	}
	signal(syscall.SIGSTOP)
	var once sync.Once
	goOn = func() { once.Do(func() { signal(syscall.SIGCONT) }) }
	t.Cleanup(goOn)
	return goOn
}
