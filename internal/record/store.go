package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"
)

// MainStore is the store that the service was first started with. What was never said to be
// elsewhere is there.
const MainStore int16 = 1

// StoreKind says what a store is.
type StoreKind string

// The kinds of stores.
const (
	FolderStore StoreKind = "folder"
	S3Store     StoreKind = "s3"
)

// StoreSettings tell where a store is. What belongs to the other kind is "".
type StoreSettings struct {
	Folder      string `json:"folder,omitempty"` // "" is the one in the data folder
	Endpoint    string `json:"endpoint,omitempty"`
	Bucket      string `json:"bucket,omitempty"`
	Prefix      string `json:"prefix,omitempty"`
	Region      string `json:"region,omitempty"`
	Addressing  string `json:"addressing,omitempty"`
	Encryption  string `json:"encryption,omitempty"`
	Credentials string `json:"credentials,omitempty"` // kept, environment or machine
	AccessKey   string `json:"accessKey,omitempty"`   // of kept ones
}

// Store is a place where bytes are kept.
type Store struct {
	ID        int16     `db:"id"`
	Name      string    `db:"name"`
	Kind      StoreKind `db:"kind"`
	Raw       []byte    `db:"settings"`
	Secret    []byte    `db:"secret"` // encrypted
	Identity  string    `db:"identity"`
	Default   bool      `db:"is_default"`
	CreatedAt time.Time `db:"created_at"`

	Settings StoreSettings `db:"-"`
}

// Stores lists them in the order in which they were made.
func (r reads) Stores(ctx context.Context) ([]Store, error) {
	var all []Store
	if err := sqlx.SelectContext(ctx, r.q, &all, `select id, name, kind, settings, secret, identity, is_default, created_at
		from store order by id`); err != nil {
		return nil, err
	}
	for i := range all {
		if err := json.Unmarshal(all[i].Raw, &all[i].Settings); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// AddStore makes one and gives its id; ok is false if the name is taken.
func (tx *Tx) AddStore(ctx context.Context, s Store) (id int16, ok bool, err error) {
	raw, err := json.Marshal(s.Settings)
	if err != nil {
		return 0, false, err
	}
	err = tx.GetContext(ctx, &id, `insert into store (name, kind, settings, secret, identity, created_at)
		values ($1, $2, $3, $4, $5, $6) on conflict (name) do nothing returning id`, s.Name, s.Kind, raw, s.Secret,
		s.Identity, s.CreatedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// SetStore writes what of a store can be changed.
func (tx *Tx) SetStore(ctx context.Context, s Store) error {
	raw, err := json.Marshal(s.Settings)
	if err != nil {
		return err
	}
	if s.Default {
		if _, err := tx.ExecContext(ctx, `update store set is_default = false where is_default and id <> $1`,
			s.ID); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx,
		`update store set name = $2, kind = $3, settings = $4, secret = $5, is_default = $6 where id = $1`,
		s.ID, s.Name, s.Kind, raw, s.Secret, s.Default)
	return err
}

// DropStore forgets a store that nothing is in; in use tells that something is, or that it
// is named.
func (tx *Tx) DropStore(ctx context.Context, id int16) (inUse bool, err error) {
	// Whoever records something there meanwhile holds one of these.
	if _, err := tx.ExecContext(ctx, `lock table stored_file in share row exclusive mode`); err != nil {
		return false, err
	}
	err = tx.GetContext(ctx, &inUse, `select exists (select from stored_file where store_id = $1)
		or exists (select from stored_copy where store_id = $1) or exists (select from to_place where store_id = $1)
		or exists (select from repository where store_id = $1) or exists (select from store where id = $1 and is_default)`,
		id)
	if err != nil || inUse {
		return inUse, err
	}
	for _, statement := range []string{`delete from store_move where store_id = $1`, `delete from store where id = $1`} {
		if _, err := tx.ExecContext(ctx, statement, id); err != nil {
			return false, err
		}
	}
	return false, nil
}

// TakeStoreIdentity notes by which name a store is known, if that is still what it was.
func (db *DB) TakeStoreIdentity(ctx context.Context, id int16, was, name string) (done bool, err error) {
	return changedOne(db.ExecContext(ctx, `update store set identity = $3 where id = $1 and identity = $2`, id, was, name))
}

// StoreWalked tells when a store was last walked for what nothing knows of; zero if never.
func (db *DB) StoreWalked(ctx context.Context, id int16) (time.Time, error) {
	var at sql.NullTime
	err := db.GetContext(ctx, &at, `select walked_at from store where id = $1`, id)
	return at.Time, err
}

// NoteStoreWalked notes that it was.
func (db *DB) NoteStoreWalked(ctx context.Context, id int16, at time.Time) error {
	_, err := db.ExecContext(ctx, `update store set walked_at = $2 where id = $1`, id, at)
	return err
}

type storeKey struct{}

// InStore says where the bytes are that transactions with that context put on record.
func InStore(ctx context.Context, id int16) context.Context {
	if id == MainStore {
		return ctx
	}
	return context.WithValue(ctx, storeKey{}, id)
}

// inStore is the statement that says it at the beginning of a transaction; "" if there is no
// need to.
func inStore(ctx context.Context) string {
	id, said := ctx.Value(storeKey{}).(int16)
	if !said {
		return ""
	}
	return `set local crelvo.store = '` + strconv.Itoa(int(id)) + `'`
}

// AlsoIn notes that bytes are in a store, where they are on record as being in another one.
func (tx *Tx) AlsoIn(ctx context.Context, sha256 [][]byte, id int16) error {
	_, err := tx.ExecContext(ctx, alsoIn, sha256, id)
	return err
}

const alsoIn = `insert into stored_copy (sha256, store_id) select sha256, $2 from stored_file
	where sha256 = any($1) and store_id <> $2 on conflict do nothing`

// StoresOf tells in which stores bytes are on record; none if they are on record nowhere.
func (r reads) StoresOf(ctx context.Context, sha256 [32]byte) (ids []int16, err error) {
	err = sqlx.SelectContext(ctx, r.q, &ids, `select store_id from stored_file where sha256 = $1
		union all select store_id from stored_copy where sha256 = $1`, sha256[:])
	return ids, err
}

// KnowsIn tells whether a record says that bytes are in a store.
func (db *DB) KnowsIn(ctx context.Context, sha256 [32]byte, id int16) (known bool, err error) {
	err = db.GetContext(ctx, &known, `select exists (select from stored_file where sha256 = $1 and store_id = $2)
		or exists (select from stored_copy where sha256 = $1 and store_id = $2)`, sha256[:], id)
	return known, err
}

// WhileUnknown runs do if no record says that bytes are in a store. As long as it runs nobody
// can record them there: who writes that they are waits for the end of do, at any node, and
// looks afterwards whether they are there.
func (db *DB) WhileUnknown(ctx context.Context, sha256 [32]byte, id int16, do func() error) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // what is claimed is for others to wait for, and never on record
	for _, claim := range []string{
		`insert into stored_file (sha256, sha512, sha1, md5, size, created_at, store_id)
			values ($1, '', '', '', 0, now(), $2) on conflict (sha256) do nothing`,
		`insert into stored_copy (sha256, store_id) select sha256, $2 from stored_file where sha256 = $1 and store_id <> $2
			on conflict do nothing`,
	} {
		claimed, err := tx.ExecContext(ctx, claim, sha256[:], id)
		if err != nil {
			return err
		}
		if n, err := claimed.RowsAffected(); err != nil {
			return err
		} else if n > 0 {
			return do()
		}
	}
	return nil
}

// StoreTotal is what is in a store.
type StoreTotal struct {
	StoreID int16 `db:"store_id"`
	Files   int64 `db:"files"`
	Bytes   int64 `db:"bytes"`
}

// StoreTotals tells how much is in which store.
func (db *DB) StoreTotals(ctx context.Context) (all []StoreTotal, err error) {
	err = db.SelectContext(ctx, &all, `select store_id, sum(files)::bigint files, sum(bytes)::bigint bytes from (
			select store_id, count(*) files, sum(size) bytes from stored_file group by store_id
			union all select c.store_id, count(*), sum(b.size) from stored_copy c join stored_file b using (sha256)
				group by c.store_id) t
		group by store_id`)
	return all, err
}
