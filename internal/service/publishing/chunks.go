package publishing

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	bytestore "crelvo/internal/store"
)

// maxPack is how many bytes a pack may have.
const maxPack = 512 << 20

// Packs implements ecosystem.ChunkTaker.
func (s *Publishing) Packs(caller access.Caller, key catalog.PackageKey) ecosystem.Packs {
	return packs{s, caller, key}
}

// packs are those that a caller may use for a package.
type packs struct {
	s      *Publishing
	caller access.Caller
	key    catalog.PackageKey
}

// Chunks implements ecosystem.Packs.
func (p packs) Chunks(
	ctx context.Context, digests []fileset.Digest, leftOut map[fileset.Digest]bool,
) (map[fileset.Digest]ecosystem.ChunkAt, error) {
	if _, err := p.s.partHouse(p.caller, p.key); err != nil {
		return nil, err
	}
	return p.s.chunksOf(ctx, p.key, digests, leftOut, func(elsewhere [][]byte) (map[fileset.Digest]bool, error) {
		of := p.s.directory.ScopeOf(p.s.directory.Readable(p.caller)...)
		readable, err := p.s.DB.BytesIn(ctx, elsewhere, of)
		may := make(map[fileset.Digest]bool, len(readable))
		for pack := range readable {
			may[pack] = true
		}
		return may, err
	})
}

// ChunksAcross tells where chunks are of a version that goes from one package into another: in packs of the latter, or
// in its own.
func (s *Publishing) ChunksAcross(
	ctx context.Context, from, into catalog.PackageKey, own map[fileset.Digest]bool, digests []fileset.Digest,
	leftOut map[fileset.Digest]bool,
) (map[fileset.Digest]ecosystem.ChunkAt, error) {
	if err := s.readPacks(ctx, from); err != nil {
		return nil, err
	}
	return s.chunksOf(ctx, into, digests, leftOut, func([][]byte) (map[fileset.Digest]bool, error) { return own, nil })
}

// chunksOf tells where chunks are in packs of a package, or in those of others which may be used.
func (s *Publishing) chunksOf(
	ctx context.Context, key catalog.PackageKey, digests []fileset.Digest, leftOut map[fileset.Digest]bool,
	usable func(elsewhere [][]byte) (map[fileset.Digest]bool, error),
) (map[fileset.Digest]ecosystem.ChunkAt, error) {
	if err := s.readPacks(ctx, key); err != nil {
		return nil, err
	}
	found, err := s.DB.ChunksAt(ctx, bytesOf(digests))
	if err != nil || len(found) == 0 {
		return nil, err
	}
	var packs [][]byte
	seen := map[fileset.Digest]bool{}
	for _, c := range found {
		if !seen[c.Pack] {
			seen[c.Pack] = true
			packs = append(packs, c.Pack[:])
		}
	}
	here, err := s.DB.PartsAmong(ctx, key, packs)
	if err != nil {
		return nil, err
	}
	var may map[fileset.Digest]bool
	if len(here) < len(packs) {
		if may, err = usable(packs); err != nil {
			return nil, err
		}
	}
	all := make(map[fileset.Digest]ecosystem.ChunkAt, len(digests))
	for _, c := range found {
		known, there := all[c.Digest]
		if leftOut[c.Pack] || !here[c.Pack] && !may[c.Pack] || there && (known.Here || !here[c.Pack]) {
			continue
		}
		all[c.Digest] = ecosystem.ChunkAt{Length: uint32(c.Length), Here: here[c.Pack],
			Where: fileset.Where{Pack: fileset.Pack{Digest: c.Pack, Size: c.PackSize}, Offset: c.At}}
	}
	return all, nil
}

func bytesOf(digests []fileset.Digest) [][]byte {
	all := make([][]byte, len(digests))
	for i := range digests {
		all[i] = digests[i][:]
	}
	return all
}

// readPacks puts on record which chunks the packs of a package have that came with versions from elsewhere. What a
// pack says of itself is looked at, since others will rely on it.
func (s *Publishing) readPacks(ctx context.Context, key catalog.PackageKey) error {
	age := s.Age(key)
	if known, ok := s.packsRead.Get(key); ok && known == age {
		return nil
	}
	const atOnce = 1000
	unknown, err := s.DB.UnknownPacks(ctx, key, fileset.PackExtension, atOnce)
	for _, pack := range unknown {
		if err == nil {
			err = s.readPack(ctx, pack)
		}
	}
	if err == nil && len(unknown) < atOnce {
		s.packsRead.Add(key, age)
	}
	return err
}

func (s *Publishing) readPack(ctx context.Context, pack catalog.Digests) error {
	content, err := s.store.Open(ctx, catalog.File{Digests: pack, Name: "a pack"})
	if err != nil {
		return err
	}
	defer content.Close()
	chunks, err := fileset.CheckPack(content, pack.Size)
	if err != nil {
		// It stays what it is; its chunks are not to be had for others.
		s.Log.Warn("a pack that came from elsewhere cannot be used for other versions", "sha256", pack.Hex("sha256"),
			"error", err)
		chunks = nil
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error { return tx.AddPack(ctx, pack.SHA256, chunks) })
}

// TakePack implements ecosystem.Packs.
func (p packs) TakePack(ctx context.Context, body io.Reader, length int64) (pack fileset.Pack, err error) {
	s := p.s
	r, err := s.partHouse(p.caller, p.key)
	if err == nil {
		err = s.fits(r, "the pack", length)
	}
	if err != nil {
		return pack, err
	}
	st, err := s.store.Staging(ctx, r, &atMost{from: body, left: min(s.largest(r), maxPack)}, length, "a pack")
	if err != nil {
		return pack, err
	}
	defer st.Discard()
	if err := s.fits(r, "the pack", st.Size()); err != nil {
		return pack, err
	}
	chunks, err := fileset.CheckPack(st, st.Size())
	other := (*fileset.OtherChunk)(nil)
	switch {
	case errors.As(err, &other):
		return pack, fault.New(fault.Invalid, "other-chunk", "the chunk %x of the pack is not what it was said to be",
			other.Named).WithHint("The file that it is of has changed meanwhile; publish again.").WithCause(err)
	case err != nil:
		return pack, fault.New(fault.Invalid, "bad-pack", "what was sent is no pack: %v", err)
	}
	is := st.Digests()
	sum := catalog.Sum{Algorithm: "sha256", Hex: is.Hex("sha256")}
	err = s.keepPartWith(ctx, p.caller, p.key, sum, st.File, func(tx *record.Tx) error {
		return tx.AddPack(ctx, is.SHA256, chunks)
	})
	return fileset.Pack{Digest: is.SHA256, Size: is.Size}, err
}

// OpenPack implements ecosystem.Packs.
func (p packs) OpenPack(ctx context.Context, pack fileset.Pack) (ecosystem.SeekableFile, error) {
	s := p.s
	if _, err := s.partHouse(p.caller, p.key); err != nil {
		return nil, err
	}
	of := [][]byte{pack.Digest[:]}
	here, err := s.DB.PartsAmong(ctx, p.key, of)
	if err == nil && !here[pack.Digest] {
		var readable map[[32]byte]int64
		readable, err = s.DB.BytesIn(ctx, of, s.directory.ScopeOf(s.directory.Readable(p.caller)...))
		if _, may := readable[pack.Digest]; err == nil && !may {
			err = ecosystem.ErrNoFile
		}
	}
	if err != nil {
		return nil, err
	}
	return s.store.Open(ctx, catalog.File{Digests: catalog.Digests{SHA256: pack.Digest, Size: pack.Size}, Name: "a pack"})
}

// Assembled implements ecosystem.ChunkTaker.
func (s *Publishing) Assembled(
	ctx context.Context, asked []fileset.Assembly,
) (map[fileset.Assembly]bool, error) {
	return s.DB.Assembled(ctx, asked)
}

// KnowAssembled implements ecosystem.ChunkTaker.
func (s *Publishing) KnowAssembled(ctx context.Context, a fileset.Assembly) error {
	return s.DB.KnowAssembled(ctx, a)
}

// gatheredName names what a caller gathers of a version.
func gatheredName(caller access.Caller, key catalog.PackageKey, version string) string {
	of := sha256.Sum256(fmt.Append(nil, key.RepositoryID, "/", key.Ecosystem, "/", key.Namespace, "/", key.Name, "@",
		version))
	return begunName(caller, "set-"+hex.EncodeToString(of[:16]))
}

// Gather implements ecosystem.ChunkTaker.
func (s *Publishing) Gather(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, version string, line []byte,
) error {
	r, err := s.partHouse(caller, key)
	if err != nil {
		return err
	}
	if caller.Anonymous() {
		return fault.New(fault.Denied, "sign-in-needed", "only somebody who is signed in can send a set file by file")
	}
	there, err := s.arrived(ctx, caller)
	if err != nil {
		return err
	}
	name := gatheredName(caller, key, version)
	if _, known := there[name]; !known && len(there) >= maxBegun {
		return tooManyBegun(caller, len(there))
	}
	s.gathering.Lock()
	defer s.gathering.Unlock()
	for {
		size, err := s.continued(ctx, caller, r, name, there[name], bytes.NewReader(line))
		if fault.Of(err).Code != "other-offset" {
			return err
		}
		there[name] = size // another request added to it meanwhile
	}
}

// Gathered implements ecosystem.ChunkTaker.
func (s *Publishing) Gathered(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, version string, read func(io.Reader) error,
) error {
	r, err := s.partHouse(caller, key)
	if err != nil {
		return err
	}
	st, err := s.store.StagingBegun(ctx, r, gatheredName(caller, key, version))
	switch {
	case errors.Is(err, bytestore.ErrMissing):
		return fault.New(fault.NotFound, "nothing-gathered", "no file of %s was sent by %s in the last day",
			act.PURLOf(key, version), caller.Name).WithHint("Send its files first: PUT each to its address.")
	case errors.Is(err, bytestore.ErrBusy):
		return fault.New(fault.Conflict, "being-sent", "files of %s are being sent", act.PURLOf(key, version)).
			WithHint("Wait until that has ended.")
	case err != nil:
		return s.store.Fault(err)
	}
	defer st.Discard() // it is begun again by that
	return read(io.NewSectionReader(st, 0, st.Size()))
}

// DropGathered implements ecosystem.ChunkTaker.
func (s *Publishing) DropGathered(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, version string,
) error {
	return s.store.DropBegun(ctx, gatheredName(caller, key, version))
}

var _ ecosystem.ChunkTaker = (*Publishing)(nil)

// Purge implements act.Purger.
func (s *Publishing) Purge() { s.packsRead.Purge() }
