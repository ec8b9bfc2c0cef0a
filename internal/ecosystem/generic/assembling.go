package generic

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// assembling finds out where the chunks of a manifest are.
type assembling struct {
	name    string
	packs   ecosystem.Packs
	header  fileset.Header
	builder *fileset.Builder
	waiting []fileset.Entry         // for the places of their chunks
	chunks  int                     // that they have
	joined  []fileset.Entry         // files of several chunks, with their digests alone
	foreign map[fileset.Digest]bool // packs that are parts of other packages alone
	leftOut map[fileset.Digest]bool // packs that are not to be used
	lacking int
}

func newAssembling(name string, packs ecosystem.Packs) *assembling {
	return &assembling{name: name, packs: packs, builder: fileset.NewBuilder(), foreign: map[fileset.Digest]bool{}}
}

// lookAhead is for how many chunks places are asked for at once.
const lookAhead = 8192

// read reads a manifest. An error is a fault.
func (a *assembling) read(ctx context.Context, manifest ecosystem.SizedReaderAt) error {
	err := fileset.Read(io.NewSectionReader(manifest, 0, manifest.Size()), func(h fileset.Header) error {
		a.header = h
		return nil
	}, func(e fileset.Entry) error {
		a.waiting = append(a.waiting, e)
		a.chunks += len(e.Made())
		if a.chunks < lookAhead {
			return nil
		}
		return a.locate(ctx)
	})
	if err == nil {
		err = a.locate(ctx)
	}
	if err != nil {
		return badManifest(err)
	}
	if a.lacking > 0 {
		return fault.New(fault.Conflict, "chunks-lacking", "%d chunks of %s are not there", a.lacking, a.name).
			WithHint("Ask which (POST %s/%s/lacking), send them in packs, and publish again.", setsDoor, a.name)
	}
	return nil
}

// locate finds the chunks of the entries that wait, and adds these to the layout.
func (a *assembling) locate(ctx context.Context) error {
	digests := make([]fileset.Digest, 0, a.chunks)
	for _, e := range a.waiting {
		for _, chunk := range e.Made() {
			digests = append(digests, chunk.Digest)
		}
	}
	there, err := a.packs.Chunks(ctx, digests, a.leftOut)
	if err != nil {
		return fault.Of(err) // it is no fault of the manifest
	}
	for _, e := range a.waiting {
		made := e.Made()
		where := make([]fileset.Where, len(made))
		for i, chunk := range made {
			at, ok := there[chunk.Digest]
			switch {
			case !ok:
				a.lacking++
			case at.Length != chunk.Length:
				return fmt.Errorf("a chunk of %.100q has %d bytes, and not %d", e.Path, at.Length, chunk.Length)
			}
			if where[i] = at.Where; ok && !at.Here {
				a.foreign[at.Pack.Digest] = true
			}
		}
		if a.lacking > 0 {
			continue
		}
		if err := a.builder.Add(e, where); err != nil {
			return err
		}
		if len(e.Chunks) > 0 {
			a.joined = append(a.joined, fileset.Entry{Path: e.Path, Size: e.Size, Digest: e.Digest,
				Chunks: []fileset.Chunk{{Digest: assembly(e.Chunks)}}})
		}
	}
	a.waiting, a.chunks = a.waiting[:0], 0
	return nil
}

// gather puts chunks of packs that a version would hardly use into packs of their own, and lays it out anew. Else a
// pack would stay for the sake of a few bytes, long after all versions that used the rest of it are gone; and a
// version that changed a little many times would consist of very many. And of a pack of another package, a version
// must not bring along what it does not have: not everybody who reads the one may read the other.
func (a *assembling) gather(ctx context.Context, manifest ecosystem.SizedReaderAt) error {
	thin, chunks := a.builder.Thin(a.foreign)
	if len(thin) == 0 {
		return nil
	}
	w, err := newWriting(ctx, a.packs)
	if err != nil {
		return err
	}
	w.leftOut = thin
	if err := w.end(a.rewrite(ctx, w, chunks)); err != nil {
		return err
	}
	a.builder, a.joined, a.leftOut = fileset.NewBuilder(), nil, thin
	return a.read(ctx, manifest)
}

// rewrite reads chunks where they are, pack by pack, and writes them anew.
func (a *assembling) rewrite(ctx context.Context, w *writing, chunks []fileset.Piece) error {
	all := a.builder.Packs()
	var open ecosystem.SeekableFile
	at := -1
	defer func() {
		if open != nil {
			open.Close()
		}
	}()
	for _, p := range chunks {
		if int(p.Pack) != at {
			if open != nil {
				open.Close()
			}
			var err error
			if open, err = a.packs.OpenPack(ctx, all[p.Pack]); err != nil {
				return err
			}
			at = int(p.Pack)
		}
		content := make([]byte, p.Length)
		if _, err := open.ReadAt(content, p.Offset); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if err := w.chunk(fileset.Chunk{Digest: sha256.Sum256(content), Length: p.Length}, content); err != nil {
			return err
		}
	}
	return nil
}
