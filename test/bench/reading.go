package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"

	"crelvo/test/house"
)

// preparePlainFile publishes random bytes to Crelvo, and puts them where the plain service
// finds them.
func preparePlainFile(name string, size int64) func(context.Context, *bench) error {
	return func(ctx context.Context, b *bench) error {
		if err := publishFile(name, size)(ctx, b); err != nil {
			return err
		}
		if err := preparePlain(ctx, b); err != nil {
			return err
		}
		f, err := os.Open(filepath.Join(b.nginxRoot(), name))
		if err != nil {
			return err
		}
		defer f.Close()
		a, err := b.plain.house.Ask(ctx, http.MethodPut, "/"+name, "", f)
		if err == nil && a.Status != http.StatusCreated {
			err = fmt.Errorf("the plain service: %d %s", a.Status, a.Body)
		}
		return err
	}
}

var wrkRequests = regexp.MustCompile(`(\d+) requests in`)

// readingPlainly measures both services, by what one run against one of them gives.
func readingPlainly(
	name string, of func(ctx context.Context, b *bench, h *house.House, path string) (float64, error),
) func(context.Context, *bench, int) (float64, float64, error) {
	return func(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
		raw, err := os.ReadFile(filepath.Join(b.nginxRoot(), name))
		if err != nil {
			return 0, 0, err
		}
		if ours, err = of(ctx, b, b.house, address(name)); err != nil {
			return 0, 0, err
		}
		digest := sha256.Sum256(raw)
		reference, err = of(ctx, b, b.plain.house, "/"+hex.EncodeToString(digest[:]))
		return ours, reference, err
	}
}

const authorization = "Authorization: Bearer " + house.Token

// rateOfReading is how many requests a service answers in a second.
func rateOfReading(ctx context.Context, _ *bench, h *house.House, path string) (float64, error) {
	return wrk(ctx, h.Address+path, "1s", authorization)
}

// costOfReading is what a request takes of the service's processor time, in µs.
func costOfReading(ctx context.Context, b *bench, h *house.House, path string) (float64, error) {
	before, _ := b.processorTime(h, 0)
	out, err := exec.CommandContext(ctx, "wrk", "-t1", "-c32", "-d1s", "-H", authorization, h.Address+path).Output()
	if err != nil {
		return 0, fmt.Errorf("wrk: %w: %s", err, out)
	}
	after, _ := b.processorTime(h, 0)
	n, err := strconv.Atoi(string(wrkRequests.FindSubmatch(out)[1]))
	return float64((after - before).Microseconds()) / float64(n), err
}
