package store

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/encrypt"

	"crelvo/internal/traces"
)

// ErrAway is that an object store cannot be reached, or does not answer as it should:
// what was asked may go well later.
var ErrAway = errors.New("the object store is away")

// ErrRefused is that an object store does not let us do what we ask.
var ErrRefused = errors.New("the object store refuses it")

// S3Options tell where an object store is, and how it is used.
type S3Options struct {
	// Endpoint is the scheme and host, such as https://s3.skerry.example:9000.
	Endpoint string
	Bucket   string
	// Prefix is put before the name of every object; it ends in a slash, or is "".
	Prefix string
	Region string
	// Addressing is "path" or "host", for where the bucket's name stands; "" for what
	// fits the endpoint.
	Addressing string
	// Encryption is "" for what the bucket does by itself, "s3" for keys of the object
	// store's, or "kms:" and the id of a key.
	Encryption  string
	Credentials *credentials.Credentials
	// Local is a folder of this process: for parts on their way, and for copies of what is
	// read.
	Local string
	// Cache is how many bytes the copies of what is read may take; 0 for none. They leave
	// Reserve bytes of the disk free.
	Cache, Reserve int64
}

// S3 is a Store in a bucket of an object store that speaks S3:
//
//	bytes/ab/abcd…      a file of up to 8 MiB, named by its SHA-256
//	bytes/ab/abcd….at   of a larger file: which objects it consists of
//	large/…             those objects
//	begun/…             what arrived so far of a file that comes in pieces
//	documents/…         small documents, by their names
//	identity            the name that the store was given
//
// A large file is sent on while its digests are still being computed, so that its objects
// cannot be named by them.
type S3 struct {
	core      *minio.Core
	transport *http.Transport
	bucket    string
	prefix    string
	sse       encrypt.ServerSide
	notes     string   // folder with a note of each object that may have no record
	left      []string // notes of a process before this one
	spool     string   // folder for parts on their way
	cache     *cache   // nil without one
	health    health

	// byMD5 is that the object store does not confirm a part by its CRC-32C, so that parts
	// are sent with their MD5, which all of them compare.
	byMD5 atomic.Bool

	mu     sync.Mutex
	inHand map[string]bool // begun files
	at     map[[32]byte]*pieces
}

var _ Store = (*S3)(nil)

const (
	// partSize is how much is sent at once; what has no more is one object, named by its
	// SHA-256. It is part of the layout.
	partSize = 8 << 20
	// maxPartCount is how many parts one object may have by the protocol.
	maxPartCount = 10_000
	// answersWithin is how long an object store may take to begin to answer, and
	// completesWithin, to put parts together.
	answersWithin   = 10 * time.Second
	completesWithin = 5 * time.Minute
	// stallsFor is how long a connection may stand still.
	stallsFor = 30 * time.Second
	// tries is how often what may go well the next time is tried.
	tries = 3
	// maxLocated is how many places of large files are remembered.
	maxLocated = 4096
)

// OpenS3 makes a Store of a bucket that is there. It does not ask for it yet.
func OpenS3(o S3Options) (*S3, error) {
	u, err := url.Parse(o.Endpoint)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.Trim(u.Path, "/") != "" ||
		u.User != nil || u.RawQuery != "" {
		return nil, fmt.Errorf("%q is no endpoint; write it like https://s3.skerry.example", o.Endpoint)
	}
	lookup := minio.BucketLookupAuto
	switch o.Addressing {
	case "path":
		lookup = minio.BucketLookupPath
	case "host":
		lookup = minio.BucketLookupDNS
	case "":
	default:
		return nil, fmt.Errorf("%q is no way to address a bucket; write path or host", o.Addressing)
	}
	through := transport()
	core, err := minio.NewCore(u.Host, &minio.Options{Creds: o.Credentials, Secure: u.Scheme == "https",
		Region: o.Region, BucketLookup: lookup, MaxRetries: tries, Transport: traces.Transport(through)})
	if err != nil {
		return nil, err
	}
	s := &S3{core: core, transport: through, bucket: o.Bucket, prefix: o.Prefix, notes: filepath.Join(o.Local, "notes"),
		spool: filepath.Join(o.Local, "spool"), inHand: map[string]bool{}, at: map[[32]byte]*pieces{}}
	switch key, kms := strings.CutPrefix(o.Encryption, "kms:"); {
	case o.Encryption == "s3":
		s.sse = encrypt.NewSSE()
	case kms && key != "":
		if s.sse, err = encrypt.NewSSEKMS(key, nil); err != nil {
			return nil, err
		}
	case o.Encryption != "":
		return nil, fmt.Errorf("%q is no way to encrypt; write s3, or kms: and the id of a key", o.Encryption)
	}
	for _, dir := range []string{s.notes, s.spool} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	// Each opening has a folder of its own: when settings change, what is on its way by those
	// of before goes on.
	if s.spool, err = os.MkdirTemp(s.spool, "parts."); err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(s.notes)
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		s.left = append(s.left, entry.Name())
	}
	if o.Cache > 0 {
		s.cache, err = openCache(filepath.Join(o.Local, "cache"), o.Cache, o.Reserve)
	}
	return s, err
}

// transport gives up on what stands still, and does not decompress.
func transport() *http.Transport {
	dialer := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}
	return &http.Transport{
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := dialer.DialContext(ctx, network, address)
			if err != nil {
				return nil, err
			}
			return &moving{conn}, nil
		},
		Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: 5 * time.Second, MaxIdleConnsPerHost: 64,
		MaxIdleConns: 256, IdleConnTimeout: 20 * time.Second, DisableCompression: true, ForceAttemptHTTP2: false,
		ReadBufferSize: 64 << 10, WriteBufferSize: 64 << 10,
	}
}

// moving is a connection that ends if it takes nothing any more.
type moving struct{ net.Conn }

func (m *moving) Write(p []byte) (int, error) {
	if err := m.SetWriteDeadline(time.Now().Add(stallsFor)); err != nil {
		return 0, err
	}
	return m.Conn.Write(p)
}

// fault makes one of our errors of one of the object store's.
func (s *S3) fault(err error) error {
	var answer minio.ErrorResponse
	switch {
	case err == nil || errors.Is(err, ErrAway) || errors.Is(err, ErrMissing) || errors.Is(err, context.Canceled):
		return err
	case !errors.As(err, &answer):
		return fmt.Errorf("%w: %w", ErrAway, plain(err))
	}
	switch answer.Code {
	case minio.NoSuchKey, "NotFound":
		return ErrMissing
	case minio.NoSuchBucket:
		return fmt.Errorf("%w: there is no bucket %s", ErrRefused, s.bucket)
	case "XMinioStorageFull", "QuotaExceeded", "InsufficientCapacity", "EntityTooLarge":
		return fmt.Errorf("the object store has no room: %s: %w", answer.Message, syscall.ENOSPC)
	case "BadDigest", "XAmzContentChecksumMismatch", "InvalidDigest", "XAmzContentSHA256Mismatch":
		return fmt.Errorf("%w: what it got is not what was sent: %s", ErrAway, answer.Message)
	}
	if answer.StatusCode == http.StatusRequestedRangeNotSatisfiable {
		return fmt.Errorf("%w: it has fewer bytes", ErrDamaged)
	}
	if answer.StatusCode == http.StatusNotFound {
		return ErrMissing
	}
	if answer.StatusCode >= 400 && answer.StatusCode < 500 && answer.StatusCode != http.StatusTooManyRequests &&
		answer.StatusCode != http.StatusRequestTimeout {
		return fmt.Errorf("%w: %s (%s)", ErrRefused, answer.Message, answer.Code)
	}
	return fmt.Errorf("%w: it answers with %d %s", ErrAway, answer.StatusCode, answer.Code)
}

// plain is an error without the address that was asked, which may say too much.
func plain(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// health is whether it is of any use to ask.
type health struct {
	mu     sync.Mutex
	failed int
	until  time.Time
	last   error
}

// maxRest is how long what failed is left alone at most.
const maxRest = 8 * time.Second

// ask does what asks the object store, unless that is left alone because it did not
// answer lately; one question is let through every now and then.
func (s *S3) ask(ctx context.Context, within time.Duration, do func(ctx context.Context) error) error {
	h := &s.health
	h.mu.Lock()
	if now := time.Now(); h.failed > 1 && now.Before(h.until) {
		defer h.mu.Unlock()
		return h.last
	} else if h.failed > 1 { // the others wait for how this one goes
		h.until = now.Add(rest(h.failed))
	}
	h.mu.Unlock()
	asked := ctx
	if within > 0 {
		var cancel context.CancelFunc
		asked, cancel = context.WithTimeout(ctx, within)
		defer cancel()
	}
	err := s.fault(do(asked))
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil && !errors.Is(err, ErrAway) {
		err = fmt.Errorf("%w: it did not answer for %v", ErrAway, within)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case errors.Is(err, ErrAway) && ctx.Err() == nil:
		h.failed++
		h.until, h.last = time.Now().Add(rest(h.failed)), err
	case ctx.Err() == nil:
		h.failed = 0
	}
	return err
}

func rest(failed int) time.Duration {
	return min(maxRest, 250*time.Millisecond<<min(failed, 6))
}

// Away tells why the object store is left alone; nil if it answers.
func (s *S3) Away() error {
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	if s.health.failed > 0 {
		return s.health.last
	}
	return nil
}

// object is the whole name of an object.
func (s *S3) object(name string) string { return s.prefix + name }

// at ends the name of what tells where a large file is.
const at = ".at"

// small is the name of a file of up to partSize.
func small(digest [32]byte) string {
	name := hex.EncodeToString(digest[:])
	return "bytes/" + name[:2] + "/" + name
}

// put stores a small object, whose bytes the object store confirms.
func (s *S3) put(
	ctx context.Context, name string, content io.ReadSeeker, size int64, sum [16]byte, also map[string]string,
) error {
	return s.ask(ctx, answersWithin+time.Duration(size>>20)*time.Second, func(ctx context.Context) error {
		_, err := s.core.PutObject(ctx, s.bucket, s.object(name), content, size,
			base64.StdEncoding.EncodeToString(sum[:]), "", minio.PutObjectOptions{ServerSideEncryption: s.sse,
				UserMetadata: also, DisableContentSha256: true, ContentType: "application/octet-stream", DisableMultipart: true})
		return err
	})
}

func (s *S3) putJSON(ctx context.Context, name string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	sum := md5.Sum(raw)
	return s.put(ctx, name, bytes.NewReader(raw), int64(len(raw)), sum, nil)
}

// maxJSON is how large an object that lists others may be.
const maxJSON = 4 << 20

func (s *S3) getJSON(ctx context.Context, name string, value any) error {
	raw, err := s.getWhole(ctx, name)
	if err == nil && json.Unmarshal(raw, value) != nil {
		err = fmt.Errorf("%w: %s is not what was stored", ErrDamaged, name)
	}
	return err
}

func (s *S3) getWhole(ctx context.Context, name string) (raw []byte, err error) {
	err = s.ask(ctx, answersWithin, func(ctx context.Context) error {
		body, info, _, err := s.core.GetObject(ctx, s.bucket, s.object(name), minio.GetObjectOptions{})
		if err != nil {
			return err
		}
		defer body.Close()
		raw, err = io.ReadAll(io.LimitReader(body, maxJSON))
		if err == nil && int64(len(raw)) != info.Size {
			err = io.ErrUnexpectedEOF
		}
		return err
	})
	return raw, err
}

func (s *S3) remove(ctx context.Context, name string) error {
	err := s.ask(ctx, answersWithin, func(ctx context.Context) error {
		return s.core.RemoveObject(ctx, s.bucket, s.object(name), minio.RemoveObjectOptions{})
	})
	if errors.Is(err, ErrMissing) {
		return nil
	}
	return err
}

// list calls each with the objects whose names begin so, until it fails.
func (s *S3) list(ctx context.Context, prefix string, each func(name string, info minio.ObjectInfo) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for info := range s.core.Client.ListObjects(ctx, s.bucket,
		minio.ListObjectsOptions{Prefix: s.object(prefix), Recursive: true}) {
		if info.Err != nil {
			return s.fault(info.Err)
		}
		if err := each(strings.TrimPrefix(info.Key, s.prefix), info); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// Free implements Store: nobody knows how much an object store takes.
func (s *S3) Free() (int64, error) { return math.MaxInt64, nil }

// Identity implements Store.
func (s *S3) Identity() (string, error) {
	var is struct{ Name string }
	err := s.getJSON(context.Background(), "identity", &is)
	if errors.Is(err, ErrMissing) {
		return "", nil
	}
	return is.Name, err
}

// SetIdentity implements Store.
func (s *S3) SetIdentity(name string) error {
	return s.putJSON(context.Background(), "identity", struct{ Name string }{name})
}
