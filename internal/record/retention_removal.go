package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

// Versions are taken out of use and brought back in one order everywhere: the
// versions first, by their ids, and the packages after them.

// RemoveVersions takes what can be seen of a package out of use: of some versions,
// or of all if none are named. It gives their ids.
func (tx *Tx) RemoveVersions(
	ctx context.Context, key catalog.PackageKey, versions []string, grace time.Duration, at time.Time,
) (ids []int64, err error) {
	if err := tx.SelectContext(ctx, &ids, `select v.id from version v join package p on p.id = v.package_id
		where p.repository_id = $1 and p.ecosystem = $2 and p.namespace = $3 and p.name = $4
		and (cardinality($5::text[]) = 0 or v.version = any($5)) and v.visible_from is not null and v.visible_until is null`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, append([]string{}, versions...)); err != nil {
		return nil, err
	}
	if ids, err = tx.Hold(ctx, ids); err != nil {
		return nil, err
	}
	return ids, tx.TakeOut(ctx, ids, grace, at)
}

// Hold locks those of versions that can be seen, and their packages, until the
// transaction ends, and gives them.
func (tx *Tx) Hold(ctx context.Context, versionIDs []int64) (ids []int64, err error) {
	if err := tx.SelectContext(ctx, &ids,
		`select id from version where id = any($1) and visible_from is not null and visible_until is null
		order by id for update`, versionIDs); err != nil {
		return nil, err
	}
	_, err = tx.ExecContext(ctx,
		`select id from package where id in (select package_id from version where id = any($1)) order by id for update`, ids)
	return ids, err
}

// TakeOut takes versions out of use that are held; they can be brought back within
// the grace. Labels go with the versions that they are at.
func (tx *Tx) TakeOut(ctx context.Context, versionIDs []int64, grace time.Duration, at time.Time) error {
	if len(versionIDs) == 0 {
		return nil
	}
	if _, err := tx.ExecContext(ctx,
		`update version set visible_until = $2, grace_until = $3, changed_in = pg_current_xact_id() where id = any($1)`,
		versionIDs, at, at.Add(grace)); err != nil {
		return err
	}
	if err := tx.endMarks(ctx, versionIDs, at); err != nil {
		return err
	}
	return tx.recount(ctx, versionIDs, -1, at)
}

// Returned is what came of bringing a version back.
type Returned struct {
	ID int64 `db:"id"`
	// Why it did not come back; "" if it did.
	Why string `db:"why"`
}

// BringBack makes versions visible again that were removed and are in their grace,
// with the labels that they had, where nothing else has those by now.
func (tx *Tx) BringBack(ctx context.Context, versionIDs []int64, at time.Time) ([]Returned, error) {
	var rows []Returned
	if err := tx.SelectContext(ctx, &rows, `select g.id, case
			when g.visible_until is null then 'it is there'
			when g.reclaimed_at is not null or g.grace_until is null then 'its bytes are reclaimed'
			when exists (select from version v where v.package_id = g.package_id and v.version = g.version
			and v.upload = g.upload and v.visible_until is null) then 'it was published again'
			when (select r.removed_at from repository r join package p on p.repository_id = r.id
			where p.id = g.package_id) is not null then 'its repository was removed'
			else '' end why
		from version g where g.id = any($1) order by g.id for update of g`, versionIDs); err != nil {
		return nil, err
	}
	var back []int64
	for _, r := range rows {
		if r.Why == "" {
			back = append(back, r.ID)
		}
	}
	if len(back) == 0 {
		return rows, nil
	}
	if _, err := tx.ExecContext(ctx,
		`insert into absence (version_id, gone_from, back_at) select id, visible_until, $2::timestamptz from version
			where id = any($1)`, back, at); err != nil {
		return nil, err
	}
	if _, err := tx.ExecContext(ctx, `insert into label (package_id, name, version, set_by, visible_from)
		select distinct on (l.package_id, l.name) l.package_id, l.name, l.version, l.set_by, $2::timestamptz from version g
		join label l on l.package_id = g.package_id
			and l.version = g.version and l.visible_until = g.visible_until
		where g.id = any($1) and not exists (select from label n where n.package_id = l.package_id and n.name = l.name
		and n.visible_until is null)
		order by 1, 2, g.id desc`, back, at); err != nil {
		return nil, err
	}
	if _, err := tx.ExecContext(ctx, `insert into withdrawal (package_id, version, reason, by_name, visible_from)
		select distinct on (w.package_id, w.version) w.package_id, w.version, w.reason, w.by_name, $2::timestamptz
		from version g join withdrawal w on w.package_id = g.package_id
			and w.version = g.version and w.visible_until = g.visible_until
		where g.id = any($1) and not exists (select from withdrawal n where n.package_id = w.package_id
		and n.version = w.version and n.visible_until is null)
		order by 1, 2, g.id desc`, back, at); err != nil {
		return nil, err
	}
	if _, err := tx.ExecContext(ctx,
		`update version set visible_until = null, grace_until = null, brought_back_at = $2, unseen = false,
			changed_in = pg_current_xact_id()
		where id = any($1)`, back, at); err != nil {
		return nil, err
	}
	return rows, tx.recount(ctx, back, 1, at)
}

// KeysOf gives the packages that versions belong to, each once.
func (r reads) KeysOf(ctx context.Context, versionIDs []int64) ([]catalog.PackageKey, error) {
	rows, err := r.q.QueryxContext(ctx,
		`select distinct p.repository_id, p.ecosystem, p.namespace, p.name from version v join package p
			on p.id = v.package_id
		where v.id = any($1) order by 1, 2, 3, 4`, versionIDs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var keys []catalog.PackageKey
	for rows.Next() {
		var row keyRow
		if err := rows.StructScan(&row); err != nil {
			return nil, err
		}
		keys = append(keys, row.value())
	}
	return keys, rows.Err()
}

// Pin is a person's mark that keeps a version from every sweep.
type Pin struct {
	ID           int64      `db:"id"`
	RepositoryID int64      `db:"repository_id"`
	Ecosystem    string     `db:"ecosystem"`
	Namespace    string     `db:"namespace"`
	Name         string     `db:"name"`
	Version      string     `db:"version"` // or the name of an upload
	Reason       string     `db:"reason"`
	By           string     `db:"by_name"`
	At           time.Time  `db:"at"`
	Until        *time.Time `db:"until"`
	PackageID    int64      `db:"package_id"`
}

const pinColumns = `select k.id, k.package_id, p.repository_id, p.ecosystem, p.namespace, p.name, k.version, k.reason, k.by_name, k.at, k.until
	from pin k join package p on p.id = k.package_id `

// SetPin pins a version that can be seen, or an upload of one; what was said of it
// before is replaced. done is false if there is no such version.
func (tx *Tx) SetPin(ctx context.Context, key catalog.PackageKey, p Pin) (done bool, err error) {
	// A sweep that is at it holds the version: either it is seen to be pinned, or
	// it is seen here to be gone.
	var ids []int64
	if err := tx.SelectContext(ctx, &ids,
		`select v.id from version v join package p on p.id = v.package_id where p.repository_id = $1 and p.ecosystem = $2
		and p.namespace = $3 and p.name = $4 and (v.version = $5 or v.upload = $5) and v.visible_from is not null
		and v.visible_until is null order by v.id for share of v`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, p.Version); err != nil || len(ids) == 0 {
		return false, err
	}
	if _, err := tx.EndPin(ctx, key, p.Version, p.By, p.At); err != nil {
		return false, err
	}
	_, err = tx.ExecContext(ctx, `insert into pin (package_id, version, reason, by_name, at, until) select `+packageOf+
		`, $5, $6, $7, $8::timestamptz, $9::timestamptz`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, p.Version, p.Reason, p.By, p.At, p.Until)
	return true, err
}

// EndPin ends a pin; done is false if there was none.
func (tx *Tx) EndPin(
	ctx context.Context, key catalog.PackageKey, version, by string, at time.Time,
) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, `update pin set ended_by = $6, ended_at = $7 where package_id = `+packageOf+
		` and version = $5 and ended_at is null`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, version, by, at))
}

// PinOf is a pin that holds at a moment on one of some versions, or ErrNotFound.
func (r reads) PinOf(ctx context.Context, versionIDs []int64, at time.Time) (p Pin, err error) {
	err = sqlx.GetContext(ctx, r.q, &p, pinColumns+
		`where exists (select from version v where v.id = any($1) and v.package_id = k.package_id
		and k.version in (v.version, v.upload)) and k.at <= $2 and k.ended_at is null and (k.until is null or k.until > $2)
		order by k.id limit 1`, versionIDs, at)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return p, err
}

// Pins lists the pins in scope that hold at a moment, the newest first.
func (r reads) Pins(ctx context.Context, scope Scope, at time.Time) (pins []Pin, err error) {
	arguments := []any{scope.Repositories, at}
	rows, err := r.q.QueryxContext(ctx, pinColumns+
		`where p.repository_id = any($1) and k.at <= $2 and (k.ended_at is null or k.ended_at > $2)
		and (k.until is null or k.until > $2)`+scope.and(&arguments)+` order by k.id desc`, arguments...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p Pin
		if err := rows.StructScan(&p); err != nil {
			return nil, err
		}
		pins = append(pins, p)
	}
	return pins, rows.Err()
}

// Removed is a version that was there and is not any more.
type Removed struct {
	RepositoryID int64      `db:"repository_id"`
	Version      string     `db:"version"`
	At           time.Time  `db:"at"`
	Until        *time.Time `db:"until"` // until when it can be brought back
	Reclaimed    bool       `db:"reclaimed"`
	Sweep        int64      `db:"sweep"`  // 0 if it was no sweep
	Policy       string     `db:"policy"` // "" for what was removed by hand
	By           string     `db:"by_name"`
	Promotion    int64      `db:"promotion"` // that was undone; 0 for any other end
}

// RemovedOf lists the versions of a package, or one of them, that were removed from
// some repositories and did not come back, what was removed last first.
func (r reads) RemovedOf(
	ctx context.Context, repositoryIDs []int64, key catalog.PackageKey, version string, limit int,
) (all []Removed, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select * from (
			select distinct on (p.repository_id, v.version) p.repository_id, v.version, v.visible_until at, v.grace_until until,
			v.reclaimed_at is not null reclaimed,
				coalesce(s.id, 0) sweep, coalesce(s.policy, '') policy, coalesce(s.begun_by, '') by_name, coalesce(u.id,
				0) promotion
			from package p join version v on v.package_id = p.id
			left join lateral (select w.id, w.policy, w.begun_by from sweep_item i join sweep w on w.id = i.sweep_id
				where i.version_id = v.id and i.state in ('removed', 'reclaimed') order by w.id desc limit 1) s on true
			left join lateral (select o.id from promotion_item i join promotion o on o.id = i.promotion_id
				where s.id is null and i.target_id = v.id and o.state = 'undone' order by o.id desc limit 1) u on true
			where p.repository_id = any($1) and p.ecosystem = $2 and p.namespace = $3 and p.name = $4 and ($5 = ''
			or v.version = $5 or v.upload = $5)
				and v.visible_from is not null and v.visible_until is not null
				and not exists (select from version n where n.package_id = v.package_id and n.version = v.version
				and n.visible_from is not null and n.visible_until is null)
			order by p.repository_id, v.version, v.visible_until desc
		) x order by at desc, version limit $6`,
		repositoryIDs, key.Ecosystem, key.Namespace, key.Name, version, limit)
	return all, err
}
