// Command bench measures the rows of the speed table, each against the
// plainest thing that could do the same work, in the same run on the same
// machine. It prints a line per row: name, ours, reference, ratio, target.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"crelvo/internal/demo"
	"crelvo/test/house"
)

// row is one measurement. A round gives ours and the reference's value once;
// the ratio is the median over several interleaved rounds.
type row struct {
	name, what, unit string
	rounds           int
	target           string
	better           func(ratio float64) bool
	prepare          func(ctx context.Context, b *bench) error
	round            func(ctx context.Context, b *bench, n int) (ours, reference float64, err error)
}

// bench is what the rows share.
type bench struct {
	dir   string
	house *house.House
	nginx string // its address
	notes []string

	shore   *demo.Upstream
	chained bool
	tracked bool

	published int // versions of the package with many

	million *million // of S9
	advised bool     // the million has advisories, waivers and vettings

	far *far // of S14

	fifty *fifty // of S17

	plain  *plain // of S5
	rounds int    // of publishing so far

	moving *moving

	sets *sets

	stored *stored // of reading and writing through an object store

	imaged      bool
	imageMemory int64 // before the first image, in bytes
	images      *demo.Upstream
}

func (b *bench) note(format string, args ...any) {
	b.notes = append(b.notes, fmt.Sprintf(format, args...))
}

func atLeast(limit float64) func(float64) bool { return func(r float64) bool { return r >= limit } }
func atMost(limit float64) func(float64) bool  { return func(r float64) bool { return r <= limit } }

func main() {
	only := flag.String("only", "", "only these rows, such as S1,S4")
	flag.Parse()
	if err := run(context.Background(), *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, only string) (err error) {
	dir, err := house.TempDir()
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	// Clients keep their connections.
	http.DefaultTransport.(*http.Transport).MaxIdleConnsPerHost = 64
	b := &bench{dir: dir}
	if b.house, err = house.Start(filepath.Join(dir, "data"), "--quiet-period", "1h", "--log-level", "warn"); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, b.house.Stop()) }()
	for _, r := range [][2]string{{"bench", "releases"}, {"bench-snapshots", "snapshots"}} {
		if err := b.house.AddRepository(ctx, r[0], r[1]); err != nil {
			return err
		}
	}
	stop, err := b.startNginx()
	if err != nil {
		return err
	}
	defer stop()
	defer b.endMillion()
	defer b.endFifty()
	defer func() { err = errors.Join(err, b.stored.end(), b.moving.end()) }()
	defer func() { err = errors.Join(err, b.plain.end(ctx)) }()
	fmt.Printf("%-4s %-58s %14s %14s %7s  %s\n", "name", "work", "ours", "reference", "ratio", "target")
	for _, r := range slices.Concat(rows(), imageRows(), storeRows(), safetyRows(), movingRows(), setRows()) {
		if only != "" && !slices.Contains(strings.Split(only, ","), r.name) {
			continue
		}
		if err := b.measure(ctx, r); err != nil {
			return fmt.Errorf("%s: %w", r.name, err)
		}
	}
	if only == "" || slices.Contains(strings.Split(only, ","), "Scale") {
		if err := b.unitCosts(ctx); err != nil {
			return fmt.Errorf("what each costs: %w", err)
		}
	}
	for _, n := range b.notes {
		fmt.Println(n)
	}
	return nil
}

func (b *bench) measure(ctx context.Context, r row) error {
	if r.prepare != nil {
		if err := r.prepare(ctx, b); err != nil {
			return err
		}
	}
	if r.name == "Image" {
		defer func() {
			if peak, err := memory(b.house); err == nil {
				b.note("Image: after %q the service had had %.0f MiB at most, %.0f before the first", r.what, peak,
					float64(b.imageMemory)/(1<<20))
			}
		}()
	}
	var ours, references, ratios []float64
	for n := range r.rounds {
		mine, reference, err := r.round(ctx, b, n)
		if err != nil {
			return err
		}
		ours, references = append(ours, mine), append(references, reference)
		if reference != 0 {
			ratios = append(ratios, mine/reference)
		}
	}
	verdict, ratio, reference := "", "-", "-"
	if ratios != nil {
		middle := median(ratios)
		ratio, reference = fmt.Sprintf("%.2f", middle), fmt.Sprintf("%.4g %s", median(references), r.unit)
		verdict = "reached"
		if !r.better(middle) {
			verdict = "NOT reached"
		}
	} else if verdict = "reached"; !r.better(median(ours)) {
		verdict = "NOT reached"
	}
	fmt.Printf("%-4s %-58s %14s %14s %7s  %s, %s\n", r.name, r.what, fmt.Sprintf("%.4g %s", median(ours), r.unit),
		reference, ratio, r.target, verdict)
	return nil
}

func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[len(sorted)/2]
}
