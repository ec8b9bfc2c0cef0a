package e2e

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/demo"
	"crelvo/test/house"
)

// shore starts a stand-in upstream with the given files.
func shore(t *testing.T, content demo.Content) (*demo.Upstream, string) {
	t.Helper()
	u := demo.NewUpstream(content)
	address, err := u.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := u.Close(); err != nil {
			t.Error(err)
		}
	})
	return u, address
}

// brine is the content of a repository with the given versions of a package.
func brine(t *testing.T, versions ...string) demo.Files {
	t.Helper()
	files := demo.Files{}
	listed := ""
	for _, v := range versions {
		at := "org/openshore/brine-http/" + v + "/brine-http-" + v
		files[at+".pom"] = []byte(pom("org.openshore", "brine-http", v))
		files[at+".jar"] = []byte(jar(t, "brine "+v+noise(300<<10)))
		listed += "<version>" + v + "</version>"
	}
	files[brineList] = []byte(
		"<metadata><groupId>org.openshore</groupId><artifactId>brine-http</artifactId><versioning><versions>" + listed +
			"</versions></versioning></metadata>")
	return files
}

// noise is text that does not get smaller in an archive.
func noise(n int) string {
	raw := make([]byte, n/2)
	source := rand.NewChaCha8([32]byte{1})
	_, _ = source.Read(raw) // it never fails
	return hex.EncodeToString(raw)
}

const brineList = "org/openshore/brine-http/maven-metadata.xml"

func brineFile(version, extension string) string {
	return "org/openshore/brine-http/" + version + "/brine-http-" + version + "." + extension
}

// quick are settings of a mirror that lets tests see its limits.
var quick = map[string]any{"connectSeconds": 1, "firstByteSeconds": 1, "silenceSeconds": 1, "freshSeconds": 0.1,
	"absentSeconds": 0.1}

func switchTo(t *testing.T, u *demo.Upstream, faults ...demo.Fault) {
	t.Helper()
	if err := u.Switch(faults...); err != nil {
		t.Fatal(err)
	}
}

func addMirror(t *testing.T, upstream string, more map[string]any) string {
	t.Helper()
	name := fmt.Sprintf("mirror-%d", made.Add(1))
	if err := shared.AddMirror(t.Context(), name, upstream, more); err != nil {
		t.Fatal(err)
	}
	return name
}

func addChain(t *testing.T, members ...string) string {
	t.Helper()
	name := fmt.Sprintf("chain-%d", made.Add(1))
	if err := shared.AddChain(t.Context(), name, members...); err != nil {
		t.Fatal(err)
	}
	return name
}

func mirrorState(t *testing.T, name string) (state api.MirrorState) {
	t.Helper()
	a := must(t, http.MethodGet, "/api/v1/repositories/"+name+"/mirror", "", 200)
	if err := json.Unmarshal(a.Body, &state); err != nil {
		t.Fatal(err)
	}
	return state
}

// forgetTrouble lets a mirror try its upstream again at once.
func forgetTrouble(t *testing.T, name string) {
	t.Helper()
	eventually(t, 15*time.Second, name+" tries its upstream again", func() bool {
		a := ask(t, http.MethodGet, "/at/"+name+"/maven/org/openshore/no-such/1/no-such-1.pom", "")
		return a.Status == 404
	})
}

// TestMirrorFaults meets every fault of an upstream with nothing kept, and with
// the file kept.
func TestMirrorFaults(t *testing.T) {
	for _, c := range []struct {
		fault  demo.Fault
		status int    // of the answer with nothing kept; 0: that, or broken off
		says   string // the mirror's state and the reason
	}{
		{demo.Fault{Kind: "slow-first-byte", For: 3000}, 503, "did not answer within 1s"},
		{demo.Fault{Kind: "slow-body", Path: ".jar", For: 30_000}, 503, "sent nothing for 1s"},
		{demo.Fault{Kind: "reset"}, 503, "closed the connection before it answered"},
		{demo.Fault{Kind: "cut", Path: ".jar"}, 0, "and then broke off"},
		{demo.Fault{Kind: "wrong-bytes", Path: ".jar"}, 0,
			"sent other bytes for brine-http-1.0.jar than its own checksum says"},
		{demo.Fault{Kind: "wrong-checksum", Path: ".jar.sha1"}, 0, "than its own checksum says"},
		{demo.Fault{Kind: "long", Path: ".jar"}, 0, "than its own checksum says"},
		{demo.Fault{Kind: "wrong-bytes", Path: ".pom"}, 503, "sent other bytes for brine-http-1.0.pom"},
		{demo.Fault{Kind: "page", Path: ".jar"}, 503, "sent a web page instead of brine-http-1.0.jar"},
		{demo.Fault{Kind: "absent"}, 404, ""},
		{demo.Fault{Kind: "busy", For: 2000}, 503, "answered 429 Too Many Requests and asked to be left alone for 2s"},
		{demo.Fault{Kind: "error"}, 503, "answered 500 Internal Server Error"},
		{demo.Fault{Kind: "redirect", To: "http://10.0.0.1/x"}, 503, "redirected to 10.0.0.1, which is not among the hosts"},
		{demo.Fault{Kind: "gone"}, 503, "refused the connection"},
	} {
		t.Run(c.fault.Kind+c.fault.Path, func(t *testing.T) {
			t.Parallel()
			content := brine(t, "1.0", "2.0")
			u, address := shore(t, content)
			mirror := addMirror(t, address, quick)
			at := "/at/" + mirror + "/maven/"
			// One that is kept before anything goes wrong.
			kept := must(t, http.MethodGet, at+brineFile("2.0", "jar"), "", 200)
			must(t, http.MethodGet, at+brineList, "", 200)
			switchTo(t, u, c.fault)
			extension := "jar"
			if c.fault.Path == ".pom" {
				extension = "pom"
			}
			a, err := shared.Ask(t.Context(), http.MethodGet, at+brineFile("1.0", extension), house.Token, nil)
			switch {
			case c.status == 0 && err == nil && a.Status != 503:
				t.Errorf("the answer looks complete: %d with %d bytes", a.Status, len(a.Body))
			case c.status != 0 && (err != nil || a.Status != c.status):
				t.Errorf("%d %v %s; want %d", a.Status, err, a.Body, c.status)
			case c.status == 503 && !strings.Contains(a.Reason, c.says):
				t.Errorf("the reason phrase is %q; want %q in it", a.Reason, c.says)
			}
			// What is on its way from memory into the records is in neither for a moment.
			eventually(t, 5*time.Second, fmt.Sprintf("the state says %q", c.says), func() bool {
				state := mirrorState(t, mirror)
				return strings.Contains(state.Contacts[0].Failure, c.says) && (c.says == "" || state.Contacts[0].FailedAt != nil)
			})
			shown := must(t, http.MethodGet, "/api/v1/package?purl=pkg:maven/org.openshore/brine-http@1.0", "", 200, 404)
			if strings.Contains(string(shown.Body), `"repository":"`+mirror+`"`) {
				t.Errorf("something of the bad file was kept: %s", shown.Body)
			}
			// What is kept does not wait for the upstream.
			begun := time.Now()
			again := must(t, http.MethodGet, at+brineFile("2.0", "jar"), "", 200)
			if string(again.Body) != string(kept.Body) || time.Since(begun) > 900*time.Millisecond {
				t.Errorf("the kept file took %v, %d bytes", time.Since(begun), len(again.Body))
			}
			// The list may be old, and says so.
			eventually(t, 5*time.Second, "the list is marked as stale if it is", func() bool {
				list := must(t, http.MethodGet, at+brineList, "", 200)
				if !strings.Contains(string(list.Body), "<version>2.0</version>") {
					t.Errorf("the list does not have what is kept: %s", list.Body)
				}
				stale := strings.Contains(list.Header.Get("Cache-Status"), mirror+"; hit; ttl=-")
				return stale == (c.fault.Path == "" && c.fault.Kind != "absent")
			})
			switchTo(t, u)
			forgetTrouble(t, mirror)
			eventually(t, 15*time.Second, "the file comes", func() bool {
				a, err := shared.Ask(t.Context(), http.MethodGet, at+brineFile("1.0", "jar"), house.Token, nil)
				return err == nil && a.Status == 200 && string(a.Body) == string(content[brineFile("1.0", "jar")])
			})
			eventually(t, 5*time.Second, "the state is good again", func() bool {
				must(t, http.MethodGet, at+brineList, "", 200)
				state := mirrorState(t, mirror)
				return state.Contacts[0].State == "ok" && state.StaleTotal == 0
			})
		})
	}
}

// TestMirrorNeverLooksWhole sees that a client to whom a bad file is passed on
// as it comes can tell.
func TestMirrorNeverLooksWhole(t *testing.T) {
	const path = "org/openshore/chart/1.0/chart-1.0.bin"
	for _, kind := range []string{"cut", "wrong-bytes", "long"} {
		t.Run(kind, func(t *testing.T) {
			content := brine(t)
			content[path] = []byte(strings.Repeat("0123456789abcdef", 1<<20))
			u, address := shore(t, content)
			mirror := addMirror(t, address, quick)
			switchTo(t, u, demo.Fault{Kind: kind, Path: path})
			r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, shared.Address+"/at/"+mirror+"/maven/"+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			r.SetBasicAuth("anybody", house.Token)
			response, err := http.DefaultTransport.RoundTrip(r)
			if err != nil {
				t.Fatal(err)
			}
			defer response.Body.Close()
			if n, err := io.Copy(io.Discard, response.Body); response.StatusCode == 200 && err == nil {
				t.Errorf("the client got %d bytes and takes them for whole", n)
			}
			switchTo(t, u)
			if a := must(t, http.MethodGet, "/at/"+mirror+"/maven/"+path, "", 200); string(a.Body) != string(content[path]) {
				t.Error("the file came back changed")
			}
		})
	}
}

// TestMirrorOneSlowUpstream sees that a mirror whose upstream hangs does not
// hold up another one.
func TestMirrorOneSlowUpstream(t *testing.T) {
	slow, slowAddress := shore(t, brine(t, "1.0"))
	switchTo(t, slow, demo.Fault{Kind: "slow-first-byte", For: 20_000})
	_, fastAddress := shore(t, brine(t, "1.0"))
	hanging := addMirror(t, slowAddress, map[string]any{"firstByteSeconds": 15, "parallel": 2})
	other := addMirror(t, fastAddress, nil)
	ctx, cancel := context.WithCancel(t.Context())
	var waiting sync.WaitGroup
	for i := range 40 {
		waiting.Go(func() {
			path := fmt.Sprintf("/at/%s/maven/org/openshore/brine-%d/1.0/brine-%d-1.0.jar", hanging, i, i)
			if _, err := shared.Ask(ctx, http.MethodGet, path, house.Token, nil); !errors.Is(err, context.Canceled) {
				t.Errorf("the hanging upstream answered: %v", err)
			}
		})
	}
	eventually(t, 5*time.Second, "the slow upstream is asked", func() bool { return len(slow.Requests()) > 0 })
	begun := time.Now()
	must(t, http.MethodGet, "/at/"+other+"/maven/"+brineFile("1.0", "jar"), "", 200)
	if took := time.Since(begun); took > time.Second {
		t.Errorf("the other mirror took %v", took)
	}
	if n := len(slow.Requests()); n > 2 {
		t.Errorf("%d requests at once; the limit is 2", n)
	}
	cancel()
	waiting.Wait()
}

// TestMirrorShares lets 200 clients ask at once for a file that is not kept.
func TestMirrorShares(t *testing.T) {
	const size, clients = 8 << 20, 200
	content := brine(t)
	big := "org/openshore/chart/1.0/chart-1.0.bin"
	content[big] = []byte(strings.Repeat("0123456789abcdef", size/16))
	u, address := shore(t, content)
	switchTo(t, u, demo.Fault{Kind: "slow-body", Path: "chart-1.0.bin", For: 4000})
	mirror := addMirror(t, address, nil)
	var early, whole atomic.Int64
	var done atomic.Bool
	leaving, leave := context.WithCancel(t.Context())
	var running sync.WaitGroup
	get := func(ctx context.Context, read func(io.Reader) error) {
		running.Go(func() {
			r, err := http.NewRequestWithContext(ctx, http.MethodGet, shared.Address+"/at/"+mirror+"/maven/"+big, nil)
			if err != nil {
				t.Error(err)
				return
			}
			r.SetBasicAuth("anybody", house.Token)
			response, err := http.DefaultClient.Do(r)
			if err != nil {
				t.Error(err)
				return
			}
			defer response.Body.Close()
			if response.ContentLength != size {
				t.Errorf("the length is announced as %d", response.ContentLength)
			}
			if err := read(response.Body); err != nil {
				t.Error(err)
			}
		})
	}
	for range clients {
		get(t.Context(), func(body io.Reader) error {
			if _, err := io.ReadFull(body, make([]byte, 64<<10)); err != nil {
				return err
			}
			if !done.Load() {
				early.Add(1)
			}
			n, err := io.Copy(io.Discard, body)
			done.Store(true)
			if n+64<<10 == size {
				whole.Add(1)
			}
			return err
		})
	}
	get(leaving, func(body io.Reader) error {
		_, err := io.ReadFull(body, make([]byte, 1<<10))
		leave()
		return err
	})
	running.Wait()
	if n := u.Requests()["/"+big]; n != 1 {
		t.Errorf("the upstream was asked %d times for one file", n)
	}
	if early.Load() != clients {
		t.Errorf("%d of %d clients had bytes before the upstream was done", early.Load(), clients)
	}
	if whole.Load() != clients {
		t.Errorf("%d of %d clients got all", whole.Load(), clients)
	}
	eventually(t, 5*time.Second, "all are counted", func() bool {
		return mirrorState(t, mirror).Total.BytesServed >= clients*size
	})
	// The one that left may have been the first.
	if total := mirrorState(t, mirror).Total; total.Misses != 1 || total.Hits < clients-1 || total.Hits > clients ||
		total.BytesFetched < size {
		t.Errorf("the counts are %+v", total)
	}
	must(t, http.MethodGet, "/at/"+mirror+"/maven/"+big+".sha256", "", 200)
}

// TestMirrorHead asks for the head, and for a part, of a file that is not kept.
func TestMirrorHead(t *testing.T) {
	content := brine(t, "1.0", "2.0", "3.0")
	_, address := shore(t, content)
	mirror := addMirror(t, address, nil)
	at := "/at/" + mirror + "/maven/"
	for range 2 { // cold and warm
		a := must(t, http.MethodHead, at+brineFile("1.0", "jar"), "", 200)
		if a.Header.Get("Content-Length") != fmt.Sprint(len(content[brineFile("1.0", "jar")])) || len(a.Body) != 0 {
			t.Errorf("the head is %v with %d bytes", a.Header, len(a.Body))
		}
	}
	must(t, http.MethodHead, at+brineFile("9.0", "jar"), "", 404)
	whole := content[brineFile("2.0", "jar")]
	if a := ask(t, http.MethodGet, at+brineFile("2.0", "jar"), "", "Range", "bytes=0-99"); a.Status == 206 &&
		string(a.Body) != string(whole[:100]) || a.Status == 200 && string(a.Body) != string(whole) || a.Status/100 != 2 {
		t.Errorf("a part of what is arriving: %d, %d bytes", a.Status, len(a.Body))
	}
	if a := ask(t, http.MethodGet, at+brineFile("2.0", "jar"), "", "Range", "bytes=0-99"); a.Status != 206 ||
		string(a.Body) != string(whole[:100]) {
		t.Errorf("a part of what is kept: %d, %d bytes", a.Status, len(a.Body))
	}
	if sum := must(t, http.MethodGet, at+brineFile("3.0", "jar")+".sha1", "",
		200); string(sum.Body) != sha1Hex(string(content[brineFile("3.0", "jar")])) {
		t.Errorf("the checksum of what was not kept is %s", sum.Body)
	}
}

// TestMirrorDocuments sees how lists and absences are remembered.
func TestMirrorDocuments(t *testing.T) {
	content := brine(t, "1.0")
	u, address := shore(t, content)
	mirror := addMirror(t, address, map[string]any{"freshSeconds": 3600, "absentSeconds": 3600})
	at := "/at/" + mirror + "/maven/"
	for range 3 {
		list := must(t, http.MethodGet, at+brineList, "", 200)
		if !strings.Contains(string(list.Body), "<release>1.0</release>") {
			t.Errorf("the list is %s", list.Body)
		}
		must(t, http.MethodGet, at+brineFile("1.1", "pom"), "", 404)
		must(t, http.MethodGet, at+brineFile("1.1", "pom")+".sha1", "", 404)
		must(t, http.MethodGet, at+"org/openshore/none/maven-metadata.xml", "", 404)
	}
	for _, path := range []string{brineList, brineFile("1.1", "pom"), "org/openshore/none/maven-metadata.xml"} {
		if n := u.Requests()["/"+path]; n != 1 {
			t.Errorf("%s was asked for %d times", path, n)
		}
	}
	// It comes into being, and is found once the absence is forgotten by hand.
	for path, bytes := range brine(t, "1.0", "1.1") {
		content[path] = bytes
	}
	must(t, http.MethodGet, at+brineFile("1.1", "pom"), "", 404)
	if _, stderr, code := crelvoAsAdmin(t, "--yes", "mirror", "forget", "pkg:maven/org.openshore/brine-http", "--in",
		mirror); code != 0 {
		t.Fatal(stderr)
	}
	must(t, http.MethodGet, at+brineFile("1.1", "pom"), "", 200)
	if list := must(t, http.MethodGet, at+brineList, "", 200); !strings.Contains(string(list.Body),
		"<release>1.1</release>") {
		t.Errorf("the list is %s", list.Body)
	}
	// A list that has not changed is not sent again.
	changed, err := shared.JSON(t.Context(), http.MethodPatch, "/api/v1/repositories/"+mirror,
		map[string]any{"mirror": map[string]any{"freshSeconds": 0.1}}, nil)
	if err != nil || changed.Status != 200 {
		t.Fatalf("%v %s", err, changed.Body)
	}
	fetched := mirrorState(t, mirror).Total.BytesFetched
	eventually(t, 5*time.Second, "the list is asked for again", func() bool {
		must(t, http.MethodGet, at+brineList, "", 200)
		return u.Requests()["/"+brineList] >= 4
	})
	if now := mirrorState(t, mirror).Total.BytesFetched; now != fetched {
		t.Errorf("%d bytes were fetched for a list that has not changed", now-fetched)
	}
	// A copy survives its source.
	delete(content, brineFile("1.1", "pom"))
	must(t, http.MethodGet, at+brineFile("1.1", "pom"), "", 200)
}

// TestMirrorFallback sees that the next upstream is asked only if one fails.
func TestMirrorFallback(t *testing.T) {
	first, firstAddress := shore(t, brine(t, "1.0", "2.0"))
	second, secondAddress := shore(t, brine(t, "1.0", "2.0"))
	mirror := addMirror(t, firstAddress, map[string]any{"upstreams": []string{firstAddress, secondAddress},
		"connectSeconds": 1})
	at := "/at/" + mirror + "/maven/"
	must(t, http.MethodGet, at+brineFile("1.0", "jar"), "", 200)
	must(t, http.MethodGet, at+brineFile("9.0", "jar"), "", 404)
	if n := len(second.Requests()); n != 0 {
		t.Errorf("the second upstream was asked %d times though the first answers", n)
	}
	switchTo(t, first, demo.Fault{Kind: "gone"})
	must(t, http.MethodGet, at+brineFile("2.0", "jar"), "", 200)
	if second.Requests()["/"+brineFile("2.0", "jar")] != 1 {
		t.Errorf("the second upstream was asked for %v", second.Requests())
	}
	state := mirrorState(t, mirror)
	if state.Contacts[0].State != "failing" || state.Contacts[1].State != "ok" || state.Contacts[0].FailingSince == nil {
		t.Errorf("the upstreams are %+v", state.Contacts)
	}
}

// TestMirrorSignsIn keeps credentials encrypted, and gives them to the upstream
// only. A private upstream leads to no other port of this machine, whatever the
// mirror allows.
func TestMirrorSignsIn(t *testing.T) {
	elsewhere, seenElsewhere := recorder(t, nil)
	var upstream string
	upstream, seen := recorder(t, func(w http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "/moved/") {
			http.Redirect(w, r, elsewhere+r.URL.Path, http.StatusFound)
			return true
		}
		if user, password, _ := r.BasicAuth(); user != "ferry" || password != "salt-and-tar" {
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return true
		}
		return false
	})
	host := strings.Trim(strings.TrimPrefix(elsewhere, "http://"), "/")
	mirror := addMirror(t, upstream, map[string]any{"user": "ferry", "secret": "salt-and-tar",
		"redirectTo": []string{host}})
	must(t, http.MethodGet, "/at/"+mirror+"/maven/org/openshore/a/1/a-1.txt", "", 200)
	if a := ask(t, http.MethodGet, "/at/"+mirror+"/maven/org/moved/a/1/a-1.txt", ""); a.Status != 503 ||
		!strings.Contains(string(a.Body), "a private address") {
		t.Errorf("redirected to another port: %d %s", a.Status, a.Body)
	}
	if seen().Load() == 0 || seenElsewhere().Load() != 0 {
		t.Errorf("credentials were given %d times to the upstream and %d times elsewhere", seen().Load(),
			seenElsewhere().Load())
	}
	for _, path := range []string{"/api/v1/repositories/" + mirror, "/api/v1/repositories", "/api/v1/events?limit=1000"} {
		if a := must(t, http.MethodGet, path, "", 200); strings.Contains(string(a.Body), "salt-and-tar") {
			t.Errorf("%s tells the secret", path)
		}
	}
	if strings.Contains(shared.Log(), "salt-and-tar") {
		t.Error("the log tells the secret")
	}
	// With a wrong secret it says so, and other settings keep the secret.
	patch := func(settings map[string]any) {
		a, err := shared.JSON(t.Context(), http.MethodPatch, "/api/v1/repositories/"+mirror,
			map[string]any{"mirror": settings}, nil)
		if err != nil || a.Status != 200 {
			t.Fatalf("%v %s", err, a.Body)
		}
	}
	patch(map[string]any{"parallel": 3})
	must(t, http.MethodGet, "/at/"+mirror+"/maven/org/openshore/b/1/b-1.txt", "", 200)
	patch(map[string]any{"secret": "wrong"})
	if a := must(t, http.MethodGet, "/at/"+mirror+"/maven/org/openshore/c/1/c-1.txt", "", 503); !strings.Contains(a.Reason,
		"401 Unauthorized; does it want other credentials?") {
		t.Errorf("the reason is %q", a.Reason)
	}
	if state := mirrorState(t, mirror); state.Contacts[0].State != "failing" {
		t.Errorf("an upstream that refuses our credentials is %q", state.Contacts[0].State)
	}
}

// recorder is a server that counts requests with credentials.
func recorder(t *testing.T, before func(http.ResponseWriter, *http.Request) bool) (string, func() *atomic.Int64) {
	t.Helper()
	var with atomic.Int64
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			with.Add(1)
		}
		if before != nil && before(w, r) {
			return
		}
		if strings.HasSuffix(r.URL.Path, ".txt") {
			_, _ = io.WriteString(w, "salt") // the client may be gone
			return
		}
		http.NotFound(w, r)
	})}
	go func() { _ = server.Serve(l) }() // it ends with Close
	t.Cleanup(func() { server.Close() })
	return "http://" + l.Addr().String() + "/", func() *atomic.Int64 { return &with }
}
