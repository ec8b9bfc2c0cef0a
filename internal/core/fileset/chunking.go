package fileset

import (
	"crypto/sha256"
	"errors"
	"io"

	chunkers "github.com/PlakarKorp/go-cdc-chunkers"
	// The algorithm is found by its name.
	_ "github.com/PlakarKorp/go-cdc-chunkers/chunkers/fastcdc"
)

// Chunking is how files are cut: FastCDC (Xia et al., USENIX ATC 2016) with normalized chunking of level 2.
type Chunking struct {
	Algorithm   string
	Min, Normal int // bytes
	Max         int
}

// Usual is the chunking of sets that Crelvo makes. Both sides of a change in a file are cut where they were cut
// before, and a chunk is small enough that little is sent for it.
var Usual = Chunking{Algorithm: "fastcdc-v1.0.0", Min: 64 << 10, Normal: 256 << 10, Max: 1 << 20}

// Cutter cuts files, one after the other.
type Cutter struct{ chunker *chunkers.Chunker }

// NewCutter cuts by the usual chunking.
func NewCutter() (*Cutter, error) {
	c, err := chunkers.NewChunker(Usual.Algorithm, nil,
		&chunkers.ChunkerOpts{MinSize: Usual.Min, NormalSize: Usual.Normal, MaxSize: Usual.Max})
	return &Cutter{c}, err
}

// Cut gives the chunks of what r has, in their order, each with its bytes, which are not to be kept.
func (c *Cutter) Cut(r io.Reader, each func(chunk Chunk, content []byte) error) error {
	c.chunker.Reset(r)
	for {
		content, err := c.chunker.Next()
		last := errors.Is(err, io.EOF)
		if err != nil && !last {
			return err
		}
		if len(content) > 0 {
			if err := each(Chunk{sha256.Sum256(content), uint32(len(content))}, content); err != nil {
				return err
			}
		}
		if last {
			return nil
		}
	}
}

// Measure makes the entry of a file: its size, digest and chunks. each is given the chunks as they come, and
// may be nil.
func (c *Cutter) Measure(r io.Reader, each func(chunk Chunk, content []byte) error) (e Entry, err error) {
	whole := sha256.New()
	var first []byte // of a file that may have one chunk alone, which need not be digested twice
	err = c.Cut(r, func(chunk Chunk, content []byte) error {
		switch len(e.Chunks) {
		case 0:
			first = append(first[:0], content...)
		case 1:
			whole.Write(first)
			fallthrough
		default:
			whole.Write(content)
		}
		e.Chunks = append(e.Chunks, chunk)
		e.Size += int64(chunk.Length)
		if each != nil {
			return each(chunk, content)
		}
		return nil
	})
	switch len(e.Chunks) {
	case 0:
		e.Digest = sha256.Sum256(nil)
	case 1:
		e.Digest, e.Chunks = e.Chunks[0].Digest, nil
	default:
		whole.Sum(e.Digest[:0])
	}
	return e, err
}
