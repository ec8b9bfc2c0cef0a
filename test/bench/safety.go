package main

import (
	"archive/zip"
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/test/house"
)

const (
	// manyAdvisories are known, every twentieth of them about a package that there is.
	manyAdvisories = 200_000
	advisoryForm   = `{"schema_version": "1.7.0", "id": "ISLE-%d", "modified": "2026-10-01T08:00:00Z",
"published": "2026-10-01T08:00:00Z", "summary": "Anybody can read what it writes", "details": %q,
"severity": [{"type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:%s/I:N/A:N"}],
"affected": [{"package": {"ecosystem": %q, "name": %q}, "ranges": [{"type": "ECOSYSTEM",
"events": [{"introduced": "0"}, {"fixed": "1.10.0"}]}]}]}`
)

func safetyRows() []row {
	return []row{
		{name: "Safety", what: "read 200,000 advisories from an archive", unit: "s", rounds: 1, target: "< 120 s",
			better: atMost(120), prepare: prepareMillion, round: readAdvisories},
		{name: "Safety", what: "what a new advisory affects among 1,000,000 versions", unit: "s", rounds: 3, target: "< 10 s",
			better: atMost(10), prepare: prepareMillion, round: affectedByOne},
		{name: "Safety", what: "what all of them affect, when nothing is remembered", unit: "s", rounds: 3, target: "",
			better: atLeast(0), prepare: prepareMillion, round: findAffected},
		{name: "Safety", what: "GET 1 KiB, with these, 1,000 waivers, 10,000 vettings and a licence refused",
			unit: "/s", rounds: 5,
			target: ">= 0.97", better: atLeast(0.97), prepare: prepareAdvised, round: readAdvised},
		{name: "Safety", what: "a document, with the same", unit: "/s", rounds: 5, target: ">= 0.97",
			better: atLeast(0.97), prepare: prepareAdvised, round: readAdvisedDocument},
	}
}

// readAdvisories has the service read them, and tells how much memory it had.
func readAdvisories(ctx context.Context, b *bench, _ int) (took, _ float64, err error) {
	rows, err := b.million.conn.Query(ctx, `select case ecosystem when 'npm' then 'npm' when 'maven' then 'Maven'
		when 'pypi' then 'PyPI' else 'NuGet' end, case when namespace = '' then name
		else namespace || case ecosystem when 'maven' then ':' else '/' end || name end from package
		where ecosystem <> 'oci' order by id limit $1`, manyAdvisories/20)
	if err != nil {
		return 0, 0, err
	}
	var names [][2]string
	for rows.Next() {
		var one [2]string
		if err := rows.Scan(&one[0], &one[1]); err != nil {
			return 0, 0, err
		}
		names = append(names, one)
	}
	if err := rows.Err(); err != nil || len(names) == 0 {
		return 0, 0, fmt.Errorf("%d packages: %w", len(names), err)
	}
	path, err := writeAdvisories(b.dir, names)
	if err != nil {
		return 0, 0, err
	}
	c, begun := b.million.desk(), time.Now()
	if _, err := c.AddFeed(ctx, api.NewFeed{Name: "bench", Location: path}); err != nil {
		return 0, 0, err
	}
	peak := residentOf(b.million.house)
	for {
		feeds, err := c.Feeds(ctx)
		if err != nil {
			return 0, 0, err
		}
		peak = max(peak, residentOf(b.million.house))
		if f := feeds[0]; f.EndedAt != nil && !f.Running {
			if f.Failure != "" || f.Report.Added != manyAdvisories {
				return 0, 0, fmt.Errorf("the feed: %q, %+v", f.Failure, f.Report)
			}
			break
		}
		time.Sleep(50 * time.Millisecond) // between two looks
	}
	b.note("Safety: the service had %.0f MiB at most while it read advisories (target < 256)", float64(peak)/(1<<20))
	return time.Since(begun).Seconds(), 0, nil
}

func writeAdvisories(dir string, names [][2]string) (path string, err error) {
	path = filepath.Join(dir, "advisories.zip")
	f, err := os.Create(path)
	if err != nil {
		return "", err
	}
	buffered := bufio.NewWriter(f)
	archive := zip.NewWriter(buffered)
	long := strings.Repeat("Where a connection is kept, what the server sends is read past its end. ", 16)
	for i := range manyAdvisories {
		of := [2]string{"npm", fmt.Sprintf("stranger-%d", i)}
		if i%20 == 0 {
			of = names[i/20%len(names)]
		}
		entry, err := archive.Create(fmt.Sprintf("ISLE-%d.json", i))
		if err == nil {
			_, err = fmt.Fprintf(entry, advisoryForm, i, long, []string{"L", "H"}[i%2], of[0], of[1])
		}
		if err != nil {
			return "", err
		}
	}
	return path, errors.Join(archive.Close(), buffered.Flush(), f.Close())
}

// affectedByOne imports an advisory about a package that there is, and asks what it means.
func affectedByOne(ctx context.Context, b *bench, n int) (took, _ float64, err error) {
	var name string
	if err := b.million.conn.QueryRow(ctx, `select name from package where ecosystem = 'pypi' order by id offset $1 limit 1`,
		n).Scan(&name); err != nil {
		return 0, 0, err
	}
	c, begun := b.million.desk(), time.Now()
	record := fmt.Sprintf(advisoryForm, manyAdvisories+n, "new", "H", "PyPI", name)
	if _, err := c.ImportAdvisories(ctx, "new.json", strings.NewReader(record)); err != nil {
		return 0, 0, err
	}
	page, err := c.Advisory(ctx, fmt.Sprintf("ISLE-%d", manyAdvisories+n))
	if err == nil && len(page.Kept) == 0 {
		err = fmt.Errorf("nothing that is kept is affected: %v", page.About)
	}
	return time.Since(begun).Seconds(), 0, err
}

// findAffected asks for what is affected, when nothing is remembered of it.
func findAffected(ctx context.Context, b *bench, _ int) (took, _ float64, err error) {
	if err := b.million.house.Stop(); err != nil {
		return 0, 0, err
	}
	if err := b.million.house.Restart(); err != nil {
		return 0, 0, err
	}
	begun := time.Now()
	list, err := b.million.desk().Affected(ctx, 500)
	if err == nil && list.Total < manyAdvisories/20 {
		err = fmt.Errorf("%d versions are affected", list.Total)
	}
	return time.Since(begun).Seconds(), 0, err
}

// prepareAdvised has the service keep out what is high, and makes waivers.
func prepareAdvised(ctx context.Context, b *bench) error {
	c, high := b.million.desk(), "high"
	if _, err := c.Repository(ctx, "bench"); err != nil {
		if err := prepareTab(ctx, b); err != nil {
			return err
		}
	}
	if b.advised {
		return nil
	}
	b.advised = true
	if _, err := c.EditRepository(ctx, "bench", api.RepositoryChange{Refuse: &high,
		Admission: &api.AdmissionChange{RefuseLicences: &[]string{"AGPL-*"}}}); err != nil {
		return err
	}
	for some := range 20 {
		n := api.NewVetting{Decision: "accepted", Reason: "measured"}
		for i := range 500 {
			n.Patterns = append(n.Patterns, fmt.Sprintf("pkg:npm/stranger-%d@1.0.0", some*500+i))
		}
		if _, err := c.Vet(ctx, n); err != nil {
			return err
		}
	}
	for i := range 1000 {
		if _, err := c.MakeWaiver(ctx, api.NewWaiver{Advisory: fmt.Sprintf("ISLE-%d", i),
			Pattern: fmt.Sprintf("pkg:npm/stranger-%d", i), Reason: "measured"}); err != nil {
			return err
		}
	}
	for _, h := range []*house.House{b.million.house, b.house} {
		if err := publishTo(ctx, h, "advised", "1.0", "bin", strings.NewReader(strings.Repeat("a", 1<<10))); err != nil {
			return err
		}
	}
	return nil
}

// readAdvised compares downloads with those of the service that knows of no advisory.
func readAdvised(ctx context.Context, b *bench, _ int) (with, without float64, err error) {
	return compareAdvised(ctx, b, address("advised"))
}

// readAdvisedDocument compares the list of versions.
func readAdvisedDocument(ctx context.Context, b *bench, _ int) (with, without float64, err error) {
	file := address("advised")
	return compareAdvised(ctx, b, file[:strings.Index(file, "/advised/")]+"/advised/maven-metadata.xml")
}

func compareAdvised(ctx context.Context, b *bench, path string) (with, without float64, err error) {
	if with, err = wrk(ctx, b.million.house.Address+path, "3s", authorization); err != nil {
		return 0, 0, err
	}
	without, err = wrk(ctx, b.house.Address+path, "3s", authorization)
	return with, without, err
}
