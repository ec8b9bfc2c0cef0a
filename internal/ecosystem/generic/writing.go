package generic

import (
	"context"
	"errors"
	"io"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// writing cuts files that arrive here whole, and puts those of their chunks that are not there into packs.
type writing struct {
	ctx    context.Context
	packs  ecosystem.Packs
	cutter *fileset.Cutter

	held  []heldChunk // that are to be looked for
	bytes int         // of them
	known map[fileset.Digest]bool
	pack  *fileset.PipedPack // that is being written; nil if none is
	// leftOut are packs whose chunks are written anew.
	leftOut map[fileset.Digest]bool
}

type heldChunk struct {
	fileset.Chunk
	content []byte
}

const (
	// holds is how many bytes of chunks are held until it is known whether they are there.
	holds = 4 << 20
	// packBytes is how many bytes of chunks a pack has here.
	packBytes = 64 << 20
)

func newWriting(ctx context.Context, packs ecosystem.Packs) (*writing, error) {
	cutter, err := fileset.NewCutter()
	return &writing{ctx: ctx, packs: packs, cutter: cutter, known: map[fileset.Digest]bool{}}, err
}

// file takes a file, and gives its size, digest and chunks.
func (w *writing) file(r io.Reader) (fileset.Entry, error) {
	return w.cutter.Measure(r, w.chunk)
}

// chunk takes a chunk, whose content is not kept.
func (w *writing) chunk(c fileset.Chunk, content []byte) error {
	if w.known[c.Digest] {
		return nil
	}
	w.known[c.Digest] = true
	w.held = append(w.held, heldChunk{c, append([]byte(nil), content...)})
	if w.bytes += len(content); w.bytes < holds {
		return nil
	}
	return w.look()
}

// look writes those of the chunks that are held which are not there.
func (w *writing) look() error {
	digests := make([]fileset.Digest, len(w.held))
	for i, h := range w.held {
		digests[i] = h.Digest
	}
	there, err := w.packs.Chunks(w.ctx, digests, w.leftOut)
	if err != nil {
		return fault.Of(err) // it is no fault of what arrives
	}
	for _, h := range w.held {
		if _, ok := there[h.Digest]; ok {
			continue
		}
		if w.pack == nil {
			w.pack = w.begin()
		}
		if err := w.pack.Add(h.Chunk, h.content); err != nil {
			return errors.Join(w.endPack(err), err)
		}
		if w.pack.Bytes >= packBytes {
			if err := w.endPack(nil); err != nil {
				return err
			}
		}
	}
	clear(w.held)
	w.held, w.bytes = w.held[:0], 0
	return nil
}

func (w *writing) begin() *fileset.PipedPack {
	return fileset.PipePack(func(body io.Reader) error {
		_, err := w.packs.TakePack(w.ctx, body, -1)
		return err
	})
}

// endPack ends the pack that is being written, if one is.
func (w *writing) endPack(reason error) error {
	p := w.pack
	w.pack = nil
	if p == nil {
		return nil
	}
	return p.End(reason)
}

// end writes what is held; with a reason, nothing more is written.
func (w *writing) end(reason error) error {
	if reason == nil && len(w.held) > 0 {
		reason = w.look()
	}
	if err := w.endPack(reason); err != nil && reason == nil {
		return err
	}
	return reason
}
