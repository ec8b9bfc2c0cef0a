package record

import (
	"context"
	"encoding/json"
	"time"
)

// Event is one line of the activity record.
type Event struct {
	ID         int64             `json:"id"`
	At         time.Time         `json:"at"`
	Who        string            `json:"who"`
	Token      string            `json:"token,omitempty"`
	Address    string            `json:"address,omitempty"`
	Action     string            `json:"action"`
	Repository string            `json:"repository,omitempty"`
	Subject    string            `json:"subject,omitempty"`
	Detail     map[string]string `json:"detail,omitempty"`
}

// eventLock is held while an event takes its place in the chain.
const eventLock = 7_320_001

// Append adds an event in the transaction of what it tells, and announces
// changes to all nodes for when the transaction is committed. Each event holds
// the SHA-256 over the hash before it and itself, as JSON without its id; the
// lock that this takes lasts until the transaction ends, so call it last.
func (tx *Tx) Append(ctx context.Context, e Event, changes ...Change) error {
	payloads := make([]string, len(changes))
	for i, c := range changes {
		raw, err := json.Marshal(c)
		if err != nil {
			return err
		}
		payloads[i] = string(raw)
	}
	// A statement of its own: the next one must see what the holder before wrote.
	if _, err := tx.ExecContext(ctx, `select pg_advisory_xact_lock($1), (select count(pg_notify($2, x)) from unnest($3::text[]) x)`,
		eventLock, channel, payloads); err != nil {
		return err
	}
	e.ID = 0
	e.At = e.At.UTC().Truncate(time.Microsecond) // what the database keeps
	line, err := json.Marshal(e)
	if err != nil {
		return err
	}
	detail, err := json.Marshal(e.Detail)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `insert into event (id, at, who, token, address, action, repository, subject, detail, previous, hash)
		select coalesce(last.id, 0) + 1, $1::timestamptz, $2, $3, $4, $5, $6, $7, $8::jsonb, coalesce(last.hash, ''), sha256(coalesce(last.hash, '') || $9::bytea)
		from (values (1)) once left join (select id, hash from event order by id desc limit 1) last on true`,
		e.At, e.Who, e.Token, e.Address, e.Action, e.Repository, e.Subject, string(detail), line)
	return err
}

// EventFilter selects events; zero fields select all.
type EventFilter struct {
	Since      time.Time
	Who        string
	Action     string
	Repository string
	Before     int64 // only events with a lower id
	Limit      int
}

// Events lists events, the newest first.
func (db *DB) Events(ctx context.Context, f EventFilter) ([]Event, error) {
	rows, err := db.QueryContext(ctx, `select id, at, who, token, address, action, repository, subject, detail from event
		where at >= $1 and ($2 = '' or who = $2) and ($3 = '' or action = $3) and ($4 = '' or repository = $4)
		and ($5 = 0 or id < $5) order by id desc limit $6`, f.Since, f.Who, f.Action, f.Repository, f.Before, f.Limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var events []Event
	for rows.Next() {
		var e Event
		var detail []byte
		if err := rows.Scan(&e.ID, &e.At, &e.Who, &e.Token, &e.Address, &e.Action, &e.Repository, &e.Subject, &detail); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(detail, &e.Detail); err != nil {
			return nil, err
		}
		e.At = e.At.UTC()
		events = append(events, e)
	}
	return events, rows.Err()
}
