package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// fifty is a service with a package of npm and one of Maven that have 50,000 versions
// each.
type fifty struct {
	house *house.House
	conn  *pgx.Conn
	end   func()
	more  int // versions that were published by protocol
}

// fiftyThousand fills them: each version needs ten others.
const fiftyThousand = `
insert into package (repository_id, ecosystem, namespace, name, revision, changed_at, last_arrived, versions, bytes)
select r.id, e.ecosystem, e.namespace, 'fifty', 50000, now(), now(), 50000, 50000::bigint * 20480
from (select id from repository where name = 'releases') r,
(values ('npm', '@skerry'), ('maven', 'example.skerry')) e(ecosystem, namespace);
insert into version (package_id, version, snapshot, uploaded_at, published_by, touched_at, visible_from, arrived, bytes,
	details)
select p.id, v / 1000 || '.' || v / 10 % 100 || '.' || v % 10, false, now() - (50000 - v) * interval '1 minute', 'ci-berth',
now(), now() - (50000 - v) * interval '1 minute', now() - (50000 - v) * interval '1 minute', 20480,
jsonb_build_object('description', 'Made up for the measurement', 'licences', jsonb_build_array(jsonb_build_object('name',
'MIT')), 'dependencies', (select jsonb_agg(jsonb_build_object('purl', 'pkg:' || p.ecosystem || '/example.skerry/part-' || i,
'version', i || '.' || v % 40 || '.0')) from generate_series(1, 10) i))
from package p, generate_series(1, 50000) v;
insert into stored_file (sha256, sha512, sha1, md5, size, created_at)
select sha256(('x' || id)::bytea), decode(repeat('00', 64), 'hex'), decode(repeat('00', 20), 'hex'),
decode(repeat('00', 16), 'hex'), 20480, now() from version;
insert into file (version_id, name, extension, sha256, added_at)
select v.id, 'fifty-' || v.version || e.ending, substr(e.ending, 2), sha256(('x' || v.id)::bytea), v.visible_from
from version v join package p on p.id = v.package_id join (values ('npm', '.tgz'), ('maven', '.jar')) e(ecosystem, ending)
using (ecosystem);
analyze`

func prepareFifty(ctx context.Context, b *bench) error {
	if b.fifty != nil {
		return nil
	}
	h, conn, end, err := b.crowd(ctx, "fifty")
	if err != nil {
		return err
	}
	b.fifty = &fifty{house: h, conn: conn, end: end}
	if _, err := conn.Exec(ctx, fiftyThousand); err != nil {
		return err
	}
	// What was planned for empty tables is forgotten with its connections.
	return b.fifty.again()
}

func (b *bench) endFifty() {
	if b.fifty != nil {
		b.fifty.end()
	}
}

// again starts the service once more, so that it remembers nothing.
func (f *fifty) again() error {
	if err := f.house.Stop(); err != nil {
		return err
	}
	return f.house.Restart()
}

const (
	fiftyDocument = "/at/releases/npm/@skerry%2ffifty"
	fiftyPage     = "/api/v1/package?purl=pkg:npm/%40skerry/fifty&repository=releases&limit=50"
	fiftyFolder   = "/at/releases/maven/example/skerry/fifty/"
)

// first gives the milliseconds to the first byte of an answer, and its size; all of it is
// read.
func (f *fifty) first(ctx context.Context, path string) (ms float64, size int64, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, f.house.Address+path, nil)
	if err != nil {
		return 0, 0, err
	}
	r.Header.Set("Authorization", "Bearer "+house.Token)
	begun := time.Now()
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, 0, err
	}
	defer response.Body.Close()
	if _, err := io.ReadFull(response.Body, make([]byte, 1)); err != nil {
		return 0, 0, err
	}
	ms = time.Since(begun).Seconds() * 1000
	size, err = io.Copy(io.Discard, response.Body)
	if err == nil && response.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", path, response.Status)
	}
	return ms, size, err
}

// fiftyAgain gives the milliseconds to the first byte of npm's document after one more
// publish.
func fiftyAgain(ctx context.Context, b *bench, n int) (ms, _ float64, err error) {
	f := b.fifty
	if n == 0 {
		cold, size, err := f.first(ctx, fiftyDocument)
		if err != nil {
			return 0, 0, err
		}
		b.note("S17: the document has %.1f MiB, and its first byte is there after %.0f ms where nothing is remembered",
			float64(size)/(1<<20), cold)
	}
	f.more++
	p := madeup.Package{Name: "@skerry/fifty", Version: fmt.Sprintf("60.0.%d", f.more), Licence: "MIT",
		Description: "Made up for the measurement"}
	a, err := f.house.Ask(ctx, http.MethodPut, fiftyDocument, house.Token,
		bytes.NewReader(p.NPMDocument("latest", p.NPM())))
	if err == nil && a.Status != http.StatusCreated {
		err = fmt.Errorf("%d %s", a.Status, a.Body)
	}
	if err != nil {
		return 0, 0, err
	}
	ms, _, err = f.first(ctx, fiftyDocument)
	return ms, 0, err
}

// fiftyByPage gives the milliseconds of the slower of a page of the API and one of the
// folder, after one more publish.
func fiftyByPage(ctx context.Context, b *bench, n int) (ms, _ float64, err error) {
	if _, _, err := fiftyAgain(ctx, b, n+1); err != nil {
		return 0, 0, err
	}
	if n == 0 { // the package of Maven is not remembered yet
		if _, _, err := b.fifty.first(ctx, fiftyFolder); err != nil {
			return 0, 0, err
		}
		if _, _, err := fiftyAgain(ctx, b, n+1); err != nil {
			return 0, 0, err
		}
	}
	var took []float64
	for _, path := range []string{fiftyPage, fiftyFolder} {
		one, _, err := b.fifty.first(ctx, path)
		if err != nil {
			return 0, 0, err
		}
		took = append(took, one)
	}
	if n == 1 {
		b.note("S17: of both, the page of the API takes %.0f ms, that of the folder %.0f ms", took[0], took[1])
	}
	return slices.Max(took), 0, nil
}

// fiftyAtOnce gives the most memory that the service needs where 8 ask for npm's document
// at once and nothing is remembered, and where one does.
func fiftyAtOnce(ctx context.Context, b *bench, _ int) (eight, one float64, err error) {
	most := func(readers int) (float64, error) {
		if err := b.fifty.again(); err != nil {
			return 0, err
		}
		var all sync.WaitGroup
		failed := make(chan error, readers)
		for range readers {
			all.Go(func() {
				_, _, err := b.fifty.first(ctx, fiftyDocument)
				failed <- err
			})
		}
		all.Wait()
		for range readers {
			if err := <-failed; err != nil {
				return 0, err
			}
		}
		return memory(b.fifty.house)
	}
	if one, err = most(1); err != nil {
		return 0, 0, err
	}
	eight, err = most(8)
	return eight, one, err
}
