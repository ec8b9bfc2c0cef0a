package record

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"slices"
	"time"

	"crelvo/internal/core/text"
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

// maxDetail bounds one remark of an event, in bytes.
const maxDetail = 16 << 10

// clean is e as it can be kept: whatever was said by whomever, it is no reason
// not to record that it was.
func (e Event) clean() Event {
	for _, field := range []*string{&e.Who, &e.Token, &e.Address, &e.Action, &e.Repository, &e.Subject} {
		*field = text.Clean(*field, false, text.MaxLine)
	}
	if e.Detail != nil {
		detail := make(map[string]string, len(e.Detail))
		for k, v := range e.Detail {
			detail[text.Clean(k, false, text.MaxName)] = text.Clean(v, true, maxDetail)
		}
		e.Detail = detail
	}
	return e
}

// EventFilter selects events; zero fields select all.
type EventFilter struct {
	Since      time.Time
	Until      time.Time
	Who        string
	Action     string
	Repository string
	Subject    string // a part of it
	Before     int64  // only events with a lower id
	Limit      int    // 0 for no limit
	// OldestFirst turns the order around.
	OldestFirst bool
}

// SealedEvent is an event with its place in the chain.
type SealedEvent struct {
	Event
	Previous []byte
	Hash     []byte
}

// EachEvent gives events one after the other, the newest first unless the filter
// says otherwise, until do fails. What was committed before is among them.
func (db *DB) EachEvent(ctx context.Context, f EventFilter, do func(SealedEvent) error) error {
	if err := db.Seal(ctx); err != nil {
		return err
	}
	order, limit := "desc", any(f.Limit)
	if f.OldestFirst {
		order = "asc"
	}
	if f.Limit == 0 {
		limit = nil
	}
	until := any(f.Until)
	if f.Until.IsZero() {
		until = nil
	}
	rows, err := db.QueryContext(ctx,
		`select id, at, who, token, address, action, repository, subject, detail, previous, hash from event
		where at >= $1 and ($2 = '' or who = $2) and ($3 = '' or action = $3) and ($4 = '' or repository = $4)
		and ($5 = 0 or id < $5) and ($7::timestamptz is null or at < $7) and ($8 = '' or position(replace(lower($8), '%40',
		'@') in replace(lower(subject), '%40', '@')) > 0)
		order by id `+order+` limit $6`, f.Since, f.Who, f.Action, f.Repository, f.Before, limit, until, f.Subject)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var e SealedEvent
		var detail []byte
		if err := rows.Scan(&e.ID, &e.At, &e.Who, &e.Token, &e.Address, &e.Action, &e.Repository, &e.Subject, &detail,
			&e.Previous, &e.Hash); err != nil {
			return err
		}
		if err := json.Unmarshal(detail, &e.Detail); err != nil {
			return err
		}
		e.At = e.At.UTC()
		if err := do(e); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Seal is the hash that an event has after another one: the SHA-256 over the
// hash of that and the event as JSON without its id.
func Seal(previous []byte, e Event) ([]byte, error) {
	e.ID = 0
	line, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(append(slices.Clone(previous), line...))
	return sum[:], nil
}

// EventActions lists the kinds of event that there are.
func (db *DB) EventActions(ctx context.Context) (all []string, err error) {
	err = db.SelectContext(ctx, &all, `select distinct action from event order by 1`)
	return all, err
}
