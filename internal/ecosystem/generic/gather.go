package generic

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"slices"

	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// gather puts chunks of packs that a version would hardly use into packs of their own, and lays it out anew. Else a
// pack would stay for the sake of a few bytes, long after all versions that used the rest of it are gone; and a
// version that changed a little many times would consist of very many. And of a pack of another package, a version
// must not bring along what it does not have: not everybody who reads the one may read the other.
func (a *assembling) gather(ctx context.Context, manifest ecosystem.SizedReaderAt) error {
	thin, chunks := a.builder.Thin(a.foreign)
	if len(thin) == 0 {
		return nil
	}
	w, err := newWriting(ctx, taker(a.c), a.c.Caller, a.key)
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
	slices.SortFunc(chunks, func(x, y fileset.Piece) int {
		return cmp.Or(cmp.Compare(x.Pack, y.Pack), cmp.Compare(x.Offset, y.Offset))
	})
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
			if open, err = taker(a.c).OpenPack(ctx, a.c.Caller, a.key, all[p.Pack]); err != nil {
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
