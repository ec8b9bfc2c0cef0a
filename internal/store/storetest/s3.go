//go:build linux

// Package storetest gives tests an object store that speaks S3, with faults that can be
// switched on, and the conformance test that every kind of store passes.
package storetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"crelvo/internal/checkout"
	"crelvo/internal/store"
)

// The key of the object store.
const AccessKey, SecretKey, Bucket = "crane", "salt-marsh-and-heron", "packages"

// S3 is an object store that was started for a test.
type S3 struct {
	// Address is its scheme and host, by way of a proxy that faults can be switched on in.
	Address string
	// Folder has a folder for each bucket, in which each object is a file.
	Folder  string
	Faults  *Faults
	process *exec.Cmd
	proxy   *http.Server
	port    string
}

// Program is where the object store's program is, which make test installs.
func Program() string { return checkout.Path("test/clients/bin/versitygw") }

// Start starts an object store with one bucket, until the test ends.
func Start(t testing.TB) *S3 {
	t.Helper()
	if _, err := os.Stat(Program()); err != nil {
		t.Skip("there is no object store to start: make test installs it in test/clients/bin")
	}
	s, err := Launch(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

// Launch starts an object store with one bucket in a folder; whoever does so stops it.
func Launch(ctx context.Context, folder string) (*S3, error) {
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s := &S3{Folder: folder, port: port, Faults: newFaults("127.0.0.1:" + port)}
	if err := s.Run(); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.proxy = &http.Server{Handler: s.Faults}
	go func() { _ = s.proxy.Serve(listener) }() // it ends by Stop
	s.Address = "http://" + listener.Addr().String()
	client, err := s.client()
	if err != nil {
		return nil, err
	}
	return s, client.MakeBucket(ctx, Bucket, minio.MakeBucketOptions{})
}

// Stop ends it, and its proxy.
func (s *S3) Stop() {
	_ = s.proxy.Close() // what is under way is of no use any more
	s.Kill()
}

func freePort() (string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer listener.Close()
	_, port, err := net.SplitHostPort(listener.Addr().String())
	return port, err
}

// Run starts the object store where it was stopped.
func (s *S3) Run() error {
	s.process = exec.Command(Program(), "--quiet", "--keep-alive", "--access", AccessKey, "--secret", SecretKey,
		"--port", "127.0.0.1:"+s.port, "posix", s.Folder)
	s.process.Stderr = os.Stderr
	if err := s.process.Start(); err != nil {
		return err
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		conn, err := net.Dial("tcp", "127.0.0.1:"+s.port)
		if err == nil {
			return conn.Close()
		}
		if time.Now().After(end) {
			return fmt.Errorf("the object store does not start: %w", err)
		}
	}
}

// Kill stops the object store at once.
func (s *S3) Kill() {
	_ = s.process.Process.Kill() // it may have ended
	_ = s.process.Wait()
}

// Direct is the address of the object store itself.
func (s *S3) Direct() string { return "http://127.0.0.1:" + s.port }

// Client speaks to the object store past the proxy.
func (s *S3) Client(t testing.TB) *minio.Client {
	t.Helper()
	c, err := s.client()
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func (s *S3) client() (*minio.Client, error) {
	return minio.New("127.0.0.1:"+s.port, &minio.Options{
		Creds: credentials.NewStaticV4(AccessKey, SecretKey, ""), Region: "us-east-1"})
}

// Setting says by the flag --store that the bucket is the first store; the key is in
// Environment.
func (s *S3) Setting() string {
	return "s3+" + s.Address + "/" + Bucket + "?region=us-east-1&addressing=path"
}

// Environment has the key for a service.
func Environment() []string {
	return []string{"AWS_ACCESS_KEY_ID=" + AccessKey, "AWS_SECRET_ACCESS_KEY=" + SecretKey}
}

// Objects lists the names of all objects.
func (s *S3) Objects(t testing.TB) (names []string) {
	t.Helper()
	for info := range s.Client(t).ListObjects(context.WithoutCancel(t.Context()), Bucket,
		minio.ListObjectsOptions{Recursive: true}) {
		if info.Err != nil {
			t.Fatal(info.Err)
		}
		names = append(names, info.Key)
	}
	return names
}

// Options are for a Store in the bucket, with a local folder of its own.
func (s *S3) Options(t testing.TB) store.S3Options {
	t.Helper()
	return store.S3Options{Endpoint: s.Address, Bucket: Bucket, Region: "us-east-1", Addressing: "path",
		Credentials: credentials.NewStaticV4(AccessKey, SecretKey, ""), Local: t.TempDir()}
}

// Faults stand before the object store.
type Faults struct {
	to string
	// Away refuses every connection, Status answers everything with a status, Hangs does
	// not answer, and Flip changes one byte of what is sent either way; Cut ends every
	// answer after so many bytes. The zero values do none of it.
	Away, Hangs, Flip atomic.Bool
	Status, Cut       atomic.Int64
	// Only is what of the path they are for; all where it is "".
	Only atomic.Pointer[string]
	// Requests counts what came, and Slow makes each take so long.
	Requests atomic.Int64
	Slow     atomic.Int64 // milliseconds
}

func newFaults(to string) *Faults { return &Faults{to: to} }

var through = &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true}

// ServeHTTP passes a request on, with a fault if one is switched on.
func (f *Faults) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.Requests.Add(1)
	only := f.Only.Load()
	concerned := only == nil || strings.Contains(r.Method+" "+r.URL.String(), *only)
	if concerned {
		if f.Away.Load() {
			panic(http.ErrAbortHandler)
		}
		if f.Hangs.Load() {
			<-r.Context().Done()
			return
		}
		if status := f.Status.Load(); status != 0 {
			http.Error(w, "", int(status))
			return
		}
		if ms := f.Slow.Load(); ms > 0 {
			select {
			case <-time.After(time.Duration(ms) * time.Millisecond):
			case <-r.Context().Done():
				return
			}
		}
	}
	out := r.Clone(r.Context())
	out.RequestURI, out.URL.Scheme, out.URL.Host = "", "http", f.to
	if concerned && f.Flip.Load() && r.ContentLength > 0 {
		out.Body = &flipping{r.Body}
	}
	resp, err := through.RoundTrip(out)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	defer resp.Body.Close()
	for name, values := range resp.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(resp.StatusCode)
	body := resp.Body
	if concerned && f.Flip.Load() && r.Method == http.MethodGet {
		body = &flipping{body}
	}
	if err := copyUpTo(w, body, concerned, f.Cut.Load()); err != nil {
		panic(http.ErrAbortHandler)
	}
}

var errCut = errors.New("cut")

func copyUpTo(w http.ResponseWriter, body io.Reader, concerned bool, most int64) error {
	buf, sent := make([]byte, 64<<10), int64(0)
	for {
		n, err := body.Read(buf)
		if concerned && most > 0 && sent+int64(n) > most {
			_, _ = w.Write(buf[:most-sent]) // it is cut anyway
			w.(http.Flusher).Flush()
			return errCut
		}
		if _, err := w.Write(buf[:n]); err != nil {
			return err
		}
		sent += int64(n)
		if err != nil {
			if err == io.EOF {
				return nil
			}
			return err
		}
	}
}

// flipping changes a byte of each piece that is read.
type flipping struct{ io.ReadCloser }

func (f *flipping) Read(p []byte) (int, error) {
	n, err := f.ReadCloser.Read(p)
	if n > 0 {
		p[0] ^= 1
	}
	return n, err
}
