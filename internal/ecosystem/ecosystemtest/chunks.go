package ecosystemtest

import (
	"bytes"
	"context"
	"io"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// Packs implements ecosystem.ChunkTaker: what any pack has may be used, and is lent where it is of another package.
func (d *Desk) Packs(caller access.Caller, key catalog.PackageKey) ecosystem.Packs {
	return packs{d, caller, key}
}

type packs struct {
	*Desk
	caller access.Caller
	key    catalog.PackageKey
}

// Chunks implements ecosystem.Packs.
func (d packs) Chunks(
	_ context.Context, digests []fileset.Digest, leftOut map[fileset.Digest]bool,
) (map[fileset.Digest]ecosystem.ChunkAt, error) {
	wanted, all := map[fileset.Digest]bool{}, map[fileset.Digest]ecosystem.ChunkAt{}
	last := map[fileset.Digest]int64{} // which part came last
	for _, d := range digests {
		wanted[d] = true
	}
	for of, parts := range d.parts {
		for _, f := range parts {
			if leftOut[f.Digests.SHA256] {
				continue
			}
			content := d.contents[f.Digests.SHA256]
			chunks, err := fileset.ReadPack(bytes.NewReader(content), f.Digests.Size)
			if err != nil {
				return nil, err
			}
			var at int64
			for _, c := range chunks {
				if known := all[c.Digest]; wanted[c.Digest] && (of == d.key || !known.Here) && f.ID > last[c.Digest] {
					last[c.Digest] = f.ID
					all[c.Digest] = ecosystem.ChunkAt{Length: c.Length, Here: of == d.key, Where: fileset.Where{Offset: at,
						Pack: fileset.Pack{Digest: f.Digests.SHA256, Size: f.Digests.Size}}}
				}
				at += int64(c.Length)
			}
		}
	}
	return all, nil
}

// TakePack implements ecosystem.Packs.
func (d packs) TakePack(ctx context.Context, body io.Reader, _ int64) (fileset.Pack, error) {
	raw, err := io.ReadAll(body)
	if err != nil {
		return fileset.Pack{}, err
	}
	if _, err := fileset.CheckPack(bytes.NewReader(raw), int64(len(raw))); err != nil {
		return fileset.Pack{}, fault.New(fault.Invalid, "bad-pack", "%v", err)
	}
	is := digestsOf(raw)
	return fileset.Pack{Digest: is.SHA256, Size: is.Size}, d.TakePart(ctx, d.caller, d.key, bytes.NewReader(raw), is.Size,
		catalog.Sum{Algorithm: "sha256", Hex: is.Hex("sha256")})
}

// OpenPack implements ecosystem.Packs.
func (d packs) OpenPack(_ context.Context, pack fileset.Pack) (ecosystem.SeekableFile, error) {
	return opened{bytes.NewReader(d.contents[pack.Digest])}, nil
}

// Assembled implements ecosystem.ChunkTaker: nothing is known.
func (*Desk) Assembled(context.Context, []fileset.Assembly) (map[fileset.Assembly]bool, error) {
	return map[fileset.Assembly]bool{}, nil
}

// KnowAssembled implements ecosystem.ChunkTaker.
func (*Desk) KnowAssembled(context.Context, fileset.Assembly) error { return nil }

// Gather implements ecosystem.ChunkTaker.
func (d *Desk) Gather(
	_ context.Context, _ access.Caller, key catalog.PackageKey, version string, line []byte,
) error {
	at := key.Name + "@" + version
	d.begun[at] = append(d.begun[at], line...)
	return nil
}

// Gathered implements ecosystem.ChunkTaker.
func (d *Desk) Gathered(
	_ context.Context, _ access.Caller, key catalog.PackageKey, version string, read func(io.Reader) error,
) error {
	lines, ok := d.begun[key.Name+"@"+version]
	if !ok {
		return fault.New(fault.NotFound, "nothing-gathered", "no file of %s %s was sent", key.Name, version)
	}
	return read(bytes.NewReader(lines))
}

// DropGathered implements ecosystem.ChunkTaker.
func (d *Desk) DropGathered(_ context.Context, _ access.Caller, key catalog.PackageKey, version string) error {
	delete(d.begun, key.Name+"@"+version)
	return nil
}

var _ ecosystem.ChunkTaker = (*Desk)(nil)
