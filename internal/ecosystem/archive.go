package ecosystem

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"cmp"
	"compress/bzip2"
	"compress/gzip"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/budget"
)

// What an archive may cost: entries that are looked at, bytes of a directory,
// and bytes that come out of so many that go in.
const (
	MaxEntries   = 100_000
	maxDirectory = 16 << 20
	maxInflated  = 2 << 30
	maxRatio     = 300
	freeInflated = 64 << 20
)

// ErrStop ends a walk without an error.
var ErrStop = errors.New("enough")

// safeName tells whether the name of an entry stays within the archive.
func safeName(name string) bool {
	return name != "" && name[0] != '/' && !strings.Contains(name, "\\") && !strings.Contains(name, "\x00") &&
		name != ".." && !strings.HasPrefix(path.Clean(name), "../")
}

// inflated is the budget for what comes out of one archive of so many bytes,
// and comes out of the one that travels with ctx too.
func inflated(ctx context.Context, size int64) *budget.Budget {
	return budget.New(ctx, budget.Limits{Bytes: min(size*maxRatio+freeInflated, maxInflated), Held: budget.Default.Held,
		Elements: MaxEntries})
}

// WalkTarGz goes through the files of a tar archive that is compressed by gzip.
// Errors, but for those of each, say what is wrong with it: names that lead out
// of it, links, holes, too many entries, or far more bytes than its size lets
// expect.
func WalkTarGz(ctx context.Context, file SizedReaderAt, each func(name string, size int64, r io.Reader) error) error {
	unzipped, err := gzip.NewReader(io.NewSectionReader(file, 0, file.Size()))
	if err != nil {
		return fmt.Errorf("it is not compressed by gzip: %w", err)
	}
	return walkTar(ctx, unzipped, file.Size(), each)
}

// WalkTarBz2 is WalkTarGz for an archive that is compressed by bzip2.
func WalkTarBz2(ctx context.Context, file SizedReaderAt, each func(name string, size int64, r io.Reader) error) error {
	return walkTar(ctx, bzip2.NewReader(io.NewSectionReader(file, 0, file.Size())), file.Size(), each)
}

// walkTar goes through an archive that was compressed to size bytes.
func walkTar(
	ctx context.Context, unpacked io.Reader, size int64, each func(name string, size int64, r io.Reader) error,
) error {
	own, whole := inflated(ctx, size), budget.Of(ctx)
	archive := tar.NewReader(whole.Reader(own.Reader(unpacked)))
	for n := 0; ; n++ {
		entry, err := archive.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if n >= MaxEntries {
			return fmt.Errorf("it has more than %d entries", MaxEntries)
		}
		if !safeName(entry.Name) {
			return fmt.Errorf("its entry %.100q leads out of it", entry.Name)
		}
		switch entry.Typeflag {
		case tar.TypeReg:
		case tar.TypeSymlink, tar.TypeLink:
			return fmt.Errorf("its entry %.100q is a link", entry.Name)
		case tar.TypeGNUSparse: // refused below
		default:
			continue
		}
		if HasHoles(entry) {
			return fmt.Errorf("its entry %.100q has holes", entry.Name)
		}
		if err := each(entry.Name, entry.Size, archive); err == ErrStop {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// HasHoles tells whether an entry of an archive says that it has stretches of zeros which are not in the archive: of
// these, there may be any number.
func HasHoles(entry *tar.Header) bool {
	for name := range entry.PAXRecords {
		if strings.HasPrefix(name, "GNU.sparse.") {
			return true
		}
	}
	return entry.Typeflag == tar.TypeGNUSparse
}

// ReadAtMost reads all of r, up to a limit.
func ReadAtMost(r io.Reader, limit int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(raw)) > limit {
		err = fmt.Errorf("it has more than %d bytes", limit)
	}
	return raw, err
}

// ZipEntries finds the end of the central directory of a zip archive
// (APPNOTE.TXT, 4.3.16) and gives its number of entries, without reading them.
// Archives in the 64-bit form, and odd ones, say "more than MaxEntries".
func ZipEntries(file SizedReaderAt) (int, error) {
	const recordSize, maxComment, signature = 22, 1<<16 - 1, "PK\x05\x06"
	tail := make([]byte, min(file.Size(), recordSize+maxComment))
	if _, err := file.ReadAt(tail, file.Size()-int64(len(tail))); err != nil && err != io.EOF {
		return 0, err
	}
	at := bytes.LastIndex(tail, []byte(signature))
	if at < 0 || len(tail)-at < recordSize {
		return 0, errors.New("it has no directory")
	}
	record := tail[at:]
	entries := int(binary.LittleEndian.Uint16(record[10:]))
	size := int64(binary.LittleEndian.Uint32(record[12:]))
	offset := int64(binary.LittleEndian.Uint32(record[16:]))
	if offset != 0xffffffff && offset+size > file.Size() {
		return 0, errors.New("its directory points outside of it")
	}
	// Counts can lie; the directory's real extent bounds what reading it costs.
	end := file.Size() - int64(len(tail)-at)
	if entries == 0xffff || offset+size != end || size > maxDirectory {
		return MaxEntries + 1, nil
	}
	return entries, nil
}

// OpenZip opens a zip archive whose directory is of a bearable size, whose names
// stay within it, and whose entries have bytes of their own each: where they
// share some, a small archive unpacks to anything. Errors say what is wrong.
func OpenZip(ctx context.Context, file SizedReaderAt) (*zip.Reader, error) {
	entries, err := ZipEntries(file)
	if err != nil {
		return nil, fmt.Errorf("it is not a zip archive: %w", err)
	}
	if entries > MaxEntries {
		return nil, fmt.Errorf("it has more than %d entries, or an odd directory", MaxEntries)
	}
	if err := budget.Of(ctx).Elements(entries); err != nil {
		return nil, err
	}
	archive, err := zip.NewReader(file, file.Size())
	if err != nil {
		return nil, fmt.Errorf("it is not a zip archive: %w", err)
	}
	var packed uint64
	for _, entry := range archive.File {
		if !safeName(strings.TrimSuffix(entry.Name, "/")) {
			return nil, fmt.Errorf("its entry %.100q leads out of it", entry.Name)
		}
		packed += entry.CompressedSize64
	}
	// Entries that share bytes can be seen by their sum, where they share many.
	if packed > uint64(file.Size()) {
		return nil, errors.New("its entries share bytes")
	}
	if glimpsed(file) {
		return archive, nil
	}
	return archive, apart(archive)
}

// apart tells, by where their bytes begin, whether no two entries of an archive
// share any.
func apart(archive *zip.Reader) error {
	type span struct{ from, to int64 }
	spans := make([]span, 0, len(archive.File))
	for _, entry := range archive.File {
		if entry.CompressedSize64 == 0 {
			continue
		}
		from, err := entry.DataOffset()
		if err != nil {
			return fmt.Errorf("its entry %.100q cannot be found: %w", entry.Name, err)
		}
		spans = append(spans, span{from, from + int64(entry.CompressedSize64)})
	}
	slices.SortFunc(spans, func(a, b span) int { return cmp.Compare(a.from, b.from) })
	for i := 1; i < len(spans); i++ {
		if spans[i].from < spans[i-1].to {
			return errors.New("its entries share bytes")
		}
	}
	return nil
}

// CheckZip reads every entry of a zip archive of so many bytes, so that its
// checksums are compared.
func CheckZip(ctx context.Context, archive *zip.Reader, size int64) error {
	own, whole := inflated(ctx, size), budget.Of(ctx)
	for _, entry := range archive.File {
		if strings.HasSuffix(entry.Name, "/") {
			continue
		}
		r, err := entry.Open()
		if err != nil {
			return fmt.Errorf("its %.100q cannot be read: %w", entry.Name, err)
		}
		_, err = io.Copy(io.Discard, whole.Reader(own.Reader(r)))
		if closeErr := r.Close(); err == nil {
			err = closeErr
		}
		if spent := (*budget.Spent)(nil); errors.As(err, &spent) {
			return err
		}
		if err != nil {
			return fmt.Errorf("its %.100q is damaged: %w", entry.Name, err)
		}
	}
	return nil
}

// ReadZipEntry reads an entry, up to a limit.
func ReadZipEntry(ctx context.Context, entry *zip.File, limit int64) ([]byte, error) {
	if entry.UncompressedSize64 > uint64(limit) {
		return nil, fmt.Errorf("its %s has %d bytes; at most %d are accepted", entry.Name, entry.UncompressedSize64, limit)
	}
	r, err := entry.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return ReadAtMost(budget.Of(ctx).Reader(r), limit)
}
