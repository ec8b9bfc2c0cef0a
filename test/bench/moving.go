package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

const (
	movedPackages = 10_000
	movedSize     = 3_000 // bytes of each, which do not get smaller
)

// moving is another Crelvo, with many small packages, that are files of an rsync daemon, too.
type moving struct {
	far   *house.House
	rsync *exec.Cmd
	at    string // of the daemon
	size  int64  // of all packages
	line  net.Listener
	wire  atomic.Int64 // bytes over the line to it
}

func movingRows() []row {
	return []row{
		{name: "Move", what: "10,000 small packages from another Crelvo, of rsync's rate", unit: "/s", rounds: 1,
			target: ">= 0.8", better: atLeast(0.8), prepare: prepareMoving, round: moveAll},
		{name: "Move", what: "the same when all is there already", unit: "s", rounds: 3, target: "< 5",
			better: func(v float64) bool { return v < 5 }, prepare: prepareMoving, round: moveNothing},
		{name: "Move", what: "bytes on the wire then, of the packages' size", unit: "B", rounds: 1, target: "< 0.02",
			better: func(v float64) bool { return v < 0.02 }, prepare: prepareMoving, round: wireOfNothing},
	}
}

func prepareMoving(ctx context.Context, b *bench) (err error) {
	if b.moving != nil {
		return nil
	}
	m := &moving{}
	if m.far, err = house.Start(filepath.Join(b.dir, "far"), "--log-level", "warn"); err != nil {
		return err
	}
	b.moving = m
	if err := m.far.AddRepository(ctx, "yard", "both"); err != nil {
		return err
	}
	folder := filepath.Join(b.dir, "moving")
	if err := os.Mkdir(folder, 0o755); err != nil {
		return err
	}
	var size atomic.Int64
	publishing, ctx := errgroup.WithContext(ctx)
	publishing.SetLimit(8)
	for i := range movedPackages {
		publishing.Go(func() error {
			content, err := m.publish(ctx, i)
			if err != nil {
				return err
			}
			size.Add(int64(len(content)))
			return os.WriteFile(filepath.Join(folder, fmt.Sprintf("moved-%05d-1.0.0.tgz", i)), content, 0o644)
		})
	}
	if err := publishing.Wait(); err != nil {
		return err
	}
	m.size = size.Load()
	if err := m.serve(folder); err != nil {
		return err
	}
	if err := m.listen(); err != nil {
		return err
	}
	if err := b.house.AddRepository(context.WithoutCancel(ctx), "moved", "both"); err != nil {
		return err
	}
	return b.house.AddMirrorOf(context.WithoutCancel(ctx), "npm", "far-yard",
		"http://"+m.line.Addr().String()+"/at/yard/npm/", map[string]any{"secret": house.Token})
}

// publish publishes the package of a number at the other Crelvo.
func (m *moving) publish(ctx context.Context, i int) (content []byte, err error) {
	dice, noise := rand.New(rand.NewPCG(uint64(i), 1)), make([]byte, movedSize)
	for k := range noise {
		noise[k] = byte(dice.Uint32())
	}
	p := madeup.Package{Name: fmt.Sprintf("moved-%05d", i), Version: "1.0.0", Licence: "MIT",
		Files: []madeup.Entry{{Name: "package/noise", Content: string(noise)}}}
	content = p.NPM()
	a, err := m.far.Ask(ctx, http.MethodPut, "/at/yard/npm/"+p.Name, house.Token,
		strings.NewReader(string(p.NPMDocument("latest", content))))
	if err == nil && a.Status > 299 {
		err = fmt.Errorf("%d %s", a.Status, a.Body)
	}
	return content, err
}

// serve starts an rsync daemon.
func (m *moving) serve(folder string) error {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	_, port, _ := net.SplitHostPort(free.Addr().String())
	free.Close()
	config := folder + ".conf"
	if err := os.WriteFile(config, fmt.Appendf(nil, "use chroot = no\nreverse lookup = no\n[moving]\npath = %s\n", folder),
		0o600); err != nil {
		return err
	}
	m.at = "rsync://127.0.0.1:" + port + "/moving/"
	m.rsync = exec.Command("rsync", "--daemon", "--no-detach", "--address=127.0.0.1", "--port="+port, "--config="+config)
	if err := m.rsync.Start(); err != nil {
		return err
	}
	for range 100 {
		line, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			return line.Close()
		}
		time.Sleep(20 * time.Millisecond)
	}
	return errors.New("rsync's daemon does not answer")
}

// listen makes a line to the other Crelvo that counts.
func (m *moving) listen() (err error) {
	if m.line, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	go func() {
		for {
			from, err := m.line.Accept()
			if err != nil {
				return
			}
			go func() {
				defer from.Close()
				to, err := net.Dial("tcp", strings.TrimPrefix(m.far.Address, "http://"))
				if err != nil {
					return
				}
				defer to.Close()
				go func() {
					_, _ = io.Copy(to, io.TeeReader(from, m))
					to.Close()
				}()
				_, _ = io.Copy(from, io.TeeReader(to, m))
			}()
		}
	}()
	return nil
}

// Write implements io.Writer.
func (m *moving) Write(p []byte) (int, error) {
	m.wire.Add(int64(len(p)))
	return len(p), nil
}

// end ends what was started.
func (m *moving) end() error {
	if m == nil {
		return nil
	}
	if m.line != nil {
		m.line.Close()
	}
	if m.rsync != nil {
		_ = m.rsync.Process.Kill()
		_ = m.rsync.Wait()
	}
	return m.far.Stop()
}

// transfer has everything transferred that is not there, and tells how long that took.
func (b *bench) transfer(ctx context.Context) (api.TransferRun, float64, error) {
	c := &client.Client{Server: b.house.Address, Token: house.Token, Agent: "crelvo-bench"}
	begun := time.Now()
	run, err := c.BeginTransfer(ctx, api.NewTransferRun{From: "far-yard", To: "moved"})
	for err == nil && run.EndedAt == nil {
		time.Sleep(100 * time.Millisecond)
		run, err = c.Transfer(ctx, run.ID)
	}
	if err == nil && (run.State != "done" || run.Failed.Versions+run.Refused.Versions > 0) {
		err = fmt.Errorf("%+v", run)
	}
	return run, time.Since(begun).Seconds(), err
}

// moveAll compares a transfer with rsync of the same files, in packages a second.
func moveAll(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	run, took, err := b.transfer(ctx)
	if err != nil {
		return 0, 0, err
	}
	if run.Came.Versions != movedPackages {
		return 0, 0, fmt.Errorf("%+v", run)
	}
	plainly, err := b.moving.copy(ctx, filepath.Join(b.dir, fmt.Sprintf("rsync-%d", n)))
	if err != nil {
		return 0, 0, err
	}
	durably, err := b.moving.copy(ctx, filepath.Join(b.dir, fmt.Sprintf("rsync-durably-%d", n)), "--fsync")
	b.note("Move: %.1f s, and rsync %.1f s; %.1f s where it makes each file durable, too", took, plainly, durably)
	return movedPackages / took, movedPackages / plainly, err
}

// copy has rsync copy the files, and tells how long that took.
func (m *moving) copy(ctx context.Context, into string, flags ...string) (float64, error) {
	begun := time.Now()
	if out, err := exec.CommandContext(ctx, "rsync", append(flags, "-a", m.at, into)...).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	return time.Since(begun).Seconds(), nil
}

func moveNothing(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	run, took, err := b.transfer(ctx)
	if err == nil && run.There.Versions != movedPackages {
		err = fmt.Errorf("%+v", run)
	}
	return took, 0, err
}

func wireOfNothing(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	before := b.moving.wire.Load()
	_, _, err = b.transfer(ctx)
	return float64(b.moving.wire.Load() - before), float64(b.moving.size), err
}
