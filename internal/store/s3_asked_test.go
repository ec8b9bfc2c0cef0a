package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/minio/minio-go/v7/pkg/credentials"
)

// asked is an object store that takes what it is sent, and notes how it was asked.
type asked struct {
	mu  sync.Mutex
	all []*http.Request

	parts     atomic.Int64           // how many bytes came in parts
	completed atomic.Pointer[string] // of which parts the last object was to consist
}

func (a *asked) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	a.all = append(a.all, r)
	a.mu.Unlock()
	q := r.URL.Query()
	var kept bytes.Buffer
	into := io.Discard
	if r.Method == http.MethodPost {
		into = &kept
	}
	arrived, err := io.Copy(into, r.Body)
	sent := kept.String()
	if err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	w.Header().Set("ETag", `"0123456789abcdef0123456789abcdef"`)
	switch {
	case r.Method == http.MethodPost && q.Has("uploads"):
		fmt.Fprint(w, "<InitiateMultipartUploadResult><UploadId>one</UploadId></InitiateMultipartUploadResult>")
	case r.Method == http.MethodPost:
		a.completed.Store(&sent)
		fmt.Fprint(w, "<CompleteMultipartUploadResult><Bucket>berths</Bucket><ETag>x</ETag></CompleteMultipartUploadResult>")
	case r.Method == http.MethodHead:
		w.Header().Set("Content-Length", fmt.Sprint(a.parts.Load()))
		w.Header().Set("Last-Modified", "Sun, 01 Nov 2026 08:00:00 GMT")
	case r.Method == http.MethodGet:
		w.WriteHeader(http.StatusNotFound) // where a large file is, before it was written down
	case q.Has("partNumber"):
		a.parts.Add(arrived)
		w.Header().Set("X-Amz-Checksum-Crc32c", r.Header.Get("X-Amz-Checksum-Crc32c"))
	}
}

// open gives a store in such an object store.
func (a *asked) open(t *testing.T, o S3Options) *S3 {
	t.Helper()
	server := httptest.NewServer(a)
	t.Cleanup(server.Close)
	o.Endpoint, o.Bucket, o.Region, o.Local = "http://objects.skerry.example", "berths", "eu-isle-1", t.TempDir()
	s, err := OpenS3(o)
	if err != nil {
		t.Fatal(err)
	}
	s.transport.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, network, server.Listener.Addr().String())
	}
	return s
}

// keep stores so many bytes.
func keep(t *testing.T, s *S3, size int) {
	t.Helper()
	staged, err := s.Stage(t.Context(), bytes.NewReader(make([]byte, size)), int64(size))
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.Keep(t.Context(), staged), staged.Discard()); err != nil {
		t.Fatal(err)
	}
}

// keepTwo stores a small and a large file in such an object store, and tells how it was asked.
func keepTwo(t *testing.T, o S3Options) []*http.Request {
	t.Helper()
	there := new(asked)
	s := there.open(t, o)
	for _, size := range []int{1000, partSize + 1000} {
		keep(t, s, size)
	}
	if len(there.all) < 5 { // the small one; its upload, two parts and end; where it is
		t.Fatalf("it was asked %d times", len(there.all))
	}
	return there.all
}

func TestAddressing(t *testing.T) {
	with := credentials.NewStaticV4("deckhand", "a-secret-of-the-store", "")
	for _, one := range []struct{ addressing, host, path string }{
		{"path", "objects.skerry.example", "/berths/isle/"},
		{"host", "berths.objects.skerry.example", "/isle/"},
	} {
		for _, r := range keepTwo(t, S3Options{Addressing: one.addressing, Prefix: "isle/", Credentials: with}) {
			if r.Host != one.host || !strings.HasPrefix(r.URL.Path, one.path) {
				t.Errorf("%s: %s %s%s", one.addressing, r.Method, r.Host, r.URL.Path)
			}
			if signed := r.Header.Get("Authorization"); !strings.Contains(signed, "deckhand/") ||
				!strings.Contains(signed, "/eu-isle-1/s3/") {
				t.Errorf("it is signed with %q", signed)
			}
		}
	}
}

// Whoever begins an object says how it is encrypted; who sends a part of one, completes or
// reads it must not.
func TestEncryption(t *testing.T) {
	with := credentials.NewStaticV4("deckhand", "a-secret-of-the-store", "")
	for encryption, want := range map[string][2]string{"": {}, "s3": {"AES256"}, "kms:ferry-key": {"aws:kms",
		"ferry-key"}} {
		for _, r := range keepTwo(t, S3Options{Encryption: encryption, Credentials: with}) {
			wanted, q := want, r.URL.Query()
			if q.Has("partNumber") || q.Has("uploadId") || r.Method == http.MethodGet || r.Method == http.MethodHead {
				wanted = [2]string{}
			}
			got := [2]string{r.Header.Get("X-Amz-Server-Side-Encryption"),
				r.Header.Get("X-Amz-Server-Side-Encryption-Aws-Kms-Key-Id")}
			if got != wanted {
				t.Errorf("%q: %s %s asks for %q, not %q", encryption, r.Method, r.URL, got, wanted)
			}
		}
	}
	if _, err := OpenS3(S3Options{Endpoint: "http://objects.skerry.example", Bucket: "b", Encryption: "kms:",
		Credentials: with, Local: t.TempDir()}); err == nil {
		t.Error("a key without an id is taken")
	}
}

// Parts are sent while the next ones are filled; none of those that were taken may be missing
// where the object is put together.
func TestNoPartIsLost(t *testing.T) {
	there := new(asked)
	s := there.open(t, S3Options{Credentials: credentials.NewStaticV4("deckhand", "a-secret-of-the-store", "")})
	const parts = 5
	for range 3 {
		there.parts.Store(0)
		keep(t, s, parts*partSize)
		said := *there.completed.Load()
		if n := strings.Count(said, "0123456789abcdef0123456789abcdef"); n != parts {
			t.Errorf("%d of %d parts are named: %s", n, parts, said)
		}
	}
}
