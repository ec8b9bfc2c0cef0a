package record

import (
	"context"
	"encoding/json"
	"time"

	"crelvo/internal/core/catalog"
)

// Bundle is a bundle that was made here, or loaded.
type Bundle struct {
	ID       int64             `db:"id"`
	Loaded   bool              `db:"loaded"`
	Name     string            `db:"bundle"` // as it names itself
	Since    string            `db:"since"`  // the one that it goes on from; "": none
	MadeAt   time.Time         `db:"made_at"`
	MadeBy   string            `db:"made_by"`
	Origin   map[string]string `db:"-"` // the repositories that it was made from, and where each went to, if it was loaded
	Key      string            `db:"key"`
	Versions int               `db:"versions"`
	Came     int               `db:"came"` // of these, were not here before
	Bytes    int64             `db:"bytes"`
	At       time.Time         `db:"at"`
	ByName   string            `db:"by_name"`
	Raw      []byte            `db:"origin"`
}

// AddBundle puts one on record.
func (tx *Tx) AddBundle(ctx context.Context, b Bundle) error {
	origin, err := json.Marshal(b.Origin)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `insert into bundle (loaded, bundle, since, made_at, made_by, origin, key, versions, came,
		bytes, at, by_name) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`, b.Loaded, b.Name, b.Since, b.MadeAt,
		b.MadeBy, origin, b.Key, b.Versions, b.Came, b.Bytes, b.At, b.ByName)
	return err
}

// Bundles lists those that somebody, or "" for anybody, made or loaded last, the last one first.
func (db *DB) Bundles(ctx context.Context, by string, limit int) (all []Bundle, err error) {
	err = db.SelectContext(ctx, &all, `select id, loaded, bundle, since, made_at, made_by, origin, key, versions, came, bytes,
		at, by_name from bundle where $1 in ('', by_name) order by id desc limit $2`, by, limit)
	for i := range all {
		if err == nil {
			err = json.Unmarshal(all[i].Raw, &all[i].Origin)
		}
	}
	return all, err
}

// WasLoaded tells whether a bundle was loaded.
func (db *DB) WasLoaded(ctx context.Context, name string) (loaded bool, err error) {
	err = db.GetContext(ctx, &loaded, `select exists (select from bundle where loaded and bundle = $1)`, name)
	return loaded, err
}

// Land puts bytes on record that came for a repository, before what they belong to is visible.
func (tx *Tx) Land(ctx context.Context, repositoryID int64, all []catalog.Digests, by string, at time.Time) error {
	n := len(all)
	sizes, sha256s, sha512s, sha1s, md5s := make([]int64, n), make([][]byte, n), make([][]byte, n), make([][]byte, n),
		make([][]byte, n)
	for i, d := range all {
		sizes[i], sha256s[i], sha512s[i], sha1s[i], md5s[i] = d.Size, d.SHA256[:], d.SHA512[:], d.SHA1[:], d.MD5[:]
	}
	return tx.do(ctx, step{`insert into stored_file (sha256, sha512, sha1, md5, size, created_at)
		select distinct on (n.sha256) n.sha256, n.sha512, n.sha1, n.md5, n.size, $6::timestamptz
		from unnest($1::bytea[], $2::bytea[], $3::bytea[], $4::bytea[], $5::bigint[]) n(sha256, sha512, sha1, md5, size)
		order by n.sha256 on conflict (sha256) do nothing`, []any{sha256s, sha512s, sha1s, md5s, sizes, at}},
		step{`insert into landed (repository_id, sha256, at, by_name) select $1, n, $3, $4 from unnest($2::bytea[]) n
		order by n on conflict (repository_id, sha256) do update set at = excluded.at`,
			[]any{repositoryID, sha256s, at, by}})
}

// LandKnown is Land for bytes that are on record already.
func (tx *Tx) LandKnown(ctx context.Context, repositoryID int64, sha256s [][]byte, by string, at time.Time) error {
	return tx.do(ctx, step{`insert into landed (repository_id, sha256, at, by_name) select $1, b.sha256, $3, $4
		from stored_file b where b.sha256 = any($2) order by b.sha256
		on conflict (repository_id, sha256) do update set at = excluded.at`, []any{repositoryID, sha256s, at, by}})
}

// Landed gives all digests of those of some bytes that came for a repository.
func (db *DB) Landed(ctx context.Context, repositoryID int64, sha256s [][]byte) (map[[32]byte]catalog.Digests, error) {
	var rows []fileRow
	err := db.SelectContext(ctx, &rows, `select b.size, b.sha256, b.sha512, b.sha1, b.md5 from landed l
		join stored_file b using (sha256) where l.repository_id = $1 and l.sha256 = any($2)`, repositoryID, sha256s)
	return digestsOf(rows), err
}

// DigestsOf gives all digests of those of some bytes that are here.
func (db *DB) DigestsOf(ctx context.Context, sha256s [][]byte) (map[[32]byte]catalog.Digests, error) {
	var rows []fileRow
	err := db.SelectContext(ctx, &rows, `select size, sha256, sha512, sha1, md5 from stored_file where sha256 = any($1)`,
		sha256s)
	return digestsOf(rows), err
}

func digestsOf(rows []fileRow) map[[32]byte]catalog.Digests {
	all := make(map[[32]byte]catalog.Digests, len(rows))
	for _, row := range rows {
		d := row.value().Digests
		all[d.SHA256] = d
	}
	return all
}

// TakeLanded ends that bytes wait for what they belong to.
func (tx *Tx) TakeLanded(ctx context.Context, repositoryID int64, sha256s [][]byte) error {
	return tx.do(ctx, step{`delete from landed where repository_id = $1 and sha256 = any($2)`,
		[]any{repositoryID, sha256s}})
}

// DropLanded drops what came for a repository before a moment, and that nothing came of.
func (db *DB) DropLanded(ctx context.Context, before time.Time) error {
	_, err := db.ExecContext(ctx, `delete from landed where at < $1`, before)
	return err
}
