package main

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/maven"
	"crelvo/internal/store"
	"crelvo/test/house"
)

// promotedPackages is how many packages the build of S10 has, of two files each.
const promotedPackages = 100

const track = "bench-track"

func (b *bench) desk() *client.Client {
	return &client.Client{Server: b.house.Address, Token: house.Token, Agent: "crelvo-bench"}
}

// prepareTrack makes the repositories and the track of S10.
func prepareTrack(ctx context.Context, b *bench) error {
	if b.tracked {
		return nil
	}
	b.tracked = true
	var stages []api.Stage
	for _, name := range []string{"bench-staging", "bench-sailing"} {
		if err := b.house.AddRepository(ctx, name, "releases"); err != nil {
			return err
		}
		stages = append(stages, api.Stage{Repository: name})
	}
	if err := b.desk().AddTrack(ctx, api.Track{Name: track, Stages: stages}); err != nil {
		return err
	}
	return b.desk().AddTrack(ctx, api.Track{Name: track + "-restamp",
		Stages: []api.Stage{{Repository: "bench-snapshots"}, {Repository: "bench-sailing"}}})
}

func (b *bench) put(ctx context.Context, path string, body io.Reader) error {
	a, err := b.house.Ask(ctx, http.MethodPut, path, house.Token, body)
	if err == nil && a.Status != http.StatusCreated {
		err = fmt.Errorf("%s: %d %s", path, a.Status, a.Reason)
	}
	return err
}

func smallPOM(artifact, version string) string {
	return fmt.Sprintf(
		"<project><modelVersion>4.0.0</modelVersion><groupId>example.skerry.bench</groupId><artifactId>%s</artifactId><version>%s</version></project>", artifact, version)
}

// promoteBuild promotes a build without a restamp, and checks that no bytes were
// stored for it.
func promoteBuild(ctx context.Context, b *bench, n int) (float64, float64, error) {
	version := fmt.Sprintf("1.%d", n)
	jar, err := smallJar(20 << 10)
	if err != nil {
		return 0, 0, err
	}
	ask := api.NewPromotion{Track: track}
	err = eachOf(promotedPackages, 8, func(i int) error {
		artifact := fmt.Sprintf("cargo-%d", i)
		folder := "/at/bench-staging/maven/example/skerry/bench/" + artifact + "/"
		file := folder + version + "/" + artifact + "-" + version
		return errors.Join(b.put(ctx, file+".jar", bytes.NewReader(jar)),
			b.put(ctx, file+".pom", strings.NewReader(smallPOM(artifact, version))),
			b.put(ctx, folder+"maven-metadata.xml",
				strings.NewReader(
					fmt.Sprintf(
						"<metadata><groupId>example.skerry.bench</groupId><artifactId>%s</artifactId><versioning><release>%s</release><versions><version>%s</version></versions></versioning></metadata>", artifact, version, version))))
	})
	if err != nil {
		return 0, 0, err
	}
	for i := range promotedPackages {
		ask.PURLs = append(ask.PURLs, fmt.Sprintf("pkg:maven/example.skerry.bench/cargo-%d@%s", i, version))
	}
	before, err := storedBytes(b)
	if err != nil {
		return 0, 0, err
	}
	begun := time.Now()
	p, err := b.desk().Promote(ctx, ask)
	took := time.Since(begun)
	if err != nil || p.State != "done" || p.Files != 2*promotedPackages {
		return 0, 0, fmt.Errorf("the promotion is %s with %d files: %s %w", p.State, p.Files, p.Why, err)
	}
	after, err := storedBytes(b)
	if err == nil && after != before {
		err = fmt.Errorf("%d bytes were stored", after-before)
	}
	return float64(took.Milliseconds()), 0, err
}

// storedBytes is how many bytes the store has.
func storedBytes(b *bench) (n int64, err error) {
	err = filepath.Walk(filepath.Join(b.dir, "data", "store", "bytes"), func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			n += info.Size()
		}
		return err
	})
	return n, err
}

// largeEntries and largeJar are those of the jar that is restamped; about half of
// each entry can be compressed.
const largeEntries, largeJar = 10_000, 100 << 20

var largeStamp = ecosystem.Stamp{Namespace: "example.skerry.bench", Name: "hull", From: "1.0-SNAPSHOT", To: "1.0"}

// prepareLargeJar writes the jar.
func prepareLargeJar(ctx context.Context, b *bench) error {
	if err := prepareTrack(ctx, b); err != nil {
		return err
	}
	file, err := os.Create(filepath.Join(b.dir, "hull.jar"))
	if err != nil {
		return err
	}
	defer file.Close()
	w := zip.NewWriter(file)
	add := func(name string, content []byte) {
		into, addErr := w.Create(name)
		if addErr == nil {
			_, addErr = into.Write(content)
		}
		err = errors.Join(err, addErr)
	}
	add("META-INF/MANIFEST.MF", []byte("Manifest-Version: 1.0\r\nImplementation-Version: 1.0-SNAPSHOT\r\n\r\n"))
	add("META-INF/maven/example.skerry.bench/hull/pom.xml", []byte(smallPOM("hull", "1.0-SNAPSHOT")))
	source := rand.NewChaCha8([32]byte{10})
	content := make([]byte, largeJar/largeEntries*13/8)
	for i := range largeEntries {
		_, _ = source.Read(content[:len(content)*5/8]) // it never fails
		copy(content[len(content)*5/8:], strings.Repeat("the tide comes and goes; ", len(content)))
		add(fmt.Sprintf("example/skerry/bench/Part%d.class", i), content)
	}
	return errors.Join(err, w.Close())
}

// restampLargeJar restamps the jar into a store, against copying and hashing it.
func restampLargeJar(ctx context.Context, b *bench, n int) (ours, reference float64, err error) {
	file, err := os.Open(filepath.Join(b.dir, "hull.jar"))
	if err != nil {
		return 0, 0, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return 0, 0, err
	}
	begun := time.Now()
	if err := copyHashing(file, filepath.Join(b.dir, "hull.copy")); err != nil {
		return 0, 0, err
	}
	reference = time.Since(begun).Seconds()
	store, err := store.OpenFolder(filepath.Join(b.dir, "restamped"))
	if err != nil {
		return 0, 0, err
	}
	begun = time.Now()
	r, err := (maven.Maven{}).Restamp(context.Background(),
		ecosystem.ToRestamp{SizedReaderAt: io.NewSectionReader(file, 0, info.Size()), Stamp: largeStamp,
			All:  ecosystem.Stamps{largeStamp},
			File: catalog.File{Name: "hull-1.0-SNAPSHOT.jar", Extension: "jar"}})
	if err != nil || len(r.Changes) != 2 || len(r.Obstacles) > 0 {
		return 0, 0, fmt.Errorf("%d changes, %v, %w", len(r.Changes), r.Obstacles, err)
	}
	body := ecosystem.Piped(func(w io.Writer) error { return r.WriteTo(w, nil) })
	staged, err := store.Stage(ctx, body, -1)
	if err != nil {
		return 0, 0, err
	}
	ours = time.Since(begun).Seconds()
	return ours, reference, errors.Join(staged.Discard(), body.Close(), b.restampMemory(ctx, n))
}

// copyHashing copies a file and computes its SHA-256 on the way.
func copyHashing(from *os.File, to string) error {
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	defer out.Close()
	if _, err := from.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err = io.Copy(io.MultiWriter(out, sha256.New()), from)
	return err
}

// restampMemory promotes the jar through the service, once, and notes how much its
// memory grew meanwhile.
func (b *bench) restampMemory(ctx context.Context, n int) error {
	if n > 0 {
		return nil
	}
	folder := "/at/bench-snapshots/maven/example/skerry/bench/hull/1.0-SNAPSHOT/"
	file, err := os.Open(filepath.Join(b.dir, "hull.jar"))
	if err != nil {
		return err
	}
	defer file.Close()
	err = errors.Join(b.put(ctx, folder+"hull-1.0-20261101.080910-1.jar", file),
		b.put(ctx, folder+"hull-1.0-20261101.080910-1.pom", strings.NewReader(smallPOM("hull", "1.0-SNAPSHOT"))),
		b.put(ctx, folder+"maven-metadata.xml",
			strings.NewReader(
				"<metadata><groupId>example.skerry.bench</groupId><artifactId>hull</artifactId><version>1.0-SNAPSHOT</version><versioning><snapshot><timestamp>20261101.080910</timestamp><buildNumber>1</buildNumber></snapshot></versioning></metadata>")))
	if err != nil {
		return err
	}
	before := b.resident()
	var most atomic.Int64
	watching, stop := context.WithCancel(ctx)
	go func() {
		for watching.Err() == nil {
			most.Store(max(most.Load(), b.resident()))
			time.Sleep(10 * time.Millisecond) // between two looks at the memory
		}
	}()
	begun := time.Now()
	p, err := b.desk().Promote(ctx, api.NewPromotion{Track: track + "-restamp",
		PURLs: []string{"pkg:maven/example.skerry.bench/hull@1.0-SNAPSHOT"}})
	stop()
	if err != nil || p.State != "done" {
		return fmt.Errorf("%s %s %w", p.State, p.Why, err)
	}
	b.note("restamp: promoting it took %.1f s in all, and the service's memory grew by %d MiB (target < 64)",
		time.Since(begun).Seconds(), (most.Load()-before)>>20)
	return nil
}
