// Command plain is the plainest service that takes files durably: what any publication
// is measured against. A PUT is streamed into a staging file while four digests are
// computed, flushed, renamed to its SHA-256, and recorded by one row in a transaction of
// its own; only then is it answered. A GET is answered with the file of that SHA-256 by
// http.ServeContent. It knows no users, packages or rules. It is the plainest mirror of npm, too.
package main

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

const table = `create table plain (id bigint generated always as identity primary key, path text not null,
	sha256 bytea not null, sha512 bytea not null, sha1 bytea not null, md5 bytea not null, size bigint not null,
	at timestamptz not null default now()); create index on plain (path)`

const insert = `insert into plain (path, sha256, sha512, sha1, md5, size) values ($1, $2, $3, $4, $5, $6)`

// server keeps files in a folder, and their rows in a database.
type server struct {
	dir  string
	pool *pgxpool.Pool
}

func main() {
	dir := flag.String("dir", "", "the folder of the files")
	database := flag.String("database", "", "the address of the database")
	flag.Parse()
	if err := run(context.Background(), *dir, *database); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, dir, database string) error {
	config, err := pgxpool.ParseConfig(database)
	if err != nil {
		return err
	}
	config.MaxConns = 16 // as many as Crelvo takes
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return err
	}
	defer pool.Close()
	if _, err := pool.Exec(ctx, table); err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Printf("ready on http://%s\n", l.Addr())
	return http.Serve(l, &server{dir, pool})
}

// ServeHTTP implements http.Handler.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var err error
	switch r.Method {
	case http.MethodGet:
		if strings.HasPrefix(r.URL.Path, mirrorPath) {
			err = s.mirror(w, r)
		} else {
			err = s.get(w, r)
		}
	case http.MethodPut:
		if err = s.keep(r.Context(), r.URL.Path, r.Body); err == nil {
			w.WriteHeader(http.StatusCreated)
		}
	default:
		http.Error(w, "only GET and PUT", http.StatusMethodNotAllowed)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
	}
}

func (s *server) get(w http.ResponseWriter, r *http.Request) error {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if len(name) != 2*sha256.Size {
		return errors.New("GET takes a SHA-256 in hexadecimal")
	}
	f, err := os.Open(filepath.Join(s.dir, name[:2], name))
	if err != nil {
		return err
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("ETag", `"`+name+`"`)
	http.ServeContent(w, r, "", time.Time{}, f)
	return nil
}

func (s *server) keep(ctx context.Context, path string, content io.Reader) error {
	f, err := os.CreateTemp(s.dir, "staging-")
	if err != nil {
		return err
	}
	defer f.Close()
	h256, h512, h1, h5 := sha256.New(), sha512.New(), sha1.New(), md5.New()
	size, err := io.Copy(io.MultiWriter(f, h256, h512, h1, h5), content)
	if err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	sum := h256.Sum(nil)
	name := hex.EncodeToString(sum)
	folder := filepath.Join(s.dir, name[:2])
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), filepath.Join(folder, name)); err != nil {
		return err
	}
	d, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Sync(); err != nil {
		return err
	}
	_, err = s.pool.Exec(ctx, insert, path, sum, h512.Sum(nil), h1.Sum(nil), h5.Sum(nil), size)
	return err
}
