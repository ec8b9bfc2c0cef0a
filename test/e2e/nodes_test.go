package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/record/privatepg"
	"crelvo/internal/store/storetest"
	"crelvo/test/house"
)

// fleet is several nodes on one PostgreSQL and one object store, and what stands before them.
type fleet struct {
	nodes    []*house.House // more are added under the lock of the door
	objects  *storetest.S3
	door     *front
	dir      string
	database string
}

// front sends each request to the next node that says it is ready, and to another one if that
// takes no connection.
type front struct {
	mu    sync.Mutex
	ready []string // addresses
	turn  atomic.Uint64
	*httptest.Server
}

func (f *front) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	// What may be done twice (RFC 9110, 9.2.2) is tried at another node if one breaks off.
	var body []byte
	again := r.Method == http.MethodGet || r.Method == http.MethodHead || r.Method == http.MethodPut
	if again {
		var err error
		if body, err = io.ReadAll(r.Body); err != nil {
			panic(http.ErrAbortHandler)
		}
	}
	for range 5 {
		f.mu.Lock()
		ready := f.ready
		f.mu.Unlock()
		if len(ready) == 0 {
			break
		}
		out := r.Clone(r.Context())
		out.RequestURI, out.URL.Scheme = "", "http"
		out.URL.Host = strings.TrimPrefix(ready[f.turn.Add(1)%uint64(len(ready))], "http://")
		if again {
			out.Body = io.NopCloser(bytes.NewReader(body))
		}
		resp, err := http.DefaultTransport.RoundTrip(out)
		var refused *net.OpError
		if err != nil && again || errors.As(err, &refused) && refused.Op == "dial" {
			continue
		}
		if err != nil {
			panic(http.ErrAbortHandler)
		}
		defer resp.Body.Close()
		for name, values := range resp.Header {
			w.Header()[name] = values
		}
		w.WriteHeader(resp.StatusCode)
		if _, err := io.Copy(w, resp.Body); err != nil {
			panic(http.ErrAbortHandler)
		}
		return
	}
	http.Error(w, "no node is ready", http.StatusBadGateway)
}

// look asks all nodes whether they are ready.
func (f *front) look(nodes []*house.House) {
	var ready []string
	for _, n := range nodes {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if a, err := n.Ask(ctx, "GET", "/readyz", "", nil); err == nil && a.Status == 200 {
			ready = append(ready, n.Address)
		}
		cancel()
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ready = ready
}

// setCredentials gives services that are started from now on the key of the object stores of
// tests.
func setCredentials(t *testing.T) {
	t.Helper()
	for _, e := range storetest.Environment() {
		name, value, _ := strings.Cut(e, "=")
		if os.Getenv(name) == value {
			continue
		}
		if err := os.Setenv(name, value); err != nil { // the same for all tests
			t.Fatal(err)
		}
	}
}

func newFleet(t *testing.T, count int) *fleet {
	t.Helper()
	dir := fleetDir(t)
	return newFleetOn(t, dir, startPostgres(t, dir+"/postgres").URL, count)
}

// fleetDir is a folder that an account for PostgreSQL reaches.
func fleetDir(t *testing.T) string {
	t.Helper()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func startPostgres(t *testing.T, dir string) *privatepg.Server {
	t.Helper()
	postgres, err := privatepg.Start(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := postgres.Stop(); err != nil {
			t.Error(err)
		}
	})
	return postgres
}

// start starts a node of the fleet, of another program than bin/crelvo if one is named.
func (f *fleet) start(t *testing.T, program string) *house.House {
	t.Helper()
	i := len(f.nodes) + 1
	n, err := house.StartOf(program, fmt.Sprint(f.dir, "/node-", i), "--database", f.database, "--store",
		f.objects.Setting(), "--key-file", f.dir+"/key", "--node-name", fmt.Sprint("berth-", i))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := n.Stop(); err != nil && !t.Failed() {
			t.Errorf("%s: %v", n.Data, err)
		}
	})
	f.door.mu.Lock()
	defer f.door.mu.Unlock()
	f.nodes = append(f.nodes, n)
	return n
}

// newFleetOn makes a fleet on a database, with what it keeps itself in a folder.
func newFleetOn(t *testing.T, dir, database string, count int, programs ...string) *fleet {
	t.Helper()
	f := &fleet{objects: storetest.Start(t), door: &front{}, dir: dir, database: database}
	f.door.Server = httptest.NewServer(f.door)
	t.Cleanup(f.door.Close)
	setCredentials(t)
	var key [32]byte
	rand.Read(key[:])
	if err := os.WriteFile(dir+"/key", []byte(hex.EncodeToString(key[:])), 0o600); err != nil {
		t.Fatal(err)
	}
	for i := range count {
		program := ""
		if i < len(programs) {
			program = programs[i]
		}
		f.start(t, program)
	}
	looking, stop := context.WithCancel(context.Background())
	var looked sync.WaitGroup
	looked.Go(func() {
		for looking.Err() == nil {
			f.door.look(f.all())
			select {
			case <-looking.Done():
			case <-time.After(100 * time.Millisecond):
			}
		}
	})
	t.Cleanup(func() { stop(); looked.Wait() })
	f.door.look(f.all())
	return f
}

// all are the nodes that were started so far.
func (f *fleet) all() []*house.House {
	f.door.mu.Lock()
	defer f.door.mu.Unlock()
	return slices.Clone(f.nodes)
}

// at is the whole of it, by way of what stands before it.
func (f *fleet) at() *house.House { return &house.House{Address: f.door.URL} }

// work is what is published and read meanwhile.
type work struct {
	mu    sync.Mutex
	files map[string]string // that were acknowledged, by their paths
	wrong []string
	tries atomic.Int64
}

func (w *work) went(wrong string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.wrong = append(w.wrong, wrong)
}

// takeWrong gives what went wrong since it was called last.
func (w *work) takeWrong() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	wrong := w.wrong
	w.wrong = nil
	return wrong
}

// publish publishes one version after the other, whole, and now and then reads one of those
// that were acknowledged, until ctx ends.
func (w *work) publish(ctx context.Context, t *testing.T, to *house.House, repository string, worker int) {
	for i := 0; ctx.Err() == nil; i++ {
		w.tries.Add(1)
		name := fmt.Sprintf("tide-%d", worker)
		version := fmt.Sprintf("1.0.%d", i)
		content := jar(t, fmt.Sprint(worker, " ", i))
		path := fmt.Sprintf("/at/%s/maven/%s/%s/%s/%s-%s", repository, groupPath, name, version, name, version)
		whole := true
		for _, file := range []struct{ path, content string }{{path + ".jar", content},
			{path + ".pom", pom("example.skerry.berth", name, version)},
			{fmt.Sprintf("/at/%s/maven/%s/%s/maven-metadata.xml", repository, groupPath, name),
				releaseMetadata(name, version)}} {
			a, err := to.Ask(context.WithoutCancel(ctx), "PUT", file.path, house.Token, strings.NewReader(file.content))
			if err != nil || a.Status >= 300 {
				w.went(fmt.Sprintf("PUT %s: %d %s %v", file.path, a.Status, a.Reason, err))
				whole = false
				break
			}
		}
		if !whole {
			continue
		}
		w.mu.Lock()
		w.files[path+".jar"] = content
		w.mu.Unlock()
		// Another node than the one that took it has it at once, and lists it.
		list := fmt.Sprintf("/at/%s/maven/%s/%s/maven-metadata.xml", repository, groupPath, name)
		if a, err := to.Ask(context.WithoutCancel(ctx), "GET", list, house.Token, nil); err != nil || a.Status != 200 ||
			!strings.Contains(string(a.Body), "<version>"+version+"</version>") {
			w.went(fmt.Sprintf("GET %s: %d %s does not list %s, %v", list, a.Status, a.Reason, version, err))
		}
		if a, err := to.Ask(context.WithoutCancel(ctx), "GET", path+".jar", house.Token, nil); err != nil ||
			a.Status != 200 || string(a.Body) != content {
			w.went(fmt.Sprintf("GET %s: %d %s, %d bytes, %v", path+".jar", a.Status, a.Reason, len(a.Body), err))
		}
	}
}

// newWork has workers publish to the repository releases until stop is called.
func newWork(t *testing.T, to *house.House, workers int) (w *work, stop func()) {
	t.Helper()
	w = &work{files: map[string]string{}}
	working, end := context.WithCancel(t.Context())
	var busy sync.WaitGroup
	for i := range workers {
		busy.Go(func() { w.publish(working, t, to, "releases", i) })
	}
	stop = func() { end(); busy.Wait() }
	t.Cleanup(stop)
	return w, stop
}

// goOn waits until so many more versions were tried to be published.
func (w *work) goOn(t *testing.T, n int64) {
	t.Helper()
	from := w.tries.Load()
	eventually(t, 60*time.Second, "it goes on", func() bool { return w.tries.Load() >= from+n })
}

// isThere reads all that was acknowledged from each node; there must be so much at least.
func (w *work) isThere(t *testing.T, nodes []*house.House, least int) {
	t.Helper()
	if len(w.files) < least {
		t.Errorf("only %d versions were published", len(w.files))
	}
	for _, n := range nodes {
		for path, content := range w.files {
			if a, err := n.Ask(t.Context(), "GET", path, house.Token, nil); err != nil || string(a.Body) != content {
				t.Fatalf("%s from %s: %d, %d bytes, %v", path, n.Address, a.Status, len(a.Body), err)
			}
		}
	}
	t.Logf("%d versions of %d were acknowledged", len(w.files), w.tries.Load())
}

// TestFleet: three nodes on one database and one object store are one service, whichever is
// asked. One is killed, one is taken out and comes back, the object store goes and comes:
// nothing that was acknowledged is lost, and no request fails beyond those in flight and those
// that the fault itself makes impossible.
func TestFleet(t *testing.T) {
	f := newFleet(t, 3)
	all := f.at()
	if err := all.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	bench := newWorkshop(t)
	const workers = 6
	w, stop := newWork(t, all, workers)
	goOn := func(n int64) { t.Helper(); w.goOn(t, n) }
	goOn(40)
	if wrong := w.takeWrong(); len(wrong) > 0 {
		t.Errorf("with three nodes: %q", wrong)
	}
	var nodes []api.Node
	if _, err := all.JSON(t.Context(), "GET", "/api/v1/nodes", nil, &nodes); err != nil || len(nodes) != 3 ||
		slices.ContainsFunc(nodes, func(n api.Node) bool { return n.State != "serving" }) {
		t.Errorf("%+v, %v", nodes, err)
	}

	// One is killed: what it was answering is cut, and nothing else.
	if err := f.nodes[1].Kill(); err != nil {
		t.Fatal(err)
	}
	goOn(60)
	if wrong := w.takeWrong(); len(wrong) > workers {
		t.Errorf("%d requests failed when a node was killed: %q", len(wrong), wrong)
	}
	if err := f.nodes[1].Restart(); err != nil {
		t.Fatal(err)
	}

	// Each is taken out, ends, and comes back, as when the program is upgraded.
	for i, n := range f.nodes {
		bench.run("", "env", "CRELVO_SERVER="+all.Address, "CRELVO_TOKEN="+house.Token, house.Program(), "node", "drain",
			strings.TrimPrefix(n.Address, "http://"), "--wait")
		if err := n.Stop(); err != nil {
			t.Error(err)
		}
		if err := n.Restart(); err != nil {
			t.Fatal(err)
		}
		goOn(20)
		if wrong := w.takeWrong(); len(wrong) > 0 {
			t.Errorf("while node %d was replaced: %q", i+1, wrong)
		}
	}

	// The object store is away: what was read lately is served, and the rest is refused.
	f.objects.Kill()
	goOn(30)
	for _, wrong := range w.takeWrong() {
		if !strings.Contains(wrong, " 503 ") {
			t.Error(wrong)
		}
	}
	if err := f.objects.Run(); err != nil {
		t.Fatal(err)
	}
	eventually(t, 60*time.Second, "all goes on by itself", func() bool {
		w.takeWrong()
		goOn(12)
		return len(w.takeWrong()) == 0
	})
	stop()
	w.isThere(t, f.nodes, 100)
}
