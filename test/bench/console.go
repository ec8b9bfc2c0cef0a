package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crelvo/internal/demo"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// screens are what the pages of the console ask first.
var screens = []string{
	"repositories", "repositories/snapshots", "status", "first-steps", "packages?limit=50", "space?days=90", "use?by=day",
	"use?by=client", "use?by=repository", "packages/used?order=top", "packages/used?order=rising",
	"packages/used?order=falling", "packages/used?order=unused", "builds", "promotions", "sweeps", "events",
	"events/actions", "pins", "policies", "receiving", "tracks", "users", "claims", "repositories/snapshots/folder",
	"repositories/snapshots/folder?ecosystem=npm&path=@skerry", "repositories/snapshots/folder?ecosystem=pypi",
	"repositories/snapshots/arrivals?since=2026-01-01", "repositories/snapshots/claimed-names", "searches/completions?q=ber",
}

// rareSearches ask for what hardly any version has.
var rareSearches = []string{"licence:M", "licence:GPL*", "by:nobody", "holds:snapshots+age:%3E300d+downloads:0"}

// consoleScreens gives the 95th percentile, in milliseconds, of what the console asks of
// a million versions in 100,000 packages.
func consoleScreens(ctx context.Context, b *bench, _ int) (p95, _ float64, err error) {
	h, conn, end, err := b.crowd(ctx, "wide")
	if err != nil {
		return 0, 0, err
	}
	defer end()
	for _, statement := range []string{crowd(100_000, 10) + contents, "vacuum analyze", "checkpoint"} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return 0, 0, err
		}
	}
	ask := func(what string) (float64, error) {
		begun := time.Now()
		a, err := h.Ask(ctx, http.MethodGet, "/api/v1/"+what, house.Token, nil)
		if err == nil && a.Status != http.StatusOK {
			err = fmt.Errorf("%s: %d %s", what, a.Status, a.Body)
		}
		return time.Since(begun).Seconds() * 1000, err
	}
	first, slowest := 0.0, ""
	var took []float64
	for round := range 20 {
		for _, what := range screens {
			ms, err := ask(what)
			if err != nil {
				return 0, 0, err
			}
			if round > 0 {
				took = append(took, ms)
			} else if ms > first {
				first, slowest = ms, what
			}
		}
	}
	slices.Sort(took)
	b.note("S15: the middle answer in %.1f ms, the slowest in %.1f ms; the very first of all after a start in %.0f ms, for %s",
		took[len(took)/2], took[len(took)-1], first, slowest)
	for _, q := range rareSearches {
		ms, err := ask("packages?limit=50&q=" + q)
		if err != nil {
			return 0, 0, err
		}
		b.note("S15: %s in %.0f ms (target < 500)", q, ms)
	}
	return took[len(took)*95/100], 0, nil
}

// prepareTab gives the service with a million versions a repository to publish to.
func prepareTab(ctx context.Context, b *bench) error {
	if err := prepareMillion(ctx, b); err != nil {
		return err
	}
	return b.million.house.AddRepository(ctx, "bench", "releases")
}

// besideTab compares publishing with and without somebody who looks at the list of
// repositories meanwhile. The browser runs on the same processors; what the service and
// PostgreSQL take by themselves is told in a note.
func besideTab(ctx context.Context, b *bench, n int) (with, without float64, err error) {
	h := b.million.house
	_, postmaster, err := databaseIn(filepath.Join(b.dir, "million"))
	if err != nil {
		return 0, 0, err
	}
	taken := func() float64 {
		process, cluster := b.processorTime(h, postmaster)
		return (process + cluster).Seconds() * 1000 / versionsPublished
	}
	publish := func() (float64, error) {
		b.rounds++
		all, err := jars()
		if err != nil {
			return 0, err
		}
		return b.publishAll(ctx, h, fmt.Sprint(b.rounds), 8, all)
	}
	if n == 0 { // nothing was planned and remembered yet
		if _, err := publish(); err != nil {
			return 0, 0, err
		}
	}
	begun := taken()
	if without, err = publish(); err != nil {
		return 0, 0, err
	}
	alone := taken() - begun
	tab, stop, err := browser.Start(ctx, 1280, 800)
	if err != nil {
		return 0, 0, err
	}
	defer stop()
	if err := browser.SignIn(tab, h.Address, "admin", house.Password); err != nil {
		return 0, 0, err
	}
	if err := browser.Within(tab, 20*time.Second, browser.ShowsText("snapshots")); err != nil {
		return 0, 0, err
	}
	// A browser that starts has much to do, and so has the service for the very first page;
	// neither is what an open tab costs.
	busy := func() time.Duration {
		process, cluster := b.processorTime(h, postmaster)
		return b.browsersTime() + process + cluster
	}
	for before, tries := busy(), 0; tries < 20; tries++ {
		time.Sleep(time.Second)
		now := busy()
		if now-before < 50*time.Millisecond {
			break
		}
		before = now
	}
	begun = taken()
	browsing := b.browsersTime()
	with, err = publish()
	if n == 1 {
		b.note("S16: the service and PostgreSQL take %.2f ms of processor time a version beside the tab, and %.2f ms without; "+
			"the browser takes %.1f s meanwhile", taken()-begun, alone, (b.browsersTime() - browsing).Seconds())
	}
	return with, without, err
}

// demoPages gives the milliseconds to the contents of the slowest page of the demo, by a
// processor four times as slow and a line of 1.6 Mbit/s, where the program itself is known
// to the browser; and tells of the very first page, where nothing is.
func demoPages(ctx context.Context, b *bench, _ int) (slowest, _ float64, err error) {
	h, err := house.StartDemo(filepath.Join(b.dir, "demo"))
	if err != nil {
		return 0, 0, err
	}
	defer func() { err = errors.Join(err, h.Stop()) }()
	tab, stop, err := browser.Start(ctx, 1280, 800)
	if err != nil {
		return 0, 0, err
	}
	defer stop()
	if err := browser.SignIn(tab, h.Address, demo.User, demo.Password); err != nil {
		return 0, 0, err
	}
	if err := browser.Within(tab, 10*time.Second, browser.Slow(4, 1_600_000)); err != nil {
		return 0, 0, err
	}
	first, err := browser.TimeOf(tab, h.Address+"/", "snapshots")
	if err != nil {
		return 0, 0, err
	}
	var which string
	var all []string
	for _, page := range browser.DemoPages {
		var best time.Duration
		for range 3 { // the first time its part of the program is fetched
			took, err := browser.TimeOf(tab, h.Address+page.Path, page.Shows)
			if err != nil {
				return 0, 0, err
			}
			if best == 0 || took < best {
				best = took
			}
		}
		all = append(all, fmt.Sprintf("%s %d", page.Path, best.Milliseconds()))
		if ms := best.Seconds() * 1000; ms > slowest {
			slowest, which = ms, page.Path
		}
	}
	b.note("Pages: the slowest is %s; the very first page, with nothing in the browser, takes %.1f s", which,
		first.Seconds())
	b.note("Pages, in ms: %s", strings.Join(all, ", "))
	return slowest, 0, nil
}
