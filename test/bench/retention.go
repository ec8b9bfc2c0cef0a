package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/test/house"
)

// million is a service with a million versions.
type million struct {
	house *house.House
	conn  *pgx.Conn
	end   func()
}

// contents are a file for each version of the crowd; of every twentieth the bytes
// are those of another.
const contents = `
insert into stored_file (sha256, sha512, sha1, md5, size, created_at)
select decode(lpad(to_hex(id), 64, '0'), 'hex'), decode(repeat('00', 64), 'hex'), decode(repeat('00', 20), 'hex'),
decode(repeat('00', 16), 'hex'), 20480, now() from version;
insert into file (version_id, name, extension, sha256, added_at)
select id, 'x-' || version || '.jar', 'jar', decode(lpad(to_hex(case when id % 20 = 0 then id - 1 else id end), 64,
'0'), 'hex'), visible_from from version;
insert into label (package_id, name, version, set_by, visible_from) select id, 'latest', '1.49.0', 'ci', now()
from package;
analyze;`

func prepareMillion(ctx context.Context, b *bench) error {
	if b.million != nil {
		return nil
	}
	h, conn, end, err := b.crowd(ctx, "million")
	if err != nil {
		return err
	}
	b.million = &million{h, conn, end}
	// What the filling leaves to be done in the background would be measured too.
	for _, statement := range []string{crowd(20_000, 50) + contents, "vacuum analyze", "checkpoint"} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// startMillion gives the seconds from the beginning of the process until it answers.
func startMillion(ctx context.Context, b *bench, _ int) (took, _ float64, err error) {
	if err := b.million.house.Stop(); err != nil {
		return 0, 0, err
	}
	begun := time.Now()
	if err := b.million.house.Restart(); err != nil {
		return 0, 0, err
	}
	a, err := b.million.house.Ask(ctx, "GET", "/readyz", "", nil)
	if err == nil && a.Status != 200 {
		err = fmt.Errorf("it is not ready: %d %s", a.Status, a.Body)
	}
	return time.Since(begun).Seconds(), 0, err
}

func (b *bench) endMillion() {
	if b.million != nil {
		b.million.end()
	}
}

func (m *million) desk() *client.Client {
	return &client.Client{Server: m.house.Address, Token: house.Token, Agent: "crelvo-bench"}
}

const wide = `name: wide
repositories: [snapshots, staging, releases]
keep:
  - newest 3 of each package
  - younger than 14d
  - downloaded within 30d
  - wanted by 3
  - labelled latest
  - promoted
`

// planMillion gives the seconds of a plan over a million versions, and of a query
// with a window over the same rows.
func planMillion(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	begun := time.Now()
	rows, err := b.million.conn.Query(ctx,
		`select id, version, visible_from, bytes, row_number() over (partition by package_id order by visible_from desc) n
		from version where visible_from is not null and visible_until is null`)
	if err != nil {
		return 0, 0, err
	}
	swept := 0
	for rows.Next() {
		var id, size, place int64
		var version string
		var at time.Time
		if err := rows.Scan(&id, &version, &at, &size, &place); err != nil {
			return 0, 0, err
		}
		if place > 3 {
			swept++
		}
	}
	if err := rows.Err(); err != nil || swept == 0 {
		return 0, 0, fmt.Errorf("%d versions: %w", swept, err)
	}
	reference = time.Since(begun).Seconds()
	before, err := memory(b.million.house)
	if err != nil {
		return 0, 0, err
	}
	begun = time.Now()
	plan, err := b.million.desk().PlanSweep(ctx, api.PlanRequest{Text: wide, Limit: 20})
	if err != nil {
		return 0, 0, err
	}
	ours = time.Since(begun).Seconds()
	after, err := memory(b.million.house)
	if err == nil && plan.Total.Kept+plan.Total.Swept != 1_000_000 {
		err = fmt.Errorf("the plan is about %+v", plan.Total)
	}
	if n == 0 {
		b.note("S9: of 1,000,000 versions %d would go; the service's peak memory was %.0f MiB before and %.0f MiB after "+
			"the first plan", plan.Total.Swept, before, after)
	}
	return ours, reference, err
}

// memory is the most memory that the service has used, in MiB.
func memory(h *house.House) (float64, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.Command.Process.Pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kib / 1024, err
		}
	}
	return 0, fmt.Errorf("no VmHWM")
}

// narrow takes 100,000 versions.
const narrow = `name: narrow
repositories: [snapshots]
keep: [newest 35 of each package]
`

// besideSweep gives the 95th percentile, in milliseconds, of publishing by 8
// clients, while 8 others download, beside a sweep of 100,000 versions and without
// one. Downloading is told in a note.
func besideSweep(ctx context.Context, b *bench, _ int) (beside, without float64, err error) {
	m := b.million
	if err := m.house.AddRepository(ctx, "bench", "releases"); err != nil {
		return 0, 0, err
	}
	own := &bench{dir: b.dir, house: m.house}
	jar, err := smallJar(20 << 10)
	if err != nil {
		return 0, 0, err
	}
	for i := range 8 {
		if err := own.publish(ctx, fmt.Sprintf("there-%d", i), "1.0", "bin", bytes.NewReader(jar)); err != nil {
			return 0, 0, err
		}
	}
	if _, err := own.load(ctx, jar, "warm", func() (bool, error) { return true, nil }, 2*time.Second); err != nil {
		return 0, 0, err
	}
	calm, err := own.load(ctx, jar, "calm", func() (bool, error) { return true, nil }, 15*time.Second)
	if err != nil {
		return 0, 0, err
	}
	if _, err := m.desk().SetPolicy(ctx, api.SetPolicy{Text: narrow}); err != nil {
		return 0, 0, err
	}
	sweep, err := m.desk().RunSweep(ctx, api.RunSweep{Policy: "narrow"})
	if err != nil {
		return 0, 0, err
	}
	begun := time.Now()
	busy, err := own.load(ctx, jar, "busy", func() (bool, error) {
		page, err := m.desk().Sweep(ctx, sweep.ID, url.Values{"limit": {"1"}})
		sweep = page.Sweep
		return sweep.State == "underway", err
	}, 10*time.Minute)
	if err != nil {
		return 0, 0, err
	}
	b.note("Sweep: %d of %d versions in %.0f s, state %s; p95 of downloading %.1f ms beside it, %.1f ms without (%.2f)",
		sweep.Done, sweep.Versions, time.Since(begun).Seconds(), sweep.State,
		busy.down, calm.down, busy.down/calm.down)
	return busy.up, calm.up, nil
}

// loaded are 95th percentiles in milliseconds.
type loaded struct{ up, down float64 }

// load has 8 clients publish and 8 download until goes says no, or for so long.
func (b *bench) load(
	ctx context.Context, jar []byte, name string, goes func() (bool, error), limit time.Duration,
) (loaded, error) {
	limited, stop := context.WithTimeout(ctx, limit)
	defer stop()
	var mu sync.Mutex
	var ups, downs []float64
	var failed error
	var clients sync.WaitGroup
	measure := func(into *[]float64, do func(i int) error) {
		for i := 0; limited.Err() == nil; i++ {
			begun := time.Now()
			err := do(i)
			ms := time.Since(begun).Seconds() * 1000
			mu.Lock()
			*into = append(*into, ms)
			if err != nil && failed == nil {
				failed = err
			}
			mu.Unlock()
			if err != nil {
				stop()
			}
		}
	}
	for c := range 8 {
		clients.Go(func() {
			measure(&ups, func(i int) error {
				return b.publish(ctx, fmt.Sprintf("%s-%d", name, c), fmt.Sprintf("1.%d", i), "jar", bytes.NewReader(jar))
			})
		})
		clients.Go(func() {
			measure(&downs, func(int) error {
				a, err := b.house.Ask(ctx, http.MethodGet, address(fmt.Sprintf("there-%d", c)), house.Token, nil)
				if err == nil && a.Status != http.StatusOK {
					err = fmt.Errorf("%d %s", a.Status, a.Body)
				}
				return err
			})
		})
	}
	for limited.Err() == nil {
		on, err := goes()
		if err != nil || !on {
			stop()
			mu.Lock()
			if failed == nil {
				failed = err
			}
			mu.Unlock()
			break
		}
		select {
		case <-limited.Done():
		case <-time.After(250 * time.Millisecond): // between two looks
		}
	}
	clients.Wait()
	if failed != nil || len(ups) == 0 || len(downs) == 0 {
		return loaded{}, failed
	}
	p95 := func(all []float64) float64 {
		slices.Sort(all)
		return all[len(all)*95/100]
	}
	return loaded{p95(ups), p95(downs)}, nil
}
