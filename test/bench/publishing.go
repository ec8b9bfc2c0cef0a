package main

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/test/house"
)

const versionsPublished = 1000

// eachOf shares n pieces of work among so many who do it at once.
func eachOf(n, workers int, do func(i int) error) error {
	work := make(chan int)
	failed := make(chan error, workers)
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for i := range work {
				if err := do(i); err != nil {
					failed <- err
					return
				}
			}
		})
	}
	for i := range n {
		select {
		case work <- i:
		case err := <-failed:
			return err
		}
	}
	close(work)
	all.Wait()
	close(failed)
	return <-failed
}

// plain is the plainest service that takes the same requests durably, on the same
// database: what S5 is measured against.
type plain struct {
	command *exec.Cmd
	house   *house.House // of the same methods
	db      *pgx.Conn
	cluster int // the process of PostgreSQL
}

// preparePlain builds and starts the plain service.
func preparePlain(ctx context.Context, b *bench) error {
	if b.plain != nil {
		return nil
	}
	program, dir := filepath.Join(b.dir, "plain"), filepath.Join(b.dir, "plain-files")
	build := exec.CommandContext(ctx, "go", "build", "-o", program, "./test/bench/plain")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("the plain service: %w: %s", err, out)
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	database, cluster, err := databaseOf(b.house)
	if err != nil {
		return err
	}
	cmd := exec.Command(program, "--dir", dir, "--database", database)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	b.plain = &plain{command: cmd, cluster: cluster}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return err
	}
	b.plain.house = &house.House{Address: strings.TrimPrefix(strings.TrimSpace(line), "ready on "), Command: cmd}
	b.plain.db, err = pgx.Connect(ctx, database)
	return err
}

// end ends the plain service, if it runs.
func (p *plain) end(ctx context.Context) error {
	if p == nil {
		return nil
	}
	err := p.command.Process.Kill()
	_ = p.command.Wait() // it was killed
	if p.db != nil {
		err = errors.Join(err, p.db.Close(ctx))
	}
	return err
}

// databaseOf is the address of a service's private database, and its process.
func databaseOf(h *house.House) (address string, pid int, err error) {
	return databaseIn(h.Data + "/postgres")
}

// databaseIn is databaseOf for the one in a folder.
func databaseIn(folder string) (address string, pid int, err error) {
	password, err := os.ReadFile(folder + "-password")
	if err != nil {
		return "", 0, err
	}
	raw, err := os.ReadFile(folder + "/postmaster.pid")
	if err != nil {
		return "", 0, err
	}
	lines := strings.Split(string(raw), "\n")
	pid, err = strconv.Atoi(lines[0])
	return fmt.Sprintf("postgres://crelvo:%s@127.0.0.1:%s/postgres?sslmode=disable", strings.TrimSpace(string(password)),
		lines[3]), pid, err
}

// jars are the contents of the versions of one round.
func jars() (all [][]byte, err error) {
	all = make([][]byte, versionsPublished)
	for i := range all {
		if all[i], err = smallJar(20 << 10); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// publishAll publishes the same versions to a service, so many at once, and tells what
// it took.
func (b *bench) publishAll(ctx context.Context, to *house.House, prefix string, clients int, jars [][]byte) (
	took float64, err error,
) {
	start := time.Now()
	err = eachOf(len(jars), clients, func(i int) error {
		return publishTo(ctx, to, fmt.Sprintf("module-%d", i%100), fmt.Sprintf("%s.%d", prefix, i/100), "jar",
			bytes.NewReader(jars[i]))
	})
	return time.Since(start).Seconds(), err
}

// publishBoth publishes one round to both services, in turns that change who is first.
func (b *bench) publishBoth(ctx context.Context, n, clients int, around func(to *house.House, do func() error) error) (
	ours, reference float64, err error,
) {
	all, err := jars()
	if err != nil {
		return 0, 0, err
	}
	b.rounds++
	prefix, took := strconv.Itoa(b.rounds), map[*house.House]float64{}
	both := []*house.House{b.house, b.plain.house}
	if n%2 == 1 {
		slices.Reverse(both)
	}
	for _, to := range both {
		if err := around(to, func() (err error) {
			took[to], err = b.publishAll(ctx, to, prefix, clients, all)
			return err
		}); err != nil {
			return 0, 0, err
		}
	}
	return took[b.house], took[b.plain.house], nil
}

func publishMany(clients int) func(context.Context, *bench, int) (float64, float64, error) {
	return func(ctx context.Context, b *bench, n int) (float64, float64, error) {
		return b.publishBoth(ctx, n, clients, func(_ *house.House, do func() error) error { return do() })
	}
}

// processorOfPublishing compares what a version costs the services and PostgreSQL.
func processorOfPublishing(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	cost, database, written := map[*house.House]float64{}, map[*house.House]float64{}, map[*house.House]float64{}
	_, _, err = b.publishBoth(ctx, n, 8, func(to *house.House, do func() error) error {
		process, cluster := b.processorTime(to, b.plain.cluster)
		wal := b.written(ctx)
		err := do()
		processAfter, clusterAfter := b.processorTime(to, b.plain.cluster)
		database[to] = float64((clusterAfter - cluster).Microseconds()) / 1000 / versionsPublished
		cost[to] = database[to] + float64((processAfter-process).Microseconds())/1000/versionsPublished
		written[to] = float64(b.written(ctx)-wal) / versionsPublished
		return err
	})
	if n == 1 {
		b.note("S5: of the processor time, PostgreSQL's is %.2f ms, against %.2f; %.1f KiB of write-ahead log a version, "+
			"against %.1f", database[b.house], database[b.plain.house], written[b.house]/1024, written[b.plain.house]/1024)
	}
	return cost[b.house], cost[b.plain.house], err
}

// publishSlowly compares both where each flush of the database takes 5 ms more.
func publishSlowly(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	set := func(delay, siblings int) error {
		for _, statement := range []string{fmt.Sprintf("alter system set commit_delay = %d", delay),
			fmt.Sprintf("alter system set commit_siblings = %d", siblings), "select pg_reload_conf()"} {
			if _, err := b.plain.db.Exec(ctx, statement); err != nil {
				return err
			}
		}
		return nil
	}
	if err := set(5000, 0); err != nil {
		return 0, 0, err
	}
	ours, reference, err = b.publishBoth(ctx, n, 24, func(_ *house.House, do func() error) error { return do() })
	return versionsPublished / ours, versionsPublished / reference, errors.Join(err, set(0, 5))
}

// written is how much PostgreSQL has logged so far, in bytes.
func (b *bench) written(ctx context.Context) (bytes int64) {
	if err := b.plain.db.QueryRow(ctx, `select pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')::bigint`).
		Scan(&bytes); err != nil {
		b.note("S5: what is logged cannot be read: %v", err)
	}
	return bytes
}

// processorTime is what a service and the PostgreSQL of a process have taken so far.
func (b *bench) processorTime(of *house.House, postmaster int) (process, cluster time.Duration) {
	server := strconv.Itoa(postmaster)
	b.processes(func(pid, _ string, fields []string, sum func(places ...int) time.Duration) {
		switch {
		case pid == strconv.Itoa(of.Command.Process.Pid):
			process += sum(11, 12) // in user's and in the system's time
		case fields[1] == server:
			cluster += sum(11, 12)
		case pid == server:
			cluster += sum(11, 12, 13, 14) // and of what it began that has ended
		}
	})
	return process, cluster
}

// browsersTime is what browsers have taken so far.
func (b *bench) browsersTime() (taken time.Duration) {
	b.processes(func(_, name string, _ []string, sum func(places ...int) time.Duration) {
		if strings.HasPrefix(name, "chrom") {
			taken += sum(11, 12)
		}
	})
	return taken
}

// processes calls each with the processes of the machine: what /proc tells of one after its
// name, and what adds some of that up as times.
func (b *bench) processes(each func(pid, name string, fields []string, sum func(places ...int) time.Duration)) {
	const tick = 10 * time.Millisecond
	entries, err := os.ReadDir("/proc")
	if err != nil {
		b.note("processor time cannot be read: %v", err)
	}
	for _, e := range entries {
		raw, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue // no process, or one that has ended
		}
		// After the name, which may have any letters: state, parent, …
		open, end := bytes.IndexByte(raw, '('), bytes.LastIndexByte(raw, ')')
		if open < 0 || end < open {
			continue // no process either
		}
		fields := strings.Fields(string(raw[end+1:]))
		each(e.Name(), string(raw[open+1:end]), fields, func(places ...int) (all time.Duration) {
			for _, p := range places {
				n, err := strconv.Atoi(fields[p])
				if err != nil {
					b.note("%s of process %s is no number", fields[p], e.Name())
				}
				all += time.Duration(n) * tick
			}
			return all
		})
	}
}

func smallJar(size int) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.CreateHeader(&zip.FileHeader{Name: "content", Method: zip.Store})
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(w, rand.Reader, int64(size)); err != nil {
		return nil, err
	}
	err = z.Close()
	return b.Bytes(), err
}
