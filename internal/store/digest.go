package store

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash"
	"io"
	"sync"

	"crelvo/internal/core/catalog"
)

const (
	chunkSize = 256 << 10
	// chunkCount bounds how far the fastest digest may run ahead of the slowest:
	// chunkSize * chunkCount is all the memory that one upload takes.
	chunkCount = 16
	// smallFile is up to where starting goroutines costs more than it gains.
	smallFile = 2 * chunkSize
)

var chunkPool = sync.Pool{New: func() any { return new([chunkSize]byte) }}

// digester computes all digests of what it is given.
type digester struct {
	hashes [4]hash.Hash // in the order of catalog.Algorithms
	size   int64
}

func newDigester() *digester {
	return &digester{hashes: [4]hash.Hash{md5.New(), sha1.New(), sha256.New(), sha512.New()}}
}

func (d *digester) sum() catalog.Digests {
	sums := catalog.Digests{Size: d.size}
	d.hashes[0].Sum(sums.MD5[:0])
	d.hashes[1].Sum(sums.SHA1[:0])
	d.hashes[2].Sum(sums.SHA256[:0])
	d.hashes[3].Sum(sums.SHA512[:0])
	return sums
}

// chunk is a piece of an upload on its way to every digest and the file.
type chunk struct {
	bytes   []byte
	pending *sync.WaitGroup
}

// copy copies r to w and adds it to all digests. Small sources are digested in turn;
// for larger ones each digest and the writing get a goroutine of their own, over shared
// chunks. The first failure ends it; what was read before one of r is in the digests, and
// in w. With eager, bytes are passed on as they come, and not only when a chunk is full.
func (d *digester) copy(ctx context.Context, w io.Writer, r io.Reader, eager bool) error {
	fill := fill
	if eager {
		fill = func(r io.Reader, p []byte) (int, error) { return r.Read(p) }
	}
	buf := chunkPool.Get().(*[chunkSize]byte)
	defer func() { chunkPool.Put(buf) }()
	for begun := d.size; d.size < begun+smallFile; {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := fill(r, buf[:])
		for _, h := range d.hashes {
			h.Write(buf[:n])
		}
		d.size += int64(n)
		if _, err := w.Write(buf[:n]); err != nil {
			return writeError{err}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return d.copyParallel(ctx, w, r, fill)
}

// fill reads until p is full or r ends. Unlike io.ReadFull it tells an end,
// which is io.EOF, from a source that was cut, which may say
// io.ErrUnexpectedEOF.
func fill(r io.Reader, p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		var m int
		m, err = r.Read(p[n:])
		n += m
	}
	return n, err
}

// writeError marks a failure of the staging file, as against one of the source.
type writeError struct{ error }

func (e writeError) Unwrap() error { return e.error }

func (d *digester) copyParallel(
	ctx context.Context, w io.Writer, r io.Reader, fill func(io.Reader, []byte) (int, error),
) error {
	var (
		workers   sync.WaitGroup
		writeErr  error
		inFlight  = make(chan struct{}, chunkCount)
		consumers = make([]chan chunk, 0, len(d.hashes)+1)
		failed    = make(chan struct{})
	)
	consume := func(take func([]byte)) {
		in := make(chan chunk, chunkCount)
		consumers = append(consumers, in)
		workers.Go(func() {
			for c := range in {
				take(c.bytes)
				c.pending.Done()
			}
		})
	}
	for _, h := range d.hashes {
		consume(func(b []byte) { h.Write(b) })
	}
	consume(func(b []byte) {
		if writeErr != nil {
			return
		}
		if _, writeErr = w.Write(b); writeErr != nil {
			close(failed)
		}
	})
	readErr := func() error {
		for {
			select {
			case inFlight <- struct{}{}:
			case <-failed:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
			buf := chunkPool.Get().(*[chunkSize]byte)
			n, err := fill(r, buf[:])
			d.size += int64(n)
			pending := new(sync.WaitGroup)
			pending.Add(len(consumers))
			go func() {
				pending.Wait()
				chunkPool.Put(buf)
				<-inFlight
			}()
			for _, in := range consumers {
				in <- chunk{bytes: buf[:n], pending: pending}
			}
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
		}
	}()
	for _, in := range consumers {
		close(in)
	}
	workers.Wait()
	if writeErr != nil {
		return writeError{writeErr}
	}
	return readErr
}

// exactly fails a source that gives other than length bytes.
type exactly struct {
	r      io.Reader
	length int64
	got    int64
}

func (e *exactly) Read(p []byte) (int, error) {
	n, err := e.r.Read(p)
	e.got += int64(n)
	if e.got > e.length {
		return n, fmt.Errorf("more than the %d bytes that were announced", e.length)
	}
	if err == io.EOF && e.got < e.length {
		return n, fmt.Errorf("%d of the %d bytes that were announced", e.got, e.length)
	}
	return n, err
}
