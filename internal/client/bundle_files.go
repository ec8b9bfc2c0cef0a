package client

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"crelvo/internal/core/bundle"
)

// bundleTime is what members of a bundle on its way say of their age, which nobody asks for.
var bundleTime = time.Unix(0, 0)

// A bundle that is split lies in files that end in .001, .002 and so on, and is what they are one after the other.

var pieceName = regexp.MustCompile(`\.\d{3,}$`)

func piece(path string, n int) string { return fmt.Sprintf("%s.%03d", path, n) }

// OpenBundle opens a bundle, whole or in pieces, of which the first one or what is before its .001 may be named.
// size is how many bytes there are.
func OpenBundle(path string) (r io.ReadCloser, size int64, err error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		if _, none := os.Stat(piece(path, 1)); none == nil {
			return openPieces(path)
		}
	}
	if err != nil {
		return nil, 0, err
	}
	if pieceName.MatchString(path) {
		if err := f.Close(); err != nil {
			return nil, 0, err
		}
		return openPieces(pieceName.ReplaceAllString(path, ""))
	}
	stat, err := f.Stat()
	if err == nil && stat.IsDir() {
		err = fmt.Errorf("%s is a folder", path)
	}
	if err != nil {
		return nil, 0, errors.Join(err, f.Close())
	}
	return f, stat.Size(), nil
}

// pieces are files that are read one after the other.
type pieces struct {
	io.Reader
	files []*os.File
}

func (p *pieces) Close() (err error) {
	for _, f := range p.files {
		err = errors.Join(err, f.Close())
	}
	return err
}

func openPieces(path string) (io.ReadCloser, int64, error) {
	p, size := &pieces{}, int64(0)
	var readers []io.Reader
	for n := 1; ; n++ {
		f, err := os.Open(piece(path, n))
		if errors.Is(err, fs.ErrNotExist) {
			if n == 1 {
				return nil, 0, fmt.Errorf("%s is not there", piece(path, 1))
			}
			break
		}
		if err != nil {
			return nil, 0, errors.Join(err, p.Close())
		}
		p.files, readers = append(p.files, f), append(readers, f)
		stat, err := f.Stat()
		if err != nil {
			return nil, 0, errors.Join(err, p.Close())
		}
		size += stat.Size()
	}
	p.Reader = io.MultiReader(readers...)
	return p, size, nil
}

// BundleFile is a bundle that is being written: whole, or in pieces of some bytes. Until it is whole, it lies under
// names that end in .unfinished.
type BundleFile struct {
	path  string
	most  int64 // bytes of a piece; 0: it is not split
	n     int   // pieces that were begun
	left  int64 // of this piece
	file  *os.File
	names []string
}

const unfinished = ".unfinished"

// CreateBundle begins one. It refuses to write over what is there.
func CreateBundle(path string, most int64) (*BundleFile, error) {
	for _, taken := range []string{path, piece(path, 1)} {
		if _, err := os.Stat(taken); err == nil {
			return nil, fmt.Errorf("%s is there already; take it away, or choose another name", taken)
		}
	}
	return &BundleFile{path: path, most: most}, nil
}

// Write implements io.Writer.
func (b *BundleFile) Write(p []byte) (written int, err error) {
	for len(p) > 0 {
		if b.file == nil || b.most > 0 && b.left == 0 {
			if err := b.next(); err != nil {
				return written, err
			}
		}
		some := p
		if b.most > 0 {
			some = p[:min(int64(len(p)), b.left)]
		}
		n, err := b.file.Write(some)
		written, b.left, p = written+n, b.left-int64(n), p[n:]
		if err != nil {
			return written, err
		}
	}
	return written, nil
}

// next begins a piece.
func (b *BundleFile) next() (err error) {
	if err := b.endPiece(); err != nil {
		return err
	}
	b.n++
	name := b.path
	if b.most > 0 {
		name = piece(b.path, b.n)
	}
	if b.file, err = os.OpenFile(name+unfinished, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644); err == nil {
		b.names, b.left = append(b.names, name), b.most
	}
	return err
}

func (b *BundleFile) endPiece() error {
	if b.file == nil {
		return nil
	}
	err := errors.Join(b.file.Sync(), b.file.Close())
	b.file = nil
	return err
}

// Done gives the files their names, which it tells.
func (b *BundleFile) Done() (names []string, err error) {
	if err := b.endPiece(); err != nil {
		return nil, err
	}
	for _, name := range b.names {
		if err := os.Rename(name+unfinished, name); err != nil {
			return nil, err
		}
	}
	folder, err := os.Open(filepath.Dir(b.path))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	_ = folder.Sync() // not every system can
	return b.names, nil
}

// GiveUp takes away what was written.
func (b *BundleFile) GiveUp() error {
	err := b.endPiece()
	for _, name := range b.names {
		if gone := os.Remove(name + unfinished); !errors.Is(gone, fs.ErrNotExist) {
			err = errors.Join(err, gone)
		}
	}
	return err
}

// CheckedBundle is what was found out about a bundle without a server.
type CheckedBundle struct {
	bundle.Manifest
	Signed bundle.Signed
	Sent   int64 // bytes of its files
}

// CheckBundle reads a bundle to its end and compares every file with its digest.
func CheckBundle(r io.Reader) (c CheckedBundle, err error) {
	from, err := bundle.NewReader(r)
	if err != nil {
		return c, err
	}
	c.Signed = from.Signed
	if c.Manifest, err = bundle.Parse(from.Raw); err != nil {
		return c, err
	}
	lacking := c.Files()
	for {
		sum, size, content, err := from.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return c, fmt.Errorf("it does not go on: %w", err)
		}
		digest := sha256.New()
		if _, err := io.Copy(digest, content); err != nil {
			return c, fmt.Errorf("it does not go on: %w", err)
		}
		if wanted, ok := lacking[sum]; !ok || wanted != size || bundle.Sum(digest.Sum(nil)) != sum {
			return c, fmt.Errorf("its file %s is damaged, or does not belong there", sum)
		}
		delete(lacking, sum)
		c.Sent += size
	}
	if len(lacking) > 0 {
		for sum := range lacking {
			return c, fmt.Errorf("it lacks %d files, such as the one with SHA-256 %s", len(lacking), sum)
		}
	}
	return c, nil
}
