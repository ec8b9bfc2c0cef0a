package e2e

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/demo"
	"crelvo/internal/store/storetest"
	"crelvo/test/house"
)

// acknowledged is a publication whose every step the service confirmed.
type acknowledged struct{ path, content string }

// TestKill ends the service with SIGKILL again and again while eight clients
// publish. Whatever was acknowledged is there afterwards, byte for byte; of
// what was not, nothing half is listed; and no bytes are left that nothing
// names. CRELVO_SOAK=1 does 50 rounds.
func TestKill(t *testing.T) {
	t.Parallel()
	rounds := 10
	if os.Getenv("CRELVO_SOAK") != "" {
		rounds = 50
	}
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	h, err := house.Start(dir+"/data", "--quiet-period", "1s")
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := h.Stop(); err != nil {
			t.Errorf("the last stop: %v", err)
		}
	}()
	if err := h.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	var all []acknowledged
	random := rand.New(rand.NewPCG(20261101, 8))
	for round := range rounds {
		all = append(all, publishUntilKilled(t, h, round, time.Duration(100+random.IntN(700))*time.Millisecond)...)
		if err := h.Restart(); err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
	}
	if len(all) < rounds {
		t.Fatalf("only %d publications were acknowledged in %d rounds; that proves little", len(all), rounds)
	}
	t.Logf("%d rounds, %d files acknowledged", rounds, len(all))
	checkAcknowledged(t, h, all)
	checkListed(t, h)
	checkStore(t, h)
}

// publishUntilKilled runs clients, kills the service after a while, and gives
// the files of all versions whose publication was acknowledged.
func publishUntilKilled(t *testing.T, h *house.House, round int, after time.Duration) (all []acknowledged) {
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var mu sync.Mutex
	var clients sync.WaitGroup
	for client := range 8 {
		clients.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				files, ok := publishOne(ctx, t, h, fmt.Sprintf("part-%d", client), fmt.Sprintf("%d.%d", round, n))
				if !ok {
					return
				}
				mu.Lock()
				all = append(all, files...)
				mu.Unlock()
			}
		})
	}
	time.Sleep(after) // the moment of the kill is the experiment
	if err := h.Kill(); err != nil {
		t.Fatal(err)
	}
	stop()
	clients.Wait()
	return all
}

func publishOne(ctx context.Context, t *testing.T, h *house.House, artifact, version string) ([]acknowledged, bool) {
	base := "/at/releases/maven/" + groupPath + "/" + artifact + "/"
	file := base + version + "/" + artifact + "-" + version
	files := []acknowledged{
		{file + ".jar", jar(t, strings.Repeat(artifact+version, 2000))},
		{file + ".pom", pom("example.skerry.berth", artifact, version)},
	}
	for _, step := range append(files, acknowledged{base + "maven-metadata.xml", releaseMetadata(artifact, version)}) {
		a, err := h.Ask(ctx, http.MethodPut, step.path, house.Token, strings.NewReader(step.content))
		if err != nil {
			return nil, false // killed
		}
		if a.Status != 201 {
			t.Errorf("%s: %d %s", step.path, a.Status, a.Reason)
			return nil, false
		}
	}
	return files, true
}

func checkAcknowledged(t *testing.T, h *house.House, all []acknowledged) {
	for _, f := range all {
		a, err := h.Ask(t.Context(), http.MethodGet, f.path, house.Token, nil)
		if err != nil {
			t.Fatal(err)
		}
		if a.Status != 200 || string(a.Body) != f.content {
			t.Errorf("%s was acknowledged, but is answered with %d and %d bytes; want %d", f.path, a.Status, len(a.Body),
				len(f.content))
		}
	}
}

// checkListed sees that every version that is listed has both of its files.
func checkListed(t *testing.T, h *house.House) {
	// A version that was cut must not be completed by the quiet period either.
	time.Sleep(2500 * time.Millisecond) // longer than the quiet period; nothing else tells that it went by
	for client := range 8 {
		artifact := fmt.Sprintf("part-%d", client)
		var p struct {
			Versions []struct {
				Version string
				Uploads []struct{ Files []struct{ Name string } }
			}
		}
		if _, err := h.JSON(t.Context(), http.MethodGet, "/api/v1/package?purl=pkg:maven/example.skerry.berth/"+artifact, nil,
			&p); err != nil {
			t.Fatal(err)
		}
		for _, v := range p.Versions {
			if len(v.Uploads) != 1 || len(v.Uploads[0].Files) != 2 {
				t.Errorf("%s %s is listed half-published: %+v", artifact, v.Version, v)
			}
		}
	}
}

// checkStore sees that the store has no bytes beyond those of the records.
func checkStore(t *testing.T, h *house.House) {
	stored := map[string]bool{}
	err := filepath.WalkDir(h.Data+"/store/bytes", func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			stored[entry.Name()] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	recorded := recordedFiles(t, h)
	for digest := range stored {
		if !recorded[digest] {
			t.Errorf("the store has bytes %s that no record names", digest)
		}
	}
	for digest := range recorded {
		if !stored[digest] {
			t.Errorf("a record names bytes %s that the store has not", digest)
		}
	}
	if left := storetest.Arriving(t, h.Data+"/store"); left > 0 {
		t.Errorf("the staging folder holds %d files", left)
	}
}

// TestKillWhileFetching ends the service in the middle of a mirror's fetch. What
// was kept before is there, what was arriving left nothing, and comes again.
func TestKillWhileFetching(t *testing.T) {
	t.Parallel()
	h := ownHouse(t)
	content := brine(t, "1.0", "2.0")
	u, address := shore(t, content)
	if err := h.AddMirror(t.Context(), "shore", address, nil); err != nil {
		t.Fatal(err)
	}
	get := func(version string) (house.Answer, error) {
		return h.Ask(t.Context(), http.MethodGet, "/at/shore/maven/"+brineFile(version, "jar"), house.Token, nil)
	}
	if a, err := get("1.0"); err != nil || a.Status != 200 {
		t.Fatalf("%d %v", a.Status, err)
	}
	for range 3 {
		switchTo(t, u, demo.Fault{Kind: "slow-body", Path: "/2.0/", For: 20_000})
		asked := u.Requests()["/"+brineFile("2.0", "jar")]
		broken := make(chan error, 1)
		go func() {
			a, err := get("2.0")
			if err == nil {
				err = fmt.Errorf("it looks whole: %d, %d bytes", a.Status, len(a.Body))
			} else {
				err = nil
			}
			broken <- err
		}()
		eventually(t, 5*time.Second, "the file is on its way", func() bool {
			return u.Requests()["/"+brineFile("2.0", "jar")] > asked
		})
		if err := h.Kill(); err != nil {
			t.Fatal(err)
		}
		if err := <-broken; err != nil {
			t.Error(err)
		}
		switchTo(t, u)
		if err := h.Restart(); err != nil {
			t.Fatal(err)
		}
		if left := storetest.Arriving(t, filepath.Join(h.Data, "store")); left != 0 {
			t.Errorf("%d files are left in the staging folder", left)
		}
	}
	asked := u.Requests()["/"+brineFile("1.0", "jar")]
	for _, version := range []string{"1.0", "2.0"} {
		if a, err := get(version); err != nil || string(a.Body) != string(content[brineFile(version, "jar")]) {
			t.Errorf("%s after the kills: %d, %d bytes, %v", version, a.Status, len(a.Body), err)
		}
	}
	if now := u.Requests()["/"+brineFile("1.0", "jar")]; now != asked {
		t.Error("what was kept was fetched again")
	}
}
