package record

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

const (
	// eventLock is held while events take their places in the chain.
	eventLock = 7_320_001
	// sealedAtOnce bounds what one transaction seals.
	sealedAtOnce = 1000
	// sealPause is waited after sealing, so that under load many are sealed together.
	sealPause = 20 * time.Millisecond
	// sealPauseOfSeveral is that where others are to be told, for which whoever committed
	// waits, but no longer than tellWithin.
	sealPauseOfSeveral = time.Millisecond
	tellWithin         = time.Second
	// sealLook is how often it is looked for what a node left that ended in between.
	sealLook = 2 * time.Second
)

// announcement is how a change travels from node to node. The node that made it has
// taken note of it already.
type announcement struct {
	Change
	Node string `json:"node"`
	// Round is that of sealing which ended; 0 of a change.
	Round int64 `json:"round,omitempty"`
}

// maxAnnouncement bounds one, in bytes: PostgreSQL takes less than 8000.
const maxAnnouncement = 7999

// announcements are changes as they are told.
func (db *DB) announcements(changes []Change) ([]string, error) {
	payloads := make([]string, len(changes))
	for i, c := range changes {
		raw, err := json.Marshal(announcement{Change: c, Node: db.node})
		if err != nil {
			return nil, err
		}
		if len(raw) > maxAnnouncement {
			return nil, fmt.Errorf("a change of %s takes %d bytes to tell, and %d are possible", c.Kind, len(raw),
				maxAnnouncement)
		}
		payloads[i] = string(raw)
	}
	return payloads, nil
}

// Tell announces changes to all nodes when the transaction is committed.
func (tx *Tx) Tell(ctx context.Context, changes ...Change) error {
	told, err := tx.db.announcements(changes)
	if err != nil {
		return err
	}
	tx.told, tx.unsealed = append(tx.told, changes...), true
	return tx.do(ctx, step{`insert into unsealed (changes) values ($1)`, []any{told}})
}

// Append adds an event in the transaction of what it tells, and announces changes to
// all nodes for when the transaction is committed. It gets its place in the chain
// afterwards (Seal): that takes a lock, which nobody should hold while a commit is made
// durable.
func (tx *Tx) Append(ctx context.Context, e Event, changes ...Change) error {
	told, err := tx.db.announcements(changes)
	if err != nil {
		return err
	}
	s, err := appending(e, told)
	if err != nil {
		return err
	}
	tx.told, tx.unsealed = append(tx.told, changes...), true
	return tx.do(ctx, s)
}

// appending adds an event that is to be sealed.
func appending(e Event, told []string) (step, error) {
	row, err := eventRow(e, told)
	return step{`insert into unsealed (at, who, token, address, action, repository, subject, detail, changes)
		values ($1, $2, $3, $4, $5, $6, $7, $8::jsonb, $9)`, row}, err
}

// eventRow is the row of an event that is to be sealed.
func eventRow(e Event, told []string) ([]any, error) {
	e = e.clean()
	detail, err := json.Marshal(e.Detail)
	// What the database keeps of a time is a microsecond.
	return []any{e.At.UTC().Truncate(time.Microsecond), e.Who, e.Token, e.Address, e.Action, e.Repository, e.Subject,
		string(detail), told}, err
}

// committed tells of what was committed, as far as is known, and has it sealed.
func (db *DB) committed(changes []Change, unsealed bool) {
	for _, c := range changes {
		db.heard(c)
	}
	if !unsealed {
		return
	}
	if !db.Several.Load() {
		db.wakeSealer()
		return
	}
	// The round that is under way may have begun before this was committed.
	told := db.rounds.next()
	db.wakeSealer()
	select {
	case <-told:
	case <-time.After(tellWithin):
	}
}

func (db *DB) wakeSealer() {
	select {
	case db.toSeal <- struct{}{}:
	default:
	}
}

// KeepSealing seals what this node commits, at once, and now and then what another one
// left that was killed, until ctx ends. It tells what went wrong, and goes on.
func (db *DB) KeepSealing(ctx context.Context, failed func(error)) {
	look := time.NewTicker(sealLook)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-db.toSeal:
		case <-look.C:
			db.sealed.Store(nil) // whatever was known: the database may have been put back to an older state
		}
		end := db.rounds.begin()
		err := db.Seal(Patiently(ctx))
		if end != nil {
			end()
		}
		if err != nil && ctx.Err() == nil {
			failed(err)
		}
		pause := sealPause
		if db.Several.Load() {
			pause = sealPauseOfSeveral
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

// Seal gives every event that is committed by now its place in the chain, and tells the
// nodes of the changes that came with it. Each event holds the SHA-256 over the hash
// before it and itself, as JSON without its id.
func (db *DB) Seal(ctx context.Context) error {
	for {
		var any bool
		if err := db.GetContext(ctx, &any, `select exists (select from unsealed where made_in >= $1::text::xid8)`,
			db.sealedBefore()); err != nil || !any {
			return err
		}
		n, err := db.sealSome(ctx)
		if err != nil || n < sealedAtOnce {
			return err
		}
	}
}

func (db *DB) sealedBefore() string {
	if before := db.sealed.Load(); before != nil {
		return *before
	}
	return "0"
}

// sealSome seals some of what is committed, and tells how many that were.
func (db *DB) sealSome(ctx context.Context) (n int, err error) {
	var ended string
	err = pgx.BeginFunc(ctx, db.pool, func(tx pgx.Tx) error {
		var last SealedEvent
		var s seal
		b := &pgx.Batch{}
		// Statements of their own: each sees what was committed before it began.
		b.Queue(`select pg_advisory_xact_lock($1)`, eventLock)
		b.Queue(`select pg_snapshot_xmin(pg_current_snapshot())::text, coalesce(last.id, 0), coalesce(last.hash, '')
			from (values (1)) once left join (select id, hash from event order by id desc limit 1) last on true`).
			QueryRow(func(row pgx.Row) error { return row.Scan(&ended, &last.ID, &last.Hash) })
		b.Queue(`with taken as (
				delete from unsealed where (made_in, id) in (select made_in, id from unsealed
					where made_in >= $1::text::xid8 order by id limit $2)
				returning id, at, who, token, address, action, repository, subject, detail, changes
			) select at, who, token, address, action, repository, subject, detail, changes from taken order by id`,
			db.sealedBefore(), sealedAtOnce).
			Query(func(rows pgx.Rows) (err error) {
				for err == nil && rows.Next() {
					n++
					err = s.add(&last, rows)
				}
				return err
			})
		if err := tx.SendBatch(ctx, b).Close(); err != nil || n == 0 {
			return err
		}
		b = &pgx.Batch{}
		s.write(b)
		return tx.SendBatch(ctx, b).Close()
	})
	if err == nil && n < sealedAtOnce {
		// All that is left is from transactions that had not ended.
		db.sealed.Store(&ended)
	}
	return n, err
}

// seal collects what one transaction seals, column by column.
type seal struct {
	ids                                                      []int64
	ats                                                      []time.Time
	who, token, address, action, repository, subject, detail []string
	previous, hashes                                         [][]byte
	changes                                                  []string
}

// add takes one row, whose event follows last and becomes it.
func (s *seal) add(last *SealedEvent, row pgx.Rows) error {
	var at *time.Time
	var e Event
	var detail []byte
	var changes []string
	if err := row.Scan(&at, &e.Who, &e.Token, &e.Address, &e.Action, &e.Repository, &e.Subject, &detail,
		&changes); err != nil {
		return err
	}
	s.changes = append(s.changes, changes...)
	if at == nil {
		return nil
	}
	e.At = at.UTC()
	if err := json.Unmarshal(detail, &e.Detail); err != nil {
		return err
	}
	hash, err := Seal(last.Hash, e)
	if err != nil {
		return err
	}
	s.previous, s.hashes = append(s.previous, last.Hash), append(s.hashes, hash)
	last.ID, last.Hash = last.ID+1, hash
	s.ids, s.ats = append(s.ids, last.ID), append(s.ats, e.At)
	s.who, s.token = append(s.who, e.Who), append(s.token, e.Token)
	s.address, s.action = append(s.address, e.Address), append(s.action, e.Action)
	s.repository, s.subject = append(s.repository, e.Repository), append(s.subject, e.Subject)
	s.detail = append(s.detail, string(detail))
	return nil
}

// write queues what is to be written and told.
func (s *seal) write(b *pgx.Batch) {
	if len(s.ids) > 0 {
		b.Queue(`insert into event (id, at, who, token, address, action, repository, subject, detail, previous, hash)
			select id, at, who, token, address, action, repository, subject, detail::jsonb, previous, hash
			from unnest($1::bigint[], $2::timestamptz[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[],
			$9::text[], $10::bytea[], $11::bytea[])
			e (id, at, who, token, address, action, repository, subject, detail, previous, hash)`,
			s.ids, s.ats, s.who, s.token, s.address, s.action, s.repository, s.subject, s.detail, s.previous, s.hashes)
	}
	if len(s.changes) > 0 {
		b.Queue(noteChanges, s.changes)
		b.Queue(`select count(pg_notify($1, x)) from unnest($2::text[]) x`, channel, s.changes)
	}
	// It comes last, so that whoever hears of it has heard of all before it.
	b.Queue(`select pg_notify($1, json_build_object('node', '', 'round', nextval('seal_round'))::text)`, channel)
}
