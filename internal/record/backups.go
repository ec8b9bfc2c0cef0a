package record

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
)

// Backup is a run that puts all records and bytes somewhere else too.
type Backup struct {
	ID       int64      `db:"id"`
	Target   string     `db:"target"`
	Name     string     `db:"name"` // of what came of it, in the target
	By       string     `db:"by_name"`
	BegunAt  time.Time  `db:"begun_at"`
	EndedAt  *time.Time `db:"ended_at"`
	State    string     `db:"state"`
	Files    int64      `db:"files"`
	Bytes    int64      `db:"bytes"`
	NewFiles int64      `db:"new_files"` // that were not there from before
	NewBytes int64      `db:"new_bytes"`
	Missing  int64      `db:"missing"` // files whose bytes could not be read
	Said     string     `db:"said"`
}

// The states of a backup.
const (
	BackupUnderWay = "under way"
	BackupDone     = "done"
	BackupFailed   = "failed"
)

const backupColumns = `id, target, name, by_name, begun_at, ended_at, state, files, bytes, new_files, new_bytes, missing,
	said`

// Backups lists the last runs, the last one first.
func (db *DB) Backups(ctx context.Context, limit int) (all []Backup, err error) {
	err = db.SelectContext(ctx, &all, `select `+backupColumns+` from backup order by id desc limit $1`, limit)
	return all, err
}

// LastBackup is the last run that ended well; its ID is 0 if there is none.
func (db *DB) LastBackup(ctx context.Context) (b Backup, err error) {
	err = db.GetContext(ctx, &b, `select `+backupColumns+` from backup where state = 'done' order by id desc limit 1`)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return b, err
}

// BeginBackup begins a run; done is false if one is under way. One whose node has died has
// failed.
func (db *DB) BeginBackup(
	ctx context.Context, target, by string, at, until time.Time,
) (b Backup, done bool, err error) {
	err = db.Within(ctx, func(tx *Tx) error {
		_, err := tx.ExecContext(ctx, `update backup set state = 'failed', ended_at = $1,
			said = 'the node that made it ended in the middle' where state = 'under way' and working_until < $1`, at)
		if err != nil {
			return err
		}
		var made []Backup
		err = tx.SelectContext(ctx, &made, `insert into backup (target, by_name, begun_at, working_until)
			values ($1, $2, $3, $4) on conflict ((true)) where state = 'under way' do nothing returning `+backupColumns,
			target, by, at, until)
		if done = len(made) == 1; done {
			b = made[0]
		}
		return err
	})
	return b, done, err
}

// NoteBackup writes how a run goes; it is its node's until a moment.
func (db *DB) NoteBackup(ctx context.Context, b Backup, until time.Time) error {
	_, err := db.ExecContext(ctx, `update backup set name = $2, ended_at = $3, state = $4, files = $5, bytes = $6,
		new_files = $7, new_bytes = $8, missing = $9, said = $10, working_until = $11 where id = $1`, b.ID, b.Name, b.EndedAt,
		b.State, b.Files, b.Bytes, b.NewFiles, b.NewBytes, b.Missing, b.Said, until)
	return err
}

// HoldReclaiming keeps bytes from being freed until release is called, or the connection is
// lost, of which lost tells.
func (db *DB) HoldReclaiming(ctx context.Context) (release func(), lost func(context.Context) error, err error) {
	c, err := db.pool.Acquire(ctx)
	if err != nil {
		return nil, nil, err
	}
	conn := c.Hijack() // so that the lock ends with it
	release = func() {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		_ = conn.Close(ctx) // which lets go of it
	}
	if _, err := conn.Exec(Patiently(ctx), `select pg_advisory_lock($1, 0)`, reclaimLock); err != nil {
		release()
		return nil, nil, err
	}
	return release, func(ctx context.Context) error { return conn.Ping(ctx) }, nil
}

// Dumped is of what a dump is.
type Dumped struct {
	At     time.Time // as of which moment, by the database's clock
	Schema int64
}

// notDumped are tables of the moment: what nodes are there and what they do. The
// bookkeeping of migrations comes with the program.
func notDumped(table string) bool {
	return strings.HasPrefix(table, "river_") || strings.HasPrefix(table, "goose_") ||
		slices.Contains([]string{"node", "fetching"}, table)
}

// dumpedTable is how the part of a table begins in a dump. Its rows follow in the text form
// of COPY, in pieces, each after its length in four bytes; a length of 0 ends them.
type dumpedTable struct {
	Table   string   `json:"table"`
	Columns []string `json:"columns"`
}

// Dump writes all records to w as of one moment, and calls file with each stored file of
// that moment, ordered by digest.
func (db *DB) Dump(
	ctx context.Context, w io.Writer, file func(sha256 []byte, size int64) error,
) (d Dumped, err error) {
	ctx = Patiently(ctx)
	c, err := db.pool.Acquire(ctx)
	if err != nil {
		return d, err
	}
	defer c.Release()
	tx, err := c.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return d, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // it only reads
	if err := tx.QueryRow(ctx, `select now(), (select max(version_id) from goose_db_version)`).
		Scan(&d.At, &d.Schema); err != nil {
		return d, err
	}
	tables, err := tablesOf(ctx, tx)
	if err != nil {
		return d, err
	}
	for _, t := range tables {
		if err := t.write(ctx, tx, w); err != nil {
			return d, fmt.Errorf("the records of %s: %w", t.Table, err)
		}
	}
	rows, err := tx.Query(ctx, `select sha256, size from stored_file order by sha256`)
	if err != nil {
		return d, err
	}
	var sum []byte
	var size int64
	_, err = pgx.ForEachRow(rows, []any{&sum, &size}, func() error { return file(sum, size) })
	return d, err
}

// tablesOf lists tables with those of their columns that are dumped: what is computed, and
// numbers of transactions, are made anew.
func tablesOf(ctx context.Context, tx pgx.Tx) ([]dumpedTable, error) {
	rows, err := tx.Query(ctx, `select c.relname::text, array_agg(a.attname::text order by a.attnum) from pg_class c
		join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped and a.attgenerated = ''
			and a.atttypid <> 'xid8'::regtype
		where c.relkind = 'r' and c.relnamespace = current_schema()::regnamespace group by 1 order by 1`)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[dumpedTable])
	return slices.DeleteFunc(all, func(t dumpedTable) bool { return notDumped(t.Table) }), err
}

func (t dumpedTable) named() (table, columns string) {
	quoted := make([]string, len(t.Columns))
	for i, name := range t.Columns {
		quoted[i] = pgx.Identifier{name}.Sanitize()
	}
	return pgx.Identifier{t.Table}.Sanitize(), strings.Join(quoted, ", ")
}

func (t dumpedTable) write(ctx context.Context, tx pgx.Tx, w io.Writer) error {
	head, err := json.Marshal(t)
	if err == nil {
		_, err = w.Write(append(head, '\n'))
	}
	if err != nil {
		return err
	}
	rows := bufio.NewWriterSize(pieces{w}, 1<<20)
	table, columns := t.named()
	if _, err := tx.Conn().PgConn().CopyTo(ctx, rows, `copy `+table+` (`+columns+`) to stdout`); err != nil {
		return err
	}
	if err := rows.Flush(); err != nil {
		return err
	}
	_, err = w.Write(make([]byte, 4))
	return err
}

// pieces writes each piece after its length.
type pieces struct{ to io.Writer }

func (p pieces) Write(b []byte) (int, error) {
	if _, err := p.to.Write(binary.BigEndian.AppendUint32(nil, uint32(len(b)))); err != nil {
		return 0, err
	}
	return p.to.Write(b)
}

// piecewise reads what pieces wrote, up to its end.
type piecewise struct {
	from  io.Reader
	left  uint32
	ended bool
}

func (p *piecewise) Read(b []byte) (int, error) {
	for p.left == 0 {
		if p.ended {
			return 0, io.EOF
		}
		var head [4]byte
		if _, err := io.ReadFull(p.from, head[:]); err != nil {
			return 0, unexpected(err)
		}
		p.left = binary.BigEndian.Uint32(head[:])
		p.ended = p.left == 0
	}
	n, err := p.from.Read(b[:min(len(b), int(p.left))])
	p.left -= uint32(n)
	return n, unexpected(err)
}

func unexpected(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// ErrNotEmpty is returned by Load for a database that has something in it.
var ErrNotEmpty = errors.New("the database is not empty")

// Load makes the records of a dump in an empty database, all of them or none: finish may
// change them before they are there.
func Load(
	ctx context.Context, url string, schema int64, r io.Reader, finish func(ctx context.Context, tx pgx.Tx) error,
) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if err := mustBeEmpty(ctx, conn); err != nil {
		return err
	}
	if err := migrateTo(ctx, url, schema); err != nil {
		return err
	}
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // does nothing after Commit
	if err := load(ctx, tx, bufio.NewReaderSize(r, 1<<20)); err != nil {
		return err
	}
	if err := finish(ctx, tx); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// mustBeEmpty refuses a database that has something in it; tables without anybody in them
// are what is left of a restore that failed.
func mustBeEmpty(ctx context.Context, conn *pgx.Conn) error {
	var others, ours bool
	err := conn.QueryRow(ctx, `select to_regclass('principal') is not null, exists (select from pg_class c
		where c.relkind = 'r' and c.relnamespace = current_schema()::regnamespace)`).Scan(&ours, &others)
	if err == nil && ours {
		err = conn.QueryRow(ctx, `select exists (select from principal)`).Scan(&others)
	}
	if err == nil && others {
		err = ErrNotEmpty
	}
	return err
}

// migrateTo makes the schema of a dump.
func migrateTo(ctx context.Context, url string, schema int64) error {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	db := stdlib.OpenDB(*config)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return err
	}
	if _, knows, err := provider.GetVersions(ctx); err != nil || knows < schema {
		return errors.Join(err, fmt.Errorf("%w (schema %d, this program knows %d)", ErrNewer, schema, knows))
	}
	_, err = provider.UpTo(ctx, schema)
	return err
}

// load copies the rows of a dump into the tables that there are. What refers to what is
// checked when all is there.
func load(ctx context.Context, tx pgx.Tx, r *bufio.Reader) error {
	rows, err := tx.Query(ctx, `select conrelid::regclass::text, quote_ident(conname), pg_get_constraintdef(oid)
		from pg_constraint where contype = 'f' and connamespace = current_schema()::regnamespace order by 1, 2`)
	if err != nil {
		return err
	}
	type reference struct{ Table, Name, Is string }
	references, err := pgx.CollectRows(rows, pgx.RowToStructByPos[reference])
	if err != nil {
		return err
	}
	for _, f := range references {
		if _, err := tx.Exec(ctx, `alter table `+f.Table+` drop constraint `+f.Name); err != nil {
			return err
		}
	}
	tables, err := tablesOf(ctx, tx)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if t.Table != "event" { // which nothing can be taken from, and where nothing is
			table, _ := t.named()
			if _, err := tx.Exec(ctx, `delete from `+table); err != nil {
				return err
			}
		}
	}
	for {
		line, err := r.ReadBytes('\n')
		if errors.Is(err, io.EOF) && len(line) == 0 {
			break
		}
		var t dumpedTable
		if err == nil {
			err = json.Unmarshal(line, &t)
		}
		if err != nil {
			return fmt.Errorf("the records of the backup cannot be read: %w", err)
		}
		table, columns := t.named()
		if _, err := tx.Conn().PgConn().CopyFrom(ctx, &piecewise{from: r},
			`copy `+table+` (`+columns+`) from stdin`); err != nil {
			return fmt.Errorf("the records of %s: %w", t.Table, err)
		}
	}
	for _, f := range references {
		if _, err := tx.Exec(ctx, `alter table `+f.Table+` add constraint `+f.Name+` `+f.Is); err != nil {
			return fmt.Errorf("the records do not fit together: %w", err)
		}
	}
	return countOn(ctx, tx)
}

// countOn has what is numbered go on behind the numbers that there are.
func countOn(ctx context.Context, tx pgx.Tx) error {
	rows, err := tx.Query(ctx, `select c.oid::regclass::text, quote_ident(a.attname), a.attname from pg_class c
		join pg_attribute a on a.attrelid = c.oid and a.attidentity <> ''
		where c.relkind = 'r' and c.relnamespace = current_schema()::regnamespace`)
	if err != nil {
		return err
	}
	type numbered struct{ Table, Column, Name string }
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[numbered])
	if err != nil {
		return err
	}
	for _, n := range all {
		if _, err := tx.Exec(ctx, `select setval(pg_get_serial_sequence($1, $2), coalesce(max(`+n.Column+`), 0) + 1, false)
			from `+n.Table, n.Table, n.Name); err != nil {
			return err
		}
	}
	return nil
}

// StoredElsewhere says of records that were brought back that all bytes are in one store,
// which takes the place of those that there were.
func StoredElsewhere(ctx context.Context, tx pgx.Tx, s Store) error {
	raw, err := json.Marshal(s.Settings)
	if err != nil {
		return err
	}
	for _, statement := range []string{`delete from backup where state = 'under way'`, `delete from stored_copy`, `delete from to_place`, `delete from damage`,
		`update store_move set state = 'given up', ended_at = now() where ended_at is null`,
		`update repository set store_id = null`,
		`update stored_file set store_id = (select id from store where is_default)`,
		`update store_move set store_id = (select id from store where is_default)`,
		`delete from quota where store_id in (select id from store where not is_default)`,
		`delete from store where not is_default`} {
		if _, err := tx.Exec(ctx, statement); err != nil {
			return err
		}
	}
	_, err = tx.Exec(ctx, `update store set kind = $1, settings = $2, secret = null, identity = $3, walked_at = null`,
		s.Kind, raw, s.Identity)
	return err
}
