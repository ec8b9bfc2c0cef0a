package record

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// Relay is a rule that sends what arrives in a repository on to another server.
type Relay struct {
	ID           int64         `db:"id"`
	Name         string        `db:"name"`
	RepositoryID int64         `db:"repository_id"`
	Target       string        `db:"destination"`
	Patterns     []string      `db:"-"` // what is sent; none: everything
	Holds        catalog.Holds `db:"holds"`
	Since        *time.Time    `db:"since"`    // only what came since then
	Schedule     string        `db:"schedule"` // when it is looked for what was missed
	Zone         string        `db:"zone"`
	Hours        string        `db:"hours"` // of the day, in the zone, in which it sends: 20:00-06:00; "": all
	Rate         int64         `db:"rate"`  // bytes a second that are sent at most; 0: no bound
	Paused       bool          `db:"paused"`
	Removals     bool          `db:"removals"` // what is removed here is removed there, too
	ByName       string        `db:"by_name"`
	MadeAt       time.Time     `db:"made_at"`
	LookedAt     *time.Time    `db:"looked_at"` // when it was last looked for what was missed
	Raw          []byte        `db:"patterns"`
}

// The states of a version that is relayed.
const (
	RelayWaiting = "waiting"
	RelaySent    = "sent"
	RelayFailed  = "failed"
)

// RelayItem is a version that a relay sends, or sent.
type RelayItem struct {
	RelayID   int64      `db:"relay_id"`
	VersionID int64      `db:"version_id"`
	PackageID int64      `db:"package_id"`
	Bytes     int64      `db:"bytes"`
	State     string     `db:"state"`
	Attempts  int        `db:"attempts"`
	QueuedAt  time.Time  `db:"queued_at"`
	NextAt    time.Time  `db:"next_at"`
	Said      string     `db:"said"`
	EndedAt   *time.Time `db:"ended_at"`
	// Of the version, as far as it is there.
	Ecosystem string `db:"ecosystem"`
	Namespace string `db:"namespace"`
	Name      string `db:"name"`
	Version   string `db:"version"`
	Upload    string `db:"upload"`
	Snapshot  bool   `db:"snapshot"`
}

// RelayState is how far a relay is.
type RelayState struct {
	RelayID int64      `db:"relay_id"`
	Waiting int        `db:"waiting"`
	Bytes   int64      `db:"bytes"`  // that wait
	Oldest  *time.Time `db:"oldest"` // since when the first of them waits
	Failed  int        `db:"failed"`
	Sent    int        `db:"sent"`
	LastAt  *time.Time `db:"last_at"` // when something was sent last
	Said    string     `db:"said"`    // what went wrong last, of what waits or failed
	// Telling counts packages of which another Crelvo is to be told, and NotTaken is what went wrong last with that.
	Telling  int    `db:"telling"`
	NotTaken string `db:"not_taken"`
}

const relayColumns = `id, name, repository_id, destination, patterns, holds, since, schedule, zone, hours, rate, paused,
	removals, by_name, made_at, looked_at`

// PURL is the package URL of the version.
func (i RelayItem) PURL() purl.PURL {
	return purl.PURL{Ecosystem: i.Ecosystem, Namespace: i.Namespace, Name: i.Name, Version: i.Version}
}

// Relays lists all by name.
func (r reads) Relays(ctx context.Context) (all []Relay, err error) {
	if err := sqlx.SelectContext(ctx, r.q, &all, `select `+relayColumns+` from relay order by name`); err != nil {
		return nil, err
	}
	for i := range all {
		err = errors.Join(err, json.Unmarshal(all[i].Raw, &all[i].Patterns))
	}
	return all, err
}

// SetRelay adds a relay, or writes the one of that id anew; ok is false if the name is taken.
func (tx *Tx) SetRelay(ctx context.Context, r Relay) (id int64, ok bool, err error) {
	raw, err := json.Marshal(append([]string{}, r.Patterns...))
	if err != nil {
		return 0, false, err
	}
	var ids []int64
	if r.ID == 0 {
		err = tx.SelectContext(ctx, &ids, `insert into relay (name, repository_id, destination, patterns, holds, since, schedule,
				zone, hours, rate, by_name, made_at, removals) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
			on conflict (name) do nothing returning id`, r.Name, r.RepositoryID, r.Target, raw, r.Holds, r.Since,
			r.Schedule, r.Zone, r.Hours, r.Rate, r.ByName, r.MadeAt, r.Removals)
	} else {
		err = tx.SelectContext(ctx, &ids, `update relay set destination = $2, patterns = $3, holds = $4, schedule = $5,
				zone = $6, hours = $7, rate = $8, paused = $9, removals = $10 where id = $1 returning id`, r.ID, r.Target,
			raw, r.Holds, r.Schedule, r.Zone, r.Hours, r.Rate, r.Paused, r.Removals)
	}
	if err != nil || len(ids) == 0 {
		return 0, false, err
	}
	return ids[0], true, nil
}

// RemoveRelay removes one, and what it would have sent.
func (tx *Tx) RemoveRelay(ctx context.Context, id int64) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, `delete from relay where id = $1`, id))
}

// Unrelayed lists versions of a repository and an ecosystem that a relay has not taken up, those after one
// first; of one package if key names it.
func (db *DB) Unrelayed(
	ctx context.Context, relayID int64, key catalog.PackageKey, after int64, limit int,
) (all []RelayItem, err error) {
	err = db.SelectContext(ctx, &all, `select $1::bigint relay_id, v.id version_id, v.package_id, v.bytes, p.ecosystem,
			p.namespace, p.name, v.version, v.upload, v.snapshot
		from relay r join package p on p.repository_id = r.repository_id and p.ecosystem = $2
		join version v on v.package_id = p.id
		where r.id = $1 and ($4 = '' or p.namespace = $3 and p.name = $4)
			and v.visible_from is not null and v.visible_until is null and (r.since is null or v.visible_from >= r.since)
			and not exists (select from relay_item i where i.relay_id = $1 and i.version_id = v.id)
			and v.id > $5
		order by v.id limit $6`, relayID, key.Ecosystem, key.Namespace, key.Name, after, limit)
	return all, err
}

// QueueRelayed takes up versions; several may do so at once.
func (db *DB) QueueRelayed(ctx context.Context, relayID int64, items []RelayItem, at time.Time) (n int64, err error) {
	versions, packages, bytes := make([]int64, len(items)), make([]int64, len(items)), make([]int64, len(items))
	for i, item := range items {
		versions[i], packages[i], bytes[i] = item.VersionID, item.PackageID, item.Bytes
	}
	result, err := db.ExecContext(ctx, `insert into relay_item (relay_id, version_id, package_id, bytes, state, queued_at,
			next_at)
		select r.id, o.version, o.package, o.bytes, 'waiting', $5, $5
		from relay r, unnest($2::bigint[], $3::bigint[], $4::bigint[]) o(version, package, bytes) where r.id = $1
		on conflict do nothing`, relayID, versions, packages, bytes, at)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// LookedForRelay notes that it was looked for what a relay missed.
func (db *DB) LookedForRelay(ctx context.Context, relayID int64, at time.Time) error {
	_, err := db.ExecContext(ctx, `update relay set looked_at = $2 where id = $1`, relayID, at)
	return err
}

// TakeRelayed takes a version that is to be sent by one of some relays, the first of its package, and keeps
// it from others for a while; ok is false if nothing is due.
func (db *DB) TakeRelayed(
	ctx context.Context, relayIDs []int64, at, until time.Time,
) (i RelayItem, ok bool, err error) {
	var taken []RelayItem
	err = db.SelectContext(ctx, &taken, `update relay_item set attempts = attempts + 1, next_at = $3
		where (relay_id, version_id) = (select i.relay_id, i.version_id from relay_item i
			where i.relay_id = any($1) and i.state = 'waiting' and i.next_at <= $2
				and not exists (select from relay_item o where o.relay_id = i.relay_id and o.package_id = i.package_id
					and o.state = 'waiting' and o.version_id < i.version_id)
			order by i.next_at, i.version_id limit 1 for update skip locked)
		returning relay_id, version_id, package_id, bytes, state, attempts, queued_at, next_at, said, ended_at`, relayIDs, at,
		until)
	if err != nil || len(taken) == 0 {
		return i, false, err
	}
	return taken[0], true, nil
}

// TakeMoreRelayed takes more versions that a relay is to send, for a target that takes many at once.
func (db *DB) TakeMoreRelayed(
	ctx context.Context, relayID int64, at, until time.Time, limit int,
) (taken []RelayItem, err error) {
	err = db.SelectContext(ctx, &taken, `update relay_item set attempts = attempts + 1, next_at = $3
		where relay_id = $1 and version_id in (select version_id from relay_item
			where relay_id = $1 and state = 'waiting' and next_at <= $2 order by next_at, version_id limit $4
			for update skip locked)
		returning relay_id, version_id, package_id, bytes, state, attempts, queued_at, next_at, said, ended_at`, relayID, at,
		until, limit)
	return taken, err
}

// SetRelayed notes what came of an attempt. leased is until when it was kept from others: one that is to wait, and
// that somebody wants tried again since, is not put off.
func (db *DB) SetRelayed(ctx context.Context, i RelayItem, leased time.Time) error {
	_, err := db.ExecContext(ctx, `update relay_item set state = $3, next_at = $4, said = $5, ended_at = $6,
			attempts = $7
		where relay_id = $1 and version_id = $2 and state = 'waiting' and ($3 <> 'waiting' or next_at = $8)`, i.RelayID,
		i.VersionID, i.State, i.NextAt, storable(i.Said), i.EndedAt, i.Attempts, leased)
	return err
}

// RetryRelayed has what a relay could not send tried again, and what waits for another attempt tried now.
func (tx *Tx) RetryRelayed(ctx context.Context, relayID int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, `update relay_item set attempts = 0, next_at = $2, state = 'waiting', ended_at = null
		where relay_id = $1 and (state = 'failed' or state = 'waiting' and next_at > $2 and said <> '')`, relayID, at)
	return err
}

// HurryRelayed has what would be tried again by a moment tried now.
func (db *DB) HurryRelayed(ctx context.Context, relayID int64, at, by time.Time) error {
	_, err := db.ExecContext(ctx, `update relay_item set next_at = $2
		where relay_id = $1 and state = 'waiting' and next_at > $2 and next_at <= $3 and said <> ''`, relayID, at, by)
	return err
}

// DropRelayed forgets what was sent before a moment and is not there any more.
func (db *DB) DropRelayed(ctx context.Context, before time.Time) error {
	_, err := db.ExecContext(ctx, `delete from relay_item i where i.state = 'sent' and i.ended_at < $1 and not exists (
		select from version v where v.id = i.version_id and v.visible_until is null)`, before)
	return err
}

// RelayStates tells how far relays are.
func (db *DB) RelayStates(ctx context.Context) (all []RelayState, err error) {
	err = db.SelectContext(ctx, &all, `select r.id relay_id, coalesce(c.waiting, 0) waiting, coalesce(c.bytes, 0) bytes,
			c.oldest, coalesce(c.failed, 0) failed, coalesce(c.sent, 0) sent, c.last_at, coalesce(s.said, '') said,
			coalesce(m.telling, 0) telling, coalesce(m.said, '') not_taken
		from relay r
		left join (select relay_id, count(*) filter (where due) telling, max(said) filter (where said <> '') said
			from relay_mark group by relay_id) m on m.relay_id = r.id
		left join (select relay_id, count(*) filter (where state = 'waiting') waiting,
			sum(bytes) filter (where state = 'waiting')::bigint bytes, min(queued_at) filter (where state = 'waiting') oldest,
			count(*) filter (where state = 'failed') failed, count(*) filter (where state = 'sent') sent,
			max(ended_at) filter (where state = 'sent') last_at from relay_item group by relay_id) c on c.relay_id = r.id
		left join lateral (select said from relay_item i where i.relay_id = r.id and i.state <> 'sent' and i.said <> ''
			order by i.state, i.attempts desc limit 1) s on true
		order by r.name`)
	return all, err
}

// Relayed lists what a relay sends: what failed and what waits, the first to be sent first; or, by state,
// what was sent, the last first.
func (db *DB) Relayed(ctx context.Context, relayID int64, state string, limit int) (all []RelayItem, err error) {
	err = db.SelectContext(ctx, &all, `select i.relay_id, i.version_id, i.package_id, i.bytes, i.state, i.attempts,
			i.queued_at, i.next_at, i.said, i.ended_at, coalesce(p.ecosystem, '') ecosystem,
			coalesce(p.namespace, '') namespace, coalesce(p.name, '') name, coalesce(v.version, '') as version,
			coalesce(v.upload, '') upload
		from relay_item i left join version v on v.id = i.version_id left join package p on p.id = i.package_id
		where i.relay_id = $1 and i.state = $2 order by i.ended_at desc nulls last, i.version_id limit $3`, relayID, state,
		limit)
	return all, err
}
