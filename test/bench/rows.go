package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"crelvo/test/house"

	"github.com/jackc/pgx/v5"
)

const group = "example/skerry/berth"

func rows() []row {
	return []row{
		{name: "S1", what: "GET 1 KiB, 32 clients, token checked, counted", unit: "/s", rounds: 21, target: ">= 0.5",
			better:  atLeast(0.5),
			prepare: publishFile("small", 1<<10), round: load("small", "1s")},
		{name: "S1", what: "its processor time a request, of net/http with ServeContent", unit: "µs", rounds: 21,
			target: "<= 1.25", better: atMost(1.25),
			prepare: preparePlainFile("plainly", 1<<10), round: readingPlainly("plainly", costOfReading)},
		{name: "S2", what: "GET 1 MiB, 32 clients", unit: "/s", rounds: 21, target: ">= 0.9", better: atLeast(0.9),
			prepare: publishFile("middle", 1<<20), round: load("middle", "1s")},
		{name: "S2", what: "the same, of net/http with ServeContent", unit: "/s", rounds: 21, target: ">= 1.1",
			better:  atLeast(1.1),
			prepare: preparePlainFile("plainer", 1<<20), round: readingPlainly("plainer", rateOfReading)},
		{name: "S3", what: "GET 256 MiB, 1 client", unit: "MB/s", rounds: 7, target: ">= 0.95", better: atLeast(0.95),
			prepare: publishFile("large", 256<<20), round: single("large")},
		{name: "S4", what: "PUT 1 GiB, all digests, durable", unit: "s", rounds: 3, target: "<= 1.15", better: atMost(1.15),
			prepare: prepareUpload, round: upload},
		{name: "Line", what: "crelvo publish of 1 GiB, of curl -T", unit: "s", rounds: 5, target: "<= 1.1",
			better: atMost(1.1), prepare: prepareCommands, round: commandPublishes},
		{name: "Line", what: "crelvo fetch of it, of curl with sha256sum", unit: "s", rounds: 5, target: "<= 1.1",
			better: atMost(1.1), prepare: prepareCommands, round: commandFetches},
		{name: "S5", what: "publish 1,000 versions (jar, pom, metadata), 1 client", unit: "s", rounds: 3, target: "<= 1.5",
			better:  atMost(1.5),
			prepare: preparePlain, round: publishMany(1)},
		{name: "S5", what: "the same, 8 clients", unit: "s", rounds: 3, target: "<= 1.5",
			better:  atMost(1.5),
			prepare: preparePlain, round: publishMany(8)},
		{name: "S5", what: "its processor time a version, with PostgreSQL's", unit: "ms", rounds: 3, target: "<= 2",
			better:  atMost(2),
			prepare: preparePlain, round: processorOfPublishing},
		{name: "S5", what: "versions a second, 24 clients, each flush takes 5 ms more", unit: "/s", rounds: 3,
			target: ">= 0.7", better: atLeast(0.7),
			prepare: preparePlain, round: publishSlowly},
		{name: "S6", what: "GET the document of 5,000 versions, warm, 32 clients", unit: "/s", rounds: 3, target: ">= 0.5",
			better:  atLeast(0.5),
			prepare: prepareMany, round: document},
		{name: "S7", what: "the same, first answer after one more publish", unit: "ms", rounds: 9, target: "< 20",
			better:  func(v float64) bool { return v < 20 },
			prepare: prepareMany, round: afterPublish},
		{name: "Parse", what: "memory while an upstream's 5,000 versions are read", unit: "MiB", rounds: 3, target: "< 64",
			better:  func(v float64) bool { return v < 64 },
			prepare: prepareFarDocument, round: farDocument},
		{name: "S10", what: "promote a build of 200 files without restamp", unit: "ms", rounds: 5, target: "< 200",
			better:  func(v float64) bool { return v < 200 },
			prepare: prepareTrack, round: promoteBuild},
		{name: "Stamp", what: "restamp a 100 MiB jar of 10,000 entries", unit: "s", rounds: 5,
			target: "<= 2 of copying and hashing", better: atMost(2),
			prepare: prepareLargeJar, round: restampLargeJar},
		{name: "S11", what: "search 1,000,000 versions as typed, p95", unit: "ms", rounds: 1, target: "< 50",
			better: func(v float64) bool { return v < 50 },
			round:  searchAsTyped},
		{name: "S14", what: "memory a minute after a cold npm install of 548 packages", unit: "MiB", rounds: 1,
			target: "< 256", better: func(v float64) bool { return v < 256 },
			prepare: prepareFar, round: memoryAfterInstall},
		{name: "Cold", what: "npm install of 548 packages through a mirror that has none", unit: "s", rounds: 3,
			target: "<= 1.15", better: atMost(1.15),
			prepare: prepareFar, round: installCold},
		{name: "Cold", what: "the same, of the plainest mirror", unit: "s", rounds: 3, target: "<= 1.15",
			better:  atMost(1.15),
			prepare: preparePlainMirror, round: installPlainly},
		{name: "S15", what: "what pages ask first, of 1,000,000 versions, p95", unit: "ms", rounds: 1, target: "< 100",
			better: func(v float64) bool { return v < 100 },
			round:  consoleScreens},
		{name: "Pages", what: "the slowest page of the demo, 4 x slower, by 1.6 Mbit/s", unit: "ms", rounds: 1,
			target: "< 1000", better: func(v float64) bool { return v < 1000 },
			round: demoPages},
		{name: "S17", what: "npm document of 50,000 versions after one more, first byte", unit: "ms", rounds: 5,
			target: "< 50", better: func(v float64) bool { return v < 50 },
			prepare: prepareFifty, round: fiftyAgain},
		{name: "S17", what: "its page by the API, and of such a package's folder", unit: "ms", rounds: 5,
			target: "< 50", better: func(v float64) bool { return v < 50 },
			prepare: prepareFifty, round: fiftyByPage},
		{name: "S17", what: "memory of 8 who ask for the document at once, cold", unit: "MiB", rounds: 3,
			target: "<= 1.2 of one's", better: atMost(1.2),
			prepare: prepareFifty, round: fiftyAtOnce},
		{name: "Start", what: "start with 1,000,000 versions, the database running", unit: "s", rounds: 3, target: "< 1",
			better: func(s float64) bool { return s < 1 }, prepare: prepareMillion, round: startMillion},
		{name: "S9", what: "plan a retention policy over 1,000,000 versions", unit: "s", rounds: 3,
			target: "<= 3 of one window query", better: atMost(3),
			prepare: prepareMillion, round: planMillion},
		{name: "S16", what: "publishing of 8 beside one open tab, of 1,000,000 versions", unit: "s", rounds: 5,
			target: "<= 1.1 of without", better: atMost(1.1),
			prepare: prepareTab, round: besideTab},
		{name: "Sweep", what: "p95 of publishing beside a sweep of 100,000", unit: "ms", rounds: 1,
			target: "<= 1.5 of without", better: atMost(1.5),
			prepare: prepareMillion, round: besideSweep},
		{name: "CI", what: "npm ci of the console through the warm mirror", unit: "s", rounds: 5, target: "<= 1.15",
			better:  atMost(1.15),
			prepare: prepareCI, round: ciThroughMirror},
		{name: "S8", what: "200 clients, one 64 MiB file that no mirror has yet", unit: "s", rounds: 3, target: "<= 1.5",
			better:  atMost(1.5),
			prepare: prepareShare, round: share},
		{name: "S12", what: "GET 1 KiB through a chain of 10, warm", unit: "/s", rounds: 5, target: ">= 0.8 of the house",
			better:  atLeast(0.8),
			prepare: prepareChain, round: throughChain(address("chained"))},
		{name: "S12", what: "GET its version list through a chain of 10, warm", unit: "/s", rounds: 5,
			target: ">= 0.8 of the house", better: atLeast(0.8),
			prepare: prepareChain, round: throughChain("/at/bench/maven/" + group + "/chained/maven-metadata.xml")},
		{name: "Build", what: "mvn package through a warm chain", unit: "s", rounds: 5, target: "<= 1.1", better: atMost(1.1),
			prepare: prepareBuild, round: buildThroughChain},
		{name: "S13", what: "idle service, memory", unit: "MiB", rounds: 1, target: "< 80", better: func(v float64) bool {
			return v < 80
		}, round: idle},
		{name: "S13", what: "idle service, ready after its database", unit: "s", rounds: 3, target: "< 1",
			better: func(v float64) bool { return v < 1 }, round: ready},
	}
}

func randomFile(path string, size int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if _, err := io.CopyN(f, rand.Reader, size); err != nil {
		return err
	}
	return f.Close()
}

func (b *bench) nginxRoot() string { return filepath.Join(b.dir, "www") }

// startNginx serves a folder with the defaults that anybody would choose.
func (b *bench) startNginx() (stop func(), err error) {
	if err := os.MkdirAll(b.nginxRoot(), 0o755); err != nil {
		return nil, err
	}
	const listen = "127.0.0.1:8791"
	b.nginx = "http://" + listen
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;"
	}
	configuration := fmt.Sprintf(`%s worker_processes auto; daemon off; pid %s/nginx.pid; error_log %s/nginx.log;
events { worker_connections 1024; }
http { access_log off; sendfile on; tcp_nopush on; keepalive_requests 1000000; root %s;
  client_body_temp_path %s/t1; proxy_temp_path %s/t2; fastcgi_temp_path %s/t3; uwsgi_temp_path %s/t4; scgi_temp_path %s/t5;
  server { listen %s; location /at/ { default_type application/json; try_files $uri $uri/document.json =404; }
    location = /v2/ { return 200 "{}"; }
    location ~ ^/v2/.*/manifests/ { default_type application/vnd.oci.image.manifest.v1+json; } } }`,
		user, b.dir, b.dir, b.nginxRoot(), b.dir, b.dir, b.dir, b.dir, b.dir, listen)
	path := filepath.Join(b.dir, "nginx.conf")
	if err := os.WriteFile(path, []byte(configuration), 0o600); err != nil {
		return nil, err
	}
	cmd := exec.Command("/usr/sbin/nginx", "-c", path)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	for range 100 {
		if r, err := http.Get(b.nginx + "/"); err == nil {
			r.Body.Close()
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	return func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait() // ended by the signal
	}, nil
}

// publishFile puts random bytes into both servers.
func publishFile(name string, size int64) func(context.Context, *bench) error {
	return func(ctx context.Context, b *bench) error {
		path := filepath.Join(b.nginxRoot(), name)
		if err := randomFile(path, size); err != nil {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		return b.publish(ctx, name, "1.0", "bin", f)
	}
}

// publish sends a release with one file and completes it.
func (b *bench) publish(ctx context.Context, artifact, version, extension string, content io.Reader) error {
	return publishTo(ctx, b.house, artifact, version, extension, content)
}

func publishTo(ctx context.Context, h *house.House, artifact, version, extension string, content io.Reader) error {
	base := fmt.Sprintf("/at/bench/maven/%s/%s/", group, artifact)
	file := fmt.Sprintf("%s%s/%s-%s", base, version, artifact, version)
	pom := fmt.Sprintf(
		"<project><groupId>example.skerry.berth</groupId><artifactId>%s</artifactId><version>%s</version><packaging>%s</packaging></project>", artifact, version, extension)
	metadata := fmt.Sprintf("<metadata><versioning><versions><version>%s</version></versions></versioning></metadata>",
		version)
	for _, step := range []struct {
		path string
		body io.Reader
	}{{file + "." + extension, content}, {file + ".pom", strings.NewReader(pom)},
		{base + "maven-metadata.xml", strings.NewReader(metadata)}} {
		a, err := h.Ask(ctx, http.MethodPut, step.path, house.Token, step.body)
		if err != nil {
			return err
		}
		if a.Status != 201 {
			return fmt.Errorf("%s: %d %s", step.path, a.Status, a.Body)
		}
	}
	return nil
}

func address(artifact string) string {
	return fmt.Sprintf("/at/bench/maven/%s/%s/1.0/%s-1.0.bin", group, artifact, artifact)
}

var wrkRate = regexp.MustCompile(`Requests/sec:\s+([\d.]+)`)

func wrk(ctx context.Context, url, duration string, headers ...string) (float64, error) {
	args := []string{"-t1", "-c32", "-d" + duration}
	for _, h := range headers {
		args = append(args, "-H", h)
	}
	out, err := exec.CommandContext(ctx, "wrk", append(args, url)...).CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("wrk: %w: %s", err, out)
	}
	if strings.Contains(string(out), "Non-2xx") {
		return 0, fmt.Errorf("wrk got errors: %s", out)
	}
	return strconv.ParseFloat(wrkRate.FindStringSubmatch(string(out))[1], 64)
}

func load(artifact, duration string) func(context.Context, *bench, int) (float64, float64, error) {
	return func(ctx context.Context, b *bench, _ int) (float64, float64, error) {
		ours, err := wrk(ctx, b.house.Address+address(artifact), duration, "Authorization: Bearer "+house.Token)
		if err != nil {
			return 0, 0, err
		}
		reference, err := wrk(ctx, b.nginx+"/"+artifact, duration)
		return ours, reference, err
	}
}

func curlSpeed(ctx context.Context, url string) (float64, error) {
	out, err := exec.CommandContext(ctx, "curl", "-sf", "-o", "/dev/null", "-H", "Authorization: Bearer "+house.Token,
		"-w", "%{speed_download}", url).Output()
	if err != nil {
		return 0, fmt.Errorf("curl: %w", err)
	}
	speed, err := strconv.ParseFloat(string(out), 64)
	return speed / 1e6, err
}

func single(artifact string) func(context.Context, *bench, int) (float64, float64, error) {
	return func(ctx context.Context, b *bench, n int) (float64, float64, error) {
		before := b.resident()
		ours, err := curlSpeed(ctx, b.house.Address+address(artifact))
		if err != nil {
			return 0, 0, err
		}
		if n == 1 {
			b.note("S3: memory grew by %.1f MiB (target < 8)", float64(b.resident()-before)/(1<<20))
		}
		reference, err := curlSpeed(ctx, b.nginx+"/"+artifact)
		return ours, reference, err
	}
}

func (b *bench) resident() int64 { return residentOf(b.house) }

func residentOf(h *house.House) int64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", h.Command.Process.Pid))
	if err != nil {
		return 0
	}
	pages, _ := strconv.ParseInt(strings.Fields(string(raw))[1], 10, 64)
	return pages * int64(os.Getpagesize())
}

var slowestDigest string

// prepareUpload makes the file and finds the slowest digest tool.
func prepareUpload(ctx context.Context, b *bench) error {
	path := filepath.Join(b.dir, "upload")
	if err := randomFile(path, 1<<30); err != nil {
		return err
	}
	slowest := time.Duration(0)
	for _, tool := range []string{"md5sum", "sha1sum", "sha256sum", "sha512sum"} {
		start := time.Now()
		if err := exec.CommandContext(ctx, tool, path).Run(); err != nil {
			return err
		}
		if took := time.Since(start); took > slowest {
			slowest, slowestDigest = took, tool
		}
	}
	b.note("S4: the slowest digest is %s, %.1f s for 1 GiB", slowestDigest, slowest.Seconds())
	return exec.CommandContext(ctx, "sync").Run()
}

func upload(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	path := filepath.Join(b.dir, "upload")
	// Other bytes in every round, or nothing would have to be stored.
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return 0, 0, err
	}
	if _, err := fmt.Fprintf(f, "round %d", n); err != nil {
		return 0, 0, err
	}
	if err := f.Close(); err != nil {
		return 0, 0, err
	}
	if err := exec.CommandContext(ctx, "sync").Run(); err != nil {
		return 0, 0, err
	}
	before, peak := b.resident(), int64(0)
	watching, stop := context.WithCancel(ctx)
	defer stop()
	var watcher sync.WaitGroup
	watcher.Go(func() {
		for watching.Err() == nil {
			peak = max(peak, b.resident())
			time.Sleep(10 * time.Millisecond)
		}
	})
	start := time.Now()
	url := fmt.Sprintf("%s/at/bench-snapshots/maven/%s/chart-tiles/1.0-SNAPSHOT/chart-tiles-1.0-20261101.08000%d-1.bin",
		b.house.Address, group, n)
	out, err := exec.CommandContext(ctx, "curl", "-sf", "-T", path, "-H", "Authorization: Bearer "+house.Token, url).
		CombinedOutput()
	if err != nil {
		return 0, 0, fmt.Errorf("curl: %w: %s", err, out)
	}
	ours = time.Since(start).Seconds()
	stop()
	watcher.Wait()
	if n == 0 {
		b.note("S4: memory grew by %.1f MiB (target < 32)", float64(peak-before)/(1<<20))
	}
	if err := exec.CommandContext(ctx, "sync").Run(); err != nil {
		return 0, 0, err
	}
	start = time.Now()
	target := filepath.Join(b.dir, "copy")
	for _, c := range [][]string{{"cp", path, target}, {slowestDigest, target}, {"sync", target}} {
		if err := exec.CommandContext(ctx, c[0], c[1:]...).Run(); err != nil {
			return 0, 0, err
		}
	}
	reference = time.Since(start).Seconds()
	return ours, reference, os.Remove(target)
}

// idle starts a service of its own, leaves it alone, and looks at its memory.
func idle(ctx context.Context, b *bench, _ int) (float64, float64, error) {
	h, err := house.Start(filepath.Join(b.dir, "idle"))
	if err != nil {
		return 0, 0, err
	}
	time.Sleep(2 * time.Second) // being left alone is what is measured
	resident := float64(residentOf(h)) / (1 << 20)
	return resident, 0, h.Stop()
}

// ready starts a second service on a database that runs already.
func ready(ctx context.Context, b *bench, n int) (float64, float64, error) {
	database, _, err := databaseOf(b.house)
	if err != nil {
		return 0, 0, err
	}
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return 0, 0, err
	}
	defer conn.Close(ctx)
	name := fmt.Sprintf("ready%d", n) // a store belongs to a database
	if _, err := conn.Exec(ctx, "create database "+name); err != nil {
		return 0, 0, err
	}
	database = strings.Replace(database, "/postgres?", "/"+name+"?", 1)
	start := time.Now()
	h, err := house.Start(filepath.Join(b.dir, fmt.Sprintf("ready-%d", n)), "--database", database)
	if err != nil {
		return 0, 0, err
	}
	took := time.Since(start).Seconds()
	return took, 0, h.Stop()
}
