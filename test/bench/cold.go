package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha1"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

const (
	// farPackages is how many packages an installation of some size takes.
	farPackages = 548
	// farDelay is how far away the upstream is.
	farDelay = 30 * time.Millisecond
)

// far is a stand-in for a public registry, as far away as one is.
type far struct {
	address  string
	full     map[string][]byte // documents by name, compressed
	short    map[string][]byte // in the form that is enough to install
	tarballs map[string][]byte // by path
}

// prepareFar makes the registry: each package has from 20 to 400 versions, with the texts
// that such manifests have.
func prepareFar(ctx context.Context, b *bench) error {
	if b.far != nil {
		return nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	b.far = &far{address: "http://" + l.Addr().String() + "/", full: map[string][]byte{}, short: map[string][]byte{},
		tarballs: map[string][]byte{}}
	for i := range farPackages {
		if err := b.far.add(fmt.Sprintf("far-%d", i), 20+i*37%380); err != nil {
			return err
		}
	}
	go func() { _ = http.Serve(l, b.far) }() // until the program ends
	return nil
}

func (f *far) add(name string, versions int) error {
	full, short := map[string]any{}, map[string]any{}
	times := map[string]string{}
	last := ""
	for v := range versions {
		last = fmt.Sprintf("1.%d.%d", v/10, v%10)
		path := fmt.Sprintf("%s/-/%s-%s.tgz", name, name, last)
		of := []byte(path) // of what nobody asks for, any digest does
		if v == versions-1 {
			of = madeup.Package{Name: name, Version: last}.NPM()
			f.tarballs["/"+path] = of
		}
		one, wide := sha1.Sum(of), sha512.Sum512(of)
		dist := map[string]any{"tarball": f.address + path, "shasum": hex.EncodeToString(one[:]),
			"integrity": "sha512-" + base64.StdEncoding.EncodeToString(wide[:]), "fileCount": 12, "unpackedSize": 40960 + v}
		needs := map[string]string{}
		for n := range 12 {
			needs[fmt.Sprintf("tool-%d", n)] = fmt.Sprintf("^%d.%d.0", n, v%7)
		}
		short[last] = map[string]any{"name": name, "version": last, "dist": dist, "devDependencies": needs,
			"engines": map[string]string{"node": ">=14"}}
		full[last] = map[string]any{"name": name, "version": last, "dist": dist, "devDependencies": needs,
			"engines": map[string]string{"node": ">=14"}, "_id": name + "@" + last, "license": "MIT", "main": "index.js",
			"description": "Made up for the measurement of what an installation leaves in memory",
			"repository":  map[string]string{"type": "git", "url": "git+https://git.skerry.example/" + name + ".git"},
			"author":      map[string]string{"name": "Deck Hands", "email": "deck@skerry.example"},
			"scripts":     map[string]string{"test": "node test", "build": "node build --out dist --minify"},
			"keywords":    []string{"tide", "berth", name}, "gitHead": hex.EncodeToString(one[:])}
		times[last] = time.Date(2026, 1, 1, v, 0, 0, 0, time.UTC).Format(time.RFC3339)
	}
	tags := map[string]string{"latest": last}
	for into, document := range map[*map[string][]byte]any{
		&f.full:  map[string]any{"_id": name, "name": name, "dist-tags": tags, "versions": full, "time": times},
		&f.short: map[string]any{"name": name, "dist-tags": tags, "versions": short, "modified": times[last]},
	} {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		if err := json.NewEncoder(w).Encode(document); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
		(*into)[name] = b.Bytes()
	}
	return nil
}

// ServeHTTP implements http.Handler.
func (f *far) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	time.Sleep(farDelay) // that is what being far away is
	if tarball, ok := f.tarballs[r.URL.Path]; ok {
		_, _ = w.Write(tarball)
		return
	}
	documents, kind := f.full, "application/json"
	if strings.Contains(r.Header.Get("Accept"), "install-v1") {
		documents, kind = f.short, "application/vnd.npm.install-v1+json"
	}
	packed, ok := documents[strings.Trim(r.URL.Path, "/")]
	if !ok {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Vary", "Accept, Accept-Encoding")
	if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		w.Header().Set("Content-Encoding", "gzip")
		_, _ = w.Write(packed) // who has gone does not mind
		return
	}
	if z, err := gzip.NewReader(bytes.NewReader(packed)); err == nil {
		_, _ = io.Copy(w, z)
	}
}

// installFar installs all of the registry's packages with an empty cache, and gives the
// seconds.
func (b *bench) installFar(ctx context.Context, registry string) (float64, error) {
	dir, err := os.MkdirTemp(b.dir, "far-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	needs := map[string]string{}
	for i := range farPackages {
		needs[fmt.Sprintf("far-%d", i)] = "*"
	}
	raw, err := json.Marshal(map[string]any{"name": "crew-office", "version": "1.0.0", "dependencies": needs})
	if err != nil {
		return 0, err
	}
	settings := "registry=" + registry + "\n" + strings.TrimPrefix(registry, "http:") + ":_authToken=" + house.Token +
		"\naudit=false\nfund=false\nupdate-notifier=false\n"
	for name, content := range map[string][]byte{"package.json": raw, ".npmrc": []byte(settings)} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
			return 0, err
		}
	}
	cmd := exec.CommandContext(ctx, "npm", "install", "--ignore-scripts", "--cache", filepath.Join(dir, "cache"))
	cmd.Dir = dir
	begun := time.Now()
	out, err := cmd.CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("npm install: %w: %s", err, out)
	}
	return time.Since(begun).Seconds(), nil
}

// coldMirror starts a service with a mirror that keeps nothing yet.
func (b *bench) coldMirror(ctx context.Context, name string) (*house.House, string, error) {
	h, err := house.Start(filepath.Join(b.dir, name), "--log-level", "warn")
	if err != nil {
		return nil, "", err
	}
	if err := h.AddMirrorOf(ctx, "npm", "far", b.far.address, nil); err != nil {
		_ = h.Stop()
		return nil, "", err
	}
	return h, h.Address + "/at/far/npm/", nil
}

// installCold compares an installation through a mirror that keeps nothing with one from
// the registry itself.
func installCold(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	h, registry, err := b.coldMirror(ctx, fmt.Sprintf("cold-%d", n))
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = h.Stop() }()
	if ours, err = b.installFar(ctx, registry); err != nil {
		return 0, 0, err
	}
	reference, err = b.installFar(ctx, b.far.address)
	return ours, reference, err
}

// preparePlainMirror starts the registry, and the service that mirrors it plainly.
func preparePlainMirror(ctx context.Context, b *bench) error {
	return errors.Join(prepareFar(ctx, b), preparePlain(ctx, b))
}

// installPlainly compares such an installation with one through the plainest mirror.
func installPlainly(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	h, registry, err := b.coldMirror(ctx, fmt.Sprintf("plainly-%d", n))
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = h.Stop() }()
	if ours, err = b.installFar(ctx, registry); err != nil {
		return 0, 0, err
	}
	plain := b.plain.house.Address + "/npm/" + strings.TrimPrefix(b.far.address, "http://")
	reference, err = b.installFar(ctx, plain)
	return ours, reference, err
}

// memoryAfterInstall gives the MiB that the service has a minute after such an
// installation.
func memoryAfterInstall(ctx context.Context, b *bench, _ int) (after, _ float64, err error) {
	h, registry, err := b.coldMirror(ctx, "memory")
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = h.Stop() }()
	peak, watching := int64(0), make(chan struct{})
	var watcher sync.WaitGroup
	watcher.Go(func() {
		for {
			select {
			case <-watching:
				return
			case <-time.After(20 * time.Millisecond):
				peak = max(peak, residentOf(h))
			}
		}
	})
	_, err = b.installFar(ctx, registry)
	close(watching)
	watcher.Wait()
	if err != nil {
		return 0, 0, err
	}
	time.Sleep(time.Minute) // being left alone is what is measured
	b.note("S14: the most that it had was %.0f MiB (target < 400)", float64(peak)/(1<<20))
	return float64(residentOf(h)) / (1 << 20), 0, nil
}
