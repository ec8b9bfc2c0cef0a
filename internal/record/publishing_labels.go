package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

const packageOf = `(select id from package where repository_id = $1 and ecosystem = $2 and namespace = $3 and name = $4)`

// LabelMove is that a label was set to a version.
type LabelMove struct {
	Label   string     `db:"name"`
	Version string     `db:"version"`
	Before  string     `db:"before"` // the version that it pointed to before; "" if to none
	By      string     `db:"set_by"`
	At      time.Time  `db:"visible_from"`
	Until   *time.Time `db:"visible_until"` // it moved on then, or was taken away; nil if it is there
}

// LabelMoves lists where the labels of a package pointed that point, or once pointed, to a
// version, the newest first; of all its labels for "".
func (db *DB) LabelMoves(
	ctx context.Context, key catalog.PackageKey, version string, limit int,
) (all []LabelMove, err error) {
	err = db.SelectContext(ctx, &all, `select l.name, l.version, l.set_by, l.visible_from, l.visible_until,
			coalesce((select b.version from label b where b.package_id = l.package_id and b.name = l.name
				and b.visible_from < l.visible_from and b.visible_until = l.visible_from
				order by b.visible_from desc limit 1), '') "before"
		from label l where l.package_id = `+packageOf+` and ($5 = '' or l.name in (select o.name from label o
			where o.package_id = l.package_id and o.version = $5)) and l.visible_until is distinct from l.visible_from
		order by l.visible_from desc, l.name limit $6`, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, version,
		limit)
	return all, err
}

// endLabel ends a label, and tells whether there was one.
func (tx *Tx) endLabel(ctx context.Context, key catalog.PackageKey, name string, at time.Time) (bool, error) {
	result, err := tx.ExecContext(ctx, endingLabel, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, name, at)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n > 0, err
}

const endingLabel = `update label set visible_until = $6 where package_id = ` + packageOf + ` and name = $5
	and visible_until is null`

// SetLabel moves a label to a version.
func (tx *Tx) SetLabel(ctx context.Context, key catalog.PackageKey, name, version, by string, at time.Time) error {
	return tx.do(ctx, settingLabel(key, name, version, by, at)...)
}

// LabelSetting is that a label of a package is to lead to a version.
type LabelSetting struct {
	Key           catalog.PackageKey
	Name, Version string
}

// SetLabels is SetLabel for many labels, by few questions. Of a label that is named twice, the last setting counts.
func (tx *Tx) SetLabels(ctx context.Context, all []LabelSetting, by string, at time.Time) error {
	if len(all) == 0 {
		return nil
	}
	last := map[LabelSetting]int{} // without versions
	for i, l := range all {
		last[LabelSetting{Key: l.Key, Name: l.Name}] = i
	}
	var repositories []int64
	var texts [5][]string
	for i, l := range all {
		if last[LabelSetting{Key: l.Key, Name: l.Name}] != i {
			continue
		}
		repositories = append(repositories, l.Key.RepositoryID)
		for k, text := range []string{l.Key.Ecosystem, l.Key.Namespace, l.Key.Name, l.Name, l.Version} {
			texts[k] = append(texts[k], text)
		}
	}
	const wanted = `with wanted as materialized (select p.id package_id, n.label, n.version from unnest($1::bigint[], $2::text[],
			$3::text[], $4::text[], $5::text[], $6::text[]) n(repository, ecosystem, namespace, name, label, version)
		join package p on p.repository_id = n.repository and p.ecosystem = n.ecosystem and p.namespace = n.namespace
			and p.name = n.name) `
	of := []any{repositories, texts[0], texts[1], texts[2], texts[3], texts[4]}
	at = at.UTC()
	return tx.do(ctx,
		// Everybody who takes several packages takes them in this order.
		step{wanted + `, locked as (select id from package where id in (select package_id from wanted) order by id for update)
			update package p set revision = revision + 1, changed_at = $7 from locked where p.id = locked.id`, append(of, at)},
		step{wanted + `update label l set visible_until = $7 from wanted w where l.package_id = w.package_id
			and l.name = w.label and l.visible_until is null`, append(of, at)},
		step{wanted + `insert into label (package_id, name, version, set_by, visible_from)
			select package_id, label, version, $8, $7::timestamptz from wanted`, append(of, at, by)})
}

// DropLabel takes a label away; done is false if there was none.
func (tx *Tx) DropLabel(ctx context.Context, key catalog.PackageKey, name string, at time.Time) (done bool, err error) {
	if err := tx.touchPackage(ctx, key, at); err != nil {
		return false, err
	}
	return tx.endLabel(ctx, key, name, at)
}

// Withdraw marks versions as not to be used any more; reasons are parallel to
// them.
func (tx *Tx) Withdraw(
	ctx context.Context, key catalog.PackageKey, versions, reasons []string, by string, at time.Time,
) error {
	if err := tx.Restore(ctx, key, versions, at); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `insert into withdrawal (package_id, version, reason, by_name, visible_from)
		select `+packageOf+
		`, n.version, n.reason, $7, $8::timestamptz from unnest($5::text[], $6::text[]) n(version, reason)`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, versions, reasons, by, at)
	return err
}

// Restore takes the marks away.
func (tx *Tx) Restore(ctx context.Context, key catalog.PackageKey, versions []string, at time.Time) error {
	if err := tx.touchPackage(ctx, key, at); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `update withdrawal set visible_until = $6 where package_id = `+packageOf+
		` and version = any($5)
		and visible_until is null`, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, versions, at)
	return err
}

// WithdrawnOf gives why versions are withdrawn, of those that are, by version id.
func (r reads) WithdrawnOf(ctx context.Context, versionIDs []int64) (map[int64]string, error) {
	var rows []struct {
		ID     int64  `db:"id"`
		Reason string `db:"reason"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows,
		`select v.id, w.reason from version v join withdrawal w on w.package_id = v.package_id and w.version = v.version
		and w.visible_until is null where v.id = any($1)`, versionIDs)
	of := map[int64]string{}
	for _, row := range rows {
		of[row.ID] = row.Reason
	}
	return of, err
}

// endMarks ends the labels and withdrawals of versions that are not there any more:
// they were about those, and not about what may come under the same name.
func (tx *Tx) endMarks(ctx context.Context, versionIDs []int64, at time.Time) error {
	for _, mark := range []string{"label", "withdrawal"} {
		// Of a snapshot's uploads, the mark is at those that are left.
		if _, err := tx.ExecContext(ctx, `update `+mark+
			` l set visible_until = $2 from version g where g.id = any($1) and l.package_id = g.package_id
			and l.version = g.version and l.visible_until is null and not exists (select from version v
			where v.package_id = l.package_id
				and v.version = l.version and v.visible_from is not null and v.visible_until is null)`, versionIDs,
			at); err != nil {
			return err
		}
	}
	return nil
}

// touchPackage raises the revision of a package, which must be there, and so
// holds off others who change it.
func (tx *Tx) touchPackage(ctx context.Context, key catalog.PackageKey, at time.Time) error {
	_, err := tx.ExecContext(ctx, touchingPackage, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, at)
	return err
}

const touchingPackage = `update package set revision = revision + 1, changed_at = $5 where repository_id = $1
	and ecosystem = $2 and namespace = $3 and name = $4`

// Readme is the text about a version, or ErrNotFound.
func (db *DB) Readme(ctx context.Context, versionID int64) (catalog.Readme, error) {
	var row struct {
		Text   string `db:"text"`
		Format string `db:"format"`
	}
	err := db.GetContext(ctx, &row, `select text, format from readme where version_id = $1`, versionID)
	if errors.Is(err, sql.ErrNoRows) {
		return catalog.Readme{}, ErrNotFound
	}
	return catalog.Readme(row), err
}

// setReadme keeps the text about a version.
func (tx *Tx) setReadme(ctx context.Context, versionID int64, r *catalog.Readme) error {
	if r == nil || r.Text == "" {
		return nil
	}
	_, err := tx.ExecContext(ctx, `insert into readme (version_id, text, format) values ($1, $2, $3)
		on conflict (version_id) do update set text = excluded.text, format = excluded.format`, versionID, storable(r.Text),
		r.Format)
	return err
}

// NewestLabels gives packages whose versions have no order but that of their coming their
// Latest anew: the label that stands for it or, where none does, the one that was moved last.
// One without labels keeps what it has.
func (db *DB) NewestLabels(ctx context.Context, packages []*Summary) error {
	if len(packages) == 0 {
		return nil
	}
	var repositories []int64
	var ecosystems, namespaces, names, latest []string
	for _, p := range packages {
		repositories, ecosystems = append(repositories, p.RepositoryID), append(ecosystems, p.Ecosystem)
		namespaces, names, latest = append(namespaces, p.Namespace), append(names, p.Name), append(latest, p.Latest)
	}
	var rows []struct {
		Place int    `db:"place"`
		Name  string `db:"name"`
	}
	err := db.SelectContext(ctx, &rows, `select n.place - 1 place, l.name
		from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[]) with ordinality
			n (repository_id, ecosystem, namespace, name, latest, place)
		join package p on p.repository_id = n.repository_id and p.ecosystem = n.ecosystem and p.namespace = n.namespace
			and p.name = n.name
		cross join lateral (select l.name from label l where l.package_id = p.id and l.visible_until is null
			order by l.version = n.latest desc, l.visible_from desc, l.name desc limit 1) l`, repositories, ecosystems,
		namespaces, names, latest)
	for _, r := range rows {
		packages[r.Place].Latest = r.Name
	}
	return err
}
