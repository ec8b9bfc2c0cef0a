package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"
)

// Feed is a source of advisories.
type Feed struct {
	ID       int16
	Name     string
	Location string // a folder, an archive or an address
	Private  bool   // it was at a private address when it was added
	Every    time.Duration
	By       string
	AddedAt  time.Time
	// State tells how far each part of it was read.
	State            map[string]FeedPart
	BegunAt, EndedAt *time.Time
	Failure          string
	Report           FeedReport
	Running          bool
}

// FeedPart is how far a part of a feed was read.
type FeedPart struct {
	Until time.Time `json:"until,omitzero"` // records that changed by then are here
	Mark  string    `json:"mark,omitempty"` // of the archive that was read whole
}

// FeedReport is what a run did.
type FeedReport struct {
	Read    int      `json:"read"`    // records that were looked at
	Added   int      `json:"added"`   // that were not here
	Changed int      `json:"changed"` // that are not as they were
	Foreign int      `json:"foreign"` // that are about nothing that is known here
	Failed  int      `json:"failed"`
	Faults  []string `json:"faults,omitempty"` // the first of what was wrong with those that failed
}

type feedRow struct {
	ID           int16
	Name         string
	Location     string
	Private      bool
	Seconds      float64
	By           string     `db:"by_name"`
	AddedAt      time.Time  `db:"added_at"`
	BegunAt      *time.Time `db:"begun_at"`
	EndedAt      *time.Time `db:"ended_at"`
	Failure      string
	Running      bool
	State        []byte
	ReportedJSON []byte `db:"report"`
}

const feedColumns = `id, name, location, private, extract(epoch from every)::float8 seconds, by_name, added_at,
	begun_at, ended_at, failure, working_until > $1 running, state, report`

func (r feedRow) value() (Feed, error) {
	f := Feed{ID: r.ID, Name: r.Name, Location: r.Location, Private: r.Private, By: r.By, AddedAt: r.AddedAt,
		Every: time.Duration(r.Seconds * float64(time.Second)), BegunAt: r.BegunAt, EndedAt: r.EndedAt,
		Failure: r.Failure, Running: r.Running}
	return f, errors.Join(json.Unmarshal(r.State, &f.State), json.Unmarshal(r.ReportedJSON, &f.Report))
}

// Feeds lists all, by name.
func (db *DB) Feeds(ctx context.Context, now time.Time) (all []Feed, err error) {
	var rows []feedRow
	err = db.SelectContext(ctx, &rows, `select `+feedColumns+` from advisory_feed order by name`, now)
	for _, row := range rows {
		f, wrong := row.value()
		all, err = append(all, f), errors.Join(err, wrong)
	}
	return all, err
}

// AddFeed puts one on record; added is false if the name is taken.
func (tx *Tx) AddFeed(ctx context.Context, f Feed) (added bool, err error) {
	return changedOne(tx.ExecContext(ctx, `insert into advisory_feed (name, location, private, every, by_name, added_at)
		values ($1, $2, $3, make_interval(secs => $4), $5, $6) on conflict (name) do nothing`,
		f.Name, f.Location, f.Private, f.Every.Seconds(), f.By, f.AddedAt))
}

// RemoveFeed takes one away; what it brought stays. removed is false if there is none.
func (tx *Tx) RemoveFeed(ctx context.Context, name string) (removed bool, err error) {
	return changedOne(tx.ExecContext(ctx, `delete from advisory_feed where name = $1`, name))
}

// ClaimFeed gives a feed that nobody is reading, to be read by the caller until a moment: the
// one of that name or, with "", one whose time has come. Else the error is ErrNotFound.
func (db *DB) ClaimFeed(ctx context.Context, name string, now, until time.Time) (f Feed, err error) {
	var row feedRow
	err = db.GetContext(ctx, &row, `update advisory_feed set working_until = $2, begun_at = $1, ended_at = null
		where id = (select id from advisory_feed where working_until <= $1 and case when $3 <> '' then name = $3
			else begun_at is null or begun_at + (case when failure = '' then every else least(every, '15 minutes') end) <= $1 end
			order by begun_at nulls first limit 1 for update skip locked)
		returning `+feedColumns, now, until, name)
	if errors.Is(err, sql.ErrNoRows) {
		return f, ErrNotFound
	}
	if err != nil {
		return f, err
	}
	return row.value()
}

// NoteFeed notes how far a run is, and that it goes on until a moment at least.
func (tx *Tx) NoteFeed(ctx context.Context, f Feed, until time.Time) error {
	state, err := json.Marshal(f.State)
	if err != nil {
		return err
	}
	report, err := json.Marshal(f.Report)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `update advisory_feed set state = $2, report = $3, failure = $4, ended_at = $5,
		working_until = $6 where id = $1`, f.ID, string(storableJSON(state)), string(storableJSON(report)),
		storable(f.Failure), f.EndedAt, until)
	return err
}
