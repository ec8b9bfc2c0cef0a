package record

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// MoveState says how far a move of a repository's bytes is.
type MoveState string

// The states of moves.
const (
	MoveLooking  MoveState = "looking"  // for what is to be copied
	MoveCopying  MoveState = "copying"  //
	MoveDropping MoveState = "dropping" // what is needed in the other store no more
	MoveDone     MoveState = "done"
)

// StoreMove takes what a repository holds to another store.
type StoreMove struct {
	ID           int64      `db:"id"`
	RepositoryID int64      `db:"repository_id"`
	Repository   string     `db:"repository"`
	StoreID      int16      `db:"store_id"`
	Store        string     `db:"store"`
	By           string     `db:"by_name"`
	BegunAt      time.Time  `db:"begun_at"`
	EndedAt      *time.Time `db:"ended_at"`
	State        MoveState  `db:"state"`
	Files        int64      `db:"files"` // to be copied when it began
	Bytes        int64      `db:"bytes"`
	Freed        int64      `db:"freed"`  // bytes, in stores that it is not in any more
	Cursor       []byte     `db:"cursor"` // up to where it was looked through
	LeftFiles    int64      `db:"left_files"`
	LeftBytes    int64      `db:"left_bytes"`
	Trouble      string     `db:"trouble"` // the last, of what could not be copied yet
}

const moveColumns = `m.id, m.repository_id, r.name repository, m.store_id, s.name store, m.by_name, m.begun_at, m.ended_at,
	m.state, m.files, m.bytes, m.freed, m.cursor, coalesce(l.files, 0) left_files, coalesce(l.bytes, 0) left_bytes,
	coalesce(l.said, '') trouble
	from store_move m join repository r on r.id = m.repository_id join store s on s.id = m.store_id
	left join lateral (select count(*) files, sum(b.size)::bigint bytes, max(p.said) said
		from to_place p join stored_file b using (sha256) where p.store_id = m.store_id and m.ended_at is null) l on true`

// StoreMoves lists moves, the last first; those under way alone, or a number of all.
func (db *DB) StoreMoves(ctx context.Context, underWay bool, limit int) (all []StoreMove, err error) {
	err = db.SelectContext(ctx, &all, `select `+moveColumns+` where m.ended_at is null or not $1
		order by m.id desc limit $2`, underWay, limit)
	return all, err
}

// Unplaced tells how many files are still to be copied to a store.
func (db *DB) Unplaced(ctx context.Context, storeID int16) (n int64, err error) {
	err = db.GetContext(ctx, &n, `select count(*) from to_place where store_id = $1`, storeID)
	return n, err
}

// SetStoreOf says where what is new in a repository goes.
func (tx *Tx) SetStoreOf(ctx context.Context, repositoryID int64, storeID int16, at time.Time) error {
	_, err := tx.ExecContext(ctx, `update repository set store_id = $2, changed_at = $3 where id = $1`, repositoryID,
		storeID, at)
	return err
}

// BeginMove begins one, in place of one of the same repository that is under way.
func (tx *Tx) BeginMove(ctx context.Context, repositoryID int64, storeID int16, by string, at time.Time) error {
	_, err := tx.ExecContext(ctx, `update store_move set ended_at = $2, state = 'given up' where repository_id = $1
		and ended_at is null`, repositoryID, at)
	if err == nil {
		_, err = tx.ExecContext(ctx, `insert into store_move (repository_id, store_id, by_name, begun_at, state)
			values ($1, $2, $3, $4, 'looking')`, repositoryID, storeID, by, at)
	}
	return err
}

// TakeMove gives a move that nobody works on, to whoever says so within the time; ErrNotFound
// if there is none.
func (db *DB) TakeMove(ctx context.Context, now, until time.Time) (m StoreMove, err error) {
	err = db.GetContext(ctx, &m, `with taken as (
			update store_move set working_until = $2 where id = (select id from store_move where ended_at is null
				and working_until < $1 order by working_until, id limit 1 for update skip locked) returning *)
		select m.id, m.repository_id, r.name repository, m.store_id, s.name store, m.by_name, m.begun_at, m.state, m.files,
			m.bytes, m.freed, m.cursor from taken m join repository r on r.id = m.repository_id
			join store s on s.id = m.store_id`, now, until)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return m, err
}

// NoteMove writes how far a move is, which is nobody's after a moment.
func (tx *Tx) NoteMove(ctx context.Context, m StoreMove, until time.Time) error {
	_, err := tx.ExecContext(ctx, `update store_move set state = $2, files = $3, bytes = $4, freed = $5, cursor = $6,
		ended_at = $7, working_until = $8 where id = $1 and ended_at is null`,
		m.ID, m.State, m.Files, m.Bytes, m.Freed, m.Cursor, m.EndedAt, until)
	return err
}

// WantMoved notes the stored files that a repository holds, and that are not in a store, to
// be copied there. What is there already is looked for there first from then on.
func (tx *Tx) WantMoved(ctx context.Context, repositoryID int64, storeID int16) (files, bytes int64, err error) {
	const held = `with held as (
			select f.sha256 from package p join version v on v.package_id = p.id join file f on f.version_id = v.id
				where p.repository_id = $1
			union
			select t.sha256 from package p join package_part t on t.package_id = p.id where p.repository_id = $1
		), `
	if _, err := tx.ExecContext(ctx, held+`there as (
			select c.sha256 from stored_copy c join held using (sha256) where c.store_id = $2
		), was as (
			insert into stored_copy (sha256, store_id) select b.sha256, b.store_id from stored_file b join there using (sha256)
			on conflict do nothing
		), gone as (
			delete from stored_copy c using there t where c.sha256 = t.sha256 and c.store_id = $2
		)
		update stored_file b set store_id = $2 from there t where b.sha256 = t.sha256`, repositoryID, storeID); err != nil {
		return 0, 0, err
	}
	var wanted struct {
		Files int64 `db:"files"`
		Bytes int64 `db:"bytes"`
	}
	err = tx.GetContext(ctx, &wanted, held+`wanted as (
			select b.sha256, b.size from held join stored_file b using (sha256) where b.store_id <> $2
		), noted as (
			insert into to_place (store_id, sha256) select $2, sha256 from wanted on conflict do nothing
		)
		select count(*) files, coalesce(sum(size), 0)::bigint bytes from wanted`, repositoryID, storeID)
	return wanted.Files, wanted.Bytes, err
}

// WantIn notes that files of versions, or bytes, are to be in a store, where they are not.
func (tx *Tx) WantIn(ctx context.Context, versionIDs []int64, sha256 [][]byte, storeID int16) error {
	_, err := tx.ExecContext(ctx, `insert into to_place (store_id, sha256)
		select distinct $3::smallint, b.sha256 from stored_file b
		where (b.sha256 = any($2) or b.sha256 in (select sha256 from file where version_id = any($1))) and b.store_id <> $3
			and not exists (select from stored_copy c where c.sha256 = b.sha256 and c.store_id = $3)
		on conflict do nothing`, versionIDs, sha256, storeID)
	return err
}

// Placing is a stored file that is to be copied to a store.
type Placing struct {
	StoreID int16  `db:"store_id"`
	SHA256  []byte `db:"sha256"`
	Size    int64  `db:"size"`
	Tries   int    `db:"tries"`
}

// TakePlacings gives some of them, to whoever says so within the time.
func (db *DB) TakePlacings(ctx context.Context, now, until time.Time, limit int) (all []Placing, err error) {
	err = db.SelectContext(ctx, &all, `with next as (
			select store_id, sha256 from to_place where not_before < $1 order by not_before, sha256 limit $3
			for update skip locked
		), taken as (
			update to_place p set not_before = $2, tries = p.tries + 1 from next n
			where p.store_id = n.store_id and p.sha256 = n.sha256 returning p.store_id, p.sha256, p.tries
		) select t.store_id, t.sha256, t.tries, b.size from taken t join stored_file b using (sha256) order by sha256`,
		now, until, limit)
	return all, err
}

// KeepPlacing goes on working on it, or puts it off and says why.
func (db *DB) KeepPlacing(ctx context.Context, p Placing, until time.Time, said string) error {
	_, err := db.ExecContext(ctx, `update to_place set not_before = $3, said = $4 where store_id = $1 and sha256 = $2`,
		p.StoreID, p.SHA256, until, said)
	return err
}

// Placed notes that bytes are where they were to be, which is where they are looked for
// first from then on; there is false if nothing names them any more.
func (tx *Tx) Placed(ctx context.Context, p Placing) (there bool, err error) {
	var was []int16
	if err := tx.SelectContext(ctx, &was, `select store_id from stored_file where sha256 = $1 for update`,
		p.SHA256); err != nil || len(was) == 0 {
		return false, err
	}
	for _, statement := range []string{
		`insert into stored_copy (sha256, store_id) select $1, store_id from stored_file where sha256 = $1
			and store_id <> $2 on conflict do nothing`,
		`update stored_file set store_id = $2 where sha256 = $1 and store_id <> $2`,
		`delete from stored_copy where sha256 = $1 and store_id = $2`,
		`delete from to_place where sha256 = $1 and store_id = $2`,
	} {
		if _, err := tx.ExecContext(ctx, statement, p.SHA256, p.StoreID); err != nil {
			return false, err
		}
	}
	return true, nil
}

// Spare is a copy in a store that no repository wants there.
type Spare struct {
	SHA256  []byte `db:"sha256"`
	Size    int64  `db:"size"`
	StoreID int16  `db:"store_id"`
}

// HoldSpare locks some copies, by their digests from one on, and gives those that no
// repository which keeps what is new in that store holds. Nobody can come to hold them
// until the transaction ends. last is "" when that were all.
func (tx *Tx) HoldSpare(
	ctx context.Context, after []byte, defaultStore int16, limit int,
) (spare []Spare, last []byte, err error) {
	var held [][]byte
	if err := tx.SelectContext(ctx, &held, `select sha256 from stored_file where sha256 in
			(select distinct sha256 from stored_copy where sha256 > $1 order by sha256 limit $2)
		order by sha256 for update`, after, limit); err != nil || len(held) == 0 {
		return nil, nil, err
	}
	err = tx.SelectContext(ctx, &spare, `select c.sha256, c.store_id, b.size from stored_copy c join stored_file b
			using (sha256)
		where c.sha256 = any($1) and not exists (
			select from file f join version v on v.id = f.version_id join package p on p.id = v.package_id
				join repository r on r.id = p.repository_id
			where f.sha256 = c.sha256 and coalesce(r.store_id, $2) = c.store_id)
		and not exists (
			select from package_part t join package p on p.id = t.package_id join repository r on r.id = p.repository_id
			where t.sha256 = c.sha256 and coalesce(r.store_id, $2) = c.store_id)
		order by c.sha256, c.store_id`, held, defaultStore)
	if len(held) == limit {
		last = held[len(held)-1]
	}
	return spare, last, err
}

// DropCopies forgets copies that are held.
func (tx *Tx) DropCopies(ctx context.Context, all []Spare) error {
	var sums [][]byte
	var stores []int16
	for _, s := range all {
		sums, stores = append(sums, s.SHA256), append(stores, s.StoreID)
	}
	_, err := tx.ExecContext(ctx, `delete from stored_copy c using unnest($1::bytea[], $2::smallint[]) n(sha256, store_id)
		where c.sha256 = n.sha256 and c.store_id = n.store_id`, sums, stores)
	return err
}
