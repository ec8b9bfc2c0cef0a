package ecosystem

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
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

// WalkTarGz goes through the files of a tar archive that is compressed by gzip.
// Errors, but for those of each, say what is wrong with it: names that lead out
// of it, links, too many entries, or far more bytes than its size lets expect.
func WalkTarGz(file SizedReaderAt, each func(name string, size int64, r io.Reader) error) error {
	unzipped, err := gzip.NewReader(io.NewSectionReader(file, 0, file.Size()))
	if err != nil {
		return fmt.Errorf("it is not compressed by gzip: %w", err)
	}
	limit := min(file.Size()*maxRatio+freeInflated, maxInflated)
	bounded := &bounded{from: unzipped, left: limit}
	archive := tar.NewReader(bounded)
	for n := 0; ; n++ {
		entry, err := archive.Next()
		if err == io.EOF {
			return nil
		}
		if bounded.left < 0 {
			return fmt.Errorf("it unpacks to more than %d bytes, from %d", limit, file.Size())
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
		default:
			continue
		}
		if err := each(entry.Name, entry.Size, archive); err == ErrStop {
			return nil
		} else if err != nil {
			if bounded.left < 0 {
				return fmt.Errorf("it unpacks to more than %d bytes, from %d", limit, file.Size())
			}
			return err
		}
	}
}

// bounded fails once more was read than there may be.
type bounded struct {
	from io.Reader
	left int64
}

// Read implements io.Reader.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, errors.New("too much comes out of it")
	}
	return n, err
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

// OpenZip opens a zip archive whose directory is of a bearable size, and whose
// names stay within it. Errors say what is wrong with it.
func OpenZip(file SizedReaderAt) (*zip.Reader, error) {
	entries, err := ZipEntries(file)
	if err != nil {
		return nil, fmt.Errorf("it is not a zip archive: %w", err)
	}
	if entries > MaxEntries {
		return nil, fmt.Errorf("it has more than %d entries, or an odd directory", MaxEntries)
	}
	archive, err := zip.NewReader(file, file.Size())
	if err != nil {
		return nil, fmt.Errorf("it is not a zip archive: %w", err)
	}
	for _, entry := range archive.File {
		if !safeName(strings.TrimSuffix(entry.Name, "/")) {
			return nil, fmt.Errorf("its entry %.100q leads out of it", entry.Name)
		}
	}
	return archive, nil
}

// CheckZip reads every entry of a zip archive of so many bytes, so that its
// checksums are compared.
func CheckZip(archive *zip.Reader, size int64) error {
	limit := min(size*maxRatio+freeInflated, maxInflated)
	left := limit
	for _, entry := range archive.File {
		if strings.HasSuffix(entry.Name, "/") {
			continue
		}
		r, err := entry.Open()
		if err != nil {
			return fmt.Errorf("its %.100q cannot be read: %w", entry.Name, err)
		}
		n, err := io.Copy(io.Discard, io.LimitReader(r, left+1))
		if closeErr := r.Close(); err == nil {
			err = closeErr
		}
		if left -= n; left < 0 {
			return fmt.Errorf("it unpacks to more than %d bytes, from %d", limit, size)
		}
		if err != nil {
			return fmt.Errorf("its %.100q is damaged: %w", entry.Name, err)
		}
	}
	return nil
}

// ReadZipEntry reads an entry, up to a limit.
func ReadZipEntry(entry *zip.File, limit int64) ([]byte, error) {
	if entry.UncompressedSize64 > uint64(limit) {
		return nil, fmt.Errorf("its %s has %d bytes; at most %d are accepted", entry.Name, entry.UncompressedSize64, limit)
	}
	r, err := entry.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return ReadAtMost(r, limit)
}
