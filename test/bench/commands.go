package main

import (
	"archive/zip"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"crelvo/test/house"
)

// ofCommands is the size of the file that the command line publishes and fetches.
const ofCommands = 1 << 30

func prepareCommands(_ context.Context, b *bench) error {
	f, err := os.Create(filepath.Join(b.dir, "tiles.jar"))
	if err != nil {
		return err
	}
	archive := zip.NewWriter(f)
	entry, err := archive.CreateHeader(&zip.FileHeader{Name: "tiles", Method: zip.Store})
	if err == nil {
		_, err = io.CopyN(entry, rand.Reader, ofCommands)
	}
	return errors.Join(err, archive.Close(), f.Close())
}

// timed runs a command and tells how long it took, in seconds.
func timed(cmd *exec.Cmd) (float64, error) {
	start := time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%s: %w: %s", cmd.Path, err, out)
	}
	return time.Since(start).Seconds(), nil
}

func (b *bench) command(ctx context.Context, arguments ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, house.Program(), arguments...)
	cmd.Env = append(os.Environ(), "CRELVO_SERVER="+b.house.Address, "CRELVO_TOKEN="+house.Token, "HOME="+b.dir)
	return cmd
}

// otherBytes makes a file one of its own: of what is stored nothing need be sent, and of a
// size that is stored the digest is computed first.
func otherBytes(path, text string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// commandPublishes publishes a file with the command line, and sends one with curl.
func commandPublishes(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	path := filepath.Join(b.dir, "tiles.jar")
	if err := otherBytes(path, "by hand"); err != nil {
		return 0, 0, err
	}
	ours, err = timed(b.command(ctx, "publish", path, "--to", "bench", "--as",
		fmt.Sprintf("pkg:maven/example.skerry.berth/tiles@1.0.%d", n)))
	if err != nil {
		return 0, 0, err
	}
	if err := otherBytes(path, "by curl"); err != nil {
		return 0, 0, err
	}
	reference, err = timed(exec.CommandContext(ctx, "curl", "-sf", "-T", path, "-H", "Authorization: Bearer "+house.Token,
		fmt.Sprintf("%s/at/bench/maven/%s/tiles/2.0.%d/tiles-2.0.%d.jar", b.house.Address, group, n, n)))
	return ours, reference, err
}

// commandFetches fetches what the first round of commandPublishes published.
func commandFetches(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	const path = "/at/bench/maven/" + group + "/tiles/1.0.0/tiles-1.0.0.jar"
	if a, err := b.house.Ask(ctx, http.MethodHead, path, house.Token, nil); err != nil || a.Status != http.StatusOK {
		if _, _, err := commandPublishes(ctx, b, 0); err != nil {
			return 0, 0, err
		}
	}
	to := filepath.Join(b.dir, "fetched")
	defer os.RemoveAll(to)
	if err := os.MkdirAll(to, 0o755); err != nil {
		return 0, 0, err
	}
	ours, err = timed(b.command(ctx, "fetch", "pkg:maven/example.skerry.berth/tiles@1.0.0?type=jar", "--in", "bench", "--dir",
		to))
	if err != nil {
		return 0, 0, err
	}
	// A command that must not hand over what is damaged computes the digest too.
	curl := "curl -sf -H 'Authorization: Bearer " + house.Token + "' " + b.house.Address + path
	reference, err = timed(exec.CommandContext(ctx, "bash", "-c", curl+" | tee '"+filepath.Join(to, "by-curl")+
		"' | sha256sum"))
	if err != nil || n > 0 {
		return ours, reference, err
	}
	alone, err := timed(exec.CommandContext(ctx, "bash", "-c", curl+" -o '"+filepath.Join(to, "alone")+"'"))
	b.note("Line: curl without a digest takes %.1f s", alone)
	return ours, reference, err
}
