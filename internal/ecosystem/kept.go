package ecosystem

import (
	"io"
	"strconv"
	"strings"

	"crelvo/internal/core/catalog"
)

// sizedReader is a stored file with its size.
type sizedReader struct {
	io.ReaderAt
	size int64
}

func (s sizedReader) Size() int64 { return s.size }

// Sized is a file with its size, in bytes.
func Sized(r io.ReaderAt, size int64) SizedReaderAt { return sizedReader{r, size} }

// ReadKept lets read take something out of a file, which is waited for if it is
// on its way.
func (c *Call) ReadKept(found Found, read func(f catalog.File, content SizedReaderAt) error) error {
	ctx := c.Request().Context()
	f, err := found.Kept(ctx)
	if err != nil {
		return err
	}
	opened, err := c.Desk.Open(ctx, f)
	if err != nil {
		return err
	}
	defer opened.Close()
	return read(f, Sized(opened, f.Digests.Size))
}

// Number is a number in the query of a request; usual if it is left out or none,
// and at most most.
func (c *Call) Number(name string, usual, most int) int {
	n, err := strconv.Atoi(c.QueryParam(name))
	if err != nil || n < 0 {
		n = usual
	}
	return min(n, most)
}

// WebOnly is an address that a package states, or "" if it is none of the web.
func WebOnly(address string) string {
	return catalog.WebOnly(strings.TrimSpace(address))
}
