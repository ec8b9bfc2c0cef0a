package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/record/privatepg"
	"crelvo/test/house"
)

// crowd fills a database with packages of so many versions each, of four ecosystems in
// three repositories.
func crowd(packages, versions int) string {
	return fmt.Sprintf(crowdForm, packages, versions)
}

// crowdForm takes how many packages there are, and how many versions each has, over 50
// days; every fifth version was downloaded.
const crowdForm = `
insert into package (repository_id, ecosystem, namespace, name, revision, changed_at, last_arrived, versions, bytes)
select (array(select id from repository order by id))[1 + n %% 3], (array['maven', 'npm', 'pypi', 'nuget'])[1 + n %% 4],
  case n %% 4 when 0 then 'example.skerry.' || (array['berth', 'fare', 'crew', 'deck', 'tide'])[1 + n / 4 %% 5]
when 1 then '@skerry' else '' end,
  (array['brine', 'kelp', 'tide', 'berth', 'gull', 'anchor', 'lodestar', 'fathom', 'channel',
'slipway'])[1 + n * 7 %% 10] || '-' ||
  (array['planner', 'model', 'engine', 'colors', 'format', 'client', 'server', 'widgets', 'codec', 'link', 'http',
'json'])[1 + n / 10 %% 12] || '-' || n,
  %[2]d, now() - n * interval '1 minute', now() - n * interval '1 minute', %[2]d, %[2]d * 20480
from generate_series(1, %[1]d) n;
insert into version (package_id, version, snapshot, uploaded_at, published_by, touched_at, visible_from, bytes, details)
select p.id, '1.' || v || '.0' || case when v %% 3 = 0 then '-dev.' || v else '' end, v %% 3 = 0,
now() - v * (50 / %[2]d) * interval '1 day', (array['ci-berth', 'purser', 'deckhand'])[1 + v %% 3],
  now(), now() - (v * (50 / %[2]d) * 1440 + p.id %% 1440) * interval '1 minute', 20480,
  jsonb_build_object('description', 'Made up for the measurement', 'licences',
jsonb_build_array(jsonb_build_object('name', (array['MIT', 'Apache-2.0', 'ISC'])[1 + p.id %% 3])))
from package p, generate_series(1, %[2]d) v;
insert into download_day (version_id, day, client, who, downloads) select id, current_date, 'maven', 'robot',
1 + id %% 50 from version where id %% 5 = 0;
insert into version_use (version_id, used_at, downloads, users) select id, now() - (id %% 90) * interval '1 day',
1 + id %% 50, id %% 4 from version where id %% 5 = 0;
analyze;`

// typed are queries that are asked letter by letter.
var typed = []string{"berth-planner", "skerry tide", "lodestar json", "kelp repo:releases", "ecosystem:npm widgets",
	"holds:snapshots age:>30d downloads:0",
	"pkg:npm/@skerry/gull-*", "licence:MIT fathom", "brine-http-1234", "used:<7d channel", "zebra", "tide model",
	"channel-client", "@skerry/anchor", "gull codec", "slipway server 77"}

// crowd starts a service on a database of its own, with the repositories that crowd
// fills, and a connection to that.
func (b *bench) crowd(ctx context.Context, name string) (h *house.House, conn *pgx.Conn, end func(), err error) {
	server, err := privatepg.Start(ctx, filepath.Join(b.dir, name))
	if err != nil {
		return nil, nil, nil, err
	}
	if h, err = house.Start(filepath.Join(b.dir, name+"-data"), "--database", server.URL, "--log-level",
		"warn"); err != nil {
		return nil, nil, nil, errors.Join(err, server.Stop())
	}
	end = func() {
		if conn != nil {
			_ = conn.Close(ctx)
		}
		_ = h.Stop()
		_ = server.Stop()
	}
	for _, name := range []string{"snapshots", "staging", "releases"} {
		if err := h.AddRepository(ctx, name, "both"); err != nil {
			end()
			return nil, nil, nil, err
		}
	}
	if conn, err = pgx.Connect(ctx, server.URL); err != nil {
		end()
	}
	return h, conn, end, err
}

// searchAsTyped gives the 95th percentile, in milliseconds, of the answers while
// people type.
func searchAsTyped(ctx context.Context, b *bench, _ int) (p95, _ float64, err error) {
	h, conn, end, err := b.crowd(ctx, "crowd")
	if err != nil {
		return 0, 0, err
	}
	defer end()
	if _, err := conn.Exec(ctx, crowd(20_000, 50)); err != nil {
		return 0, 0, err
	}
	var took, words []float64
	slowest, slowestQuery := 0.0, ""
	for _, text := range typed {
		for end := 1; end <= len(text); end++ {
			begun := time.Now()
			a, err := h.Ask(ctx, http.MethodGet, "/api/v1/packages?limit=50&q="+url.QueryEscape(text[:end]), house.Token, nil)
			if err != nil || a.Status >= 500 {
				return 0, 0, fmt.Errorf("%s: %d %s %w", text[:end], a.Status, a.Body, err)
			}
			if a.Status != http.StatusOK {
				continue // it was not a whole query yet
			}
			ms := time.Since(begun).Seconds() * 1000
			took = append(took, ms)
			if !strings.Contains(text[:end], ":") {
				words = append(words, ms)
			}
			if ms > slowest {
				slowest, slowestQuery = ms, text[:end]
			}
		}
	}
	slices.Sort(took)
	slices.Sort(words)
	b.note("S11: %d answers, the middle one in %.1f ms, the slowest in %.1f ms, for %q; of words alone, p95 is %.1f ms",
		len(took), took[len(took)/2], slowest, slowestQuery,
		words[len(words)*95/100])
	return took[len(took)*95/100], 0, nil
}
