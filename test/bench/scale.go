package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/store/storetest"
	"crelvo/test/house"
)

// unit is something that clients do, of which it is measured what one costs.
type unit struct {
	what     string
	requests int
	do       func(ctx context.Context, i int) error
}

// costs are what was spent so far.
type costs struct {
	statements, written, size, stored float64
	process, cluster                  time.Duration
	at                                time.Time
}

// unitsMeasured is how often each is done.
const unitsMeasured = 300

// scaled is a service on an object store whose requests are counted.
type scaled struct {
	*bench
	house   *house.House
	db      *pgx.Conn
	cluster int
	asked   atomic.Int64 // of the object store
	setting string       // of the object store
	at      string       // the database
}

// unitCosts prints what publishing and reading cost: what docs/scale.md counts with.
func (b *bench) unitCosts(ctx context.Context) (err error) {
	s := &scaled{bench: b}
	stop, err := s.start(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	jar, err := smallJar(20 << 10)
	if err != nil {
		return err
	}
	fmt.Printf("%-52s %8s %10s %8s %9s %8s %9s %9s %8s\n", "what", "requests", "statements", "WAL KiB", "in it KiB",
		"stored", "ours ms", "theirs ms", "time ms")
	if err := s.measureUnits(ctx, "unit", jar); err != nil {
		return err
	}
	// With another node, each asks what that did before it answers from memory.
	second, err := house.Start(filepath.Join(s.dir, "scaled-2"), "--database", s.at, "--store", s.setting, "--key-file",
		filepath.Join(s.house.Data, "secret-key"), "--node-name", "second", "--log-level", "warn")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, second.Stop()) }()
	fmt.Println("the same, with a second node:")
	return s.measureUnits(ctx, "two", jar)
}

// measureUnits measures all of them, with names that begin so.
func (s *scaled) measureUnits(ctx context.Context, name string, jar []byte) error {
	get := func(path func(i int) string) func(context.Context, int) error {
		return func(ctx context.Context, i int) error {
			a, err := s.house.Ask(ctx, http.MethodGet, path(i), house.Token, nil)
			if err == nil && a.Status != http.StatusOK {
				err = fmt.Errorf("%s: %d", path(i), a.Status)
			}
			return err
		}
	}
	file := func(i int) string {
		return fmt.Sprintf("/at/bench/maven/%s/%s-%d/1.%d/%[2]s-%[3]d-1.%[4]d.jar", group, name, i%100, i/100)
	}
	list := func(i int) string {
		return fmt.Sprintf("/at/bench/maven/%s/%s-%d/maven-metadata.xml", group, name, i%100)
	}
	for _, u := range []unit{
		{"a version for Maven: a jar of 20 KiB, POM, list", 3, func(ctx context.Context, i int) error {
			return publishTo(ctx, s.house, fmt.Sprintf("%s-%d", name, i%100), fmt.Sprintf("1.%d", i/100), "jar",
				bytes.NewReader(jar))
		}},
		{"a version for npm: a document with 20 KiB", 1, func(ctx context.Context, i int) error {
			p := madeup.Package{Name: fmt.Sprintf("%s-%d", name, i%100), Version: fmt.Sprintf("1.0.%d", i/100),
				Readme: strings.Repeat("Made up. ", 2000)}
			a, err := s.house.Ask(ctx, http.MethodPut, "/at/bench/npm/"+p.Name, house.Token,
				bytes.NewReader(p.NPMDocument("latest", p.NPM())))
			if err == nil && a.Status != http.StatusCreated {
				err = fmt.Errorf("%d %s", a.Status, a.Body)
			}
			return err
		}},
		{"reading a jar for the first time", 1, get(file)},
		{"reading it again", 1, get(file)},
		{"reading the list of a package", 1, get(list)},
		{"reading it again, if it changed", 1, get(list)},
		{"a file that is not there", 1, func(ctx context.Context, i int) error {
			_, err := s.house.Ask(ctx, http.MethodGet, file(i)+".none", house.Token, nil)
			return err
		}},
	} {
		if err := s.measureUnit(ctx, u); err != nil {
			return fmt.Errorf("%s: %w", u.what, err)
		}
	}
	var connections int
	if err := s.db.QueryRow(ctx, `select count(*) - 1 from pg_stat_activity where backend_type = 'client backend'`).
		Scan(&connections); err != nil {
		return err
	}
	fmt.Printf("connections to the database: %d\n", connections)
	return nil
}

func (s *scaled) measureUnit(ctx context.Context, u unit) error {
	before, err := s.spent(ctx)
	if err != nil {
		return err
	}
	for i := range unitsMeasured {
		if err := u.do(ctx, i); err != nil {
			return err
		}
	}
	after, err := s.spent(ctx)
	if err != nil {
		return err
	}
	each := func(n float64) float64 { return n / unitsMeasured }
	ms := func(d time.Duration) float64 { return each(float64(d.Microseconds()) / 1000) }
	fmt.Printf("%-52s %8d %10.1f %8.1f %9.1f %8.1f %9.2f %9.2f %8.2f\n", u.what, u.requests,
		each(after.statements-before.statements), each(after.written-before.written)/1024,
		each(after.size-before.size)/1024, each(after.stored-before.stored), ms(after.process-before.process),
		ms(after.cluster-before.cluster), ms(after.at.Sub(before.at)))
	return nil
}

var statementCount = regexp.MustCompile(`crelvo_database_statement_seconds_count\{outcome="done"\} (\S+)`)

// spent tells what was spent until now.
func (s *scaled) spent(ctx context.Context) (c costs, err error) {
	a, err := s.house.Ask(ctx, http.MethodGet, "/metrics", house.Token, nil)
	if err != nil {
		return c, err
	}
	found := statementCount.FindSubmatch(a.Body)
	if found == nil {
		return c, errors.New("/metrics does not tell of statements")
	}
	if c.statements, err = strconv.ParseFloat(string(found[1]), 64); err != nil {
		return c, err
	}
	err = s.db.QueryRow(ctx, `select pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')::float8,
		pg_database_size(current_database())::float8`).Scan(&c.written, &c.size)
	c.process, c.cluster = s.processorTime(s.house, s.cluster)
	c.stored, c.at = float64(s.asked.Load()), time.Now()
	return c, err
}

// start starts the service, its object store, and what counts between them.
func (s *scaled) start(ctx context.Context) (stop func() error, err error) {
	folder := filepath.Join(s.dir, "scaled-objects")
	if err := os.Mkdir(folder, 0o700); err != nil {
		return nil, err
	}
	objects, err := storetest.Launch(ctx, folder)
	if err != nil {
		return nil, err
	}
	for _, e := range storetest.Environment() {
		name, value, _ := strings.Cut(e, "=")
		if err := os.Setenv(name, value); err != nil {
			return nil, err
		}
	}
	to, err := url.Parse(objects.Direct())
	if err != nil {
		return nil, err
	}
	through := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		s.asked.Add(1)
		host := r.In.Host // which is signed
		r.SetURL(to)
		r.Out.Host = host
	}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	counting := &http.Server{Handler: through, ReadHeaderTimeout: time.Minute}
	go func() { _ = counting.Serve(l) }() // until it is closed
	setting := strings.Replace(objects.Setting(), objects.Address, "http://"+l.Addr().String(), 1)
	if s.house, err = house.Start(filepath.Join(s.dir, "scaled"), "--quiet-period", "1h", "--log-level", "warn", "--store",
		setting); err != nil {
		return nil, err
	}
	database, cluster, err := databaseOf(s.house)
	if err != nil {
		return nil, err
	}
	s.cluster, s.at, s.setting = cluster, database, setting
	if s.db, err = pgx.Connect(ctx, database); err != nil {
		return nil, err
	}
	stop = func() error {
		err := errors.Join(s.db.Close(ctx), s.house.Stop(), counting.Close())
		objects.Stop()
		return err
	}
	return stop, s.house.AddRepository(ctx, "bench", "releases")
}
