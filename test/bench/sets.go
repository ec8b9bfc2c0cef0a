package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"crelvo/test/house"
)

const (
	setFiles     = 2000
	setBytes     = 1 << 30
	setFileBytes = setBytes / setFiles
	tinyFiles    = 100_000
	tinyBytes    = 1 << 10
)

// sets are folders that become file sets.
type sets struct {
	many, large, tiny string
	versions          int
}

func setRows() []row {
	return []row{
		{name: "Sets", what: "publish 1 GiB of 2,000 files, first", unit: "s", rounds: 3, target: "<= 1.67 (0.6 of its rate)",
			better: atMost(1 / 0.6), prepare: prepareSets, round: setFirst},
		{name: "Sets", what: "1 % of the files changed: sent, of the set", unit: "", rounds: 1, target: "<= 0.015",
			better: atMost(0.015), prepare: prepareSets, round: setChanged},
		{name: "Sets", what: "1 % of the files changed: stored, of the set", unit: "", rounds: 1, target: "<= 0.015",
			better: atMost(0.015), prepare: prepareSets, round: setStored},
		{name: "Sets", what: "insertion at the front of 1 GiB: sent, of it", unit: "", rounds: 1, target: "<= 0.01",
			better: atMost(0.01), prepare: prepareSets, round: setInserted},
		{name: "Sets", what: "fetch 1 GiB of 2,000 files into an empty folder", unit: "s", rounds: 3,
			target: "<= 1.25 (0.8 of its rate)", better: atMost(1 / 0.8), prepare: prepareSets, round: setFetched},
		{name: "Sets", what: "fetch into a folder with the version before, of that", unit: "s", rounds: 3, target: "<= 0.3",
			better: atMost(0.3), prepare: prepareSets, round: setFetchedAgain},
		{name: "Sets", what: "publish 100,000 files of 1 KiB", unit: "s", rounds: 1, target: "< 60",
			better: func(v float64) bool { return v < 60 }, prepare: prepareSets, round: setTiny},
		{name: "Sets", what: "list a folder of it, p95", unit: "ms", rounds: 1, target: "< 50",
			better: func(v float64) bool { return v < 50 }, prepare: prepareSets, round: setListed},
	}
}

func prepareSets(_ context.Context, b *bench) error {
	if b.sets != nil {
		return nil
	}
	b.sets = &sets{many: filepath.Join(b.dir, "set-many"), large: filepath.Join(b.dir, "set-large"),
		tiny: filepath.Join(b.dir, "set-tiny")}
	for i := range setFiles {
		if err := noise(filepath.Join(b.sets.many, fmt.Sprintf("zone-%02d", i%20), fmt.Sprintf("tile-%04d.bin", i)),
			setFileBytes); err != nil {
			return err
		}
	}
	for i := range tinyFiles {
		if err := noise(filepath.Join(b.sets.tiny, fmt.Sprintf("zone-%02d", i%20), fmt.Sprintf("tile-%05d.bin", i)),
			tinyBytes); err != nil {
			return err
		}
	}
	return noise(filepath.Join(b.sets.large, "large.bin"), setBytes)
}

// noise makes a file of random bytes.
func noise(path string, size int64) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = io.CopyN(f, rand.Reader, size)
	return errors.Join(err, f.Close())
}

// publishSet publishes a folder as the next version, and tells how long it took, how many bytes were sent, and how much
// memory the command used, in MiB.
func (b *bench) publishSet(ctx context.Context, name, folder string) (took float64, sent int64, used float64,
	err error) {
	b.sets.versions++
	cmd := b.command(ctx, "publish", folder, "--to", "bench", "--as",
		fmt.Sprintf("pkg:generic/%s@1.0.%d", name, b.sets.versions), "--output", "json")
	start := time.Now()
	out, err := cmd.Output()
	took = time.Since(start).Seconds()
	var said struct{ Sent int64 }
	if err == nil {
		err = json.Unmarshal(out, &said)
	} else if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		err = fmt.Errorf("%w: %s", err, exit.Stderr)
	}
	return took, said.Sent, peak(cmd), err
}

// peak is how much memory a command that has ended used at most, in MiB.
func peak(cmd *exec.Cmd) float64 {
	if cmd.ProcessState == nil {
		return 0
	}
	return float64(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
}

// newest is the version that was published last.
func (b *bench) newest(name string) string {
	return fmt.Sprintf("pkg:generic/%s@1.0.%d", name, b.sets.versions)
}

// setFirst publishes files that the service knows nothing of, and copies them, digested and made durable.
func setFirst(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	if n > 0 {
		if err := os.RemoveAll(b.sets.many); err != nil {
			return 0, 0, err
		}
		for i := range setFiles {
			if err := noise(filepath.Join(b.sets.many, fmt.Sprintf("zone-%02d", i%20), fmt.Sprintf("tile-%04d.bin", i)),
				setFileBytes); err != nil {
				return 0, 0, err
			}
		}
	}
	syscall.Sync()
	ours, _, used, err := b.publishSet(ctx, "many", b.sets.many)
	if err != nil {
		return 0, 0, err
	}
	b.note("Sets: the command used %.0f MiB for 1 GiB of 2,000 files", used)
	copied := filepath.Join(b.dir, "set-copied")
	defer os.RemoveAll(copied)
	reference, err = timed(exec.CommandContext(ctx, "sh", "-c", "cp -r '"+b.sets.many+"' '"+copied+"' && cd '"+copied+
		"' && find . -type f -print0 | xargs -0 sha256sum > ../set-sums && sync -f ."))
	return ours, reference, err
}

// change gives one in a hundred files other bytes.
func change(b *bench) error {
	for i := 0; i < setFiles; i += 100 {
		if err := noise(filepath.Join(b.sets.many, fmt.Sprintf("zone-%02d", i%20), fmt.Sprintf("tile-%04d.bin", i)),
			setFileBytes); err != nil {
			return err
		}
	}
	return nil
}

func setChanged(ctx context.Context, b *bench, _ int) (share, _ float64, err error) {
	if err := change(b); err != nil {
		return 0, 0, err
	}
	took, sent, _, err := b.publishSet(ctx, "many", b.sets.many)
	b.note("Sets: publishing it took %.2f s", took)
	return float64(sent) / setBytes, 0, err
}

func setStored(ctx context.Context, b *bench, _ int) (share, _ float64, err error) {
	used := func() (size int64) {
		err = filepath.WalkDir(filepath.Join(b.dir, "data", "store"), func(_ string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			info, err := d.Info()
			if err == nil {
				size += info.Size()
			}
			return err
		})
		return size
	}
	before := used()
	if err != nil {
		return 0, 0, err
	}
	if err := change(b); err != nil {
		return 0, 0, err
	}
	if _, _, _, err := b.publishSet(ctx, "many", b.sets.many); err != nil {
		return 0, 0, err
	}
	after := used()
	if after == before {
		return 0, 0, errors.New("nothing was stored")
	}
	return float64(after-before) / setBytes, 0, err
}

func setInserted(ctx context.Context, b *bench, _ int) (share, _ float64, err error) {
	if _, _, _, err := b.publishSet(ctx, "large", b.sets.large); err != nil {
		return 0, 0, err
	}
	path := filepath.Join(b.sets.large, "large.bin")
	if err := exec.CommandContext(ctx, "sh", "-c", "(echo in front; cat '"+path+"') > '"+path+".more' && mv '"+path+".more' '"+
		path+"'").Run(); err != nil {
		return 0, 0, err
	}
	_, sent, _, err := b.publishSet(ctx, "large", b.sets.large)
	return float64(sent) / setBytes, 0, err
}

// setFetched fetches a set into an empty folder, and copies the folder that it was made of.
func setFetched(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	into, copied := filepath.Join(b.dir, "set-into"), filepath.Join(b.dir, "set-copied")
	defer os.RemoveAll(copied)
	if err := os.RemoveAll(into); err != nil {
		return 0, 0, err
	}
	if _, _, _, err = b.publishSet(ctx, "many", b.sets.many); err != nil {
		return 0, 0, err
	}
	syscall.Sync()
	if ours, err = timed(b.command(ctx, "fetch", b.newest("many"), "--into", into)); err != nil {
		return 0, 0, err
	}
	syscall.Sync()
	reference, err = timed(exec.CommandContext(ctx, "cp", "-r", b.sets.many, copied))
	return ours, reference, err
}

// setFetchedAgain fetches a version into an empty folder, and into one that has the version before.
func setFetchedAgain(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	into := filepath.Join(b.dir, "set-into")
	if err := os.RemoveAll(into); err != nil {
		return 0, 0, err
	}
	if _, _, _, err = b.publishSet(ctx, "many", b.sets.many); err != nil {
		return 0, 0, err
	}
	syscall.Sync()
	if reference, err = timed(b.command(ctx, "fetch", b.newest("many"), "--into", into)); err != nil {
		return 0, 0, err
	}
	if err := change(b); err != nil {
		return 0, 0, err
	}
	if _, _, _, err = b.publishSet(ctx, "many", b.sets.many); err != nil {
		return 0, 0, err
	}
	syscall.Sync()
	start := time.Now()
	out, err := b.command(ctx, "fetch", b.newest("many"), "--into", into, "--output", "json").Output()
	ours = time.Since(start).Seconds()
	var said struct{ Fetched int64 }
	if err == nil {
		err = json.Unmarshal(out, &said)
	}
	b.note("Sets: then %.2f %% of the bytes were fetched (target: at most 5)", 100*float64(said.Fetched)/setBytes)
	return ours, reference, err
}

func setTiny(ctx context.Context, b *bench, _ int) (took, _ float64, err error) {
	before, err := memory(b.house)
	if err != nil {
		return 0, 0, err
	}
	took, _, used, err := b.publishSet(ctx, "tiny", b.sets.tiny)
	if err != nil {
		return 0, 0, err
	}
	after, err := memory(b.house)
	if err != nil {
		return 0, 0, err
	}
	fetch := b.command(ctx, "fetch", b.newest("tiny"), "--into", filepath.Join(b.dir, "tiny-into"))
	fetching, err := timed(fetch)
	b.note("Sets: with 100,000 files publish used %.0f MiB and fetch, in %.1f s, %.0f MiB (target: at most 256 each), and "+
		"the service %.0f MiB at most, %.0f before (target: at most 128 more)", used, fetching, peak(fetch), after, before)
	return took, 0, err
}

func setListed(ctx context.Context, b *bench, _ int) (p95, _ float64, err error) {
	var took []float64
	for i := range 200 {
		start := time.Now()
		a, err := b.house.Ask(ctx, http.MethodGet, fmt.Sprintf("/at/bench/generic/tiny/1.0.%d/zone-%02d/?as=json",
			b.sets.versions, i%20), house.Token, nil)
		if err != nil || a.Status != http.StatusOK || len(a.Body) < 100*tinyFiles/20 {
			return 0, 0, fmt.Errorf("%d %d bytes %w", a.Status, len(a.Body), err)
		}
		took = append(took, float64(time.Since(start).Microseconds())/1000)
	}
	slices.Sort(took)
	return took[len(took)*95/100], 0, nil
}
