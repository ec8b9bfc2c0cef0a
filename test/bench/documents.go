package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// manyVersions is how many versions the package of S6 and S7 has.
const manyVersions = 5_000

const manyPath = "/at/bench/npm/many"

// many is a version of the package with many: its document has about 8 MiB.
func many(n int) madeup.Package {
	needs := map[string]string{}
	for i := range 30 {
		needs[fmt.Sprintf("@skerry/part-of-the-deck-%02d", i)] = fmt.Sprintf("^%d.%d.0", i, n%40)
	}
	return madeup.Package{Name: "many", Version: fmt.Sprintf("1.0.%d", n),
		Description: "Many versions, each with a good deal to say", Licence: "MIT", Needs: needs}
}

func (b *bench) publishMany(ctx context.Context, n int) error {
	p := many(n)
	a, err := b.house.Ask(ctx, http.MethodPut, manyPath, house.Token, bytes.NewReader(p.NPMDocument("latest", p.NPM())))
	if err == nil && a.Status != http.StatusCreated {
		err = fmt.Errorf("%d %s", a.Status, a.Body)
	}
	return err
}

// prepareMany publishes the versions, and gives nginx the same document.
func prepareMany(ctx context.Context, b *bench) error {
	if b.published > 0 {
		return nil
	}
	var mu sync.Mutex
	var failed error
	var clients sync.WaitGroup
	for client := range 4 {
		clients.Go(func() {
			for n := client; n < manyVersions; n += 4 {
				if err := b.publishMany(ctx, n); err != nil {
					mu.Lock()
					failed = err
					mu.Unlock()
					return
				}
			}
		})
	}
	clients.Wait()
	if failed != nil {
		return failed
	}
	b.published = manyVersions
	a, err := b.house.Ask(ctx, http.MethodGet, manyPath, house.Token, nil)
	if err != nil {
		return err
	}
	b.note("S6: the document has %.1f MiB", float64(len(a.Body))/(1<<20))
	etag := a.Header.Get("ETag")
	begun := time.Now()
	again, err := b.house.Ask(ctx, http.MethodGet, manyPath, house.Token, nil, "If-None-Match", etag)
	if err != nil || again.Status != http.StatusNotModified {
		return fmt.Errorf("a conditional request: %d, %w", again.Status, err)
	}
	b.note("S6: a conditional request that is still current took %.2f ms", time.Since(begun).Seconds()*1000)
	return os.WriteFile(filepath.Join(b.nginxRoot(), "many"), a.Body, 0o644)
}

func document(ctx context.Context, b *bench, _ int) (float64, float64, error) {
	ours, err := wrk(ctx, b.house.Address+manyPath, "4s", "Authorization: Bearer "+house.Token)
	if err != nil {
		return 0, 0, err
	}
	reference, err := wrk(ctx, b.nginx+"/many", "4s")
	return ours, reference, err
}

// afterPublish gives the milliseconds that the first answer takes after one more
// publish.
func afterPublish(ctx context.Context, b *bench, _ int) (float64, float64, error) {
	b.published++
	if err := b.publishMany(ctx, b.published); err != nil {
		return 0, 0, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, b.house.Address+manyPath, nil)
	if err != nil {
		return 0, 0, err
	}
	r.Header.Set("Authorization", "Bearer "+house.Token)
	r.Header.Set("Accept-Encoding", "identity")
	begun := time.Now()
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, 0, err
	}
	defer response.Body.Close()
	first := time.Since(begun)
	body := make([]byte, response.ContentLength)
	_, err = io.ReadFull(response.Body, body)
	took := time.Since(begun)
	if err == nil && !bytes.Contains(body, fmt.Appendf(nil, `"1.0.%d"`, b.published)) {
		err = fmt.Errorf("the answer lacks what was published")
	}
	if b.published == manyVersions+1 {
		b.note("S7: the first byte after %.1f ms, the last after %.1f ms", first.Seconds()*1000, took.Seconds()*1000)
	}
	return took.Seconds() * 1000, 0, err
}

// prepareFarDocument starts an upstream whose document has many versions.
func prepareFarDocument(ctx context.Context, b *bench) error {
	packages := make([]madeup.Package, manyVersions)
	for n := range packages {
		packages[n] = many(n)
	}
	files := demo.Shelves["npm"]("npm/", packages...)
	b.note("Parse: the upstream's document has %.1f MiB", float64(len(files["npm/many"]))/(1<<20))
	b.shore = demo.NewUpstream(demo.Files{"npm/many": files["npm/many"]})
	return nil
}

// farDocument gives by how many MiB a fresh service grows while it reads the
// document of an upstream and keeps what it says.
func farDocument(ctx context.Context, b *bench, n int) (float64, float64, error) {
	at, err := b.shore.Listen("127.0.0.1:0")
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = b.shore.Close() }()
	h, err := house.Start(filepath.Join(b.dir, fmt.Sprint("parse-", n)), "--log-level", "warn")
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = h.Stop() }()
	if err := h.AddMirrorOf(ctx, "npm", "far-many", at+"npm/", nil); err != nil {
		return 0, 0, err
	}
	before, peak := residentOf(h), int64(0)
	watching, stop := context.WithCancel(ctx)
	defer stop()
	var watcher sync.WaitGroup
	watcher.Go(func() {
		for watching.Err() == nil {
			peak = max(peak, residentOf(h))
			time.Sleep(5 * time.Millisecond)
		}
	})
	a, err := h.Ask(ctx, http.MethodGet, "/at/far-many/npm/many/1.0.7", house.Token, nil)
	stop()
	watcher.Wait()
	if err == nil && a.Status != http.StatusOK {
		err = fmt.Errorf("%d %s", a.Status, a.Body)
	}
	return float64(peak-before) / (1 << 20), 0, err
}

// lockFile is what a lock file says of packages.
type lockFile struct {
	Packages map[string]struct {
		Version  string
		OS, CPU  []string
		Libc     []string
		Optional bool
	}
}

const ciBase = "/at/far-npm/npm/"

// prepareCI mirrors the registry that this machine's npm uses, installs the
// console's packages through the mirror once, and gives nginx the same files.
func prepareCI(ctx context.Context, b *bench) error {
	out, err := exec.CommandContext(ctx, "npm", "config", "get", "registry").Output()
	if err != nil {
		return err
	}
	if err := b.house.AddMirrorOf(ctx, "npm", "far-npm", strings.TrimSpace(string(out)),
		map[string]any{"freshSeconds": 36000}); err != nil {
		return err
	}
	for range 2 { // the second time, all that was asked for is warm
		if _, err := b.ci(ctx, b.house.Address+ciBase); err != nil {
			return err
		}
	}
	raw, err := os.ReadFile(filepath.Join("console", "package-lock.json"))
	if err != nil {
		return err
	}
	var lock lockFile
	if err := json.Unmarshal(raw, &lock); err != nil {
		return err
	}
	fits := func(list []string, want string) bool { return len(list) == 0 || slices.Contains(list, want) }
	for path, p := range lock.Packages {
		_, name, ok := strings.Cut(path, "node_modules/")
		if i := strings.LastIndex(name, "node_modules/"); i >= 0 {
			name = name[i+len("node_modules/"):]
		}
		if !ok || !fits(p.OS, "linux") || !fits(p.CPU, "x64") || !fits(p.Libc, "glibc") {
			continue
		}
		tarball := name + "/-/" + name[strings.LastIndexByte(name, '/')+1:] + "-" + p.Version + ".tgz"
		for at, file := range map[string]string{name: name + "/document.json", tarball: tarball} {
			if err := b.copyToNginx(ctx, ciBase+at, ciBase+file); err != nil {
				return err
			}
		}
	}
	return nil
}

// copyToNginx gives nginx what the service answers to somebody who reaches it at
// nginx's address.
func (b *bench) copyToNginx(ctx context.Context, from, to string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, b.house.Address+from, nil)
	if err != nil {
		return err
	}
	r.Host = strings.TrimPrefix(b.nginx, "http://")
	r.Header.Set("Authorization", "Bearer "+house.Token)
	r.Header.Set("Accept", "application/vnd.npm.install-v1+json")
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", from, response.Status)
	}
	path := filepath.Join(b.nginxRoot(), filepath.FromSlash(to))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if _, err := io.Copy(f, response.Body); err != nil {
		return err
	}
	return f.Close()
}

// ci installs the console's packages with an empty cache, and gives the seconds.
func (b *bench) ci(ctx context.Context, registry string) (float64, error) {
	dir, err := os.MkdirTemp(b.dir, "ci-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	for _, name := range []string{"package.json", "package-lock.json"} {
		raw, err := os.ReadFile(filepath.Join("console", name))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), raw, 0o644)
		}
		if err != nil {
			return 0, err
		}
	}
	settings := "registry=" + registry + "\n" + strings.TrimPrefix(registry, "http:") + ":_authToken=" + house.Token +
		"\naudit=false\nfund=false\nupdate-notifier=false\n"
	if err := os.WriteFile(filepath.Join(dir, ".npmrc"), []byte(settings), 0o600); err != nil {
		return 0, err
	}
	cmd := exec.CommandContext(ctx, "npm", "ci", "--ignore-scripts", "--cache", filepath.Join(dir, "cache"))
	cmd.Dir = dir
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	begun := time.Now()
	if err := cmd.Run(); err != nil {
		return 0, fmt.Errorf("npm ci: %w: %s", err, said.String())
	}
	return time.Since(begun).Seconds(), nil
}

func ciThroughMirror(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	if ours, err = b.ci(ctx, b.house.Address+ciBase); err != nil {
		return 0, 0, err
	}
	reference, err = b.ci(ctx, b.nginx+ciBase)
	return ours, reference, err
}
