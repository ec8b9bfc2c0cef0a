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

	parts atomic.Int64 // how many bytes came in parts
}

func (a *asked) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	a.all = append(a.all, r)
	a.mu.Unlock()
	q := r.URL.Query()
	arrived, err := io.Copy(io.Discard, r.Body)
	if err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	w.Header().Set("ETag", `"0123456789abcdef0123456789abcdef"`)
	switch {
	case r.Method == http.MethodPost && q.Has("uploads"):
		fmt.Fprint(w, "<InitiateMultipartUploadResult><UploadId>one</UploadId></InitiateMultipartUploadResult>")
	case r.Method == http.MethodPost:
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

// keepTwo stores a small and a large file in such an object store, and tells how it was asked.
func keepTwo(t *testing.T, o S3Options) []*http.Request {
	t.Helper()
	there := new(asked)
	server := httptest.NewServer(there)
	t.Cleanup(server.Close)
	o.Endpoint, o.Bucket, o.Region, o.Local = "http://objects.skerry.example", "berths", "eu-isle-1", t.TempDir()
	s, err := OpenS3(o)
	if err != nil {
		t.Fatal(err)
	}
	s.transport.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, network, server.Listener.Addr().String())
	}
	for _, size := range []int{1000, partSize + 1000} {
		staged, err := s.Stage(t.Context(), bytes.NewReader(make([]byte, size)), int64(size))
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(s.Keep(t.Context(), staged), staged.Discard()); err != nil {
			t.Fatal(err)
		}
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
