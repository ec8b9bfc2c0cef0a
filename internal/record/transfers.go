package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"crelvo/internal/core/catalog"
)

// Transfer is a move of packages from one repository into another.
type Transfer struct {
	ID       int64      `db:"id"`
	FromID   int64      `db:"from_id"`
	From     string     `db:"from_name"`
	ToID     int64      `db:"to_id"`
	To       string     `db:"to_name"`
	Patterns []string   `db:"-"` // what is wanted; none: everything
	Since    *time.Time `db:"since"`
	Dry      bool       `db:"dry"`  // it ends with the plan
	Rate     int64      `db:"rate"` // bytes a second that are fetched at most; 0: no bound
	ByName   string     `db:"by_name"`
	Token    string     `db:"token"` // by which it was asked for; "": by none
	BegunAt  time.Time  `db:"begun_at"`
	EndedAt  *time.Time `db:"ended_at"`
	State    string     `db:"state"`
	Failure  string     `db:"failure"` // why it could not be done as a whole
	Packages int        `db:"packages"`
	Fetched  int64      `db:"fetched"`
	Raw      []byte     `db:"patterns"`
}

// How far a transfer is.
const (
	TransferPlanning = "planning"
	TransferMoving   = "moving"
	TransferChecking = "checking"
	TransferDone     = "done"
	TransferStopped  = "stopped" // somebody ended it
	TransferBroken   = "failed"
)

// TransferItem is a version in the plan of a transfer, and what became of it.
type TransferItem struct {
	N         int    `db:"n"` // from 1
	Ecosystem string `db:"ecosystem"`
	Namespace string `db:"namespace"`
	Name      string `db:"name"`
	Version   string `db:"version"`
	Upload    string `db:"upload"`
	Files     int    `db:"files"`
	Bytes     int64  `db:"bytes"`
	Travels   int64  `db:"travels"` // bytes that are to be fetched
	State     string `db:"state"`
	Why       string `db:"why"`
	Proof     []byte `db:"proof"` // of what came: SHA-256 of its file names and digests
}

// What becomes of a version in a transfer.
const (
	ItemNew     = "new" // it is to come
	ItemThere   = "there"
	ItemRefused = "refused"
	ItemCame    = "came"
	ItemFailed  = "failed"
)

// TransferCount is how many versions of a transfer are in a state, and how large they are.
type TransferCount struct {
	TransferID int64  `db:"transfer_id"`
	State      string `db:"state"`
	Versions   int    `db:"versions"`
	Bytes      int64  `db:"bytes"`
	Travels    int64  `db:"travels"`
}

const transferColumns = `id, from_id, from_name, to_id, to_name, patterns, since, dry, rate, by_name, token, begun_at, ended_at,
	state, failure, packages, fetched`

// AddTransfer records a transfer that is to be done, and gives its id.
func (tx *Tx) AddTransfer(ctx context.Context, t Transfer) (id int64, err error) {
	raw, err := json.Marshal(append([]string{}, t.Patterns...))
	if err != nil {
		return 0, err
	}
	err = tx.GetContext(ctx, &id, `insert into transfer (from_id, from_name, to_id, to_name, patterns, since, dry, rate,
			by_name, token, begun_at, state) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) returning id`,
		t.FromID, t.From, t.ToID, t.To, raw, t.Since, t.Dry, t.Rate, t.ByName, t.Token, t.BegunAt, TransferPlanning)
	return id, err
}

// Transfers lists transfers, the last one first; by is whose, or "" for everybody's.
func (db *DB) Transfers(ctx context.Context, by string, limit int) (all []Transfer, err error) {
	if err := db.SelectContext(ctx, &all, `select `+transferColumns+` from transfer where $1 = '' or by_name = $1
		order by id desc limit $2`, by, limit); err != nil {
		return nil, err
	}
	for i := range all {
		err = errors.Join(err, all[i].read())
	}
	return all, err
}

// Transfer finds one, or ErrNotFound.
func (db *DB) Transfer(ctx context.Context, id int64) (t Transfer, err error) {
	err = db.GetContext(ctx, &t, `select `+transferColumns+` from transfer where id = $1`, id)
	return t, readTransfer(err, &t)
}

func (t *Transfer) read() error { return json.Unmarshal(t.Raw, &t.Patterns) }

// readTransfer reads the rest of a transfer that a query gave, or gives ErrNotFound if it gave none.
func readTransfer(err error, t *Transfer) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	if err != nil {
		return err
	}
	return t.read()
}

// TakeTransfer takes a transfer that is to be done, and on which nobody works; ErrNotFound if there is
// none. Who works on one gives a sign of life by TouchTransfer.
func (db *DB) TakeTransfer(ctx context.Context, worker string, at, silentSince time.Time) (t Transfer, err error) {
	err = db.GetContext(ctx, &t, `update transfer set worker = $1, touched_at = $2 where id = (
			select id from transfer where ended_at is null and touched_at < $3 order by id limit 1 for update skip locked)
		returning `+transferColumns, worker, at, silentSince)
	return t, readTransfer(err, &t)
}

// TouchTransfer is the sign of life of who works on a transfer, and notes how much it fetched; still is
// false if it is not theirs any more, or was ended.
func (db *DB) TouchTransfer(ctx context.Context, id int64, worker string, fetched int64, at time.Time) (
	still bool, err error,
) {
	result, err := db.ExecContext(ctx, `update transfer set touched_at = $3, fetched = fetched + $4
		where id = $1 and worker = $2 and ended_at is null`, id, worker, at, fetched)
	return changedOne(result, err)
}

// LeaveTransfer lets others go on with a transfer at once.
func (db *DB) LeaveTransfer(ctx context.Context, id int64, worker string) error {
	_, err := db.ExecContext(ctx, `update transfer set touched_at = '-infinity' where id = $1 and worker = $2`, id, worker)
	return err
}

// PlanTransfer begins the plan of a transfer anew.
func (db *DB) PlanTransfer(ctx context.Context, id int64) error {
	return db.Within(ctx, func(tx *Tx) error {
		if _, err := tx.ExecContext(ctx, `delete from transfer_item where transfer_id = $1`, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `update transfer set packages = 0 where id = $1`, id)
		return err
	})
}

// AddItems adds versions to the plan of a transfer, which looked at so many packages more.
func (db *DB) AddItems(ctx context.Context, id int64, packages int, items []TransferItem) error {
	n := len(items)
	ns, files, bytes, travels := make([]int, n), make([]int, n), make([]int64, n), make([]int64, n)
	var texts [7][]string
	for i, item := range items {
		ns[i], files[i], bytes[i], travels[i] = item.N, item.Files, item.Bytes, item.Travels
		for k, text := range []string{item.Ecosystem, item.Namespace, item.Name, item.Version, item.Upload, item.State,
			item.Why} {
			texts[k] = append(texts[k], text)
		}
	}
	return db.Within(ctx, func(tx *Tx) error {
		if _, err := tx.ExecContext(ctx, `insert into transfer_item (transfer_id, n, ecosystem, namespace, name, version,
				upload, state, why, files, bytes, travels)
			select $1, * from unnest($2::integer[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[],
				$9::text[], $10::integer[], $11::bigint[], $12::bigint[])`, id, ns, texts[0], texts[1], texts[2], texts[3],
			texts[4], texts[5], texts[6], files, bytes, travels); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `update transfer set packages = packages + $2 where id = $1`, id, packages)
		return err
	})
}

// Items lists versions of a transfer, in the order of the plan, those after n first; state is one state,
// or "" for all.
func (db *DB) Items(ctx context.Context, id int64, state string, after, limit int) (all []TransferItem, err error) {
	err = db.SelectContext(ctx, &all, `select n, ecosystem, namespace, name, version, upload, files, bytes, travels, state,
			why, proof from transfer_item
		where transfer_id = $1 and n > $3 and ($2 = '' or state = $2) order by n limit $4`, id, state, after, limit)
	return all, err
}

// ItemsOutside lists those that do not come, and why.
func (db *DB) ItemsOutside(ctx context.Context, id int64, after, limit int) (all []TransferItem, err error) {
	err = db.SelectContext(ctx, &all, `select n, ecosystem, namespace, name, version, upload, files, bytes, travels, state,
			why, proof from transfer_item
		where transfer_id = $1 and n > $2 and state in ('refused', 'failed') order by n limit $3`, id, after, limit)
	return all, err
}

// NoteItems notes what became of versions of a transfer. proofs are parallel to them, or nil.
func (tx *Tx) NoteItems(ctx context.Context, id int64, ns []int, state, why string, proofs [][]byte) error {
	if proofs == nil {
		proofs = make([][]byte, len(ns))
	}
	_, err := tx.ExecContext(ctx, `update transfer_item i set state = $3, why = $4, proof = o.proof
		from unnest($2::integer[], $5::bytea[]) o(n, proof) where i.transfer_id = $1 and i.n = o.n`, id, ns, state, why,
		proofs)
	return err
}

// TransferCounts counts the versions of transfers by their state.
func (db *DB) TransferCounts(ctx context.Context, ids []int64) (all []TransferCount, err error) {
	err = db.SelectContext(ctx, &all, `select transfer_id, state, count(*) versions, sum(bytes)::bigint bytes,
			sum(travels)::bigint travels from transfer_item where transfer_id = any($1) group by 1, 2`, ids)
	return all, err
}

// DropTransfers drops what is known of transfers that ended before a moment.
func (db *DB) DropTransfers(ctx context.Context, before time.Time) error {
	_, err := db.ExecContext(ctx, `delete from transfer where ended_at < $1`, before)
	return err
}

// MoveTransfer notes how far a transfer is; done is false if it ended already. A state in which nothing is
// done any more ends it.
func (tx *Tx) MoveTransfer(ctx context.Context, id int64, state, failure string, at time.Time) (done bool, err error) {
	result, err := tx.ExecContext(ctx, `update transfer set state = $2, failure = $3,
			ended_at = case when $2 in ('done', 'stopped', 'failed') then $4::timestamptz end
		where id = $1 and ended_at is null`, id, state, failure, at)
	return changedOne(result, err)
}

// FailLost makes failures of versions of a transfer that came, and of which the repository does not have
// the very files that came.
func (db *DB) FailLost(ctx context.Context, id, repositoryID int64, why string) error {
	_, err := db.ExecContext(ctx, `update transfer_item i set state = 'failed', why = $3
		where i.transfer_id = $1 and i.state = 'came' and i.proof is distinct from (
			select sha256(convert_to(string_agg(f.name || ' ' || encode(f.sha256, 'hex'), chr(10) order by f.name collate "C"),
				'UTF8'))
			from package p join version v on v.package_id = p.id join file f on f.version_id = v.id
			where p.repository_id = $2 and p.ecosystem = i.ecosystem and p.namespace = i.namespace and p.name = i.name
				and v.version = i.version and v.upload = i.upload and v.visible_from is not null and v.visible_until is null)`,
		id, repositoryID, why)
	return err
}

// Key is the key of the package of a version, in a repository.
func (i TransferItem) Key(repositoryID int64) catalog.PackageKey {
	return catalog.PackageKey{RepositoryID: repositoryID, Ecosystem: i.Ecosystem, Namespace: i.Namespace, Name: i.Name}
}
