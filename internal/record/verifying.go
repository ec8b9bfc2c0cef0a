package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"crelvo/internal/core/catalog"
)

// Verification is a run that reads every stored byte.
type Verification struct {
	ID       int64      `db:"id"`
	By       string     `db:"by_name"`
	BegunAt  time.Time  `db:"begun_at"`
	EndedAt  *time.Time `db:"ended_at"`
	Repair   bool       `db:"repair"`
	Cursor   []byte     `db:"cursor"` // up to which digest
	Files    int64      `db:"files"`
	Bytes    int64      `db:"bytes"`
	AllFiles int64      `db:"all_files"` // that there were when it began
	AllBytes int64      `db:"all_bytes"`
	Damaged  int64      `db:"damaged"`
	Mended   int64      `db:"mended"`
	Unknown  int64      `db:"unknown"` // files in stores that no record knows of
	Said     string     `db:"said"`    // why it does not go on
}

const verificationColumns = `id, by_name, begun_at, ended_at, repair, cursor, files, bytes, all_files, all_bytes, damaged,
	mended, unknown, said`

// Verifications lists the last runs, the last one first.
func (db *DB) Verifications(ctx context.Context, limit int) (all []Verification, err error) {
	err = db.SelectContext(ctx, &all, `select `+verificationColumns+` from verification order by id desc limit $1`, limit)
	return all, err
}

// BeginVerification begins a run; done is false if one is under way.
func (tx *Tx) BeginVerification(ctx context.Context, by string, at time.Time, repair bool) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, `insert into verification (by_name, begun_at, repair, all_files, all_bytes)
		select $1, $2, $3, count(*), coalesce(sum(b.size), 0) from (
			select sha256 from stored_file union all select sha256 from stored_copy) p join stored_file b using (sha256)
		on conflict ((true)) where ended_at is null do nothing`, by, at, repair))
}

// TakeVerification gives the run under way, to whoever says so within the time; ErrNotFound
// if there is none, or another node works on it.
func (db *DB) TakeVerification(ctx context.Context, now, until time.Time) (v Verification, err error) {
	err = db.GetContext(ctx, &v, `update verification set working_until = $2 where ended_at is null and working_until < $1
		returning `+verificationColumns, now, until)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

// NoteVerification writes how far a run is, which is its worker's until a moment.
func (tx *Tx) NoteVerification(ctx context.Context, v Verification, until time.Time) error {
	_, err := tx.ExecContext(ctx, `update verification set cursor = $2, files = $3, bytes = $4, damaged = $5, mended = $6,
		unknown = $7, said = $8, ended_at = $9, working_until = $10 where id = $1`, v.ID, v.Cursor, v.Files, v.Bytes,
		v.Damaged, v.Mended, v.Unknown, v.Said, v.EndedAt, until)
	return err
}

// StoredIn is a stored file in one of the stores that have it.
type StoredIn struct {
	SHA256  []byte `db:"sha256"`
	Size    int64  `db:"size"`
	StoreID int16  `db:"store_id"`
}

// StoredAfter lists stored files by their digests, in all stores that have them.
func (db *DB) StoredAfter(ctx context.Context, after []byte, limit int) (all []StoredIn, err error) {
	err = db.SelectContext(ctx, &all, `with next as (
			select sha256, size, store_id from stored_file where sha256 > $1 order by sha256 limit $2
		) select sha256, size, store_id from next
		union all select n.sha256, n.size, c.store_id from next n join stored_copy c using (sha256)
		order by sha256, store_id`, after, limit)
	return all, err
}

// UnknownIn tells which of some digests no record says to be in a store.
func (db *DB) UnknownIn(ctx context.Context, sums [][]byte, id int16) (unknown [][]byte, err error) {
	err = db.SelectContext(ctx, &unknown, `select s from unnest($1::bytea[]) s
		where not exists (select from stored_file b where b.sha256 = s and b.store_id = $2)
			and not exists (select from stored_copy c where c.sha256 = s and c.store_id = $2)`, sums, id)
	return unknown, err
}

// Damage is stored bytes that are not what they should be.
type Damage struct {
	SHA256   []byte      `db:"sha256"`
	Size     int64       `db:"size"`
	Store    string      `db:"store"`
	What     string      `db:"what"`
	FoundAt  time.Time   `db:"found_at"`
	MendedAt *time.Time  `db:"mended_at"`
	How      string      `db:"how"`
	Names    []NamedFile `db:"-"`
}

// NamedFile is a version that bytes belong to.
type NamedFile struct {
	SHA256       []byte `db:"sha256"`
	RepositoryID int64  `db:"repository_id"`
	Repository   string `db:"repository"`
	Ecosystem    string `db:"ecosystem"`
	Namespace    string `db:"namespace"`
	Name         string `db:"name"`
	Version      string `db:"version"`
	Upload       string `db:"upload"`
	File         string `db:"file"`
	By           string `db:"published_by"`
	Build        string `db:"build"`
}

// Key names the package.
func (n NamedFile) Key() catalog.PackageKey {
	return catalog.PackageKey{RepositoryID: n.RepositoryID, Ecosystem: n.Ecosystem, Namespace: n.Namespace, Name: n.Name}
}

// NoteDamage puts damaged bytes on record; how says by what they were mended, "" that they
// were not.
func (db *DB) NoteDamage(ctx context.Context, s StoredIn, what string, at time.Time, how string) error {
	var mended *time.Time
	if how != "" {
		mended = &at
	}
	_, err := db.ExecContext(ctx, `insert into damage (sha256, store_id, what, found_at, mended_at, how)
			select sha256, $2, $3, $4, $5, $6 from stored_file where sha256 = $1
		on conflict (sha256, store_id) do update set what = excluded.what, found_at = excluded.found_at,
			mended_at = excluded.mended_at, how = excluded.how`, s.SHA256, s.StoreID, what, at, mended, how)
	return err
}

// NoteSound notes of bytes that were damaged that they are right again; was tells that they
// were.
func (db *DB) NoteSound(ctx context.Context, s StoredIn, at time.Time) (was bool, err error) {
	return changedOne(db.ExecContext(ctx, `update damage set mended_at = $3, how = 'stored again' where sha256 = $1
		and store_id = $2 and mended_at is null`, s.SHA256, s.StoreID, at))
}

// Damages lists damaged bytes with what they belong to, those that are not mended first.
func (db *DB) Damages(ctx context.Context, limit int) (all []Damage, err error) {
	if err := db.SelectContext(ctx, &all, `select d.sha256, b.size, s.name store, d.what, d.found_at, d.mended_at, d.how
		from damage d join stored_file b using (sha256) join store s on s.id = d.store_id
		order by d.mended_at is not null, d.found_at desc, d.sha256 limit $1`, limit); err != nil {
		return nil, err
	}
	sums := make([][]byte, len(all))
	for i, d := range all {
		sums[i] = d.SHA256
	}
	names, err := db.NamesOf(ctx, sums)
	for i := range all {
		for _, n := range names {
			if string(n.SHA256) == string(all[i].SHA256) {
				all[i].Names = append(all[i].Names, n)
			}
		}
	}
	return all, err
}

// NamesOf tells which versions stored files belong to.
func (db *DB) NamesOf(ctx context.Context, sums [][]byte) (all []NamedFile, err error) {
	const most = 2000
	err = db.SelectContext(ctx, &all, `select f.sha256, r.id repository_id, r.name repository, p.ecosystem, p.namespace,
			p.name, v.version, v.upload, f.name file, v.published_by,
			coalesce(b.name || ' #' || b.number, '') build
		from file f join version v on v.id = f.version_id join package p on p.id = v.package_id
			join repository r on r.id = p.repository_id left join build b on b.id = v.build_id
		where f.sha256 = any($1) order by f.sha256, r.name, p.ecosystem, p.namespace, p.name, v.id limit $2`, sums, most)
	return all, err
}
