package fileset

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// A pack is chunks one after the other, then for each its digest and length (36 bytes, the length in little
// endian), then how many they are (4 bytes) and packEnd.
const packEnd = "crelvo pack1"

// PackExtension is that of the files of a version that are packs.
const PackExtension = "pack"

const (
	packEntry  = sha256.Size + 4
	packFooter = 4 + len(packEnd)
	// MaxPackChunks is how many chunks a pack may have.
	MaxPackChunks = 1 << 18
)

// PackWriter writes a pack.
type PackWriter struct {
	w      io.Writer
	index  []byte
	Chunks int
	Bytes  int64 // of the chunks
}

// NewPackWriter begins a pack. Close ends it.
func NewPackWriter(w io.Writer) *PackWriter { return &PackWriter{w: w} }

// Add writes the next chunk.
func (p *PackWriter) Add(c Chunk, content []byte) error {
	if int(c.Length) != len(content) {
		return fmt.Errorf("a chunk of %d bytes came with %d", c.Length, len(content))
	}
	p.index = binary.LittleEndian.AppendUint32(append(p.index, c.Digest[:]...), c.Length)
	p.Chunks++
	p.Bytes += int64(c.Length)
	_, err := p.w.Write(content)
	return err
}

// Close writes what stands at the end.
func (p *PackWriter) Close() error {
	end := binary.LittleEndian.AppendUint32(p.index, uint32(p.Chunks))
	_, err := p.w.Write(append(end, packEnd...))
	return err
}

// ReadPack lists the chunks of a pack, in their order. What is wrong with it is told in words.
func ReadPack(r io.ReaderAt, size int64) ([]Chunk, error) {
	footer := make([]byte, packFooter)
	if size < int64(packFooter) {
		return nil, errors.New("it is too short")
	}
	if _, err := r.ReadAt(footer, size-int64(packFooter)); err != nil && err != io.EOF {
		return nil, err
	}
	if string(footer[4:]) != packEnd {
		return nil, errors.New("it does not end as packs do; it may have been cut")
	}
	n := int64(binary.LittleEndian.Uint32(footer))
	at := size - int64(packFooter) - n*packEntry
	if n == 0 || n > MaxPackChunks || at < n {
		return nil, fmt.Errorf("%d chunks in %d bytes are not possible", n, size)
	}
	index := make([]byte, n*packEntry)
	if _, err := r.ReadAt(index, at); err != nil {
		return nil, err
	}
	chunks, sum := make([]Chunk, n), int64(0)
	for i := range chunks {
		one := index[i*packEntry:]
		chunks[i].Length = binary.LittleEndian.Uint32(one[sha256.Size:])
		copy(chunks[i].Digest[:], one)
		if chunks[i].Length == 0 || chunks[i].Length > MaxChunk {
			return nil, fmt.Errorf("chunk %d has %d bytes", i, chunks[i].Length)
		}
		sum += int64(chunks[i].Length)
	}
	if sum != at {
		return nil, fmt.Errorf("its chunks have %d bytes, and there are %d", sum, at)
	}
	return chunks, nil
}

// CheckPack is ReadPack, and looks whether each chunk is what the pack says.
func CheckPack(r io.ReaderAt, size int64) ([]Chunk, error) {
	chunks, err := ReadPack(r, size)
	if err != nil {
		return nil, err
	}
	section := io.NewSectionReader(r, 0, size)
	content := make([]byte, 0, 64<<10)
	for i, c := range chunks {
		content = append(content[:0], make([]byte, c.Length)...)
		if _, err := io.ReadFull(section, content); err != nil {
			return nil, err
		}
		if is := sha256.Sum256(content); !bytes.Equal(is[:], c.Digest[:]) {
			return nil, &OtherChunk{Index: i, Named: c.Digest, Is: is}
		}
	}
	return chunks, nil
}

// OtherChunk is that a chunk of a pack is not what the pack says.
type OtherChunk struct {
	Index     int
	Named, Is Digest
}

func (o *OtherChunk) Error() string {
	return fmt.Sprintf("chunk %d has the SHA-256 %x, and not %x", o.Index, o.Is, o.Named)
}

// PipedPack is a pack that is taken by somebody while it is written.
type PipedPack struct {
	*PackWriter
	to   *io.PipeWriter
	done chan error
}

// PipePack begins a pack that take reads; who writes is told if it does not take it.
func PipePack(take func(body io.Reader) error) *PipedPack {
	from, to := io.Pipe()
	p := &PipedPack{PackWriter: NewPackWriter(to), to: to, done: make(chan error, 1)}
	go func() {
		err := take(from)
		from.CloseWithError(errors.Join(err, io.ErrClosedPipe))
		p.done <- err
	}()
	return p
}

// End ends the pack; with a reason, it is given up. The error is why it was not taken.
func (p *PipedPack) End(reason error) error {
	if reason == nil {
		reason = p.Close()
	}
	p.to.CloseWithError(reason)
	return <-p.done
}
