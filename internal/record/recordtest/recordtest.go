// Package recordtest gives tests a real PostgreSQL: one server for a test
// program, and an empty database for each test.
package recordtest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"sync/atomic"
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
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	code := m.Run()
	if err := server.Stop(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return code
}

// URL makes an empty database and gives its address.
func URL(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("test%d", count.Add(1))
	conn, err := pgx.Connect(t.Context(), server.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(t.Context()))
	if _, err := conn.Exec(t.Context(), "create database "+name); err != nil {
		t.Fatal(err)
	}
	address, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	address.Path = name
	return address.String()
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
