package record

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"crelvo/internal/core/catalog"
)

// What is published in the usual way is recorded with few questions to the database, each
// of them several statements that travel together. In any other case nothing is done, and
// it is to be recorded by a transaction that looks at what is there.

// Whole is a version that is published as a whole, of one file.
type Whole struct {
	File    NewFile
	Labels  []string // that move to it
	Event   Event
	Changes []Change
}

// AddAtOnce is AddFile in a transaction of its own; look is called before its end, and
// may still prevent it. done is false if this is no usual case, and nothing was recorded.
func (db *DB) AddAtOnce(ctx context.Context, f NewFile, look func() error) (added Added, done bool, err error) {
	done, err = db.atOnce(ctx, func(c *pgxpool.Conn) (usual bool, err error) {
		added, usual, err = beginWithFile(ctx, c, f)
		return usual, err
	}, look)
	return added, done, err
}

// PublishAtOnce is AddFile, Complete, SetLabel and Append in a transaction of its own;
// look is called before its end, and may still prevent it. done is false if this is no
// usual case, and nothing was recorded.
func (db *DB) PublishAtOnce(ctx context.Context, w Whole, look func() error) (done bool, err error) {
	told, err := db.announcements(w.Changes)
	if err != nil {
		return false, err
	}
	event, err := appending(w.Event, told)
	if err != nil {
		return false, err
	}
	done, err = db.atOnce(ctx, func(c *pgxpool.Conn) (bool, error) {
		added, usual, err := beginWithFile(ctx, c, w.File)
		if err != nil || !usual {
			return false, err
		}
		b := &pgx.Batch{}
		b.Queue(completingOne, added.VersionID, w.File.At, added.Sends)
		for _, label := range w.Labels {
			for _, s := range settingLabel(w.File.Key, label, w.File.Version, w.File.PublisherName, w.File.At) {
				b.Queue(s.sql, s.arguments...)
			}
		}
		b.Queue(event.sql, event.arguments...)
		results := c.SendBatch(ctx, b)
		tag, err := results.Exec()
		return err == nil && tag.RowsAffected() == 1, errors.Join(err, results.Close())
	}, look, w.Changes...)
	return done, err
}

// OpenAtOnce is OpenOf, and FilesOf what that lists, by one question.
func (db *DB) OpenAtOnce(
	ctx context.Context, key catalog.PackageKey,
) (open []OpenVersion, files map[int64][]catalog.File, err error) {
	of := []any{key.RepositoryID, key.Ecosystem, key.Namespace, key.Name}
	b := &pgx.Batch{}
	b.Queue(openOf, of...).Query(func(rows pgx.Rows) (err error) {
		open, err = pgx.CollectRows(rows, pgx.RowToStructByName[OpenVersion])
		return err
	})
	b.Queue(`select `+fileColumns+` from (select id from version where visible_from is null and visible_until is null
		and package_id = `+packageOf+` offset 0) wanted`+filesOfWanted, of...).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[fileRow])
		files = byVersion(all)
		return err
	})
	return open, files, db.pool.SendBatch(ctx, b).Close()
}

// CompleteAtOnce is Complete and, if it was done, Append, in a transaction of its own.
func (db *DB) CompleteAtOnce(
	ctx context.Context, versionID int64, sends int, at time.Time, e Event, changes ...Change,
) (done bool, err error) {
	told, err := db.announcements(changes)
	if err != nil {
		return false, err
	}
	row, err := eventRow(e, told)
	if err != nil {
		return false, err
	}
	tag, err := db.pool.Exec(ctx, completingAndTelling, append([]any{versionID, at, sends}, row...)...)
	db.committed(changes, true)
	return tag.RowsAffected() == 1, err
}

// completingAndTelling makes a version visible and appends what it is called with,
// together.
const completingAndTelling = completing + `, seen as (` + seenBy + `, arrived = counted.last_arrived` + completed + ` returning v.id
	) insert into unsealed (at, who, token, address, action, repository, subject, detail, changes)
	select $4::timestamptz, $5, $6, $7, $8, $9, $10, $11::jsonb, $12::text[] from seen`

// beginWithFile begins a transaction with a file, if it is a usual case.
func beginWithFile(ctx context.Context, c *pgxpool.Conn, f NewFile) (added Added, usual bool, err error) {
	arguments, err := f.recordArguments()
	if err != nil {
		return added, false, err
	}
	var id *int64
	var sends *int
	b := &pgx.Batch{}
	b.Queue(`begin`)
	if said := inStore(ctx); said != "" {
		b.Queue(said)
	}
	b.Queue(recordFile, arguments...).QueryRow(func(row pgx.Row) error { return row.Scan(&id, &sends) })
	if err := c.SendBatch(ctx, b).Close(); err != nil || id == nil {
		return added, false, err
	}
	return f.added(*id, *sends), true, nil
}

// atOnce runs a transaction that do begins; it is ended by a commit if do says that the
// case is usual, and look does not mind.
func (db *DB) atOnce(
	ctx context.Context, do func(*pgxpool.Conn) (usual bool, err error), look func() error, changes ...Change,
) (done bool, err error) {
	c, err := db.pool.Acquire(ctx)
	if err != nil {
		return false, err
	}
	defer c.Release() // and what is open in it goes with its connection
	usual, err := do(c)
	if err == nil && usual {
		err = look()
	}
	if err != nil || !usual {
		if _, failed := c.Exec(context.WithoutCancel(ctx), `rollback`); failed != nil && err == nil {
			err = failed
		}
		if Collided(err) {
			return false, nil // whoever was quicker is seen by what comes next
		}
		return false, err
	}
	_, err = c.Exec(ctx, `commit`)
	db.committed(changes, len(changes) > 0)
	return err == nil, err
}

// step is a statement that is to be sent, alone or together with others.
type step struct {
	sql       string
	arguments []any
}

// do takes steps one after the other.
func (tx *Tx) do(ctx context.Context, all ...step) error {
	for _, s := range all {
		if _, err := tx.ExecContext(ctx, s.sql, s.arguments...); err != nil {
			return err
		}
	}
	return nil
}

// settingLabel moves a label to a version.
func settingLabel(key catalog.PackageKey, name, version, by string, at time.Time) []step {
	of := func(more ...any) []any {
		return append([]any{key.RepositoryID, key.Ecosystem, key.Namespace, key.Name}, more...)
	}
	return []step{
		{touchingPackage, of(at)},
		{endingLabel, of(name, at)},
		{`insert into label (package_id, name, version, set_by, visible_from)
		select ` + packageOf + `, $5, $6, $7, $8::timestamptz`, of(name, version, by, at)},
	}
}
