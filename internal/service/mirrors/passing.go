package mirrors

import (
	"context"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"io/fs"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/upstream"
)

// arriving is a flight as the ecosystems see it. If the store does not take the
// file, each who waits gets it past the store, from where the flight left them.
type arriving struct {
	*upstream.Flight
	passing *passing
}

// Ready implements ecosystem.Arriving.
func (a *arriving) Ready(ctx context.Context) (catalog.File, bool, int64, error) {
	f, kept, length, err := a.Flight.Ready(ctx)
	if !errors.Is(err, ecosystem.ErrNotKept) {
		return f, kept, length, err
	}
	length, err = a.passing.open(ctx)
	return catalog.File{}, false, length, err
}

// CopyTo implements ecosystem.Arriving.
func (a *arriving) CopyTo(ctx context.Context, w io.Writer) error {
	counted := &countedWriter{to: w}
	if a.passing.response == nil {
		err := a.Flight.CopyTo(ctx, counted)
		switch {
		case errors.Is(err, ecosystem.ErrNotKept):
		case !errors.Is(err, fs.ErrNotExist):
			return err
		default:
			if _, failed := a.Flight.File(ctx); failed == nil || ctx.Err() != nil {
				return err
			}
			// It arrived and could not be kept before any of it was passed on.
		}
		if _, err := a.passing.open(ctx); err != nil {
			return err
		}
	}
	return a.passing.copyTo(ctx, w, counted.n)
}

// Passing implements ecosystem.Arriving.
func (a *arriving) Passing() bool { return a.passing.response != nil }

// countedWriter counts what went through it, in bytes.
type countedWriter struct {
	to io.Writer
	n  int64
}

// Write implements io.Writer.
func (w *countedWriter) Write(p []byte) (int, error) {
	n, err := w.to.Write(p)
	w.n += int64(n)
	return n, err
}

// ReadFrom implements io.ReaderFrom, so that files still leave by sendfile.
func (w *countedWriter) ReadFrom(r io.Reader) (int64, error) {
	n, err := io.Copy(w.to, r)
	w.n += n
	return n, err
}

// passing is a file that goes from an upstream to one client, past the store.
type passing struct {
	service *Mirrors
	mirror  *Mirror
	place   ecosystem.Place
	path    string
	digests map[string]string // that the upstream's list states

	response *upstream.Response
	untie    func() bool
}

// open asks the upstream. Whatever happens, the answer ends with the context.
func (p *passing) open(ctx context.Context) (length int64, err error) {
	response, err := p.mirror.Source.Get(ctx, p.mirror.requestFor(p.path))
	if errors.Is(err, upstream.ErrAbsent) {
		return 0, ecosystem.ErrNoFile
	}
	if err != nil {
		return 0, p.service.upstreamFault(p.mirror, err)
	}
	p.response = response
	p.untie = context.AfterFunc(ctx, func() { _ = response.Body.Close() }) // nobody wants it any more
	return response.Length, nil
}

// passedAtOnce is how many bytes are read before those before them are passed on:
// the end goes out only when all was seen to be what the upstream's own checksum
// says.
const passedAtOnce = 64 << 10

// copyTo passes on what comes after the first bytes, which the client has.
func (p *passing) copyTo(ctx context.Context, w io.Writer, skip int64) error {
	if !p.untie() {
		return ctx.Err()
	}
	body := p.response.Body
	defer func() { _ = body.Close() }() // what counts was read
	// Which checksum the upstream has is asked when all has arrived: until then the
	// file takes a place that the question may need.
	digesting := map[string]hash.Hash{}
	var all []io.Writer
	for _, algorithm := range catalog.Algorithms {
		digesting[algorithm] = catalog.NewHash(algorithm)
		all = append(all, digesting[algorithm])
	}
	digest := io.MultiWriter(all...)
	if _, err := io.CopyN(digest, body, skip); err != nil {
		return p.service.upstreamFault(p.mirror, err)
	}
	var pieces [2][passedAtOnce]byte
	var held []byte
	for i := 0; ; i = 1 - i {
		n, err := io.ReadFull(body, pieces[i][:])
		if err != nil && err != io.EOF && !errors.Is(err, io.ErrUnexpectedEOF) {
			return p.service.upstreamFault(p.mirror, err)
		}
		if _, failed := digest.Write(pieces[i][:n]); failed != nil {
			return failed
		}
		last := err != nil
		if last {
			sum := p.service.fetchChecksum(ctx, p.mirror, p.response.Upstream, p.path, p.digests)
			if sum.err != nil {
				return p.service.upstreamFault(p.mirror, sum.err)
			}
			got := ""
			if sum.hex != "" {
				got = hex.EncodeToString(digesting[sum.algorithm].Sum(nil))
			}
			if got != sum.hex {
				return p.service.upstreamFault(p.mirror, p.mirror.Source.Wrong(p.response.Upstream,
					"sent other bytes for %s than its own checksum says: their %s is %s, not %s", p.place.FileName, sum.algorithm, got,
					sum.hex))
			}
		}
		if _, err := w.Write(held); err != nil {
			return err
		}
		held = pieces[i][:n]
		if last {
			_, err := w.Write(held)
			return err
		}
	}
}
