package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"
)

// Node is one run of the program on these records.
type Node struct {
	ID        string    `db:"id"`
	Name      string    `db:"name"`
	Address   string    `db:"address"`
	Version   string    `db:"version"`
	StartedAt time.Time `db:"started_at"`
	SeenAt    time.Time `db:"seen_at"`
	Draining  bool      `db:"draining"`
	Requests  int       `db:"requests"` // being answered
	Answered  int64     `db:"answered"` // in the last minute
	Memory    int64     `db:"memory"`   // bytes
	Doing     []string  `db:"-"`        // in the background
}

// ID names this run of the program among the nodes.
func (db *DB) ID() string { return db.node }

// Nodes lists the nodes that gave a sign of life within a time, the oldest first.
func (db *DB) Nodes(ctx context.Context, within time.Duration) ([]Node, error) {
	rows, err := db.QueryxContext(ctx, `select `+nodeColumns+`, doing from node where seen_at > clock_timestamp() - $1 * interval '1 second' order by started_at, id`,
		within.Seconds())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Node
	for rows.Next() {
		var n Node
		if err := rows.Scan(&n.ID, &n.Name, &n.Address, &n.Version, &n.StartedAt, &n.SeenAt, &n.Draining, &n.Requests,
			&n.Answered, &n.Memory, list(&n.Doing)); err != nil {
			return nil, err
		}
		all = append(all, n)
	}
	return all, rows.Err()
}

// Beat is a sign of life of this node, which gives one every so often: how it is is written,
// and whoever listens hears of it. isNew tells that it was not known, or was taken for dead.
func (db *DB) Beat(ctx context.Context, n Node, every time.Duration) (draining, isNew bool, err error) {
	err = db.QueryRowxContext(ctx, `insert into node (id, name, address, version, requests, answered, memory, doing)
			values ($1, $2, $3, $4, $5, $6, $7, $8)
		on conflict (id) do update set name = excluded.name, address = excluded.address, seen_at = clock_timestamp(),
			steady_since = case when node.seen_at < clock_timestamp() - 2.5 * $9 * interval '1 second' then clock_timestamp()
				else node.steady_since end,
			requests = excluded.requests, answered = excluded.answered, memory = excluded.memory, doing = excluded.doing
		returning draining, xmax = 0`, db.node, n.Name, n.Address, n.Version, n.Requests, n.Answered, n.Memory,
		append([]string{}, n.Doing...), every.Seconds()).Scan(&draining, &isNew)
	if err != nil {
		return false, false, err
	}
	told, err := json.Marshal(announcement{Node: db.node})
	if isNew && err == nil { // which the others take note of
		told, err = json.Marshal(announcement{Change: Change{Kind: OfNode}, Node: db.node})
	}
	if err == nil {
		_, err = db.ExecContext(ctx, `select pg_notify($1, $2)`, channel, string(told))
	}
	return draining, isNew, err
}

// Leave takes this node out of the list: it ends in order.
func (db *DB) Leave(ctx context.Context) error {
	_, err := db.ExecContext(ctx, `delete from node where id = $1`, db.node)
	return err
}

// Bury takes nodes out of the list that gave no sign of life for a time in which this one
// gave all of its own: after the database was away, nobody did. What they may have
// been receiving, which is what nobody went on with since, does not become visible by
// itself.
func (db *DB) Bury(ctx context.Context, after time.Duration) (dead []Node, err error) {
	err = db.Within(ctx, func(tx *Tx) error {
		dead = nil
		if err := tx.SelectContext(ctx, &dead, `delete from node where seen_at < clock_timestamp() - $1 * interval '1 second'
			and id <> $2 and exists (select from node where id = $2
				and steady_since < clock_timestamp() - $1 * interval '1 second')
			returning `+nodeColumns, after.Seconds(), db.node); err != nil || len(dead) == 0 {
			return err
		}
		return tx.giveUp(ctx, dead)
	})
	return dead, err
}

// BuryNode takes a node out of the list that is known to have ended.
func (db *DB) BuryNode(ctx context.Context, id string) error {
	return db.Within(ctx, func(tx *Tx) error {
		var dead []Node
		if err := tx.SelectContext(ctx, &dead, `delete from node where id = $1 returning `+nodeColumns, id); err != nil ||
			len(dead) == 0 {
			return err
		}
		return tx.giveUp(ctx, dead)
	})
}

const nodeColumns = `id, name, address, version, started_at, seen_at, draining, requests, answered, memory`

// giveUp gives up what dead nodes did.
func (tx *Tx) giveUp(ctx context.Context, dead []Node) error {
	last := dead[0].SeenAt
	for _, n := range dead {
		if n.SeenAt.After(last) {
			last = n.SeenAt
		}
		if _, err := tx.ExecContext(ctx, `delete from fetching where node_id = $1`, n.ID); err != nil {
			return err
		}
	}
	// What arrived after its last word may be what it received before it died. Whoever sends
	// more of it, or says that it is whole, is not kept from that.
	ids := make([]string, len(dead))
	for i, n := range dead {
		ids[i] = n.ID
	}
	_, err := tx.ExecContext(ctx, `update version set unattended_at = $1::timestamptz + interval '5 seconds'
		where visible_from is null and visible_until is null and node_id = any($2)
			and touched_at < $1::timestamptz + interval '5 seconds'`, last, ids)
	return err
}

// Drain says that a node is to be left alone, or not any more; ErrNotFound if there is no
// such.
func (tx *Tx) Drain(ctx context.Context, id string, draining bool) error {
	done, err := changedOne(tx.ExecContext(ctx, `update node set draining = $2 where id = $1`, id, draining))
	if err == nil && !done {
		err = ErrNotFound
	}
	return err
}

// TakeFetching says that this node fetches a file for all, until a moment from now; done is
// false if another node does.
func (db *DB) TakeFetching(
	ctx context.Context, mirrorID int64, path string, within time.Duration,
) (done bool, err error) {
	return changedOne(db.ExecContext(ctx, `insert into fetching (mirror_id, path, node_id, until)
			values ($1, $2, $3, clock_timestamp() + $4 * interval '1 second')
		on conflict (mirror_id, path) do update set node_id = excluded.node_id, until = excluded.until
			where fetching.node_id = excluded.node_id or fetching.until < clock_timestamp()`,
		mirrorID, path, db.node, within.Seconds()))
}

// EndFetching says that it does not any more.
func (db *DB) EndFetching(ctx context.Context, mirrorID int64, path string) error {
	_, err := db.ExecContext(ctx, `delete from fetching where mirror_id = $1 and path = $2 and node_id = $3`, mirrorID,
		path, db.node)
	return err
}

// Failures are wrong passwords in a row.
type Failures struct {
	Key   string    `db:"key"`
	Times int       `db:"times"`
	Last  time.Time `db:"last_at"`
}

// SignInFailures gives what is known of keys, which nobody else changes until the
// transaction ends.
func (tx *Tx) SignInFailures(ctx context.Context, keys ...string) (found map[string]Failures, err error) {
	for _, key := range keys {
		if err := tx.LockName(ctx, "sign-in "+key); err != nil {
			return nil, err
		}
	}
	var all []Failures
	err = tx.SelectContext(ctx, &all, `select key, times, last_at from sign_in_failure where key = any($1)`, keys)
	found = map[string]Failures{}
	for _, f := range all {
		found[f.Key] = f
	}
	return found, err
}

// SetSignInFailures writes what is known of a key; nothing, if it never failed.
func (tx *Tx) SetSignInFailures(ctx context.Context, f Failures) error {
	if f.Times <= 0 {
		_, err := tx.ExecContext(ctx, `delete from sign_in_failure where key = $1`, f.Key)
		return err
	}
	_, err := tx.ExecContext(ctx, `insert into sign_in_failure (key, times, last_at) values ($1, $2, $3)
		on conflict (key) do update set times = excluded.times, last_at = excluded.last_at`, f.Key, f.Times, f.Last)
	return err
}

// ForgetSignInFailures forgets those of before a moment.
func (db *DB) ForgetSignInFailures(ctx context.Context, before time.Time) error {
	_, err := db.ExecContext(ctx, `delete from sign_in_failure where last_at < $1`, before)
	return err
}

// Alone tells whether no other node gave a sign of life within a time.
func (db *DB) Alone(ctx context.Context, within time.Duration) (alone bool, err error) {
	err = db.GetContext(ctx, &alone, `select not exists (select from node where id <> $1
		and seen_at > clock_timestamp() - $2 * interval '1 second')`, db.node, within.Seconds())
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return alone, err
}
