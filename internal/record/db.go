// Package record keeps what Crelvo knows in PostgreSQL. Files are written
// elsewhere; a record names bytes only after they are durable.
package record

import (
	"context"
	"crypto/rand"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	mrand "math/rand/v2"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/multitracer"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"crelvo/internal/traces"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNewer is returned by Open for a database that a newer Crelvo has changed.
var ErrNewer = errors.New("the database was written by a newer Crelvo")

// ErrNotFound is returned where a record that was asked for is not there.
var ErrNotFound = errors.New("no such record")

// DB is the records. Its methods may be called at the same time.
type DB struct {
	pool   *pgxpool.Pool
	stop   context.CancelFunc // of what watches it
	node   string             // names this one among the nodes
	limits *limits

	// SilentFor is how long nothing may be heard of any node, this one included, until the
	// connection to listen on is taken for lost.
	SilentFor time.Duration

	// Several is that there are other nodes, so that what is committed is told to them before
	// whoever made it goes on.
	Several atomic.Bool

	heard       func(Change)
	rounds      rounds                 // of sealing
	catching    rounds                 // of finding out what others did
	heardRounds heardOf                // of sealing
	toSeal      chan struct{}          // has one if something was committed that is to be sealed
	sealed      atomic.Pointer[string] // all that transactions did before this one is sealed
	*sqlx.DB
	reads
}

// reads are the questions that are asked inside of transactions too: a second
// connection for them could be the one that everybody waits for.
type reads struct{ q sqlx.QueryerContext }

// Open connects and brings the schema up to date.
func Open(ctx context.Context, url string) (*DB, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address cannot be read: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 16)
	// Compiling a plan takes longer than any answer that somebody waits for.
	config.ConnConfig.RuntimeParams["jit"] = "off"
	node := rand.Text()
	// What is begun by it is known by that.
	config.ConnConfig.RuntimeParams["crelvo.node"] = node
	l := newLimits()
	config.ConnConfig.Tracer = l
	if spans := traces.Statements(); spans != nil {
		config.ConnConfig.Tracer = multitracer.New(l, spans)
	}
	config.ConnConfig.DialFunc = telling(config.ConnConfig.DialFunc)
	if config.ConnConfig.ConnectTimeout == 0 {
		config.ConnConfig.ConnectTimeout = acquireLimit
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, err
	}
	db := &DB{pool: pool, DB: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), node: node, limits: l,
		SilentFor: 15 * time.Second, heard: func(Change) {}, toSeal: make(chan struct{}, 1)}
	db.reads = reads{db.DB}
	watching, stop := context.WithCancel(context.WithoutCancel(ctx))
	db.stop = stop
	go l.watch(watching, pool)
	if err := db.migrate(Patiently(ctx)); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// migrateLock is held by the node that brings the schema up to date.
const migrateLock = 8_700_000_001

// worksFrom is the schema that the program before this one knew, if it works with this one:
// what a migration takes away or renames was not used any more by then. Where it does not,
// it is this one.
const worksFrom = 21

// worksSince is how a schema says in the record from which one on programs work with it. It
// names itself: what an older one said is nothing about what came after it.
const worksSince = "%d works from %d"

// newerButKnown tells whether a newer schema, current, says of itself that it works with this
// program.
func (db *DB) newerButKnown(ctx context.Context, current, target int64) (bool, error) {
	said, err := db.Identity(ctx, "schema")
	if err != nil {
		return false, err
	}
	var of, from int64
	_, err = fmt.Sscanf(said, worksSince, &of, &from)
	return err == nil && of == current && from <= target, nil
}

// migrate brings the schema up to date, if no other node has done so.
func (db *DB) migrate(ctx context.Context) error {
	lock, err := db.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer lock.Release()
	if _, err := lock.Exec(ctx, `select pg_advisory_lock($1)`, int64(migrateLock)); err != nil {
		return err
	}
	defer func() {
		// A connection that is lost lets go of it by itself.
		_, _ = lock.Exec(context.WithoutCancel(ctx), `select pg_advisory_unlock($1)`, int64(migrateLock))
	}()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db.DB.DB, files)
	if err != nil {
		return err
	}
	current, target, err := provider.GetVersions(ctx)
	if err != nil {
		return err
	}
	if current > target {
		if works, err := db.newerButKnown(ctx, current, target); err != nil || works {
			return err
		}
		return fmt.Errorf("%w (schema %d, this program knows %d)", ErrNewer, current, target)
	}
	if _, err := provider.Up(ctx); err != nil {
		return err
	}
	if err := db.SetIdentity(ctx, "schema", fmt.Sprintf(worksSince, target, worksFrom)); err != nil {
		return err
	}
	jobs, err := rivermigrate.New(riverpgxv5.New(db.pool), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	_, err = jobs.Migrate(ctx, rivermigrate.DirectionUp, nil)
	return err
}

// Pool is the connections themselves, for the queue of jobs.
func (db *DB) Pool() *pgxpool.Pool { return db.pool }

// Close ends all connections.
func (db *DB) Close() error {
	db.stop()
	err := db.DB.Close()
	db.pool.Close()
	return err
}

// Unreachable tells whether err means that PostgreSQL could not be asked, as
// against an answer that was an error.
func Unreachable(err error) bool {
	var connect *pgconn.ConnectError
	var network net.Error
	var server *pgconn.PgError
	// Errors of the file system have the methods of a network's.
	var path *fs.PathError
	var link *os.LinkError
	if errors.As(err, &path) || errors.As(err, &link) {
		return false
	}
	if errors.As(err, &server) {
		// Class 57: the server is shutting down or starting; 53300: too many connections; class
		// 08: what is between gave up; 25006: it follows another one, which took its place.
		return server.Code[:2] == "57" && server.Code != "57014" || server.Code[:2] == "08" || server.Code == "53300" ||
			server.Code == "25006"
	}
	if errno := syscall.Errno(0); errors.As(err, &errno) {
		var operation *net.OpError
		return errors.As(err, &operation)
	}
	return errors.As(err, &connect) || errors.As(err, &network) || pgconn.SafeToRetry(err)
}

// Collided tells whether err means that somebody else wrote the same at the same
// time.
func Collided(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "23505" || TryAgain(err)
}

// Full tells whether err means that the database has no room left.
func Full(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "53100"
}

// TryAgain tells whether err means that a transaction lost against another one,
// and may go well if it is done again: a serialization failure or a deadlock.
func TryAgain(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && (server.Code == "40001" || server.Code == "40P01")
}

// Tx is a transaction: all of it or nothing.
type Tx struct {
	*sqlx.Tx
	reads
	db       *DB
	told     []Change // what the nodes are told when it is committed
	unsealed bool
}

// tries is how often a transaction is tried that loses against others.
const tries = 4

// Within runs do in a transaction, which is committed if do returns nil. A
// transaction that lost against another one is done again, so do may be called
// several times.
func (db *DB) Within(ctx context.Context, do func(tx *Tx) error) (err error) {
	for try := 1; ; try++ {
		err = db.once(ctx, do)
		if !Collided(err) || try == tries || ctx.Err() != nil {
			return err
		}
		select {
		case <-time.After(time.Duration(mrand.Int64N(int64(10*time.Millisecond) << try))):
		case <-ctx.Done():
			return err
		}
	}
}

func (db *DB) once(ctx context.Context, do func(tx *Tx) error) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after Commit
	doing := &Tx{Tx: tx, reads: reads{tx}, db: db}
	if said := inStore(ctx); said != "" {
		if _, err := tx.ExecContext(ctx, said); err != nil {
			return err
		}
	}
	if err := do(doing); err != nil {
		return err
	}
	// An error does not say that it was not committed: its answer may have been lost.
	err = tx.Commit()
	db.committed(doing.told, doing.unsealed)
	return err
}

// OnChange has heard called for every change that this node may have made, before whoever made
// it goes on. Call it before anything is changed.
func (db *DB) OnChange(heard func(Change)) { db.heard = heard }

// channel is what changes are announced on.
const channel = "crelvo"

// Listen calls heard for every change on any other node until ctx ends. Whenever it
// begins to listen, and that is also after the connection was lost, missed is
// called: changes may have gone by.
func (db *DB) Listen(ctx context.Context, heard func(Change), missed func()) {
	for ctx.Err() == nil {
		if err := db.listenOnce(ctx, heard, missed); err != nil && ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

func (db *DB) listenOnce(ctx context.Context, heard func(Change), ready func()) error {
	conn, err := db.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "listen "+channel); err != nil {
		return err
	}
	var round int64
	if err := conn.QueryRow(ctx, lastRound).Scan(&round); err != nil {
		return err
	}
	ready() // nothing that was known before counts
	db.heardRounds.note(round)
	for {
		// Whoever serves gives a sign of life on this channel more often than that: what
		// hears none is at the end of a line that is dead.
		waiting, cancel := context.WithTimeout(ctx, db.SilentFor)
		n, err := conn.Conn().WaitForNotification(waiting)
		cancel()
		if err != nil {
			return errors.Join(err, conn.Conn().Close(context.WithoutCancel(ctx)))
		}
		var a announcement
		if err := json.Unmarshal([]byte(n.Payload), &a); err != nil || a.Node == db.node {
			continue // by another version of Crelvo, or by this node
		}
		if a.Round != 0 {
			db.heardRounds.note(a.Round)
		}
		if a.Kind != "" { // or it is a sign of life alone
			heard(a.Change)
		}
	}
}

// list scans a text[] column.
func list(into *[]string) any { return pgtype.NewMap().SQLScanner(into) }

// Now is the time by the database's clock.
func (db *DB) Now(ctx context.Context) (now time.Time, err error) {
	err = db.GetContext(ctx, &now, `select clock_timestamp()`)
	return now, err
}
