package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"net/url"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
)

// lookUp asks the object store of what a large file consists.
func (s *S3) lookUp(ctx context.Context, digest [32]byte) (*pieces, error) {
	var of pieces
	if err := s.getJSON(ctx, small(digest)+at, &of); err != nil {
		return nil, err
	}
	var total int64
	for _, p := range of.Pieces {
		if total += p.Size; p.Size < 0 || !strings.HasPrefix(p.Name, "large/") {
			return nil, fmt.Errorf("%w: what tells where it is names %q", ErrDamaged, p.Name)
		}
	}
	if total != of.Size {
		return nil, fmt.Errorf("%w: there are %d bytes of %d", ErrDamaged, total, of.Size)
	}
	return &of, nil
}

// locate tells of what a large file consists, as it was when it was asked for lately.
func (s *S3) locate(ctx context.Context, digest [32]byte) (*pieces, error) {
	s.mu.Lock()
	of := s.at[digest]
	s.mu.Unlock()
	if of != nil {
		return of, nil
	}
	of, err := s.lookUp(ctx, digest)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.at) >= maxLocated {
		clear(s.at)
	}
	s.at[digest] = of
	return of, nil
}

func (s *S3) forget(digest [32]byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.at, digest)
}

// Open implements Store. What the cache has is a *os.File. The reader is to be used for as
// long as ctx lasts.
func (s *S3) Open(ctx context.Context, digest [32]byte, size int64) (Reader, error) {
	if s.cache != nil {
		if file, ok := s.cache.open(digest, size); ok {
			return file, nil
		}
	}
	r, err := s.openThere(ctx, digest, size)
	if errors.Is(err, ErrMissing) && size > partSize {
		s.forget(digest) // it may have been stored anew
		r, err = s.openThere(ctx, digest, size)
	}
	return r, err
}

// linkedFor is how long an address lasts that Link gave.
const linkedFor = 15 * time.Minute

// Link is an address at which anybody can read a file from the object store itself for some
// minutes; "" if it is not one object there.
func (s *S3) Link(ctx context.Context, digest [32]byte, size int64) (string, error) {
	of, err := s.piecesOf(ctx, digest, size)
	if err != nil || len(of.Pieces) != 1 {
		return "", err
	}
	at, err := s.core.Client.PresignedGetObject(ctx, s.bucket, s.object(of.Pieces[0].Name), linkedFor,
		url.Values{"response-content-type": {"application/octet-stream"}})
	if err != nil {
		return "", s.fault(err)
	}
	return at.String(), nil
}

// piecesOf tells of what a file consists that has so many bytes.
func (s *S3) piecesOf(ctx context.Context, digest [32]byte, size int64) (*pieces, error) {
	if size <= partSize {
		return &pieces{Pieces: []piece{{small(digest), size}}, Size: size}, nil
	}
	of, err := s.locate(ctx, digest)
	if err == nil && of.Size != size {
		err = fmt.Errorf("%w: there are %d bytes of %d", ErrDamaged, of.Size, size)
	}
	return of, err
}

// Verify implements Store.
func (s *S3) Verify(ctx context.Context, digest [32]byte, size int64, through func(io.Reader) io.Reader) error {
	s.forget(digest)
	of, err := s.piecesOf(ctx, digest, size)
	if err != nil {
		return err
	}
	r := s.read(ctx, *of)
	defer r.Close()
	if err := r.begin(); err != nil {
		return err
	}
	return verify(through(r), digest, size)
}

func (s *S3) openThere(ctx context.Context, digest [32]byte, size int64) (Reader, error) {
	of, err := s.piecesOf(ctx, digest, size)
	if err != nil {
		return nil, err
	}
	if s.cache != nil && (size <= verifiedFirst || s.cache.again(digest)) && s.cache.takes(size) {
		return s.cache.fetch(ctx, digest, size, func(ctx context.Context) *objectReader { return s.read(ctx, *of) })
	}
	r := s.read(ctx, *of)
	if err := r.begin(); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

// objectReader reads a file out of its objects: one after the other as a stream, and
// anywhere by windows. It may be used by several at once. Whoever reads all of it as a stream
// is given the end only if it is what was stored.
type objectReader struct {
	s   *S3
	ctx context.Context
	of  pieces

	mu       sync.Mutex
	pos      int64
	stream   io.ReadCloser // of a piece, from streamAt of the file on; or nil
	streamAt int64
	window   []byte // what was read last by ReadAt
	windowAt int64
	next     int    // how large the next window is
	crc      string // what its only object says of itself
	sum      hash.Hash32
	summed   int64 // so many of its bytes, from the beginning, are in sum
	wrong    error // the sum is another
}

// The first window, and the largest, which is for whoever reads on and on.
const leastWindow, mostWindow = 64 << 10, 1 << 20

func (s *S3) read(ctx context.Context, of pieces) *objectReader {
	return &objectReader{s: s, ctx: ctx, of: of, next: leastWindow, sum: crc32.New(castagnoli)}
}

// begin makes sure that the bytes are there, and that there are as many as there should be.
func (r *objectReader) begin() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.of.Size == 0 {
		return r.s.isThere(r.ctx, r.of.Pieces[0])
	}
	return r.from(0)
}

// part finds the piece that has an offset, and where in it.
func (r *objectReader) part(off int64) (piece, int64) {
	for _, p := range r.of.Pieces {
		if off < p.Size {
			return p, off
		}
		off -= p.Size
	}
	return piece{}, 0
}

// from opens the stream at an offset; it ends with the piece.
func (r *objectReader) from(off int64) error {
	r.stop()
	p, at := r.part(off)
	body, crc, err := r.s.get(r.ctx, p, at, p.Size)
	if err != nil {
		return err
	}
	r.stream, r.streamAt, r.crc = body, off, crc
	return nil
}

func (r *objectReader) stop() {
	if r.stream != nil {
		_ = r.stream.Close() // nothing of it is needed any more
		r.stream = nil
	}
}

// Read implements io.Reader. A stream that breaks off is gone on with from where it did.
func (r *objectReader) Read(p []byte) (n int, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.wrong != nil {
		return 0, r.wrong
	}
	if r.pos >= r.of.Size {
		return 0, io.EOF
	}
	for range tries {
		if r.stream == nil || r.streamAt != r.pos {
			if err = r.from(r.pos); err != nil {
				return 0, err
			}
		}
		n, err = r.stream.Read(p)
		if r.summed == r.pos {
			r.sum.Write(p[:n])
			r.summed += int64(n)
		}
		r.pos += int64(n)
		r.streamAt = r.pos
		if err != nil {
			r.stop()
		}
		if n > 0 && r.summed == r.pos && r.pos == r.of.Size {
			r.wrong = r.compare()
		}
		if r.wrong != nil {
			return 0, r.wrong
		}
		if n > 0 {
			return n, nil
		}
		if r.ctx.Err() != nil {
			return 0, r.ctx.Err()
		}
	}
	return 0, fmt.Errorf("%w: it broke off at %d of %d bytes: %w", ErrAway, r.pos, r.of.Size, plain(err))
}

// compare tells whether what was read is what was stored.
func (r *objectReader) compare() error {
	want := fmt.Sprintf("%08x", r.of.CRC32C)
	if strings.HasPrefix(r.of.Pieces[0].Name, "bytes/") {
		want = r.crc
	}
	if got := fmt.Sprintf("%08x", r.sum.Sum32()); got != want {
		return fmt.Errorf("%w: other bytes arrived than were stored: their CRC-32C is %s, not %s", ErrDamaged, got, want)
	}
	return nil
}

// SendTo sends the next bytes to a connection.
func (r *objectReader) SendTo(w io.Writer, n int64) (int64, error) {
	buf := chunkPool.Get().(*[chunkSize]byte)
	defer chunkPool.Put(buf)
	return io.CopyBuffer(struct{ io.Writer }{w}, io.LimitReader(r, n), buf[:])
}

// ReadAt implements io.ReaderAt.
func (r *objectReader) ReadAt(p []byte, off int64) (n int, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for n < len(p) {
		at := off + int64(n)
		if at >= r.of.Size {
			return n, io.EOF
		}
		if at < r.windowAt || at >= r.windowAt+int64(len(r.window)) {
			if err := r.show(at, len(p)-n); err != nil {
				return n, err
			}
		}
		n += copy(p[n:], r.window[at-r.windowAt:])
	}
	return n, nil
}

// show reads a window that begins at an offset, larger ones for whoever reads on.
func (r *objectReader) show(off int64, want int) error {
	if off == r.windowAt+int64(len(r.window)) && off > 0 {
		r.next = min(mostWindow, 2*r.next)
	} else {
		r.next = leastWindow
	}
	p, at := r.part(off)
	size := min(int64(max(r.next, min(want, mostWindow))), p.Size-at)
	if int64(cap(r.window)) < size {
		r.window = make([]byte, size)
	}
	r.window, r.windowAt = r.window[:size], off
	var err error
	for range tries {
		var body io.ReadCloser
		if body, _, err = r.s.get(r.ctx, p, at, at+size); err != nil {
			break
		}
		_, err = io.ReadFull(body, r.window)
		if closed := body.Close(); err == nil {
			return closed
		}
		err = fmt.Errorf("%w: it broke off: %w", ErrAway, plain(err))
	}
	r.window = r.window[:0]
	return err
}

// Seek implements io.Seeker.
func (r *objectReader) Seek(offset int64, whence int) (int64, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	pos, err := seek(r.pos, r.of.Size, offset, whence)
	if err == nil {
		r.pos = pos
	}
	return pos, err
}

func seek(pos, size, offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += pos
	case io.SeekEnd:
		offset += size
	}
	if offset < 0 {
		return 0, errors.New("before the beginning")
	}
	return offset, nil
}

// Close implements io.Closer.
func (r *objectReader) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.stop()
	return nil
}

// get reads bytes of an object, of which there must be as many as it should have; crc is
// what the object says of its CRC-32C, in hexadecimal, if it does.
func (s *S3) get(ctx context.Context, p piece, from, to int64) (body io.ReadCloser, crc string, err error) {
	o := minio.GetObjectOptions{}
	if whole := from == 0 && to == p.Size; !whole {
		if err := o.SetRange(from, to-1); err != nil {
			return nil, "", err
		}
	}
	reading, cancel := context.WithCancel(ctx)
	err = s.ask(ctx, 0, func(context.Context) error {
		begins := time.AfterFunc(answersWithin, cancel)
		got, info, header, err := s.core.GetObject(reading, s.bucket, s.object(p.Name), o)
		if !begins.Stop() && ctx.Err() == nil {
			err = errors.Join(err, fmt.Errorf("%w: it did not answer for %v", ErrAway, answersWithin))
		}
		if err != nil {
			if got != nil {
				got.Close()
			}
			return err
		}
		size := info.Size
		if _, after, ranged := strings.Cut(header.Get("Content-Range"), "/"); ranged {
			if size, err = strconv.ParseInt(after, 10, 64); err != nil {
				size = -1
			}
		}
		if size != p.Size {
			got.Close()
			return fmt.Errorf("%w: there are %d bytes of %d", ErrDamaged, size, p.Size)
		}
		body, crc = &stalling{ReadCloser: got, cancel: cancel}, info.UserMetadata[crcName]
		return nil
	})
	if err != nil {
		cancel()
	}
	return body, crc, err
}

// stalling ends a stream that stands still.
type stalling struct {
	io.ReadCloser
	cancel context.CancelFunc
	watch  *time.Timer
}

func (b *stalling) Read(p []byte) (int, error) {
	if b.watch == nil {
		b.watch = time.AfterFunc(stallsFor, b.cancel)
	} else {
		b.watch.Reset(stallsFor)
	}
	n, err := b.ReadCloser.Read(p)
	b.watch.Stop() // while nobody reads, nothing stands still
	return n, err
}

func (b *stalling) Close() error {
	if b.watch != nil {
		b.watch.Stop()
	}
	err := b.ReadCloser.Close()
	b.cancel()
	return err
}

// Has implements Store.
func (s *S3) Has(ctx context.Context, digest [32]byte) (bool, error) {
	// How large it is, is not known here: one of the two is there.
	_, err := s.stat(ctx, small(digest))
	if errors.Is(err, ErrMissing) {
		var of *pieces
		if of, err = s.lookUp(ctx, digest); err == nil {
			err = s.areThere(ctx, of)
		}
	}
	if errors.Is(err, ErrMissing) || errors.Is(err, ErrDamaged) {
		return false, nil
	}
	return err == nil, err
}

func (s *S3) stat(ctx context.Context, name string) (info minio.ObjectInfo, err error) {
	err = s.ask(ctx, answersWithin, func(ctx context.Context) (err error) {
		info, err = s.core.StatObject(ctx, s.bucket, s.object(name), minio.StatObjectOptions{})
		return err
	})
	return info, err
}

// Drop implements Store.
func (s *S3) Drop(ctx context.Context, digest [32]byte) error {
	s.forget(digest)
	if s.cache != nil {
		s.cache.drop(digest)
	}
	of, err := s.lookUp(ctx, digest)
	switch {
	case err == nil:
		// Whoever stores the same bytes meanwhile finds nothing, and not the half of it.
		if err := s.remove(ctx, small(digest)+at); err != nil {
			return err
		}
		return s.dropPieces(ctx, of.Pieces)
	case errors.Is(err, ErrDamaged):
		if err := s.remove(ctx, small(digest)+at); err != nil {
			return err
		}
	case !errors.Is(err, ErrMissing):
		return err
	}
	return s.remove(ctx, small(digest))
}

// Walk implements Store.
func (s *S3) Walk(ctx context.Context, untouched time.Time, each func(sha256 [32]byte, size int64) error) error {
	return s.list(ctx, "bytes/", func(name string, info minio.ObjectInfo) error {
		hexadecimal, large := strings.CutSuffix(path.Base(name), at)
		raw, err := hex.DecodeString(hexadecimal)
		if err != nil || len(raw) != 32 || info.LastModified.After(untouched) {
			return nil
		}
		size := info.Size
		if large {
			of, err := s.lookUp(ctx, [32]byte(raw))
			if errors.Is(err, ErrMissing) {
				return nil
			}
			if err != nil && !errors.Is(err, ErrDamaged) {
				return err
			}
			if err == nil {
				size = of.Size
			}
		}
		return each([32]byte(raw), size)
	})
}
