package main

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/jackc/pgx/v5"

	"crelvo/internal/checkout"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// The large image: its layers, and how many bytes each has.
const imageLayers, layerSize = 10, 1 << 30 / 10

// crane runs the client that all rows of images use, signed in to our service.
func (b *bench) crane(ctx context.Context, args ...string) (seconds float64, err error) {
	config := filepath.Join(b.dir, "docker")
	if err := os.MkdirAll(config, 0o700); err != nil {
		return 0, err
	}
	auth := base64.StdEncoding.EncodeToString([]byte("admin:" + house.Token))
	if err := os.WriteFile(filepath.Join(config, "config.json"), fmt.Appendf(nil, `{"auths":{%q:{"auth":%q}}}`,
		strings.TrimPrefix(b.house.Address, "http://"), auth), 0o600); err != nil {
		return 0, err
	}
	cmd := exec.CommandContext(ctx, checkout.Path("test/clients/bin/crane"), append(args, "--insecure")...)
	cmd.Env = append(os.Environ(), "DOCKER_CONFIG="+config)
	begun := time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		return 0, fmt.Errorf("crane %q: %w: %s", args, err, out)
	}
	return time.Since(begun).Seconds(), nil
}

// imageAt is an image of the service.
func (b *bench) imageAt(name string) string {
	return strings.TrimPrefix(b.house.Address, "http://") + "/bench/" + name
}

// largeImage makes a layout with an image of other bytes each time.
func (b *bench) largeImage(name string) (dir string, blobs []string, err error) {
	dir = filepath.Join(b.dir, name)
	image, err := random.Image(layerSize, imageLayers)
	if err != nil {
		return "", nil, err
	}
	index, err := layout.Write(dir, empty.Index)
	if err == nil {
		err = index.AppendImage(image)
	}
	if err != nil {
		return "", nil, err
	}
	blobs, err = filepath.Glob(filepath.Join(dir, "blobs", "sha256", "*"))
	return dir, blobs, err
}

// prepareImage pushes a large image, and puts its files where nginx finds them.
func prepareImage(ctx context.Context, b *bench) error {
	if b.imaged {
		return nil
	}
	b.imaged, b.imageMemory = true, b.resident()
	dir, blobs, err := b.largeImage("image")
	if err != nil {
		return err
	}
	if _, err := b.crane(ctx, "push", dir, b.imageAt("large:1.0.0")); err != nil {
		return err
	}
	a, err := b.house.Ask(ctx, http.MethodGet, "/v2/bench/large/manifests/1.0.0", house.Token, nil)
	if err != nil {
		return err
	}
	at := filepath.Join(b.nginxRoot(), "v2", "large")
	for _, folder := range []string{"manifests", "blobs"} {
		if err := os.MkdirAll(filepath.Join(at, folder), 0o755); err != nil {
			return err
		}
	}
	for _, name := range []string{"1.0.0", madeup.Digest(a.Body)} {
		if err := os.WriteFile(filepath.Join(at, "manifests", name), a.Body, 0o644); err != nil {
			return err
		}
	}
	for _, blob := range blobs {
		if err := os.Link(blob, filepath.Join(at, "blobs", "sha256:"+filepath.Base(blob))); err != nil {
			return err
		}
	}
	return nil
}

// pullImage pulls it from both.
func pullImage(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	to := filepath.Join(b.dir, "pulled.tar")
	rate := func(image string) (float64, error) {
		took, err := b.crane(ctx, "pull", image, to)
		if err == nil {
			err = os.Remove(to)
		}
		return float64(imageLayers*layerSize) / 1e6 / took, err
	}
	if ours, err = rate(b.imageAt("large:1.0.0")); err != nil {
		return 0, 0, err
	}
	reference, err = rate(strings.TrimPrefix(b.nginx, "http://") + "/large:1.0.0")
	return ours, reference, err
}

// pushImage pushes one of other bytes; the reference copies its files, computes their
// digests and waits until they are on disk.
func pushImage(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	dir, blobs, err := b.largeImage(fmt.Sprintf("push%d", n))
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	if err := exec.CommandContext(ctx, "sync").Run(); err != nil {
		return 0, 0, err
	}
	if ours, err = b.crane(ctx, "push", dir, b.imageAt(fmt.Sprintf("pushed%d:1.0.0", n))); err != nil {
		return 0, 0, err
	}
	if err := exec.CommandContext(ctx, "sync").Run(); err != nil {
		return 0, 0, err
	}
	copied := filepath.Join(b.dir, "copied")
	if err := os.MkdirAll(copied, 0o755); err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(copied)
	begun := time.Now()
	for _, command := range [][]string{append(append([]string{"cp"}, blobs...), copied),
		append([]string{"sha256sum"}, blobs...), {"sync", "-f", copied}} {
		if out, err := exec.CommandContext(ctx, command[0], command[1:]...).CombinedOutput(); err != nil {
			return 0, 0, fmt.Errorf("%s: %w: %.300s", command[0], err, out)
		}
	}
	return ours, time.Since(begun).Seconds(), nil
}

// pushAgain pushes an image whose layers are all there, in ms.
func pushAgain(ctx context.Context, b *bench, n int) (ms, _ float64, err error) {
	took, err := b.crane(ctx, "push", filepath.Join(b.dir, "image"), b.imageAt(fmt.Sprintf("large:1.1.%d", n)))
	return took * 1000, 0, err
}

// manifestRate asks for a manifest by its tag; the reference is a file of 1 KiB.
func manifestRate(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	if ours, err = wrk(ctx, b.house.Address+"/v2/bench/large/manifests/1.0.0", "4s", authorization); err != nil {
		return 0, 0, err
	}
	reference, err = wrk(ctx, b.house.Address+address("small"), "4s", authorization)
	return ours, reference, err
}

// prepareImageShare starts an upstream that has an image for each round.
func prepareImageShare(ctx context.Context, b *bench) error {
	var all []madeup.Package
	for n := range 3 {
		all = append(all, madeup.Package{Name: "shared", Version: fmt.Sprintf("1.%d.0", n),
			Files: []madeup.Entry{{Name: "data", Content: strings.Repeat(fmt.Sprint("shore ", n), 1<<20)}}})
	}
	b.images = demo.NewUpstream(demo.Shelves["oci"]("", all...))
	address, err := b.images.Listen("127.0.0.1:0")
	if err != nil {
		return err
	}
	return b.house.AddMirrorOf(ctx, "oci", "shore-images", address+"v2/", nil)
}

// shareImage lets 200 clients pull one new image at once, and gives how often the upstream
// was asked for the same blob at most.
func shareImage(ctx context.Context, b *bench, n int) (most, _ float64, err error) {
	at := "/v2/shore-images/shared/"
	before := b.images.Requests()
	err = eachOf(sharers, sharers, func(int) error {
		read := func(path string) ([]byte, error) {
			a, err := b.house.Ask(ctx, http.MethodGet, at+path, house.Token, nil)
			if err == nil && a.Status != http.StatusOK {
				err = fmt.Errorf("%s: %d %s", path, a.Status, a.Body)
			}
			return a.Body, err
		}
		var index v1.IndexManifest
		raw, err := read(fmt.Sprintf("manifests/1.%d.0", n))
		if err != nil {
			return err
		}
		if err := json.Unmarshal(raw, &index); err != nil {
			return err
		}
		if raw, err = read("manifests/" + index.Manifests[0].Digest.String()); err != nil {
			return err
		}
		var m v1.Manifest
		if err := json.Unmarshal(raw, &m); err != nil {
			return err
		}
		for _, d := range append(m.Layers, m.Config) {
			if content, err := read("blobs/" + d.Digest.String()); err != nil || int64(len(content)) != d.Size {
				return fmt.Errorf("%s has %d bytes, %w", d.Digest, len(content), err)
			}
		}
		return nil
	})
	for path, asked := range b.images.Requests() {
		if strings.Contains(path, "sha256:") {
			most = max(most, float64(asked-before[path]))
		}
	}
	return most, 0, err
}

// manyTags is how many tags the image of that row has.
const manyTags = 100_000

// prepareTags gives an image as many tags.
func prepareTags(ctx context.Context, b *bench) error {
	image := madeup.Package{Name: "tagged", Version: "1"}.Image("linux/amd64", nil)
	for sum, content := range image.Blobs {
		a, err := b.house.Ask(ctx, http.MethodPost, "/v2/bench/tagged/blobs/uploads/?digest="+url.QueryEscape(sum),
			house.Token, bytes.NewReader(content))
		if err != nil || a.Status != http.StatusCreated {
			return fmt.Errorf("%d %s, %w", a.Status, a.Body, err)
		}
	}
	a, err := b.house.Ask(ctx, http.MethodPut, "/v2/bench/tagged/manifests/latest", house.Token,
		bytes.NewReader(image.Manifest), "Content-Type", image.MediaType)
	if err != nil || a.Status != http.StatusCreated {
		return fmt.Errorf("%d %s, %w", a.Status, a.Body, err)
	}
	database, _, err := databaseOf(b.house)
	if err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `insert into label (package_id, name, version, set_by, visible_from)
		select package_id, 'run-' || lpad(n::text, 6, '0'), version, set_by, visible_from
		from label, generate_series(1, $1) n where name = 'latest' and version = $2 and visible_until is null`, manyTags,
		madeup.Digest(image.Manifest))
	return err
}

// tagPage asks for a page of its tags from the middle, in ms.
func tagPage(ctx context.Context, b *bench, n int) (ms, _ float64, err error) {
	begun := time.Now()
	a, err := b.house.Ask(ctx, http.MethodGet, fmt.Sprintf("/v2/bench/tagged/tags/list?n=1000&last=run-%06d", 40_000+n),
		house.Token, nil)
	took := time.Since(begun)
	if err == nil && strings.Count(string(a.Body), `"run-`) != 1000 {
		err = fmt.Errorf("%d %.200s", a.Status, a.Body)
	}
	return float64(took.Microseconds()) / 1000, 0, err
}

// imageMemory is by how much the service's memory grew in all of that, in MiB.
func imageMemory(_ context.Context, b *bench, _ int) (grown, _ float64, err error) {
	peak, err := memory(b.house)
	return peak - float64(b.imageMemory)/(1<<20), 0, err
}

// manyCharts is how many charts the repository of that row has.
const manyCharts = 5000

// prepareCharts publishes as many.
func prepareCharts(ctx context.Context, b *bench) error {
	return eachOf(manyCharts, 8, func(i int) error { return b.chart(ctx, i, "1.0.0") })
}

func (b *bench) chart(ctx context.Context, i int, version string) error {
	p := madeup.Package{Name: fmt.Sprintf("chart-%05d", i), Version: version, Description: "Runs something by the shore"}
	a, err := b.house.Ask(ctx, http.MethodPut, "/at/bench/helm/"+p.Name+"-"+version+".tgz", house.Token,
		bytes.NewReader(p.Chart()))
	if err == nil && a.Status != http.StatusCreated {
		err = fmt.Errorf("%d %s", a.Status, a.Body)
	}
	return err
}

// chartIndex asks for the index after one more publication, in ms.
func chartIndex(ctx context.Context, b *bench, n int) (ms, _ float64, err error) {
	if err := b.chart(ctx, n, "1.1.0"); err != nil {
		return 0, 0, err
	}
	begun := time.Now()
	a, err := b.house.Ask(ctx, http.MethodGet, "/at/bench/helm/index.yaml", house.Token, nil)
	took := time.Since(begun)
	if err == nil && strings.Count(string(a.Body), `"digest"`) != manyCharts+n+1 {
		err = fmt.Errorf("%d, %d versions", a.Status, strings.Count(string(a.Body), `"digest"`))
	}
	if n == 0 {
		b.note("Charts: the index of %d charts has %d KiB; the first answer took %d ms", manyCharts, len(a.Body)>>10,
			took.Milliseconds())
	}
	return float64(took.Microseconds()) / 1000, 0, err
}

// imageRows are those of images and charts.
func imageRows() []row {
	below := func(limit float64) func(float64) bool { return func(v float64) bool { return v < limit } }
	return []row{
		{name: "Image", what: "pull 1 GiB of 10 layers, warm", unit: "MB/s", rounds: 3, target: ">= 0.95",
			better: atLeast(0.95), prepare: prepareImage, round: pullImage},
		{name: "Image", what: "push 1 GiB of 10 layers", unit: "s", rounds: 3, target: "<= 1.15", better: atMost(1.15),
			prepare: prepareImage, round: pushImage},
		{name: "Image", what: "push one whose layers are there", unit: "ms", rounds: 5, target: "< 150", better: below(150),
			prepare: prepareImage, round: pushAgain},
		{name: "Image", what: "GET a manifest by its tag, 32 clients, of S1", unit: "/s", rounds: 5, target: ">= 0.8",
			better: atLeast(0.8), prepare: prepareManifestRate, round: manifestRate},
		{name: "Image", what: "200 clients, one new image: requests for a blob", unit: "", rounds: 3, target: "<= 1",
			better: atMost(1), prepare: prepareImageShare, round: shareImage},
		{name: "Tags", what: "a page of 1,000 of 100,000 tags", unit: "ms", rounds: 9, target: "< 20", better: below(20),
			prepare: prepareTags, round: tagPage},
		{name: "Image", what: "by how much memory grew in all of this", unit: "MiB", rounds: 1, target: "< 64",
			better: below(64), round: imageMemory},
		{name: "Chart", what: "index of 5,000 charts after one more publication", unit: "ms", rounds: 5, target: "< 200",
			better: below(200), prepare: prepareCharts, round: chartIndex},
	}
}

func prepareManifestRate(ctx context.Context, b *bench) error {
	if err := prepareImage(ctx, b); err != nil {
		return err
	}
	return publishFile("small", 1<<10)(ctx, b)
}
