package record

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
)

// RelayMark is a package of which a relay tells another Crelvo the labels, withdrawals and removals.
type RelayMark struct {
	RelayID   int64      `db:"relay_id"`
	PackageID int64      `db:"package_id"`
	Revision  int64      `db:"revision"` // of the package now
	ToldAt    *time.Time `db:"told_at"`
	Attempts  int        `db:"attempts"`
	NextAt    time.Time  `db:"next_at"`
	Ecosystem string     `db:"ecosystem"`
	Namespace string     `db:"namespace"`
	Name      string     `db:"name"`
	Said      string     `db:"said"`
}

// QueueMarks has a relay tell of packages that changed since it told of them, of those that it sent something of: of
// one, if key names it. Several may do so at once.
func (db *DB) QueueMarks(
	ctx context.Context, relayID int64, key catalog.PackageKey, at time.Time,
) (n int64, err error) {
	result, err := db.ExecContext(ctx, `insert into relay_mark (relay_id, package_id, due, revision, next_at)
		select r.id, p.id, true, -1, $5 from relay r
		join package p on p.repository_id = r.repository_id and p.ecosystem = $2
			and ($4 = '' or p.namespace = $3 and p.name = $4)
		where r.id = $1 and exists (select from relay_item i where i.relay_id = r.id and i.package_id = p.id
				and i.state = 'sent')
			and not exists (select from relay_mark m where m.relay_id = r.id and m.package_id = p.id
				and (m.due or m.revision = p.revision))
		on conflict (relay_id, package_id) do update set due = true, attempts = 0, next_at = excluded.next_at`, relayID,
		key.Ecosystem, key.Namespace, key.Name, at)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// TellAgain has a relay tell of packages again of which it sent something more.
func (db *DB) TellAgain(ctx context.Context, relayID int64, packageIDs []int64, at time.Time) error {
	_, err := db.ExecContext(ctx, `insert into relay_mark (relay_id, package_id, due, revision, next_at)
		select r.id, p.id, true, -1, $3 from relay r, package p where r.id = $1 and p.id = any($2)
		on conflict (relay_id, package_id) do update set due = true, revision = -1, attempts = 0, next_at = excluded.next_at`,
		relayID, packageIDs, at)
	return err
}

// TakeMark takes a package that one of some relays is to tell of, of which no version waits to be sent, and keeps it
// from others for a while; ok is false if there is none.
func (db *DB) TakeMark(ctx context.Context, relayIDs []int64, at, until time.Time) (m RelayMark, ok bool, err error) {
	var taken []RelayMark
	err = db.SelectContext(ctx, &taken, `update relay_mark m set attempts = attempts + 1, next_at = $3 from package p
		where p.id = m.package_id and (m.relay_id, m.package_id) = (select o.relay_id, o.package_id from relay_mark o
			where o.relay_id = any($1) and o.due and o.next_at <= $2 and not exists (select from relay_item i
				where i.relay_id = o.relay_id and i.package_id = o.package_id and i.state = 'waiting')
			order by o.next_at, o.package_id limit 1 for update skip locked)
		returning m.relay_id, m.package_id, p.revision, m.told_at, m.attempts, m.next_at, p.ecosystem, p.namespace, p.name,
			m.said`, relayIDs, at, until)
	if err != nil || len(taken) == 0 {
		return m, false, err
	}
	return taken[0], true, nil
}

// SetMark notes what came of telling of a package that was taken, and kept from others until leased. Its revision is
// what was told; -1: nothing was, for a reason that may pass, and it is tried again when m.NextAt is, or, if due is
// false, when it is looked for what was missed.
func (db *DB) SetMark(ctx context.Context, m RelayMark, due bool, leased time.Time) error {
	_, err := db.ExecContext(ctx, `update relay_mark m set due = $8 and p.revision <> $3, revision = $3, told_at = $4,
			said = $5, attempts = $9, next_at = $7 from package p
		where p.id = m.package_id and m.relay_id = $1 and m.package_id = $2 and m.next_at = $6`, m.RelayID, m.PackageID,
		m.Revision, m.ToldAt, storable(m.Said), leased, m.NextAt, due, m.Attempts)
	return err
}

// MarksOf are what was said of the versions of a package since a moment, nil for ever, and of those that a relay sent
// since, with removals of what it sent if these are wanted, and the revision of the package that this is of.
func (db *DB) MarksOf(ctx context.Context, m RelayMark, removals bool) (marks bundle.Marks, revision int64, err error) {
	// What changes after the revision was read is told once more.
	if err := db.GetContext(ctx, &revision, `select revision from package where id = $1`, m.PackageID); err != nil {
		return marks, 0, err
	}
	if err := db.SelectContext(ctx, &marks.Labels, `select name, version, at from (select distinct on (name) name,
			case when visible_until is null then version else '' end as version, `+saidAt+`,
			coalesce(visible_until, visible_from) as here from label where package_id = $1
			order by name, visible_from desc, visible_until desc nulls first) l
		where `+toTell+` order by at`, m.PackageID, m.ToldAt, m.RelayID); err != nil {
		return marks, 0, err
	}
	if err := db.SelectContext(ctx, &marks.Withdrawn, `select version, reason, lifted, at from (select distinct on (version)
			version, reason, visible_until is not null as lifted, `+saidAt+`,
			coalesce(visible_until, visible_from) as here from withdrawal where package_id = $1
			order by version, visible_from desc, visible_until desc nulls first) l
		where `+toTell+` order by at`, m.PackageID, m.ToldAt, m.RelayID); err != nil || !removals {
		return marks, revision, err
	}
	err = db.SelectContext(ctx, &marks.Removed, `select v.version, max(v.visible_until) as at from version v
		join relay_item i on i.relay_id = $3 and i.version_id = v.id and i.state = 'sent'
		where v.package_id = $1 and v.visible_until is not null and ($2::timestamptz is null or v.visible_until >= $2)
			and not exists (select from version o where o.package_id = $1 and o.version = v.version
				and o.visible_from is not null and o.visible_until is null)
		group by v.version order by 2`, m.PackageID, m.ToldAt, m.RelayID)
	return marks, revision, err
}

// toTell is that something was said since a moment, or about a version that was sent since then.
const toTell = `($2::timestamptz is null or here >= $2 or exists (select from relay_item i join version v on v.id = i.version_id
	where i.relay_id = $3 and i.package_id = $1 and i.state = 'sent' and i.ended_at >= $2 and v.version = l.version))`

// saidAt is when a label or a withdrawal was made, or ended, wherever that was.
const saidAt = `case when visible_until is null then coalesce(said_at, visible_from)
	else coalesce(until_said_at, visible_until) end as at`

// SaidMark is what was said last of a label or a version.
type SaidMark struct {
	Of string    `db:"of"` // the label or the version
	Is string    `db:"is"` // the version that the label leads to, or why the version is withdrawn
	On bool      `db:"on"` // it is so
	At time.Time `db:"at"`
}

// HoldPackage holds off others who change a package until this ends.
func (tx *Tx) HoldPackage(ctx context.Context, key catalog.PackageKey) error {
	_, err := tx.ExecContext(ctx, `select from package where repository_id = $1 and ecosystem = $2 and namespace = $3
		and name = $4 for update`, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name)
	return err
}

// LabelsSaid is what was said last of those of some labels of a package of which something was, by name.
func (r reads) LabelsSaid(
	ctx context.Context, key catalog.PackageKey, names []string,
) (map[string]SaidMark, error) {
	return r.said(ctx, `label`, `name`, `version`, key, names)
}

// WithdrawalsSaid is LabelsSaid for whether versions are withdrawn.
func (r reads) WithdrawalsSaid(
	ctx context.Context, key catalog.PackageKey, versions []string,
) (map[string]SaidMark, error) {
	return r.said(ctx, `withdrawal`, `version`, `reason`, key, versions)
}

func (r reads) said(
	ctx context.Context, table, by, is string, key catalog.PackageKey, of []string,
) (map[string]SaidMark, error) {
	var rows []SaidMark
	err := sqlx.SelectContext(ctx, r.q, &rows, `select distinct on (`+by+`) `+by+` as "of", `+is+` as "is",
			visible_until is null as "on", `+saidAt+`
		from `+table+` where package_id = `+packageOf+` and `+by+` = any($5)
		order by `+by+`, visible_from desc, visible_until desc nulls first`, key.RepositoryID, key.Ecosystem, key.Namespace,
		key.Name, of)
	all := make(map[string]SaidMark, len(rows))
	for _, row := range rows {
		all[row.Of] = row
	}
	return all, err
}

// SayLabel notes when what is said now of a label of a package was said where it comes from.
func (tx *Tx) SayLabel(ctx context.Context, key catalog.PackageKey, name string, at time.Time) error {
	return tx.say(ctx, `label`, `name`, key, name, at)
}

// SayWithdrawal is SayLabel for whether a version is withdrawn.
func (tx *Tx) SayWithdrawal(ctx context.Context, key catalog.PackageKey, version string, at time.Time) error {
	return tx.say(ctx, `withdrawal`, `version`, key, version, at)
}

func (tx *Tx) say(
	ctx context.Context, table, by string, key catalog.PackageKey, name string, at time.Time,
) error {
	_, err := tx.ExecContext(ctx, `update `+table+` set said_at = case when visible_until is null then $6 else said_at end,
			until_said_at = case when visible_until is null then until_said_at else $6 end
		where ctid = (select ctid from `+table+` where package_id = `+packageOf+` and `+by+` = $5
			order by visible_from desc, visible_until desc nulls first limit 1)`, key.RepositoryID, key.Ecosystem,
		key.Namespace, key.Name, name, at)
	return err
}
