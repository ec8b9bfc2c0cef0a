package demo

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha1"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// MavenTree is where Debian keeps a Maven repository of its own.
const MavenTree = "/usr/share/maven-repo"

// Content is what a stand-in upstream has: the bytes at a path, and when they
// changed. The error is fs.ErrNotExist for what is not there.
type Content interface {
	Open(path string) (io.ReadSeekCloser, time.Time, error)
}

// Tree is the content of a folder, symbolic links followed.
type Tree string

// Open implements Content.
func (t Tree) Open(name string) (io.ReadSeekCloser, time.Time, error) {
	full := filepath.Join(string(t), filepath.FromSlash(path.Clean("/"+name)))
	stat, err := os.Stat(full)
	if err == nil && stat.IsDir() {
		err = os.ErrNotExist
	}
	if err != nil {
		return nil, time.Time{}, err
	}
	f, err := os.Open(full)
	return f, stat.ModTime(), err
}

// Files is content in memory, by path.
type Files map[string][]byte

type inMemory struct {
	*bytes.Reader
	content []byte
	etag    string
}

func newInMemory(content []byte) inMemory {
	return inMemory{bytes.NewReader(content), content,
		fmt.Sprintf("%q", fmt.Sprintf("%d-%x", len(content), crc32.ChecksumIEEE(content)))}
}

func (inMemory) Close() error { return nil }

// filesChanged is when all Files changed: never.
var filesChanged = time.Date(2026, 8, 1, 6, 0, 0, 0, time.UTC)

// Open implements Content.
func (f Files) Open(name string) (io.ReadSeekCloser, time.Time, error) {
	content, ok := f[strings.TrimPrefix(name, "/")]
	if !ok {
		return nil, time.Time{}, os.ErrNotExist
	}
	return newInMemory(content), filesChanged, nil
}

// Fault is something that a stand-in upstream does wrong.
type Fault struct {
	// Kind is one of FaultKinds.
	Kind string `json:"kind"`
	// Path limits it to requests whose path has this in it.
	Path string `json:"path,omitempty"`
	// Times limits it to so many requests; 0 is all.
	Times int `json:"times,omitempty"`
	// To is where a redirect leads.
	To string `json:"to,omitempty"`
	// For is how long slowness lasts, or what a busy server asks for, in
	// milliseconds.
	For int `json:"for,omitempty"`
}

// FaultKinds are the faults, each with what it does.
var FaultKinds = map[string]string{
	"slow-first-byte": "waits before it answers (--for, 3 s if not given)",
	"slow-body":       "sends slowly, so that a file takes that long (--for, 3 s if not given)",
	"reset":           "resets the connection before it answers",
	"cut":             "breaks off in the middle of the bytes",
	"wrong-bytes":     "sends other bytes",
	"wrong-checksum":  "sends wrong checksums",
	"long":            "sends more bytes than there are",
	"page":            "sends a web page instead",
	"absent":          "answers 404",
	"busy":            "answers 429 with Retry-After (--for, 3 s if not given)",
	"error":           "answers 500",
	"redirect":        "redirects to elsewhere (--to)",
	"gone":            "is not there at all: nothing listens any more",
}

// Upstream stands in for a public server, with faults that can be switched on
// and off while it runs.
type Upstream struct {
	content Content

	mu       sync.Mutex
	faults   []Fault
	landed   Files
	requests map[string]int
	pulls    int // manifests that were sent
	server   *http.Server
	listen   string
}

// NewUpstream makes a stand-in with that content, which does not listen yet.
func NewUpstream(content Content) *Upstream {
	return &Upstream{content: content, requests: map[string]int{}}
}

// Listen answers on an address, with port 0 on any free one, and gives the
// address of the upstream.
func (u *Upstream) Listen(address string) (string, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	u.listen = l.Addr().String()
	u.server = &http.Server{Handler: u, ReadHeaderTimeout: time.Minute}
	go func() { _ = u.server.Serve(l) }() // it ends with Close
	return "http://" + u.listen + "/", nil
}

// Close stops listening.
func (u *Upstream) Close() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.server == nil {
		return nil
	}
	err := u.server.Close()
	u.server = nil
	return err
}

// Switch replaces all faults. The error says which kind is not known.
func (u *Upstream) Switch(faults ...Fault) error {
	gone := false
	for _, f := range faults {
		if _, ok := FaultKinds[f.Kind]; !ok {
			return fmt.Errorf("there is no fault %q; choose from %s", f.Kind,
				strings.Join(slices.Sorted(maps.Keys(FaultKinds)), ", "))
		}
		gone = gone || f.Kind == "gone"
	}
	u.mu.Lock()
	u.faults = slices.Clone(faults)
	listening, address := u.server != nil, u.listen
	u.mu.Unlock()
	switch {
	case gone && listening:
		return u.Close()
	case !gone && !listening && address != "":
		_, err := u.Listen(address)
		return err
	}
	return nil
}

// Requests counts the requests so far, by path.
func (u *Upstream) Requests() map[string]int {
	u.mu.Lock()
	defer u.mu.Unlock()
	return maps.Clone(u.requests)
}

// fault is the fault that a request meets; the zero Fault is none.
func (u *Upstream) fault(path string) Fault {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.requests[path]++
	for i := range u.faults {
		f := &u.faults[i]
		isSum := strings.HasSuffix(path, ".sha1") || strings.HasSuffix(path, ".md5")
		switch {
		case f.Times < 0, !strings.Contains(path, f.Path):
			continue
		case f.Kind == "wrong-checksum" && !isSum, (f.Kind == "wrong-bytes" || f.Kind == "long") && isSum:
			continue
		}
		met := *f
		if f.Times == 1 {
			f.Times = -1
		} else if f.Times > 1 {
			f.Times--
		}
		return met
	}
	return Fault{}
}

// open gives the bytes at a path; a SHA-1 is computed where there is none.
func (u *Upstream) open(name string) (io.ReadSeekCloser, time.Time, error) {
	if landed, ok := u.Landed()[strings.TrimPrefix(name, "/")]; ok {
		return newInMemory(landed), filesChanged, nil
	}
	f, changed, err := u.content.Open(name)
	base, isSum := strings.CutSuffix(name, ".sha1")
	if err == nil || !isSum {
		return f, changed, err
	}
	of, changed, err := u.content.Open(base)
	if err != nil {
		return nil, changed, err
	}
	defer of.Close()
	sum := sha1.New()
	if _, err := io.Copy(sum, of); err != nil {
		return nil, changed, err
	}
	return newInMemory([]byte(hex.EncodeToString(sum.Sum(nil)))), changed, nil
}

// ServeHTTP implements http.Handler.
func (u *Upstream) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	fault := u.fault(r.URL.Path)
	pause := time.Duration(cmp.Or(fault.For, 3000)) * time.Millisecond
	switch fault.Kind {
	case "slow-first-byte":
		if !wait(r.Context(), pause) {
			return
		}
	case "reset":
		reset(w)
		return
	case "absent":
		http.NotFound(w, r)
		return
	case "busy":
		w.Header().Set("Retry-After", strconv.Itoa(max(1, int(pause.Seconds()))))
		http.Error(w, "too many requests", http.StatusTooManyRequests)
		return
	case "error":
		http.Error(w, "something broke", http.StatusInternalServerError)
		return
	case "page":
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, "<!doctype html><title>Welcome to the island</title><p>Please accept our terms first.")
		return
	case "redirect":
		http.Redirect(w, r, fault.To, http.StatusFound)
		return
	}
	put, removed := r.Method == http.MethodPut, r.Method == http.MethodDelete
	if (put || removed) && strings.HasPrefix(r.URL.Path, "/"+Web) || put && strings.HasPrefix(r.URL.Path, "/"+Landing) {
		u.land(w, r)
		return
	}
	f, changed, err := u.open(r.URL.Path)
	if errors.Is(err, os.ErrNotExist) {
		http.NotFound(w, r)
		return
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer f.Close()
	if made, ok := f.(inMemory); ok && bytes.Contains(made.content, []byte(Here)) {
		f = newInMemory(bytes.ReplaceAll(made.content, []byte(Here), []byte("http://"+r.Host+"/")))
	}
	if strings.Contains(r.URL.Path, "/manifests/") {
		u.allow(w.Header(), r.Method)
	}
	if strings.Contains(r.URL.Path, "/buildid/") { // debuginfod(8): which file it is of
		w.Header().Set("X-Debuginfod-File", "/usr/lib/libbrine.so.2")
		w.Header().Set("X-Debuginfod-Archive", "/pool/libbrine2_2.1.1-1_amd64.deb")
	}
	switch fault.Kind {
	case "slow-body", "cut", "wrong-bytes", "long", "wrong-checksum":
		u.sendWrong(w, r, f, fault.Kind, pause)
	default:
		if made, ok := f.(inMemory); ok {
			w.Header().Set("ETag", made.etag)
		}
		http.ServeContent(w, r, path.Base(r.URL.Path), changed, f)
	}
}

// pullsAllowed is how many manifests a stand-in for a source of images lets somebody pull.
const pullsAllowed = 100

// allow says how many more may be pulled, as sources that limit that do. It goes on after
// the last.
func (u *Upstream) allow(h http.Header, method string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if method != http.MethodHead {
		u.pulls++
	}
	h.Set("RateLimit-Limit", fmt.Sprintf("%d;w=21600", pullsAllowed))
	h.Set("RateLimit-Remaining", fmt.Sprintf("%d;w=21600", max(pullsAllowed-u.pulls, 0)))
}

// sendWrong sends a body that is not as it should be.
func (u *Upstream) sendWrong(
	w http.ResponseWriter, r *http.Request, f io.ReadSeeker, kind string, pause time.Duration,
) {
	content, err := io.ReadAll(f)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	if kind != "long" {
		w.Header().Set("Content-Length", strconv.Itoa(len(content)))
	}
	controller := http.NewResponseController(w)
	switch kind {
	case "slow-body":
		const pieces = 20
		for piece := range slices.Chunk(content, max(1, len(content)/pieces)) {
			if _, err := w.Write(piece); err != nil || controller.Flush() != nil || !wait(r.Context(), pause/pieces) {
				return
			}
		}
		return
	case "cut":
		_, _ = w.Write(content[:len(content)/2])
		_ = controller.Flush()
		reset(w)
		return
	case "wrong-bytes", "wrong-checksum":
		wrong := bytes.Clone(content)
		if i := len(wrong) / 2; i < len(wrong) {
			if wrong[i] ^= 1; kind == "wrong-checksum" {
				wrong[i] = map[bool]byte{true: '1', false: '0'}[content[i] == '0']
			}
		}
		content = wrong
	case "long":
		_ = controller.Flush() // so that no length is told
		content = append(content, make([]byte, 4096)...)
	}
	_, _ = w.Write(content) // the client may be gone
}

func wait(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// reset ends a connection without a word.
func reset(w http.ResponseWriter) {
	connection, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	if tcp, ok := connection.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
	_ = connection.Close()
}

// Control switches the faults of a stand-in: GET, PUT and DELETE /faults, and
// GET /requests.
func (u *Upstream) Control() http.Handler {
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, value any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(value) // the client may be gone
	}
	mux.HandleFunc("GET /requests", func(w http.ResponseWriter, _ *http.Request) { answer(w, u.Requests()) })
	mux.HandleFunc("GET /faults", func(w http.ResponseWriter, _ *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		answer(w, append([]Fault{}, u.faults...))
	})
	mux.HandleFunc("PUT /faults", func(w http.ResponseWriter, r *http.Request) {
		var faults []Fault
		err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&faults)
		if err == nil {
			err = u.Switch(faults...)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		answer(w, faults)
	})
	mux.HandleFunc("DELETE /faults", func(w http.ResponseWriter, _ *http.Request) {
		if err := u.Switch(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		answer(w, []Fault{})
	})
	return mux
}
