package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"sync/atomic"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

type versionRow struct {
	ID          int64      `db:"id"`
	Version     string     `db:"version"`
	Upload      string     `db:"upload"`
	Snapshot    bool       `db:"snapshot"`
	UploadedAt  time.Time  `db:"uploaded_at"`
	UploadCount int        `db:"upload_count"`
	PublishedBy string     `db:"published_by"`
	BuildID     int64      `db:"build_id"`
	VisibleFrom *time.Time `db:"visible_from"`
	FirstAt     *time.Time `db:"first_at"`
	Arrived     *time.Time `db:"arrived"`
	Details     []byte     `db:"details"`
	Seen        bool       `db:"seen"`
}

type packageHead struct {
	ID       int64     `db:"id"`
	Revision int64     `db:"revision"`
	Changed  time.Time `db:"changed_at"`
	// State is which transactions had ended when it was read.
	State       string `db:"state"`
	Labels      []byte `db:"labels"`
	Withdrawals []byte `db:"withdrawals"`
}

// Known is a package as it was read, and what is needed to bring it up to date.
type Known struct {
	Package *catalog.Package
	state   string
	// newest is the highest id of its versions, and marked tells whether one is withdrawn.
	newest int64
	marked bool
	// room are its versions with the room behind them, which nobody else has, and grown is
	// set by who writes there.
	room  []catalog.Version
	grown *atomic.Bool
}

// Room is for how many versions there is room, those that are there included.
func (k Known) Room() int { return cap(k.room) }

// Package gives a package with its visible versions and their files, or
// ErrNotFound if nothing of it is visible. before is what an earlier call gave
// for the same key, or the zero Known: then only what changed since is read.
// What was given before is not changed.
func (db *DB) Package(ctx context.Context, key catalog.PackageKey, before Known) (Known, error) {
	var head packageHead
	visible := during("x", key.AsOf)
	// What is read after this may be newer, and is then read again next time.
	err := db.GetContext(ctx, &head, `select p.id, p.revision, p.changed_at, pg_current_snapshot()::text state,
		(select jsonb_object_agg(x.name, x.version) from label x where x.package_id = p.id and`+visible+`) labels,
		(select jsonb_object_agg(x.version, jsonb_build_object('reason', x.reason, 'by', x.by_name, 'at', x.visible_from))
			from withdrawal x where x.package_id = p.id and`+visible+`) withdrawals
		from package p where p.repository_id = $1 and p.ecosystem = $2 and p.namespace = $3 and p.name = $4
		and (p.versions > 0 or $5)`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, key.AsOf != 0)
	if errors.Is(err, sql.ErrNoRows) {
		return Known{}, ErrNotFound
	}
	if err != nil {
		return Known{}, err
	}
	p := &catalog.Package{ID: head.ID, Key: key, Revision: head.Revision, Changed: head.Changed}
	if before.Package != nil && (before.Package.ID != p.ID || key.AsOf != 0) {
		before = Known{}
	}
	before.marked = before.marked || head.Withdrawals != nil
	known := Known{Package: p, state: head.State, marked: head.Withdrawals != nil, grown: new(atomic.Bool)}
	if known.room, known.newest, err = db.versions(ctx, key, p.ID, before); err != nil {
		return Known{}, err
	}
	if len(known.room) == 0 {
		return Known{}, ErrNotFound
	}
	return known, known.put(head, before.marked)
}

// put gives the package its versions, and what the head says of them.
func (k Known) put(head packageHead, marked bool) error {
	p := k.Package
	p.Versions = slices.Clip(k.room)
	if err := head.apply(p, marked || k.marked); err != nil {
		return err
	}
	if p.Key.AsOf != 0 {
		p.Changed = time.Time{}
		for _, v := range p.Versions {
			if v.PublishedAt.After(p.Changed) {
				p.Changed = v.PublishedAt
			}
		}
	}
	return nil
}

// apply adds the labels and, if something is or was withdrawn, marks what is.
func (h packageHead) apply(p *catalog.Package, mark bool) error {
	if h.Labels != nil {
		if err := json.Unmarshal(h.Labels, &p.Labels); err != nil {
			return err
		}
	}
	if !mark {
		return nil
	}
	withdrawn := map[string]*catalog.Withdrawal{}
	if h.Withdrawals != nil {
		if err := json.Unmarshal(h.Withdrawals, &withdrawn); err != nil {
			return err
		}
	}
	for i := range p.Versions {
		p.Versions[i].Withdrawn = withdrawn[p.Versions[i].Version]
	}
	return nil
}

// spareFrom is from how many versions on there is room for more behind them.
const spareFrom = 1000

// without are the versions that are known but for those among the rows, with room for
// these. What comes to a package with many is written behind what is there: whoever has
// the package of before does not see it.
func (k Known) without(rows []*versionRow) []catalog.Version {
	all := k.room
	changed := make(map[int64]bool, len(rows))
	onlyNew := !k.marked // marks are written into the versions
	for _, row := range rows {
		changed[row.ID] = true
		onlyNew = onlyNew && row.ID > k.newest
	}
	if onlyNew && cap(all)-len(all) >= len(rows) && k.grown.CompareAndSwap(false, true) {
		return all
	}
	room := len(rows)
	if len(all) >= spareFrom {
		room += len(all) / 8
	}
	left := make([]catalog.Version, 0, len(all)+room)
	for _, v := range all {
		if !changed[v.ID] {
			left = append(left, v)
		}
	}
	return left
}

// versions reads the versions of a package that can be seen, with their files;
// after before, only those that changed, which take the place of what was known
// of them. newest is the highest id among them.
func (db *DB) versions(
	ctx context.Context, key catalog.PackageKey, packageID int64, before Known,
) (versions []catalog.Version, newest int64, err error) {
	which := `v.package_id = $1 and` + seen(key.AsOf)
	arguments := []any{packageID}
	if before.Package != nil {
		which = `v.package_id = $1 and v.changed_in >= pg_snapshot_xmin($2::pg_snapshot) and not pg_visible_in_snapshot(v.changed_in, $2::pg_snapshot)`
		arguments = append(arguments, before.state)
	}
	var rows []*versionRow
	if err := db.SelectContext(ctx, &rows, `select v.id, v.version, v.upload, v.snapshot, v.uploaded_at, v.upload_count,
		v.published_by, coalesce(v.build_id, 0) build_id, v.visible_from, v.first_at, v.arrived, v.details,
		`+seen(key.AsOf)+
		` seen from version v where `+which, arguments...); err != nil {
		return nil, 0, err
	}
	if before.Package != nil {
		versions, newest = before.without(rows), before.newest
		if len(rows) == 0 {
			return versions, newest, nil
		}
	}
	var files []fileRow
	if err := db.SelectContext(ctx, &files, `select `+fileColumns+` from version v join file f on f.version_id = v.id
		join stored_file b using (sha256) where `+which+addedBy(key.AsOf)+` order by f.version_id, f.name`,
		arguments...); err != nil {
		return nil, 0, err
	}
	return gather(key, versions, newest, rows, files)
}

// gather adds versions to those that are known, with their files.
func gather(key catalog.PackageKey, known []catalog.Version, highest int64, rows []*versionRow, files []fileRow) (
	versions []catalog.Version, newest int64, err error,
) {
	versions, newest = known, highest
	byVersion := map[int64][]catalog.File{}
	for _, row := range files {
		f := row.value()
		f.RepositoryID = key.RepositoryID
		byVersion[f.VersionID] = append(byVersion[f.VersionID], f)
	}
	// No order is promised, but who puts them into theirs has little to do.
	slices.SortFunc(rows, func(a, b *versionRow) int { return purl.Compare(key.Ecosystem, a.Version, b.Version) })
	var alike sharing
	for _, row := range rows {
		if !row.Seen {
			continue
		}
		v := catalog.Version{ID: row.ID, Version: row.Version, Upload: row.Upload, Snapshot: row.Snapshot,
			UploadedAt: row.UploadedAt, UploadCount: row.UploadCount, PublishedBy: row.PublishedBy, BuildID: row.BuildID,
			PublishedAt: *row.VisibleFrom, Files: byVersion[row.ID]}
		if row.FirstAt != nil {
			v.PublishedAt = *row.FirstAt
		}
		if row.Arrived != nil {
			v.Arrived = *row.Arrived
		}
		details, err := alike.read(row.Details)
		if err != nil {
			return nil, 0, err
		}
		v.Details = details
		versions, newest = append(versions, v), max(newest, v.ID)
	}
	return versions, newest, nil
}
