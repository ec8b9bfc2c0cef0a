package record

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fileset"
)

// AddPack puts on record which chunks stored bytes have, one after the other from the first byte on.
func (tx *Tx) AddPack(ctx context.Context, pack [32]byte, chunks []fileset.Chunk) error {
	var id int64
	err := tx.GetContext(ctx, &id, `insert into pack (sha256) values ($1) on conflict (sha256) do nothing returning id`,
		pack[:])
	if errors.Is(err, sql.ErrNoRows) {
		return nil // it is known
	}
	if err != nil {
		return err
	}
	digests, places, lengths := make([][]byte, 0, len(chunks)), make([]int64, 0, len(chunks)), make([]int32, 0,
		len(chunks))
	var at int64
	for _, c := range chunks {
		digests, places, lengths = append(digests, c.Digest[:]), append(places, at), append(lengths, int32(c.Length))
		at += int64(c.Length)
	}
	// One that a pack has twice is known where it is first.
	_, err = tx.ExecContext(ctx, `insert into chunk (sha256, pack_id, at, length)
		select distinct on (c.sha256) c.sha256, $1::bigint, c.at, c.length
		from unnest($2::bytea[], $3::bigint[], $4::integer[]) c (sha256, at, length) order by c.sha256, c.at`,
		id, digests, places, lengths)
	return err
}

// ChunkAt is where a chunk is.
type ChunkAt struct {
	Digest, Pack [sha256.Size]byte
	PackSize, At int64 // bytes
	Length       int32
}

// ChunksAt tells where chunks are, in all packs that have them; the pack that came last comes first:
// chunks that were gathered from others are to be used there.
func (db *DB) ChunksAt(ctx context.Context, digests [][]byte) ([]ChunkAt, error) {
	var rows []struct {
		Digest, Pack []byte
		Size, At     int64
		Length       int32
	}
	err := db.SelectContext(ctx, &rows, `select c.sha256 digest, p.sha256 pack, b.size, c.at, c.length
		from unnest($1::bytea[]) wanted (sha256)
		cross join lateral (select * from chunk where chunk.sha256 = wanted.sha256 offset 0) c
		cross join lateral (select * from pack where pack.id = c.pack_id offset 0) p
		cross join lateral (select size from stored_file where stored_file.sha256 = p.sha256 offset 0) b
		order by p.id desc`, digests)
	all := make([]ChunkAt, len(rows))
	for i, r := range rows {
		all[i] = ChunkAt{Digest: [32]byte(r.Digest), Pack: [32]byte(r.Pack), PackSize: r.Size, At: r.At, Length: r.Length}
	}
	return all, err
}

// PartsAmong tells which bytes are parts of a package.
func (db *DB) PartsAmong(ctx context.Context, key catalog.PackageKey, sha256s [][]byte) (map[[32]byte]bool, error) {
	return db.setOf(ctx, `select sha256 from package_part where package_id = `+packageOf+` and sha256 = any($5)`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, sha256s)
}

// UnknownPacks are the packs of a package, by the extension of their files, whose chunks are not on record: they came
// from another Crelvo.
func (db *DB) UnknownPacks(
	ctx context.Context, key catalog.PackageKey, extension string, limit int,
) (all []catalog.Digests, err error) {
	var rows []fileRow
	err = db.SelectContext(ctx, &rows, `select distinct b.size, b.sha256, b.sha512, b.sha1, b.md5 from version v
		join file f on f.version_id = v.id and f.extension = $5 join stored_file b using (sha256)
		where v.package_id = `+packageOf+` and v.visible_from is not null and v.visible_until is null
			and not exists (select from pack where pack.sha256 = f.sha256) limit $6`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, extension, limit)
	for _, r := range rows {
		all = append(all, r.value().Digests)
	}
	return all, err
}

func (r reads) setOf(ctx context.Context, query string, arguments ...any) (map[[32]byte]bool, error) {
	var rows [][]byte
	err := sqlx.SelectContext(ctx, r.q, &rows, query, arguments...)
	set := map[[32]byte]bool{}
	for _, r := range rows {
		set[[32]byte(r)] = true
	}
	return set, err
}

// Assembled tells which files are known to consist of which chunks.
func (db *DB) Assembled(ctx context.Context, asked []fileset.Assembly) (map[fileset.Assembly]bool, error) {
	var rows []struct{ SHA256, Chunks []byte }
	files, chunks := make([][]byte, len(asked)), make([][]byte, len(asked))
	for i := range asked {
		files[i], chunks[i] = asked[i].Digest[:], asked[i].Chunks[:]
	}
	err := db.SelectContext(ctx, &rows, `select a.sha256, a.chunks from unnest($1::bytea[], $2::bytea[]) w (sha256, chunks)
		cross join lateral (select * from assembled where assembled.sha256 = w.sha256 and assembled.chunks = w.chunks
			offset 0) a`, files, chunks)
	known := map[fileset.Assembly]bool{}
	for _, r := range rows {
		known[fileset.Assembly{Digest: [32]byte(r.SHA256), Chunks: [32]byte(r.Chunks)}] = true
	}
	return known, err
}

// KnowAssembled notes that a file consists of certain chunks.
func (db *DB) KnowAssembled(ctx context.Context, a fileset.Assembly) error {
	_, err := db.ExecContext(ctx, `insert into assembled (sha256, chunks) values ($1, $2) on conflict do nothing`,
		a.Digest[:], a.Chunks[:])
	return err
}

// HoldParts holds those of some bytes that are parts of a package, which cannot be taken away then before the
// transaction ends, and tells which these are.
func (tx *Tx) HoldParts(ctx context.Context, key catalog.PackageKey, sha256s [][]byte) (map[[32]byte]bool, error) {
	return tx.setOf(ctx, `select sha256 from package_part where package_id = `+packageOf+` and sha256 = any($5)
		order by id for update`, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, sha256s)
}
