package generic

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// set is a version that is read.
type set struct {
	desk   ecosystem.Opener
	q      catalog.FileQuestion // for its files, without a name
	layout *fileset.Layout
	found  ecosystem.Found // the layout
	kept   catalog.File
	opened io.Closer
}

// Close ends reading.
func (s *set) Close() error { return s.opened.Close() }

// question is for a file of a version; of a snapshot the newest upload, if none is named.
func question(
	ctx context.Context, desk ecosystem.Opener, key catalog.PackageKey, version, upload string,
) (catalog.FileQuestion, error) {
	q := catalog.FileQuestion{Key: key, Version: version, Upload: upload}
	if upload != "" || !purl.IsSnapshot(Name, version) {
		return q, nil
	}
	p, err := desk.Uploads(ctx, key, version)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return q, ecosystem.ErrNoFile
	}
	if err != nil {
		return q, err
	}
	var newest *catalog.Version
	for i, v := range p.Versions {
		if v.Version == version && (newest == nil || v.Newer(*newest)) {
			newest = &p.Versions[i]
		}
	}
	if newest == nil {
		return q, ecosystem.ErrNoFile
	}
	q.Upload = newest.Upload
	return q, nil
}

// open opens a version; ErrNoFile if it is not there.
func open(
	ctx context.Context, desk ecosystem.Opener, key catalog.PackageKey, version, upload string,
) (s *set, err error) {
	s = &set{desk: desk}
	if s.q, err = question(ctx, desk, key, version, upload); err != nil {
		return nil, err
	}
	content, err := s.open(ctx, layoutFile, &s.found)
	if err != nil {
		return nil, err
	}
	s.opened, s.kept = content, s.found.File
	if s.layout, err = fileset.OpenLayout(content, s.kept.Digests.Size); err != nil {
		content.Close()
		return nil, unreadable(err)
	}
	return s, nil
}

func unreadable(err error) error {
	return fault.New(fault.Internal, "bad-layout", "the layout of the file set cannot be read").WithCause(err).
		WithHint("crelvo verify tells whether its bytes are damaged; publish the version again under another number.")
}

// open opens a file of the version as it is kept; found, if it is not nil, is what was found.
func (s *set) open(ctx context.Context, name string, found *ecosystem.Found) (ecosystem.SeekableFile, error) {
	q := s.q
	q.Name = name
	f, err := s.desk.File(ctx, q)
	if err != nil {
		return nil, err
	}
	if f.File, err = f.Kept(ctx); err != nil {
		return nil, err
	}
	if f.Arriving = nil; found != nil {
		*found = f
	}
	return s.desk.Open(ctx, f.File)
}

// packName is what the file of a pack is called.
func packName(p fileset.Pack) string { return "sha256-" + hex.EncodeToString(p.Digest[:]) }

// packs opens packs of a set as they are needed.
type packs struct {
	ctx  context.Context
	set  *set
	mu   sync.Mutex
	open map[uint32]ecosystem.SeekableFile
}

// maxOpen is how many packs one reader has open at once.
const maxOpen = 16

func (s *set) packs(ctx context.Context) *packs {
	return &packs{ctx: ctx, set: s, open: map[uint32]ecosystem.SeekableFile{}}
}

// of is a pack; it is the caller's until the next is asked for.
func (p *packs) of(i uint32) (ecosystem.SeekableFile, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if f := p.open[i]; f != nil {
		return f, nil
	}
	if len(p.open) >= maxOpen {
		if err := p.close(); err != nil {
			return nil, err
		}
	}
	f, err := p.set.open(p.ctx, packName(p.set.layout.Packs()[i]), nil)
	if errors.Is(err, ecosystem.ErrNoFile) {
		err = unreadable(fmt.Errorf("it names a pack that the version does not have: %w", err))
	}
	if err == nil {
		p.open[i] = f
	}
	return f, err
}

func (p *packs) close() (err error) {
	for i, f := range p.open {
		err = errors.Join(err, f.Close())
		delete(p.open, i)
	}
	return err
}

// Close closes all of them.
func (p *packs) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.close()
}

// content reads a file of a set where it lies; it is an ecosystem.SeekableFile.
type content struct {
	packs *packs
	file  fileset.Found
	at    int64
	runs  []run // those from at on, as far as they are known
}

// run is a stretch of a file that lies in one piece.
type run struct {
	at, offset, length int64
	pack               uint32
}

// content opens a file.
func (s *set) content(ctx context.Context, f fileset.Found) *content {
	return &content{packs: s.packs(ctx), file: f}
}

// Close implements io.Closer.
func (c *content) Close() error { return c.packs.Close() }

// Size is that of the file.
func (c *content) Size() int64 { return c.file.Size }

// Seek implements io.Seeker.
func (c *content) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += c.at
	case io.SeekEnd:
		offset += c.file.Size
	}
	if offset < 0 {
		return c.at, errors.New("a place before the beginning")
	}
	c.at = offset
	return offset, nil
}

// ahead is how much of a file is looked up at once.
const ahead = 64 << 20

// next is the rest of the run that has the byte at an offset; io.EOF at the end.
func (c *content) next(at int64) (run, error) {
	if at >= c.file.Size {
		return run{}, io.EOF
	}
	for i, r := range c.runs {
		if at >= r.at && at < r.at+r.length {
			c.runs = c.runs[i:]
			skip := at - r.at
			return run{at, r.offset + skip, r.length - skip, r.pack}, nil
		}
	}
	pieces, err := c.packs.set.layout.Pieces(c.file, at, min(c.file.Size, at+ahead))
	if err == nil && (len(pieces) == 0 || pieces[0].At > at) {
		err = errors.New("it does not say where all of a file is")
	}
	if err != nil {
		return run{}, unreadable(err)
	}
	c.runs = runsOf(pieces)
	return c.next(at)
}

// runsOf joins pieces that lie one behind the other.
func runsOf(pieces []fileset.Piece) (runs []run) {
	for _, p := range pieces {
		if n := len(runs) - 1; n >= 0 && runs[n].pack == p.Pack && runs[n].offset+runs[n].length == p.Offset {
			runs[n].length += int64(p.Length)
			continue
		}
		runs = append(runs, run{p.At, p.Offset, int64(p.Length), p.Pack})
	}
	return runs
}

// Read implements io.Reader.
func (c *content) Read(b []byte) (int, error) {
	n, err := c.readSome(b, c.at)
	c.at += int64(n)
	return n, err
}

func (c *content) readSome(b []byte, at int64) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	r, err := c.next(at)
	if err != nil {
		return 0, err
	}
	pack, err := c.packs.of(r.pack)
	if err != nil {
		return 0, err
	}
	n, err := pack.ReadAt(b[:min(int64(len(b)), r.length)], r.offset)
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// ReadAt implements io.ReaderAt, by one reader at a time.
func (c *content) ReadAt(b []byte, at int64) (n int, err error) {
	for n < len(b) && err == nil {
		var more int
		more, err = c.readSome(b[n:], at+int64(n))
		n += more
	}
	return n, err
}

// SendTo implements ecosystem.Sender: where packs are files, by sendfile.
func (c *content) SendTo(w io.Writer, n int64) (sent int64, err error) {
	for sent < n && err == nil {
		var r run
		if r, err = c.next(c.at); err != nil {
			break
		}
		var more int64
		more, err = c.packs.send(w, r.pack, r.offset, min(r.length, n-sent))
		sent += more
		c.at += more
	}
	if errors.Is(err, io.EOF) && sent == n {
		err = nil
	}
	return sent, err
}

// send writes a stretch of a pack.
func (p *packs) send(w io.Writer, pack uint32, offset, length int64) (int64, error) {
	f, err := p.of(pack)
	if err != nil {
		return 0, err
	}
	if file, ok := f.(*os.File); ok {
		if _, err := file.Seek(offset, io.SeekStart); err != nil {
			return 0, err
		}
		return io.CopyN(w, file, length)
	}
	return io.Copy(w, io.NewSectionReader(f, offset, length))
}

// Holds implements ecosystem.Filed.
func (Generic) Holds(d catalog.Details) (files int, bytes int64) {
	v := catalog.Version{Details: d}
	return int(counted(&v, nativeFiles)), counted(&v, nativeBytes)
}

// KeptAs implements ecosystem.Filed.
func (Generic) KeptAs(f catalog.File) bool {
	return f.Extension == layoutKind || f.Extension == packKind
}

// List implements ecosystem.Filed.
func (Generic) List(
	ctx context.Context, desk ecosystem.Opener, key catalog.PackageKey, version, folder, after string, limit int,
) (lines []fileset.Line, more bool, err error) {
	version, upload := versionOf(version)
	s, err := open(ctx, desk, key, version, upload)
	if err != nil {
		return nil, false, err
	}
	defer s.Close()
	lines, more, err = s.layout.List(folder, after, limit)
	if errors.Is(err, fileset.ErrNotThere) {
		err = ecosystem.ErrNoFile
	}
	return lines, more, err
}

// opened is a file of a set that is opened for it alone.
type opened struct {
	*content
	of *set
}

// Close implements io.Closer.
func (o opened) Close() error { return errors.Join(o.content.Close(), o.of.Close()) }

// OpenFile implements ecosystem.Filed.
func (Generic) OpenFile(
	ctx context.Context, desk ecosystem.Opener, key catalog.PackageKey, version, path string,
) (ecosystem.SizedFile, error) {
	version, upload := versionOf(version)
	s, err := open(ctx, desk, key, version, upload)
	if err != nil {
		return nil, err
	}
	f, err := s.layout.Find(path)
	if err == nil && f.Kind != fileset.File {
		err = fileset.ErrNotThere
	}
	if errors.Is(err, fileset.ErrNotThere) {
		return nil, errors.Join(ecosystem.ErrNoFile, s.Close())
	}
	if err != nil {
		return nil, errors.Join(unreadable(err), s.Close())
	}
	return opened{s.content(ctx, f), s}, nil
}

// Walk implements ecosystem.Filed.
func (Generic) Walk(
	ctx context.Context, desk ecosystem.Opener, key catalog.PackageKey, version string,
	each func(path string, size int64, open func() ecosystem.SizedFile) error,
) error {
	version, upload := versionOf(version)
	s, err := open(ctx, desk, key, version, upload)
	if err != nil {
		return err
	}
	defer s.Close()
	packs := s.packs(ctx)
	defer packs.Close()
	return s.layout.Below("", func(f fileset.Found) error {
		if f.Kind != fileset.File {
			return ctx.Err()
		}
		return errors.Join(ctx.Err(), each(f.Path, f.Size, func() ecosystem.SizedFile {
			return shared{&content{packs: packs, file: f}}
		}))
	})
}

// shared is a file whose packs others read too.
type shared struct{ *content }

// Close implements io.Closer.
func (shared) Close() error { return nil }

// Manifest implements ecosystem.Filed.
func (Generic) Manifest(
	ctx context.Context, desk ecosystem.Opener, key catalog.PackageKey, version string,
) (ecosystem.SeekableFile, error) {
	version, upload := versionOf(version)
	q, err := question(ctx, desk, key, version, upload)
	if err != nil {
		return nil, err
	}
	return (&set{desk: desk, q: q}).open(ctx, manifestFile, nil)
}
