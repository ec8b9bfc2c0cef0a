package upstream

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
)

func TestIsPrivate(t *testing.T) {
	for _, a := range strings.Fields(
		"127.0.0.1 10.1.2.3 172.16.0.1 192.168.1.1 169.254.169.254 0.0.0.0 100.64.0.1 224.0.0.1 ::1 fe80::1 fd00::1 " +
			"::ffff:10.0.0.1 ::ffff:127.0.0.1 64:ff9b::a00:1 2002:a00:1::") {
		if !IsPrivate(netip.MustParseAddr(a)) {
			t.Errorf("%s counts as public", a)
		}
	}
	for _, a := range strings.Fields("1.1.1.1 93.184.216.34 2606:2800:220:1::1") {
		if IsPrivate(netip.MustParseAddr(a)) {
			t.Errorf("%s counts as private", a)
		}
	}
	if !LeadsToPrivate(t.Context(), "http://localhost:1/") || !LeadsToPrivate(t.Context(), "http://[::1]/") ||
		LeadsToPrivate(t.Context(), "http://1.1.1.1/") {
		t.Error("the hosts of addresses are not told apart")
	}
}

func TestMayRedirect(t *testing.T) {
	for _, c := range []struct {
		from, to string
		allowed  string
		ok       bool
	}{
		{"https://a.example/x", "https://a.example/y", "", true},
		{"https://a.example/x", "https://b.example/y", "", false},
		{"https://a.example/x", "https://files.b.example/y", "*.b.example", true},
		{"https://a.example/x", "https://b.example.evil.example/y", "*.b.example", false},
		{"https://a.example/x", "http://a.example/y", "", false},
		{"http://a.example/x", "https://a.example/y", "", true},
		{"http://a.example/x", "file:///etc/passwd", "*", false},
		{"http://a.example:80/x", "http://a.example:8080/y", "", false},
		{"http://a.example/x", "http://b.example:8080/y", "b.example:8080", true},
	} {
		from, err1 := url.Parse(c.from)
		to, err2 := url.Parse(c.to)
		if err := errors.Join(err1, err2); err != nil {
			t.Fatal(err)
		}
		if err := mayRedirect(from, to, strings.Fields(c.allowed)); (err == nil) != c.ok {
			t.Errorf("%s to %s with %q: %v", c.from, c.to, c.allowed, err)
		}
	}
}

// TestBreaker lets a failing upstream alone for a growing while.
func TestBreaker(t *testing.T) {
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	var b breaker
	fail := func(hard bool, asked time.Duration) {
		t.Helper()
		p, _, _, _, ok := b.enter(now)
		if !ok {
			t.Fatal("the upstream is left alone")
		}
		b.failed(p, now, "failed", hard, asked)
	}
	pause := func() time.Duration { _, retry := b.state(); return retry.Sub(now) }
	fail(false, 0)
	fail(false, 0)
	if pause() > 0 {
		t.Error("two bad answers are enough to leave it alone")
	}
	fail(false, 0)
	for _, want := range []time.Duration{1, 2, 4, 8, 16} {
		if got := pause(); got != want*time.Second {
			t.Fatalf("the pause is %v; want %ds", got, want)
		}
		if _, last, _, _, ok := b.enter(now); ok || last != "failed" {
			t.Error("it is asked during the pause")
		}
		now = now.Add(pause())
		fail(true, 0)
	}
	for range 20 {
		now = now.Add(pause())
		fail(true, 0)
	}
	if pause() != longestPause {
		t.Errorf("the longest pause is %v", pause())
	}
	now = now.Add(pause())
	p, _, _, _, ok := b.enter(now)
	if !ok || !p.trial {
		t.Fatal("it is not tried again")
	}
	_, _, _, trying, ok := b.enter(now)
	if ok || trying == nil {
		t.Error("more than one request tries it")
	}
	b.answered(p)
	<-trying
	if checksum, _, _, _, ok := b.enter(now); !ok || checksum.trial {
		t.Error("what belongs to the question that tries it is refused")
	}
	b.succeeded(p)
	if since, retry := b.state(); !since.IsZero() || !retry.IsZero() {
		t.Error("it still counts as failing")
	}
	fail(false, time.Minute)
	if pause() != time.Minute {
		t.Errorf("asked for a minute, it is left alone for %v", pause())
	}
	// Requests that were under way together fail once.
	b = breaker{}
	first, _, _, _, _ := b.enter(now)
	second, _, _, _, _ := b.enter(now)
	b.failed(first, now, "failed", true, 0)
	b.failed(second, now, "failed", true, 0)
	if pause() != firstPause {
		t.Errorf("one outage makes a pause of %v", pause())
	}
}

// notes is an observer that remembers.
type notes struct {
	mu     sync.Mutex
	failed []string
}

func (n *notes) Answered(string, time.Time, time.Duration) {}
func (n *notes) Allowed(string, Allowance)                 {}

func (n *notes) Fetched(int64) {}
func (n *notes) Failed(f *Failure, _, _ time.Time) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.failed = append(n.failed, f.What)
}

func source(t *testing.T, change func(*catalog.MirrorSettings), upstreams ...catalog.Upstream) *Source {
	t.Helper()
	m := catalog.MirrorSettings{Upstreams: upstreams, Connect: time.Second, FirstByte: time.Second, Silence: time.Second,
		Parallel: 2, Largest: 1 << 20}
	if change != nil {
		change(&m)
	}
	s, err := New(m, "test", new(notes), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func read(s *Source, path string) (string, error) {
	response, err := s.Get(context.Background(), Request{Path: path})
	if err != nil {
		return "", err
	}
	raw, err := io.ReadAll(response.Body)
	return string(raw), errors.Join(err, response.Body.Close())
}

// TestPrivateAddresses are reached only from an upstream that is private itself.
func TestPrivateAddresses(t *testing.T) {
	reached := 0
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		reached++
		if strings.HasPrefix(r.URL.Path, "/hop/") {
			http.Redirect(w, r, "http://"+r.Host+"/inside", http.StatusFound)
			return
		}
		_, _ = io.WriteString(w, "inside") // the client may be gone
	}))
	t.Cleanup(inside.Close)
	_, err := read(source(t, nil, catalog.Upstream{URL: inside.URL + "/"}), "x")
	if err == nil || !strings.Contains(err.Error(),
		"leads to 127.0.0.1, a private address, which it did not when the mirror was set up") || reached != 0 {
		t.Errorf("%v after %d requests", err, reached)
	}
	if got, err := read(source(t, nil, catalog.Upstream{URL: inside.URL + "/", Private: true}), "hop/x"); err != nil ||
		got != "inside" {
		t.Errorf("%q, %v", got, err)
	}
	// A proxy stands for a public upstream that redirects into our network.
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Host != "maven.openshore.example" {
			t.Errorf("the proxy was asked for %s", r.URL)
		}
		http.Redirect(w, r, inside.URL+"/secret", http.StatusFound)
	}))
	t.Cleanup(proxy.Close)
	s := source(t, func(m *catalog.MirrorSettings) {
		m.Proxy, m.RedirectTo = proxy.URL, []string{"127.0.0.1"}
	}, catalog.Upstream{URL: "http://maven.openshore.example/"})
	if _, err := read(s, "x"); err == nil || !strings.Contains(err.Error(), "a private address") {
		t.Errorf("a redirect into our network: %v", err)
	}
}

// TestWhatIsLifted: a private upstream lifts the network that it is in, and of
// loopback and link-local addresses its very own alone. Addresses of the loopback
// range stand for all.
func TestWhatIsLifted(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.Errorf("another port was asked for %s", r.URL)
	}))
	t.Cleanup(other.Close)
	var to string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/hop" {
			http.Redirect(w, r, to, http.StatusFound)
			return
		}
		_, _ = io.WriteString(w, "itself") // the client may be gone
	}))
	t.Cleanup(server.Close)
	_, port, err := net.SplitHostPort(server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	s := source(t, func(m *catalog.MirrorSettings) {
		m.RedirectTo = []string{"*"}
	}, catalog.Upstream{URL: server.URL + "/", Private: true})
	for _, c := range []struct {
		to   string
		good bool
	}{{server.URL + "/x", true}, {other.URL + "/x", false}, {"http://127.0.0.2:" + port + "/x", false},
		{"http://169.254.169.254/x", false}, {"http://10.0.0.1/x", false}} {
		to = c.to
		if got, err := read(s, "hop"); (err == nil) != c.good ||
			err != nil && !strings.Contains(err.Error(), "a private address") {
			t.Errorf("redirected to %s: %q, %v", c.to, got, err)
		}
		response, err := s.Get(t.Context(), Request{Address: c.to})
		if (err == nil) != c.good {
			t.Errorf("named %s: %v", c.to, err)
		}
		if err == nil {
			_ = response.Body.Close() // nothing more is wanted of it
		}
	}
	at := func(text string) netip.AddrPort { return netip.MustParseAddrPort(text) }
	u, err := url.Parse("http://10.1.2.3:8081/")
	if err != nil {
		t.Fatal(err)
	}
	l := liftFor(t.Context(), u)
	for text, want := range map[string]bool{"10.1.2.3:8081": true, "10.9.9.9:80": true, "192.168.0.1:80": false,
		"127.0.0.1:8081": false, "169.254.1.1:80": false, "[::1]:8081": false, "[::ffff:10.0.0.1]:1": true} {
		if got := l.allows(at(text).Addr(), at(text).Port()); got != want {
			t.Errorf("from 10.1.2.3 to %s: %v", text, got)
		}
	}
}

// TestLimits ends what takes too long or is too much.
func TestLimits(t *testing.T) {
	hang := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/large":
			w.Header().Set("Content-Length", "2000000")
		case "/endless":
			_, _ = w.Write(make([]byte, 2<<20)) // the client may be gone
		case "/silent":
			w.Header().Set("Content-Length", "10")
			_, _ = io.WriteString(w, "12345") // the client may be gone
			_ = http.NewResponseController(w).Flush()
			<-hang
		case "/encoded":
			w.Header().Set("Content-Encoding", "br")
		case "/around":
			http.Redirect(w, r, "/around", http.StatusFound)
		case "/moved":
			http.Redirect(w, r, "/good", http.StatusMovedPermanently)
		case "/good":
			_, _ = io.WriteString(w, "good") // the client may be gone
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(func() { close(hang); server.Close() })
	s := source(t, nil, catalog.Upstream{URL: server.URL + "/", Private: true})
	for path, says := range map[string]string{
		"large":   "wants to send 2000000 bytes; this mirror takes files up to 1048576",
		"endless": "sent more than the 1048576 bytes",
		"silent":  "sent nothing for 1s",
		"encoded": "sent it encoded as br",
		"around":  "redirected more than 5 times",
	} {
		var f *Failure
		if _, err := read(s, path); !errors.As(err, &f) || !strings.Contains(f.What, says) {
			t.Errorf("%s: %v; want %q", path, err, says)
		}
		if _, err := read(s, "good"); err != nil {
			t.Errorf("after %s: %v", path, err)
		}
	}
	if got, err := read(s, "moved"); got != "good" || err != nil {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := read(s, "nothing"); !errors.Is(err, ErrAbsent) {
		t.Errorf("what is not there: %v", err)
	}
}

// TestFlight passes on what arrives, and holds back its end until it is
// verified.
func TestFlight(t *testing.T) {
	content := bytes.Repeat([]byte("tide"), heldBack)
	path := filepath.Join(t.TempDir(), "arriving")
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, verified := range []bool{true, false} {
		flights := Flights{Go: alone}
		go1, end := make(chan struct{}), make(chan struct{})
		broken := errors.New("broken off")
		flight, begun := flights.Join("x", func(_ context.Context, f *Flight) (catalog.File, error) {
			f.Expect(int64(len(content)))
			f.Begun(func() (*os.File, error) { return os.Open(path) })
			f.Arrived(int64(len(content)))
			close(go1)
			<-end
			if !verified {
				return catalog.File{}, broken
			}
			f.Verified(int64(len(content)))
			return catalog.File{Name: "x"}, nil
		})
		if other, again := flights.Join("x", nil); !begun || again || other != flight {
			t.Error("a second flight was begun")
		}
		<-go1
		if _, kept, length, err := flight.Ready(t.Context()); kept || length != int64(len(content)) || err != nil {
			t.Errorf("kept %v, length %d, %v", kept, length, err)
		}
		reading, writing := io.Pipe()
		copied := make(chan error, 1)
		go func() { copied <- errors.Join(flight.CopyTo(t.Context(), writing), writing.Close()) }()
		early := make([]byte, len(content)-heldBack)
		if _, err := io.ReadFull(reading, early); err != nil {
			t.Fatal(err)
		}
		close(end)
		rest, err := io.ReadAll(reading)
		if err != nil {
			t.Fatal(err)
		}
		err = <-copied
		if verified && (err != nil || !bytes.Equal(append(early, rest...), content)) ||
			!verified && (!errors.Is(err, broken) || len(rest) != 0) {
			t.Errorf("verified %v: %d bytes after the verdict, %v", verified, len(rest), err)
		}
		if f, err := flight.File(t.Context()); (err == nil) != verified || verified && f.Name != "x" {
			t.Errorf("%+v, %v", f, err)
		}
	}
}

// TestFlightPanics: what goes badly wrong on the way is an error for all who
// wait.
func TestFlightPanics(t *testing.T) {
	flights := Flights{Go: alone}
	flight, _ := flights.Join("x", func(context.Context, *Flight) (catalog.File, error) { panic("salt in the works") })
	if _, _, _, err := flight.Ready(t.Context()); err == nil || !strings.Contains(err.Error(), "salt in the works") {
		t.Errorf("%v", err)
	}
}

// TestOnePlace: a file whose reader asks for its checksum before it closes it
// does not stand in its own way.
func TestOnePlace(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, r.URL.Path) // the client may be gone
	}))
	t.Cleanup(server.Close)
	s := source(t, func(m *catalog.MirrorSettings) {
		m.Parallel = 1
	}, catalog.Upstream{URL: server.URL + "/", Private: true})
	response, err := s.Get(t.Context(), Request{Path: "file"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadAll(response.Body); err != nil {
		t.Fatal(err)
	}
	if got, err := read(s, "file.sha1"); got != "/file.sha1" || err != nil {
		t.Errorf("%q, %v", got, err)
	}
	if err := response.Body.Close(); err != nil {
		t.Error(err)
	}
}

// TestUnread: a flight that nobody waits for ends, and its places are free again;
// while somebody does it goes on.
func TestUnread(t *testing.T) {
	ended := make(chan struct{})
	f := newFlight(func() { close(ended) })
	over, again := f.wait(), f.wait()
	over()
	if f.alone.Stop() {
		t.Error("its time runs while somebody waits")
	}
	again()
	if !f.alone.Stop() {
		t.Fatal("its time does not run while nobody waits")
	}
	f.alone.Reset(0)
	<-ended
	flights := Flights{Go: alone}
	begun := make(chan struct{})
	flight, _ := flights.Join("x", func(ctx context.Context, f *Flight) (catalog.File, error) {
		close(begun)
		<-ctx.Done()
		return catalog.File{}, ctx.Err()
	})
	<-begun
	flight.alone.Reset(0)
	if err := flight.until(t.Context(), func() bool { return false }); err != nil || !errors.Is(flight.err, ErrUnread) {
		t.Errorf("%v, %v", err, flight.err)
	}
}

// TestTooSlow: an upstream that sends next to nothing is given up, and who reads on
// after that is told the same again.
func TestTooSlow(t *testing.T) {
	s := source(t, nil, catalog.Upstream{URL: "http://127.0.0.1:9/", Private: true})
	b := &body{source: s}
	for i, c := range []struct {
		bytes  int64
		waited time.Duration
		slow   bool
	}{{100, 19 * time.Second, false}, {30_000, time.Second, false}, {5_000, 21 * time.Second, true},
		{50_000, 21 * time.Second, false}} {
		b.got += c.bytes
		if got := b.tooSlow(c.waited); got != c.slow {
			t.Errorf("%d: %d bytes in %s: too slow is %v", i, c.bytes, c.waited, got)
		}
	}
	hang := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, "12345") // the client may be gone
		_ = http.NewResponseController(w).Flush()
		<-hang
	}))
	t.Cleanup(func() { close(hang); server.Close() })
	response, err := source(t, nil, catalog.Upstream{URL: server.URL + "/", Private: true}).
		Get(t.Context(), Request{Path: "x"})
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	_, first := io.ReadAll(response.Body)
	_, second := response.Body.Read(make([]byte, 1))
	if f := (*Failure)(nil); !errors.As(first, &f) || second != first {
		t.Errorf("%v, and then %v", first, second)
	}
}

// TestProxyDown: an upstream is not blamed for its proxy.
func TestProxyDown(t *testing.T) {
	closed := httptest.NewServer(http.NotFoundHandler())
	closed.Close()
	for _, address := range []string{"http://maven.openshore.example/", "https://maven.openshore.example/"} {
		s := source(t, func(m *catalog.MirrorSettings) { m.Proxy = closed.URL }, catalog.Upstream{URL: address})
		_, err := s.Get(t.Context(), Request{Path: "x"})
		var f *Failure
		if !errors.As(err, &f) || !strings.Contains(f.What, "the proxy "+strings.TrimPrefix(closed.URL, "http://")+
			" cannot be reached") {
			t.Errorf("%s: %v", address, err)
		}
	}
}

// TestPasses: an upstream that wants a pass gets one for the credentials, for each name its
// own, and neither name nor secret goes to a host that the mirror does not allow.
func TestPasses(t *testing.T) {
	given := map[string]int{}
	var realm string
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/pass" {
			name, secret, _ := r.BasicAuth()
			if name != "deckhand" || secret != "low-tide" {
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			given[r.URL.Query().Get("scope")]++
			fmt.Fprintf(w, `{"access_token":"pass for %s","expires_in":60}`, r.URL.Query().Get("scope"))
			return
		}
		scope := "repository:" + strings.Split(r.URL.Path, "/")[1] + ":pull"
		if r.Header.Get("Authorization") != "Bearer pass for "+scope {
			w.Header().Add("WWW-Authenticate", `Bearer realm="`+realm+`",service="shore",scope="`+scope+`"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("Docker-Content-Digest", "sha256:x")
		fmt.Fprint(w, "content")
	}))
	defer upstream.Close()
	realm = upstream.URL + "/pass"
	with := func(user string, allowed ...string) *Source {
		return source(t, func(m *catalog.MirrorSettings) {
			m.User, m.Secret, m.RedirectTo = user, "low-tide", allowed
		}, catalog.Upstream{URL: upstream.URL + "/", Private: true})
	}
	s := with("deckhand")
	for _, path := range []string{"kelp/manifests/1", "kelp/blobs/2", "brine/manifests/1"} {
		if text, err := read(s, path); err != nil || text != "content" {
			t.Errorf("%s: %q, %v", path, text, err)
		}
	}
	if given["repository:kelp:pull"] != 1 || given["repository:brine:pull"] != 1 {
		t.Errorf("passes were given %v", given)
	}
	head, err := s.Get(t.Context(), Request{Path: "kelp/manifests/1", Head: true})
	if err != nil || head.Digest != "sha256:x" || head.Length != -1 {
		t.Fatalf("%+v, %v", head, err)
	}
	if err := head.Body.Close(); err != nil {
		t.Error(err)
	}
	if _, err := read(with("stranger"), "kelp/manifests/1"); err == nil || !strings.Contains(err.Error(),
		"other credentials") {
		t.Errorf("a wrong name: %v", err)
	}
	asked := 0
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer elsewhere.Close()
	realm = elsewhere.URL + "/pass"
	if _, err := read(with("deckhand"), "kelp/manifests/1"); err == nil || !strings.Contains(err.Error(), "allow that host") ||
		asked > 0 {
		t.Errorf("passes are given elsewhere: %v, asked %d times", err, asked)
	}
}

// alone does something that ends by itself.
func alone(do func(context.Context)) { go do(context.Background()) }
