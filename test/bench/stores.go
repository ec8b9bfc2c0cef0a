package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"crelvo/internal/store/storetest"
	"crelvo/test/house"
)

// stored is a service whose bytes are in an object store, and that object store.
type stored struct {
	objects *storetest.S3
	client  *minio.Client
	house   *house.House
	made    int
}

// storeRows compare reading and writing through an object store with the same client library
// doing it directly.
func storeRows() []row {
	return []row{
		{name: "Store", what: "GET 1 MiB out of an object store, 1 client", unit: "/s", rounds: 5, target: ">= 0.9",
			better: atLeast(0.9), prepare: prepareStore, round: readStored(1<<20, 40)},
		{name: "Store", what: "GET 256 MiB out of an object store, 1 client", unit: "/s", rounds: 5, target: ">= 0.95",
			better: atLeast(0.95), prepare: prepareStore, round: readStored(256<<20, 1)},
		{name: "Store", what: "GET 1 MiB out of its cache, 1 client", unit: "/s", rounds: 3, target: "",
			better: atLeast(0), prepare: prepareStore, round: readCached},
		{name: "Store", what: "PUT 1 GiB into an object store", unit: "s", rounds: 3, target: "<= 1.2",
			better: atMost(1.2), prepare: prepareStore, round: writeStored},
	}
}

func prepareStore(ctx context.Context, b *bench) error {
	if b.stored != nil {
		return nil
	}
	s := &stored{}
	folder := filepath.Join(b.dir, "objects")
	err := os.Mkdir(folder, 0o700)
	if err == nil {
		s.objects, err = storetest.Launch(ctx, folder)
	}
	if err != nil {
		return err
	}
	for _, e := range storetest.Environment() {
		name, value, _ := strings.Cut(e, "=")
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	direct := strings.TrimPrefix(s.objects.Direct(), "http://")
	if s.client, err = minio.New(direct, &minio.Options{Region: "us-east-1",
		Creds: credentials.NewStaticV4(storetest.AccessKey, storetest.SecretKey, "")}); err != nil {
		return err
	}
	setting := strings.Replace(s.objects.Setting(), s.objects.Address, s.objects.Direct(), 1)
	if s.house, err = house.Start(filepath.Join(b.dir, "stored"), "--quiet-period", "1h", "--log-level", "warn", "--store",
		setting); err != nil {
		return err
	}
	b.stored = s
	return s.house.AddRepository(ctx, "bench", "releases")
}

func (s *stored) end() error {
	if s == nil {
		return nil
	}
	err := s.house.Stop()
	s.objects.Stop()
	return err
}

// put publishes other bytes each time, puts the same ones beside them, and gives where both
// are.
func (s *stored) put(ctx context.Context, size int64) (path, object string, err error) {
	s.made++
	object = fmt.Sprintf("beside/%d", s.made)
	path = fmt.Sprintf("/at/bench/maven/%s/stored/1.%d/stored-1.%d.bin", group, s.made, s.made)
	content := make([]byte, size)
	if _, err := rand.Read(content); err != nil {
		return "", "", err
	}
	err = publishTo(ctx, s.house, "stored", fmt.Sprintf("1.%d", s.made), "bin", strings.NewReader(string(content)))
	if err == nil {
		_, err = s.client.PutObject(ctx, storetest.Bucket, object, strings.NewReader(string(content)), size,
			minio.PutObjectOptions{})
	}
	return path, object, err
}

func (s *stored) get(ctx context.Context, path string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.house.Address+path, nil)
	if err != nil {
		return err
	}
	r.SetBasicAuth("admin", house.Token)
	response, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err := io.Copy(io.Discard, response.Body); err != nil || response.StatusCode != http.StatusOK {
		return errors.Join(err, fmt.Errorf("%s: %s", path, response.Status))
	}
	return nil
}

// readStored reads files that were never read, one after the other.
func readStored(size int64, count int) func(ctx context.Context, b *bench, n int) (float64, float64, error) {
	return func(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
		s := b.stored
		var paths, objects []string
		for range count {
			path, object, err := s.put(ctx, size)
			if err != nil {
				return 0, 0, err
			}
			paths, objects = append(paths, path), append(objects, object)
		}
		if err := exec.CommandContext(ctx, "sync").Run(); err != nil {
			return 0, 0, err
		}
		start := time.Now()
		for _, path := range paths {
			if err := s.get(ctx, path); err != nil {
				return 0, 0, err
			}
		}
		ours = float64(count) / time.Since(start).Seconds()
		start = time.Now()
		for _, name := range objects {
			object, err := s.client.GetObject(ctx, storetest.Bucket, name, minio.GetObjectOptions{})
			if err != nil {
				return 0, 0, err
			}
			_, err = io.Copy(io.Discard, object)
			if err = errors.Join(err, object.Close()); err != nil {
				return 0, 0, err
			}
		}
		return ours, float64(count) / time.Since(start).Seconds(), nil
	}
}

// readCached reads one file over and over.
func readCached(ctx context.Context, b *bench, _ int) (ours, reference float64, err error) {
	path, _, err := b.stored.put(ctx, 1<<20)
	if err == nil {
		err = b.stored.get(ctx, path)
	}
	const count = 500
	start := time.Now()
	for range count {
		if err == nil {
			err = b.stored.get(ctx, path)
		}
	}
	return count / time.Since(start).Seconds(), 0, err
}

// writeStored sends a file of 1 GiB.
func writeStored(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	s, path := b.stored, filepath.Join(b.dir, "gibibyte")
	f, err := os.Create(path)
	if err == nil {
		_, err = io.CopyN(f, rand.Reader, 1<<30)
		err = errors.Join(err, f.Close())
	}
	if err == nil {
		err = exec.CommandContext(ctx, "sync").Run()
	}
	if err != nil {
		return 0, 0, err
	}
	before, peak := residentOf(s.house), int64(0)
	watching, stop := context.WithCancel(ctx)
	defer stop()
	var watcher sync.WaitGroup
	watcher.Go(func() {
		for watching.Err() == nil {
			peak = max(peak, residentOf(s.house))
			time.Sleep(10 * time.Millisecond)
		}
	})
	start := time.Now()
	url := fmt.Sprintf("%s/at/bench/maven/%s/gibibyte/1.%d/gibibyte-1.%d.bin", s.house.Address, group, n, n)
	if out, err := exec.CommandContext(ctx, "curl", "-sf", "-T", path, "-H", "Authorization: Bearer "+house.Token, url).
		CombinedOutput(); err != nil {
		return 0, 0, fmt.Errorf("curl: %w: %s", err, out)
	}
	ours = time.Since(start).Seconds()
	stop()
	watcher.Wait()
	if n == 0 {
		b.note("Store: memory grew by %.1f MiB while 1 GiB went into it (target < 64)", float64(peak-before)/(1<<20))
	}
	if err := exec.CommandContext(ctx, "sync").Run(); err != nil {
		return 0, 0, err
	}
	start = time.Now()
	_, err = s.client.FPutObject(ctx, storetest.Bucket, fmt.Sprint("gibibyte-", n), path, minio.PutObjectOptions{})
	return ours, time.Since(start).Seconds(), err
}
