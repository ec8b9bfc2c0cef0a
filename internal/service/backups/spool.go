package backups

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"slices"
)

// spooled is a list of files on its way, in a file that is nobody else's. What comes late is
// put in order at the end. Its first failure is told by whatever is called next.
type spooled struct {
	dir    string
	file   *os.File
	w      *bufio.Writer
	behind [][40]byte
	err    error
}

func newSpooled(dir string) *spooled {
	s := &spooled{dir: dir}
	if s.file, s.err = os.CreateTemp(dir, "listed."); s.err == nil {
		s.err = os.Remove(s.file.Name()) // it goes with this process
		s.w = bufio.NewWriterSize(s.file, 64<<10)
	}
	return s
}

// add adds a file behind those before.
func (s *spooled) add(sum []byte, size int64) error {
	if s.err == nil {
		_, s.err = s.w.Write(entry(sum, size))
	}
	return s.err
}

// late adds a file whose place is anywhere.
func (s *spooled) late(sum [32]byte, size int64) error {
	s.behind = append(s.behind, [40]byte(entry(sum[:], size)))
	return nil
}

// order puts what came late to its place.
func (s *spooled) order() error {
	if s.err != nil || len(s.behind) == 0 {
		return s.err
	}
	slices.SortFunc(s.behind, func(a, b [40]byte) int { return bytes.Compare(a[:], b[:]) })
	r, err := s.reader()
	if err != nil {
		return err
	}
	merged := newSpooled(s.dir)
	rest := s.behind
	for {
		var next [40]byte
		_, err := io.ReadFull(r, next[:])
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		n := 0
		for n < len(rest) && (err != nil || bytes.Compare(rest[n][:32], next[:32]) < 0) {
			n++
		}
		for _, one := range rest[:n] {
			_ = merged.add(one[:32], int64(binary.BigEndian.Uint64(one[32:]))) // it is told below
		}
		if rest = rest[n:]; err != nil {
			break
		}
		_ = merged.add(next[:32], int64(binary.BigEndian.Uint64(next[32:])))
	}
	s.behind = nil
	err = cmp.Or(merged.err, s.file.Close())
	s.file, s.w, s.err = merged.file, merged.w, merged.err
	return err
}

// reader reads it from its beginning.
func (s *spooled) reader() (*bufio.Reader, error) {
	if s.err == nil {
		s.err = s.w.Flush()
	}
	if s.err == nil {
		_, s.err = s.file.Seek(0, io.SeekStart)
	}
	return bufio.NewReaderSize(s.file, 64<<10), s.err
}

func (s *spooled) close() {
	if s.file != nil {
		_ = s.file.Close() // it has no name any more
	}
}
