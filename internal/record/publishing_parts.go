package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

// Part is a file of a package that versions may name.
type Part struct {
	Key     catalog.PackageKey
	Name    string
	Digests catalog.Digests // of what is stored already, SHA256 does
	At      time.Time
	By      string
}

// AddPart makes stored bytes a part of a package, which is made if it is new. added is
// false if the package has the part already.
func (tx *Tx) AddPart(ctx context.Context, p Part) (added bool, err error) {
	if _, err := tx.ExecContext(ctx, `insert into package (repository_id, ecosystem, namespace, name, changed_at)
		select $1, $2, $3, $4, $5::timestamptz where not exists (select from package where repository_id = $1
			and ecosystem = $2 and namespace = $3 and name = $4)
		on conflict (repository_id, ecosystem, namespace, name) do nothing`,
		p.Key.RepositoryID, p.Key.Ecosystem, p.Key.Namespace, p.Key.Name, p.At); err != nil {
		return false, err
	}
	d := p.Digests
	if _, err := tx.ExecContext(ctx, `insert into stored_file (sha256, sha512, sha1, md5, size, created_at)
		values ($1, $2, $3, $4, $5, $6) on conflict (sha256) do nothing`,
		d.SHA256[:], d.SHA512[:], d.SHA1[:], d.MD5[:], d.Size, p.At); err != nil {
		return false, err
	}
	// What nobody named yet waits anew.
	err = tx.GetContext(ctx, &added, `insert into package_part (package_id, file, sha256, at, by_name)
		values (`+packageOf+`, $5, $6, $7, $8)
		on conflict (package_id, file) do update set at = excluded.at returning xmax = 0`,
		p.Key.RepositoryID, p.Key.Ecosystem, p.Key.Namespace, p.Key.Name, p.Name, d.SHA256[:], p.At, p.By)
	return added, err
}

// StoredAs gives all digests of stored bytes; ErrNotFound if they are not on record.
func (tx *Tx) StoredAs(ctx context.Context, sha256 [32]byte) (catalog.Digests, error) {
	var row fileRow
	err := tx.GetContext(ctx, &row, `select size, sha256, sha512, sha1, md5 from stored_file where sha256 = $1`, sha256[:])
	if errors.Is(err, sql.ErrNoRows) {
		return catalog.Digests{}, ErrNotFound
	}
	return row.value().Digests, err
}

// RemovePart takes a part away that no version names; done is false if there is no such,
// and named tells that versions name it.
func (tx *Tx) RemovePart(ctx context.Context, key catalog.PackageKey, name string) (done, named bool, err error) {
	var id int64
	err = tx.GetContext(ctx, &id, `select id from package_part where package_id = `+packageOf+` and file = $5 for update`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, name)
	if errors.Is(err, sql.ErrNoRows) {
		return false, false, nil
	}
	if err != nil {
		return false, false, err
	}
	if err := tx.GetContext(ctx, &named, `select exists (select from package_part p join file f on f.sha256 = p.sha256
		join version v on v.id = f.version_id and v.package_id = p.package_id
		where p.id = $1 and f.name = p.file and v.visible_until is null)`, id); err != nil || named {
		return false, named, err
	}
	_, err = tx.ExecContext(ctx, `delete from package_part where id = $1`, id)
	return true, false, err
}

// NamedPart is a part that a version names, and as what.
type NamedPart struct{ Name, Extension, MediaType string }

// NameParts adds parts of its package to an open version, and says of which media type the
// file is that names them. It gives the sizes of those that the package has, by name; the
// others were not added.
func (tx *Tx) NameParts(
	ctx context.Context, versionID int64, sends int, namedBy NamedPart, parts []NamedPart, by string, at time.Time,
) (sizes map[string]int64, err error) {
	names, extensions, mediaTypes := make([]string, len(parts)), make([]string, len(parts)), make([]string, len(parts))
	for i, p := range parts {
		names[i], extensions[i], mediaTypes[i] = p.Name, p.Extension, p.MediaType
	}
	// They are held: nobody can take them away before the version names them.
	var there []struct {
		Name string `db:"file"`
		Size int64  `db:"size"`
	}
	if err := tx.SelectContext(ctx, &there, `with held as (select id, file, sha256 from package_part
			where package_id = (select package_id from version where id = $1) and file = any($2) order by id for update
		), named as (update package_part set named = true where id in (select id from held) and not named)
		select file, size from held join stored_file using (sha256)`, versionID, names); err != nil {
		return nil, err
	}
	sizes = make(map[string]int64, len(there))
	for _, row := range there {
		sizes[row.Name] = row.Size
	}
	_, err = tx.ExecContext(ctx, `with by as (
			update file set media_type = nullif($8, '') where version_id = $1 and name = $9
		)
		insert into file (version_id, name, classifier, extension, sha256, added_at, sent, added_by, media_type)
		select $1, n.name, '', n.extension, p.sha256, $5::timestamptz, $6, $7, nullif(n.media_type, '')
		from unnest($2::text[], $3::text[], $4::text[]) n (name, extension, media_type)
		join package_part p on p.package_id = (select package_id from version where id = $1) and p.file = n.name
		on conflict do nothing`, versionID, names, extensions, mediaTypes, at, sends, by, namedBy.MediaType, namedBy.Name)
	return sizes, err
}

// Lacking is the first of some versions that a package does not show; "" if it shows all.
// Those that it does cannot be removed before the transaction ends.
func (tx *Tx) Lacking(ctx context.Context, key catalog.PackageKey, versions []string) (missing string, err error) {
	if len(versions) == 0 {
		return "", nil
	}
	var there []string
	err = tx.SelectContext(ctx, &there, `select version from version where package_id = `+packageOf+` and version = any($5)
		and visible_from is not null and visible_until is null order by id for share`, key.RepositoryID, key.Ecosystem,
		key.Namespace, key.Name, versions)
	for _, version := range versions {
		if err == nil && !slices.Contains(there, version) {
			return version, nil
		}
	}
	return "", err
}

// DropUnnamedParts drops parts that came before a moment and that no version names, and
// those of repositories that were removed before one.
func (db *DB) DropUnnamedParts(ctx context.Context, before, removedBefore time.Time) error {
	return db.Within(ctx, func(tx *Tx) error {
		var ids []int64
		if err := tx.SelectContext(ctx, &ids, `select id from package_part where not named and at < $1
			or package_id in (select p.id from repository r join package p on p.repository_id = r.id where r.removed_at < $2)
			order by id limit 10000 for update skip locked`, before, removedBefore); err != nil || len(ids) == 0 {
			return err
		}
		// What names them is seen by a statement of its own, now that they are held.
		const names = `exists (select from file f join version v on v.id = f.version_id
			where f.sha256 = package_part.sha256 and f.name = package_part.file and v.package_id = package_part.package_id)`
		if err := tx.do(ctx, step{`update package_part set named = true where id = any($1) and not named and ` + names,
			[]any{ids}}); err != nil {
			return err
		}
		var gone []struct {
			keyRow
			Repository string `db:"repository"`
		}
		if err := tx.SelectContext(ctx, &gone, `with gone as (
				delete from package_part where id = any($1) and not `+names+` returning package_id
			) select distinct p.repository_id, p.ecosystem, p.namespace, p.name, r.name repository from gone
			join package p on p.id = gone.package_id join repository r on r.id = p.repository_id`, ids); err != nil {
			return err
		}
		changes := make([]Change, len(gone))
		for i, g := range gone {
			changes[i] = Change{Kind: OfPackage, RepositoryID: g.RepositoryID, Repository: g.Repository, Ecosystem: g.Ecosystem,
				Namespace: g.Namespace, Name: g.keyRow.Name}
		}
		if len(changes) == 0 {
			return nil
		}
		return tx.Tell(ctx, changes...)
	})
}

// during is the condition that a mark, a label or a withdrawal, was set: now, or as of a
// moment.
func during(mark string, at catalog.Moment) string {
	if at == 0 {
		return " " + mark + ".visible_until is null "
	}
	return " " + mark + ".visible_from <= " + moment(at) + " and (" + mark + ".visible_until is null or " + mark +
		".visible_until > " + moment(at) + ") "
}

// WithdrawnLabel tells of a label in one of the repositories that points to a withdrawn
// version: which, and why it is; ErrNotFound if none does.
func (db *DB) WithdrawnLabel(
	ctx context.Context, repositories []int64, key catalog.PackageKey, label string,
) (version, reason string, err error) {
	var row struct {
		Version string `db:"version"`
		Reason  string `db:"reason"`
	}
	err = db.GetContext(ctx, &row, `select l.version, w.reason from package p
		join label l on l.package_id = p.id and l.name = $5 and `+during("l", key.AsOf)+`
		join withdrawal w on w.package_id = l.package_id and w.version = l.version and `+during("w", key.AsOf)+`
		where p.repository_id = any($1) and p.ecosystem = $2 and p.namespace = $3 and p.name = $4 limit 1`, repositories,
		key.Ecosystem, key.Namespace, key.Name, label)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return row.Version, row.Reason, err
}

// WithdrawalOf tells why a version is not to be used any more; nil if it is.
func (db *DB) WithdrawalOf(
	ctx context.Context, key catalog.PackageKey, version string,
) (*catalog.Withdrawal, error) {
	var row struct {
		Reason string    `db:"reason"`
		By     string    `db:"by_name"`
		At     time.Time `db:"visible_from"`
	}
	err := db.GetContext(ctx, &row, `select w.reason, w.by_name, w.visible_from from withdrawal w
		where w.package_id = `+packageOf+` and w.version = $5 and `+during("w", key.AsOf),
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, version)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &catalog.Withdrawal{Reason: row.Reason, By: row.By, At: row.At}, err
}

// Labels lists labels of a package in one of the repositories, by the bytes of their
// names, from after one on; of a name that several have, that of the first.
func (db *DB) Labels(
	ctx context.Context, repositories []int64, key catalog.PackageKey, after string, limit int,
) (all []catalog.Label, err error) {
	var rows []struct {
		Name    string    `db:"name"`
		Version string    `db:"version"`
		SetBy   string    `db:"set_by"`
		SetAt   time.Time `db:"visible_from"`
	}
	// Of each package so many are read from its index, and not more.
	err = db.SelectContext(ctx, &rows, `select distinct on (l.name collate "C") l.name, l.version, l.set_by, l.visible_from
		from unnest($1::bigint[]) with ordinality r (id, place)
		cross join lateral (select p.id from package p where p.repository_id = r.id and p.ecosystem = $2
			and p.namespace = $3 and p.name = $4 offset 0) p
		cross join lateral (select l.* from label l where l.package_id = p.id and `+during("l", key.AsOf)+`
			and l.name collate "C" > $5 order by l.name collate "C" limit $6) l
		order by l.name collate "C", r.place limit $6`, repositories, key.Ecosystem, key.Namespace, key.Name, after, limit)
	for _, r := range rows {
		all = append(all, catalog.Label(r))
	}
	return all, err
}

// PastLabel is where a label points, or pointed last.
type PastLabel struct {
	Name    string     `db:"name"`
	Version string     `db:"version"`
	Ended   *time.Time `db:"visible_until"`
}

// LabelsEver gives of some labels of a package where they point or pointed last, by name,
// in a transaction that holds the package from then on.
func (tx *Tx) LabelsEver(
	ctx context.Context, key catalog.PackageKey, names []string, at time.Time,
) (map[string]PastLabel, error) {
	if err := tx.touchPackage(ctx, key, at); err != nil {
		return nil, err
	}
	var rows []PastLabel
	err := tx.SelectContext(ctx, &rows, `select distinct on (name) name, version, visible_until from label
		where package_id = `+packageOf+` and name = any($5) order by name, visible_until desc nulls first`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, names)
	ever := map[string]PastLabel{}
	for _, r := range rows {
		ever[r.Name] = r
	}
	return ever, err
}

// About lists the versions of a package in one of the repositories that say they are about
// another one, each with its own file, by their names from after one on.
func (db *DB) About(
	ctx context.Context, repositories []int64, key catalog.PackageKey, subject, after string, limit int,
) (all []catalog.Version, err error) {
	var rows []struct {
		Version string `db:"version"`
		Details []byte `db:"details"`
		Size    int64  `db:"size"`
		Type    string `db:"media_type"`
	}
	err = db.SelectContext(ctx, &rows, `select distinct on (v.version collate "C") v.version, v.details, v.size,
			v.media_type
		from unnest($1::bigint[]) with ordinality r (id, place)
		cross join lateral (select p.id from package p where p.repository_id = r.id and p.ecosystem = $2
			and p.namespace = $3 and p.name = $4 offset 0) p
		cross join lateral (select v.version, v.details, b.size, coalesce(f.media_type, '') media_type
			from version v
			join file f on f.version_id = v.id and f.name = replace(v.version, ':', '-') join stored_file b using (sha256)
			where v.package_id = p.id and v.details->'native'->>'subject' = $5
			and v.version collate "C" > $6 and `+seen(key.AsOf)+` order by v.version collate "C" limit $7) v
		order by v.version collate "C", r.place limit $7`, repositories, key.Ecosystem, key.Namespace, key.Name, subject,
		after, limit)
	for _, r := range rows {
		v := catalog.Version{Version: r.Version, Files: []catalog.File{{ID: 1, MediaType: r.Type,
			Digests: catalog.Digests{Size: r.Size}}}}
		if err := json.Unmarshal(r.Details, &v.Details); err != nil {
			return nil, err
		}
		all = append(all, v)
	}
	return all, err
}

// PartIn finds the bytes of a part of that name in a package that can be seen in a scope;
// ErrNotFound if there is none. It is for names by SHA-512, of which there are few.
func (db *DB) PartIn(ctx context.Context, name string, scope Scope) (sha256 [32]byte, err error) {
	var found []byte
	arguments := []any{name, scope.Repositories}
	err = db.GetContext(ctx, &found, `select t.sha256 from package_part t join package p on p.id = t.package_id
		where t.file = $1 and t.file like 'sha512-%' and p.repository_id = any($2)`+scope.and(&arguments)+` limit 1`,
		arguments...)
	if errors.Is(err, sql.ErrNoRows) {
		return sha256, ErrNotFound
	}
	copy(sha256[:], found)
	return sha256, err
}

// LabelsOf gives the labels of versions, by version id.
func (r reads) LabelsOf(ctx context.Context, versionIDs []int64) (map[int64][]string, error) {
	var rows []struct {
		ID   int64  `db:"id"`
		Name string `db:"name"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows, `select v.id, l.name from version v
		join label l on l.package_id = v.package_id and l.version = v.version and l.visible_until is null
		where v.id = any($1) order by v.id, l.name`, versionIDs)
	of := map[int64][]string{}
	for _, row := range rows {
		of[row.ID] = append(of[row.ID], row.Name)
	}
	return of, err
}

// Labelled gives the versions that a label of a package points to, in some repositories.
func (r reads) Labelled(
	ctx context.Context, repositories []int64, key catalog.PackageKey, label string,
) (versions []string, err error) {
	err = sqlx.SelectContext(ctx, r.q, &versions, `select distinct l.version from label l
		join package p on p.id = l.package_id where p.repository_id = any($1) and p.ecosystem = $2 and p.namespace = $3
		and p.name = $4 and l.name = $5 and l.visible_until is null`, repositories, key.Ecosystem, key.Namespace, key.Name,
		label)
	return versions, err
}

// Along gives the ids of versions and of those that belong to them: what they say they are
// made of, and what says that it is about them.
func (r reads) Along(ctx context.Context, versionIDs []int64) (ids []int64, err error) {
	err = sqlx.SelectContext(ctx, r.q, &ids, `with recursive along (id) as (
			select unnest($1::bigint[])
		union
			select n.id from along a
			cross join lateral (select s.* from version s where s.id = a.id offset 0) s
			cross join lateral (
				select v.id from version v where v.package_id = s.package_id and v.details->'native'->>'subject' = s.version
					and v.visible_from is not null and v.visible_until is null
				union all
				select v.id from jsonb_array_elements_text(coalesce(s.details->'native'->'children', '[]')) c (version)
				join version v on v.package_id = s.package_id and v.version = c.version
					and v.visible_from is not null and v.visible_until is null
				offset 0) n
		) select id from along`, versionIDs)
	return ids, err
}

// Naming is which parts a file names, and of which media type that is.
type Naming struct {
	By    NamedPart
	Parts []NamedPart
}

// NameCopies is NameParts for a copy that AddCopy recorded; parts that are not here yet are
// named when they come.
func (tx *Tx) NameCopies(ctx context.Context, f NewFile, n Naming) error {
	var version struct {
		ID        int64 `db:"id"`
		PackageID int64 `db:"package_id"`
		Bytes     int64 `db:"bytes"`
	}
	if err := tx.GetContext(ctx, &version, `select id, package_id, bytes from version where package_id = `+packageOf+`
		and version = $5 and visible_until is null`, f.Key.RepositoryID, f.Key.Ecosystem, f.Key.Namespace, f.Key.Name,
		f.Version); err != nil {
		return err
	}
	if _, err := tx.NameParts(ctx, version.ID, 1, n.By, n.Parts, f.PublisherName, f.At); err != nil {
		return err
	}
	return tx.outgrown(ctx, []int64{version.ID}, f.At)
}

// outgrown counts the bytes of versions that can be seen once more: they have more files.
func (tx *Tx) outgrown(ctx context.Context, versionIDs []int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, `with now as (
			select v.id, v.package_id, v.bytes was, coalesce((select sum(b.size) from file f join stored_file b using (sha256)
				where f.version_id = v.id), 0)::bigint bytes
			from version v where v.id = any($1) and v.visible_from is not null order by v.id for update of v
		), grown as (
			update version v set bytes = now.bytes, changed_in = pg_current_xact_id() from now where v.id = now.id
		)
		update package p set revision = revision + 1, changed_at = $2, bytes = p.bytes + more.bytes
		from (select package_id, sum(bytes - was)::bigint bytes from now group by 1) more where p.id = more.package_id`,
		versionIDs, at)
	return err
}

// AddPartCopy is AddPart for what a mirror fetched: the versions that are here and say that
// it is theirs get it as a file.
func (tx *Tx) AddPartCopy(ctx context.Context, p Part) (added bool, err error) {
	if added, err = tx.AddPart(ctx, p); err != nil || !added {
		return added, err
	}
	var versions []int64
	if err := tx.SelectContext(ctx, &versions, `with of as (
			select v.id, n.value->>'extension' extension, n.value->>'mediaType' media_type from version v
			cross join lateral jsonb_array_elements(coalesce(v.details->'native'->'parts', '[]')) n
			where v.package_id = `+packageOf+` and v.visible_from is not null and v.visible_until is null
				and n.value->>'name' = $5
		), named as (
			update package_part set named = true where package_id = `+packageOf+` and file = $5 and exists (select from of)
		)
		insert into file (version_id, name, classifier, extension, sha256, added_at, sent, added_by, media_type)
		select of.id, $5, '', of.extension, $6, $7::timestamptz, 1, $8, of.media_type from of
		on conflict do nothing returning version_id`,
		p.Key.RepositoryID, p.Key.Ecosystem, p.Key.Namespace, p.Key.Name, p.Name, p.Digests.SHA256[:], p.At,
		p.By); err != nil || len(versions) == 0 {
		return added, err
	}
	return added, tx.outgrown(ctx, versions, p.At)
}
