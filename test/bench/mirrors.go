package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"crelvo/internal/demo"
	"crelvo/test/house"
)

const (
	sharers    = 200
	sharedSize = 64 << 20
)

// prepareShare starts an upstream with a large file for each round, which nginx
// has too.
func prepareShare(ctx context.Context, b *bench) error {
	content := demo.Files{}
	raw := make([]byte, sharedSize)
	if _, err := rand.Read(raw); err != nil {
		return err
	}
	for n := range 3 {
		content[shared(n)] = raw
	}
	b.shore = demo.NewUpstream(content)
	address, err := b.shore.Listen("127.0.0.1:0")
	if err != nil {
		return err
	}
	if err := b.house.AddMirror(ctx, "shore", address, nil); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(b.nginxRoot(), "shared"), raw, 0o644)
}

func shared(n int) string { return fmt.Sprintf("org/openshore/chart/%d/chart-%d.bin", n, n) }

// share lets many clients ask at once for a file that the mirror does not have.
// The reference is the time that nginx takes to give it to as many.
func share(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	ours, first, err := together(ctx, sharers, b.house.Address+"/at/shore/maven/"+shared(n))
	if err != nil {
		return 0, 0, err
	}
	if asked := b.shore.Requests()["/"+shared(n)]; asked != 1 {
		return 0, 0, fmt.Errorf("%d requests to the upstream", asked)
	}
	reference, _, err = together(ctx, sharers, b.nginx+"/shared")
	if n == 0 {
		b.note("S8: 1 request to the upstream; the slowest client had its first bytes after %.2f s, its last after %.2f s",
			first, ours)
	}
	return ours, reference, err
}

// together lets n clients get an address at once, and gives the seconds until
// the slowest had its first bytes, and its last.
func together(ctx context.Context, n int, address string) (last, first float64, err error) {
	transport := &http.Transport{MaxConnsPerHost: 0, ReadBufferSize: 64 << 10, DisableCompression: true}
	defer transport.CloseIdleConnections()
	var clients sync.WaitGroup
	var mu sync.Mutex
	begun := time.Now()
	for range n {
		clients.Go(func() {
			one, oneErr := get(ctx, transport, address)
			mu.Lock()
			defer mu.Unlock()
			first = max(first, one.Sub(begun).Seconds())
			if oneErr != nil {
				err = oneErr
			}
		})
	}
	clients.Wait()
	return time.Since(begun).Seconds(), first, err
}

func get(ctx context.Context, transport *http.Transport, address string) (first time.Time, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return first, err
	}
	r.Header.Set("Authorization", "Bearer "+house.Token)
	response, err := transport.RoundTrip(r)
	if err != nil {
		return first, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return first, fmt.Errorf("%s: %s", address, response.Status)
	}
	buffer := make([]byte, 256<<10)
	got, err := response.Body.Read(buffer)
	first = time.Now()
	for err == nil {
		var more int
		more, err = response.Body.Read(buffer)
		got += more
	}
	if err != io.EOF || got != sharedSize {
		return first, fmt.Errorf("%d bytes: %w", got, err)
	}
	return first, nil
}

// prepareChain puts ten members behind one address; only the last has the name.
func prepareChain(ctx context.Context, b *bench) error {
	if b.chained {
		return nil
	}
	b.chained = true
	if err := publishFile("chained", 1<<10)(ctx, b); err != nil {
		return err
	}
	empty := demo.NewUpstream(demo.Files{})
	address, err := empty.Listen("127.0.0.1:0")
	if err != nil {
		return err
	}
	var members []string
	for i := range 6 {
		name := fmt.Sprintf("before-%d", i)
		if err := b.house.AddRepository(ctx, name, "releases"); err != nil {
			return err
		}
		members = append(members, name)
	}
	// The mirrors stand before the last house, and have to be asked.
	for i := range 3 {
		name := fmt.Sprintf("mirror-%d", i)
		if err := b.house.AddMirror(ctx, name, address, nil); err != nil {
			return err
		}
		members = append(members, name)
	}
	return b.house.AddChain(ctx, "ten", append(members, "bench")...)
}

// throughChain compares a chain with the house repository that answers in it.
func throughChain(path string) func(context.Context, *bench, int) (float64, float64, error) {
	return func(ctx context.Context, b *bench, _ int) (float64, float64, error) {
		const token = "Authorization: Bearer " + house.Token
		ours, err := wrk(ctx, b.house.Address+strings.Replace(path, "/at/bench/", "/at/ten/", 1), "4s", token)
		if err != nil {
			return 0, 0, err
		}
		reference, err := wrk(ctx, b.house.Address+path, "4s", token)
		return ours, reference, err
	}
}

// prepareBuild lets nginx and a chain have the same Maven tree, with checksums.
func prepareBuild(ctx context.Context, b *bench) error {
	root := filepath.Join(b.nginxRoot(), "maven")
	if out, err := exec.CommandContext(ctx, "cp", "-rL", demo.MavenTree, root).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		sum := sha1.Sum(raw)
		return os.WriteFile(path+".sha1", []byte(hex.EncodeToString(sum[:])), 0o644)
	})
	if err != nil {
		return err
	}
	tree := demo.NewUpstream(demo.Tree(demo.MavenTree))
	address, err := tree.Listen("127.0.0.1:0")
	if err != nil {
		return err
	}
	if err := b.house.AddMirror(ctx, "tree", address, nil); err != nil {
		return err
	}
	if err := b.house.AddChain(ctx, "platform", "bench", "bench-snapshots", "tree"); err != nil {
		return err
	}
	_, err = b.build(ctx, b.house.Address+"/at/platform/maven/") // so that it is warm
	return err
}

// build builds a small project with an empty local repository, and gives the
// seconds.
func (b *bench) build(ctx context.Context, source string) (float64, error) {
	dir, err := os.MkdirTemp(b.dir, "build-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	const open = "<releases><enabled>true</enabled></releases><snapshots><enabled>true</enabled></snapshots>"
	files := map[string]string{
		"settings.xml": fmt.Sprintf(
			"<settings><localRepository>%s/local</localRepository><servers><server><id>platform</id><username>bench</username><password>%s</password></server></servers>"+
				"<mirrors><mirror><id>platform</id><mirrorOf>*</mirrorOf><url>%s</url></mirror></mirrors><profiles><profile><id>x</id>"+
				"<repositories><repository><id>central</id><url>http://central</url>%s</repository></repositories></profile></profiles><activeProfiles><activeProfile>x</activeProfile></activeProfiles></settings>", dir, house.Token, source, open),
		"pom.xml": "<project><modelVersion>4.0.0</modelVersion><groupId>example.skerry.berth</groupId><artifactId>tide-model</artifactId><version>1.0.0</version>" +
			"<properties><maven.compiler.source>17</maven.compiler.source><maven.compiler.target>17</maven.compiler.target><project.build.sourceEncoding>UTF-8</project.build.sourceEncoding></properties><build><plugins>" +
			plugin("resources", "3.3.0", "") + plugin("compiler", "3.10.1", "") + plugin("jar", "3.3.0", "") +
			plugin("surefire", "2.22.3",
				"<executions><execution><id>default-test</id><phase>none</phase></execution></executions>") +
			"</plugins></build></project>",
		"src/main/java/tides.java": "public class tides {}",
	}
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return 0, err
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			return 0, err
		}
	}
	cmd := exec.CommandContext(ctx, "mvn", "-B", "-ntp", "-q", "-s", filepath.Join(dir, "settings.xml"), "package")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "HOME="+dir, "MAVEN_OPTS=-Duser.home="+dir)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	begun := time.Now()
	if err := cmd.Run(); err != nil {
		return 0, fmt.Errorf("mvn: %w: %s", err, out.String())
	}
	return time.Since(begun).Seconds(), nil
}

func plugin(artifact, version, more string) string {
	return fmt.Sprintf("<plugin><artifactId>maven-%s-plugin</artifactId><version>%s</version>%s</plugin>", artifact,
		version, more)
}

// buildThroughChain compares builds through the warm chain and from nginx.
func buildThroughChain(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	if ours, err = b.build(ctx, b.house.Address+"/at/platform/maven/"); err != nil {
		return 0, 0, err
	}
	reference, err = b.build(ctx, b.nginx+"/maven/")
	return ours, reference, err
}
