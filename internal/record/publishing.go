package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

// NewFile is a file to be recorded; its bytes are durable already.
type NewFile struct {
	Key         catalog.PackageKey
	Version     string
	Upload      string
	Snapshot    bool
	UploadedAt  time.Time
	UploadCount int

	Name, Classifier, Extension string
	Digests                     catalog.Digests
	Details                     catalog.Details // what this file tells of its version

	PublisherID   int64 // 0 for what a mirror fetched
	PublisherName string
	Token         string // the name of the one it was published with
	BuildID       int64  // 0 for none
	At            time.Time
	// Afresh: the version is published as a whole in this transaction, so what
	// an earlier publication left of it is not to be added to.
	Afresh bool
	// QuietSince: an open version that was last touched before it is given up
	// by its publisher, and may be begun again.
	QuietSince time.Time
}

// Added is what came of AddFile.
type Added struct {
	VersionID int64
	// Same: the very same bytes were there already.
	Same bool
	// Taken: other bytes are there; nothing was recorded. By and At tell who was
	// first, and when; Visible, whether that publication is complete.
	Taken bool
	By    string
	At    time.Time
	// Visible: the version could be seen before, and can be seen with the file.
	Visible bool
	// Sends is how many files of the version came so far, again and again.
	Sends int
	// PublisherID and BuildID are those of the version; 0 if they are not known.
	PublisherID, BuildID int64
	// RemovedAt is, with Taken, when what was there was removed; zero if it was
	// not.
	RemovedAt time.Time
}

// openRow is a version as AddFile finds or makes it.
type openRow struct {
	ID          int64         `db:"id"`
	PackageID   int64         `db:"package_id"`
	PublisherID sql.NullInt64 `db:"publisher_id"`
	PublishedBy string        `db:"published_by"`
	TouchedAt   time.Time     `db:"touched_at"`
	VisibleFrom *time.Time    `db:"visible_from"`
	BrokenFile  string        `db:"broken_file"`
	Details     []byte        `db:"details"`
	BuildID     int64         `db:"build_id"`
	Sends       int           `db:"sends"`
	AgainFrom   int           `db:"again_from"`
	CountsFrom  int           `db:"counts_from"`
	Gone        sql.NullInt64 `db:"gone"`
}

// existingFile is what is there of the name of a file.
type existingFile struct {
	SHA256  []byte    `db:"sha256"`
	Sent    int       `db:"sent"`
	AddedAt time.Time `db:"added_at"`
}

// AddFile records a file, and its package and version where they are new. A new
// version is open: not visible before Complete.
//
// An open version is published in rounds. A client has begun again when it sends a
// file that it sent since it began. What it sent before counts as long as nothing
// comes with other bytes; from then on only what it sent since it began again does,
// the same or not. So what is listed in the end is from one round, or the same in
// all of them.
func (tx *Tx) AddFile(ctx context.Context, f NewFile) (Added, error) {
	if added, done, err := tx.addUsualFile(ctx, f); err != nil || done {
		return added, err
	}
	var v openRow
	err := sql.ErrNoRows
	for try := 0; errors.Is(err, sql.ErrNoRows) && try < 3; try++ {
		err = tx.GetContext(ctx, &v, versionUpsert+` do update set touched_at = version.touched_at
			returning id, package_id, publisher_id, published_by, touched_at, visible_from, broken_file, details,
			coalesce(build_id, 0) build_id,
			sends, again_from, counts_from,
			(select g.id from version g where g.package_id = version.package_id and g.version = version.version
			and not g.snapshot
				and g.visible_from is not null and g.visible_until is not null and not g.unseen order by g.id desc limit 1) gone`,
			f.versionArguments("")...)
	}
	if err != nil {
		return Added{}, err
	}
	added := Added{VersionID: v.ID, Visible: v.VisibleFrom != nil, By: v.PublishedBy, At: v.TouchedAt,
		PublisherID: v.PublisherID.Int64, BuildID: v.BuildID}
	if v.VisibleFrom != nil {
		added.At = *v.VisibleFrom
	}
	if v.Gone.Valid && !added.Visible && f.Name != catalog.DerivedFile {
		if other, err := tx.removedAs(ctx, v.Gone.Int64, f); err != nil || other.Taken {
			return other, err
		}
	}
	var existing existingFile
	err = tx.GetContext(ctx, &existing, `select sha256, sent, added_at from file where version_id = $1 and name = $2`,
		v.ID, f.Name)
	there := err == nil
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return Added{}, err
	}
	added.Same = string(existing.SHA256) == string(f.Digests.SHA256[:])
	if added.Visible {
		if there && !added.Same {
			added.Taken = true
			return added, nil
		}
	} else if there, err = tx.joinRound(ctx, &v, f, there, existing, &added); err != nil || added.Taken {
		return added, err
	}
	added.Sends = v.Sends
	var known catalog.Details
	if err := json.Unmarshal(v.Details, &known); err != nil {
		return Added{}, err
	}
	details, err := writeDetails(f.Details.Merge(known))
	if err != nil {
		return Added{}, err
	}
	t := touched{details, v.BrokenFile, v.Sends, v.AgainFrom, v.CountsFrom}
	if there {
		return added, tx.sentAgain(ctx, v.ID, f, t)
	}
	if err := tx.writeFile(ctx, v.ID, f, t); err != nil {
		return Added{}, err
	}
	if added.Visible {
		err = tx.grow(ctx, v.ID, v.PackageID, f.Digests.Size, f.At)
	}
	return added, err
}

// addUsualFile is AddFile for the usual case, in one question; done is false if this is
// another one, and then nothing was recorded.
func (tx *Tx) addUsualFile(ctx context.Context, f NewFile) (added Added, done bool, err error) {
	arguments, err := f.recordArguments()
	if err != nil {
		return added, false, err
	}
	var row struct {
		ID    *int64 `db:"version_id"`
		Sends *int   `db:"sends"`
	}
	if err := tx.GetContext(ctx, &row, recordFile, arguments...); err != nil || row.ID == nil {
		return added, false, err
	}
	return f.added(*row.ID, *row.Sends), true, nil
}

const recordFile = `select version_id, sends from record_file($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12,
	nullif($13, 0::bigint), $14, $15, $16, $17, $18, $19, $20, $21, $22, $23, $24, $25, $26)`

// recordArguments are those of recordFile.
func (f NewFile) recordArguments() ([]any, error) {
	details, err := writeDetails(f.Details)
	if err != nil {
		return nil, err
	}
	var readme, format *string
	if r := f.Details.Bounded().Readme; r != nil && r.Text != "" {
		text := storable(r.Text)
		readme, format = &text, &r.Format
	}
	return []any{f.Key.RepositoryID, f.Key.Ecosystem, f.Key.Namespace, f.Key.Name, f.Version, f.Upload, f.Snapshot,
		f.UploadedAt, f.UploadCount, sql.NullInt64{Int64: f.PublisherID, Valid: f.PublisherID != 0}, f.PublisherName,
		f.Token, f.BuildID, f.At, f.Afresh, details, readme, format, f.Name, f.Classifier, f.Extension,
		f.Digests.SHA256[:], f.Digests.SHA512[:], f.Digests.SHA1[:], f.Digests.MD5[:], f.Digests.Size}, nil
}

// added is what came of a file in the usual case.
func (f NewFile) added(versionID int64, sends int) Added {
	return Added{VersionID: versionID, Sends: sends, By: f.PublisherName, At: f.At, PublisherID: f.PublisherID,
		BuildID: f.BuildID}
}

// joinRound finds out what a file is in the publication of an open version: of the
// round that is going on, or the first of a new one. stays tells whether the file
// that is there is the one that counts.
func (tx *Tx) joinRound(
	ctx context.Context, v *openRow, f NewFile, there bool, existing existingFile, added *Added,
) (stays bool, err error) {
	others := v.PublisherID.Int64 != f.PublisherID
	if f.Afresh && !others {
		if err := tx.GetContext(ctx, &others, `select $2 <> '' or exists (select from file where version_id = $1)`, v.ID,
			v.BrokenFile); err != nil {
			return false, err
		}
	}
	if others {
		// Two publications of one version must never mix their files: one that
		// was cut or given up is begun again as a whole, any other one stays.
		if v.BrokenFile == "" && !v.TouchedAt.Before(f.QuietSince) {
			added.Taken, added.Same = true, false
			return false, nil
		}
		added.Same = false
		v.Sends++
		v.AgainFrom, v.CountsFrom, v.BrokenFile, v.Details = v.Sends, v.Sends, "", []byte("{}")
		return false, tx.beginAgain(ctx, v.ID, f)
	}
	v.Sends++
	again := there && existing.Sent >= v.AgainFrom
	if again {
		v.AgainFrom = v.Sends
	}
	broken := v.BrokenFile
	switch {
	case broken == f.Name:
		v.BrokenFile = "" // it is what was wrong that comes again
	case broken == Interrupted, broken != "" && again:
		// What may have been lost is sent again, and all the rest with it.
		v.BrokenFile, v.AgainFrom, v.CountsFrom, v.Details = "", v.Sends, v.Sends, []byte("{}")
	}
	if !there || added.Same {
		return there, nil
	}
	// Other bytes than there are: only if what is there does not count any more, was
	// cut, or is over by all appearance.
	if broken == "" && existing.Sent >= v.CountsFrom && !existing.AddedAt.Before(f.QuietSince) {
		added.Taken, added.At = true, existing.AddedAt
		return false, nil
	}
	if existing.Sent >= v.CountsFrom {
		v.CountsFrom, v.Details = v.AgainFrom, []byte("{}")
	}
	_, err = tx.ExecContext(ctx, `delete from file where version_id = $1 and name = $2`, v.ID, f.Name)
	return false, err
}

// removedAs tells whether a release that was removed had other bytes for a file:
// then it does not come back as something else.
func (tx *Tx) removedAs(ctx context.Context, versionID int64, f NewFile) (Added, error) {
	var row struct {
		By    string    `db:"published_by"`
		At    time.Time `db:"visible_from"`
		Until time.Time `db:"visible_until"`
	}
	err := tx.GetContext(ctx, &row, `select v.published_by, v.visible_from, v.visible_until from version v
		join (select version_id, name, sha256 from file union all select version_id, name, sha256 from past_file) f
		on f.version_id = v.id
		where v.id = $1 and f.name = $2 and f.sha256 <> $3`, versionID, f.Name, f.Digests.SHA256[:])
	if errors.Is(err, sql.ErrNoRows) {
		return Added{}, nil
	}
	return Added{VersionID: versionID, Taken: true, Visible: true, By: row.By, At: row.At, RemovedAt: row.Until}, err
}

// versionUpsert finds or makes a package and its version, in one statement; the
// caller adds what is to be done with a version that is there. It comes back
// without a row when another transaction made the package meanwhile, and is to
// be asked again: everybody locks the version first and the package after it,
// so it must not lock the package to see it. The update of a conflict must not
// name a key column either: it would lock out those who refer to the row.
const versionUpsert = `with known as (
		select id from package where repository_id = $1 and ecosystem = $2 and namespace = $3 and name = $4
	), made as (
		insert into package (repository_id, ecosystem, namespace, name, changed_at)
		select $1, $2, $3, $4, $11::timestamptz where not exists (select from known)
		on conflict (repository_id, ecosystem, namespace, name) do nothing returning id
	)
	insert into version (package_id, version, upload, snapshot, uploaded_at, upload_count, publisher_id, published_by,
	broken_file, touched_at, token, build_id)
	select id, $5, $6, $7, $8::timestamptz, $9, $10, $12, $13, $11::timestamptz, $14, nullif($15, 0::bigint)
	from (select id from known union all select id from made) p
	on conflict (package_id, version, upload) where visible_until is null`

func (f NewFile) versionArguments(brokenFile string) []any {
	return []any{f.Key.RepositoryID, f.Key.Ecosystem, f.Key.Namespace, f.Key.Name, f.Version, f.Upload, f.Snapshot,
		f.UploadedAt, f.UploadCount, sql.NullInt64{Int64: f.PublisherID, Valid: f.PublisherID != 0}, f.At, f.PublisherName,
		brokenFile, f.Token, f.BuildID}
}

// beginAgain empties an open version for a new publisher.
func (tx *Tx) beginAgain(ctx context.Context, versionID int64, f NewFile) error {
	if _, err := tx.ExecContext(ctx, `delete from file where version_id = $1`, versionID); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx,
		`update version set publisher_id = $2, published_by = $3, token = $4, build_id = nullif($5, 0::bigint) where id = $1`,
		versionID, f.PublisherID, f.PublisherName, f.Token, f.BuildID)
	return err
}

// touched is what a file changes of its version.
type touched struct {
	details                      []byte
	brokenFile                   string
	sends, againFrom, countsFrom int
}

// writeFile records a file and what it changes of its version.
func (tx *Tx) writeFile(ctx context.Context, versionID int64, f NewFile, t touched) error {
	_, err := tx.ExecContext(ctx, `with bytes as (
			insert into stored_file (sha256, sha512, sha1, md5, size, created_at) values ($5, $6, $7, $8, $9, $10::timestamptz)
			on conflict (sha256) do nothing
		), touched as (
			update version set touched_at = $10::timestamptz, details = $11, broken_file = $12, sends = $13, again_from = $14,
			counts_from = $16,
				changed_in = pg_current_xact_id() where id = $1
		)
		insert into file (version_id, name, classifier, extension, sha256, added_at, sent, added_by) values ($1, $2, $3, $4,
		$5, $10::timestamptz, $13, $15)`,
		versionID, f.Name, f.Classifier, f.Extension, f.Digests.SHA256[:], f.Digests.SHA512[:], f.Digests.SHA1[:],
		f.Digests.MD5[:],
		f.Digests.Size, f.At, t.details, t.brokenFile, t.sends, t.againFrom, f.PublisherName, t.countsFrom)
	if err != nil {
		return err
	}
	return tx.setReadme(ctx, versionID, f.Details.Bounded().Readme)
}

// sentAgain notes that a file came once more that is there as it is.
func (tx *Tx) sentAgain(ctx context.Context, versionID int64, f NewFile, t touched) error {
	_, err := tx.ExecContext(ctx, `with again as (
			update file set sent = $6 where version_id = $1 and name = $5
		)
		update version set touched_at = $2, details = $3, broken_file = $4, sends = $6, again_from = $7, counts_from = $8
		where id = $1`,
		versionID, f.At, t.details, t.brokenFile, f.Name, t.sends, t.againFrom, t.countsFrom)
	return err
}

// Interrupted as a version's broken file means that the service ended while
// the version was arriving.
const Interrupted = "*"

// MarkInterrupted marks every open version. Call it before anything is
// published; what is sent again loses the mark.
func (db *DB) MarkInterrupted(ctx context.Context) error {
	_, err := db.ExecContext(ctx, `update version set broken_file = $1
		where visible_from is null and visible_until is null and broken_file = ''`, Interrupted)
	return err
}

// TouchOpen notes that something of an open version arrives, if there is one.
func (db *DB) TouchOpen(ctx context.Context, key catalog.PackageKey, version, upload string, at time.Time) error {
	_, err := db.ExecContext(ctx, `update version set touched_at = $7 where package_id = `+packageOf+`
		and version = $5 and upload = $6 and visible_from is null and visible_until is null`, key.RepositoryID, key.Ecosystem,
		key.Namespace, key.Name, version, upload, at)
	return err
}

// MarkBroken notes that a file of an open version, or of one that is yet to be
// seen, did not arrive whole. A visible version is not touched. The digests and
// details of f are of no account.
func (tx *Tx) MarkBroken(ctx context.Context, f NewFile) error {
	_, err := tx.ExecContext(ctx, versionUpsert+` do update set broken_file = excluded.broken_file
		where version.visible_from is null and version.publisher_id = excluded.publisher_id`, f.versionArguments(f.Name)...)
	return err
}

// MarkFileBroken notes the same of a file that is on record.
func (db *DB) MarkFileBroken(ctx context.Context, f catalog.File) error {
	_, err := db.ExecContext(ctx, `update version set broken_file = $2
		where id = $1 and visible_from is null and visible_until is null`, f.VersionID, f.Name)
	return err
}

// grow notes that a visible version has more bytes.
func (tx *Tx) grow(ctx context.Context, versionID, packageID, bytes int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, `with grown as (update version set bytes = bytes + $4 where id = $1)
		update package set revision = revision + 1, changed_at = $3, bytes = bytes + $4 where id = $2`, versionID, packageID,
		at, bytes)
	return err
}

// OpenVersion is a version that is not complete.
type OpenVersion struct {
	ID         int64  `db:"id"`
	PackageID  int64  `db:"package_id"`
	Repository string `db:"repository"`
	keyRow
	Version     string `db:"version"`
	Upload      string `db:"upload"`
	PublishedBy string `db:"published_by"`
	PublisherID int64  `db:"publisher_id"`
	BrokenFile  string `db:"broken_file"`
	// Unattended: a node that died may have been receiving something of it, and nothing came
	// since.
	Unattended  bool      `db:"unattended"`
	TouchedAt   time.Time `db:"touched_at"`
	UploadedAt  time.Time `db:"uploaded_at"`
	UploadCount int       `db:"upload_count"`
	RawDetails  []byte    `db:"details"`
	Sends       int       `db:"sends"`
}

type keyRow struct {
	RepositoryID int64  `db:"repository_id"`
	Ecosystem    string `db:"ecosystem"`
	Namespace    string `db:"namespace"`
	Name         string `db:"name"`
}

func (k keyRow) value() catalog.PackageKey {
	return catalog.PackageKey{RepositoryID: k.RepositoryID, Ecosystem: k.Ecosystem, Namespace: k.Namespace, Name: k.Name}
}

func keysOf(rows []keyRow) []catalog.PackageKey {
	keys := make([]catalog.PackageKey, len(rows))
	for i, row := range rows {
		keys[i] = row.value()
	}
	return keys
}

// PackageKey is the key of the package that the version belongs to.
func (o OpenVersion) PackageKey() catalog.PackageKey { return o.keyRow.value() }

const openColumns = `v.id, v.package_id, r.name repository, p.repository_id, p.ecosystem, p.namespace, p.name, v.version, v.upload, v.published_by,
	coalesce(v.publisher_id, 0) publisher_id, v.broken_file, v.touched_at,
	coalesce(v.touched_at <= v.unattended_at, false) unattended,
	v.uploaded_at, v.upload_count, v.details, v.sends
	from version v join package p on p.id = v.package_id join repository r on r.id = p.repository_id
	where v.visible_from is null and v.visible_until is null`

const openOf = `select ` + openColumns + ` and v.package_id = ` + packageOf

// OpenOf lists the open versions of a package.
func (r reads) OpenOf(ctx context.Context, key catalog.PackageKey) (open []OpenVersion, err error) {
	err = sqlx.SelectContext(ctx, r.q, &open, openOf, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name)
	return open, err
}

// Receiving lists the open versions in scope that are not given up, of one package
// if it is named, those that were touched last first.
func (db *DB) Receiving(
	ctx context.Context, scope Scope, of catalog.PackageKey, limit int,
) (open []OpenVersion, err error) {
	arguments := []any{scope.Repositories, of.Ecosystem, of.Namespace, of.Name, limit}
	err = db.SelectContext(ctx, &open, `select `+openColumns+
		` and p.repository_id = any($1) and ($4 = '' or p.ecosystem = $2 and p.namespace = $3 and p.name = $4)`+
		scope.and(&arguments)+` order by v.touched_at desc limit $5`, arguments...)
	return open, err
}

// OpenBetween lists the open versions that were last touched at from or later,
// and before until.
func (db *DB) OpenBetween(ctx context.Context, from, until time.Time) (open []OpenVersion, err error) {
	err = db.SelectContext(ctx, &open, `select `+openColumns+
		` and v.touched_at >= $1 and v.touched_at < $2 order by v.touched_at`, from, until)
	return open, err
}

// Complete makes an open version visible, with the files that
// count; what earlier rounds left is dropped. done is false if it is visible already,
// if a file of it is broken, or if more than so many files came meanwhile; 0 is any
// number.
func (tx *Tx) Complete(ctx context.Context, versionID int64, sends int, at time.Time) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, completingOne, versionID, at, sends))
}

const completingOne = completing + seenBy + `, arrived = counted.last_arrived` + completed

// completing and completed are a statement that locks the version first and the
// package after it, as everybody does, and counts the version under that lock. Every row
// is named by a subquery and not joined, so that each is found by its index, whatever the
// size of the tables was when the statement was planned.
const completing = `with held as (
			select v.id, v.package_id, v.counts_from, coalesce((select sum((select b.size from stored_file b
			where b.sha256 = f.sha256)) from file f where f.version_id = v.id and f.sent >= v.counts_from), 0) bytes
			from (select * from version where id = $1 offset 0 for update) v
			where v.visible_from is null and v.visible_until is null and v.broken_file = '' and ($3 = 0 or v.sends = $3)
		), stale as (
			delete from file where version_id = (select id from held) and sent < (select counts_from from held)
		), counted as (
			update package p set revision = p.revision + 1, changed_at = $2, versions = p.versions + 1,
			bytes = p.bytes + (select bytes from held),
				last_arrived = greatest($2::timestamptz, p.last_arrived + interval '1 microsecond')
			where p.id = (select package_id from held) returning p.last_arrived
		)`

const seenBy = ` update version v set visible_from = $2, changed_in = pg_current_xact_id(), bytes = (select bytes from held)`

const completed = ` from counted where v.id = (select id from held)`

// completeCopy is Complete for a mirror's copy, whose order is its upstream's.
func (tx *Tx) completeCopy(ctx context.Context, versionID int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, completing+seenBy+completed, versionID, at, 0)
	return err
}

// Abandon gives up an open version; its name is free again. done is false if
// the version is not open any more.
func (tx *Tx) Abandon(ctx context.Context, versionID int64, at time.Time) (done bool, err error) {
	result, err := tx.ExecContext(ctx, `update version set visible_until = $2, grace_until = $2
		where id = $1 and visible_from is null and visible_until is null`, versionID, at)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n == 1, err
}
