package ecosystem

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"path"
	"strings"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/makeup"
)

// Contents reads what an archive has inside, by its name: zip, and tar compressed by gzip or bzip2.
// Errors say what is wrong with it.
func Contents(ctx context.Context, name string, file SizedReaderAt) (makeup.Tree, error) {
	var all []makeup.File
	each := func(name string, _ int64, r io.Reader) error {
		one, err := fileOf(name, r)
		all = append(all, one)
		return err
	}
	var err error
	switch {
	case strings.HasSuffix(name, ".tgz") || strings.HasSuffix(name, ".tar.gz") || strings.HasSuffix(name, ".crate"):
		err = WalkTarGz(ctx, file, each)
	case strings.HasSuffix(name, ".tar.bz2"):
		err = WalkTarBz2(ctx, file, each)
	default:
		err = WalkZip(ctx, file, each)
	}
	return makeup.Unpacked(all), err
}

// WalkZip is WalkTarGz for a zip archive.
func WalkZip(ctx context.Context, file SizedReaderAt, each func(name string, size int64, r io.Reader) error) error {
	archive, err := OpenZip(ctx, file)
	if err != nil {
		return err
	}
	own, whole := inflated(ctx, file.Size()), budget.Of(ctx)
	for _, entry := range archive.File {
		if strings.HasSuffix(entry.Name, "/") {
			continue
		}
		r, err := entry.Open()
		if err != nil {
			return fmt.Errorf("its %.100q cannot be read: %w", entry.Name, err)
		}
		err = each(entry.Name, int64(entry.UncompressedSize64), whole.Reader(own.Reader(r)))
		if closeErr := r.Close(); err == nil {
			err = closeErr
		}
		if err == ErrStop {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// fileOf reads a file of an archive.
func fileOf(name string, r io.Reader) (f makeup.File, err error) {
	f.Path = path.Clean(name)
	head := make([]byte, makeup.HeadLength)
	n, err := io.ReadFull(r, head)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	if err != nil {
		return f, err
	}
	f.Code = makeup.CodeOf(head[:n])
	sum := sha256.New()
	sum.Write(head[:n])
	more, err := io.Copy(sum, r)
	f.Size = int64(n) + more
	sum.Sum(f.Sum[:0])
	return f, err
}
