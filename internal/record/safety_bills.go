package record

import (
	"context"
	"regexp"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// UnreadBill is a version that may be a bill of materials and has not been read.
type UnreadBill struct {
	ID           int64  `db:"id"`
	RepositoryID int64  `db:"repository_id"`
	Ecosystem    string `db:"ecosystem"`
	Namespace    string `db:"namespace"`
	Name         string `db:"name"`
	Version      string `db:"version"`
	About        string `db:"about"` // the version that it says it is about; "" if it says none
}

// billTypes is what the media types of bills of materials have in common, and of statements that may
// contain one.
var billTypes = regexp.MustCompile(`spdx|cyclonedx|in-toto|dsse`)

// MayBeBill tells whether a file of a media type may be a bill of materials.
func MayBeBill(mediaType string) bool { return billTypes.MatchString(mediaType) }

// mayBeBill is the condition that a version v, named by its content, has such a part, as the index
// version_bill has it.
const mayBeBill = `v.version like 'sha%:%' and v.details @? '$.native.parts[*].mediaType ? (@ like_regex "spdx|cyclonedx|in-toto|dsse")'`

// UnreadBills lists versions that may be bills of materials, whose parts are kept and that have not
// been read.
func (db *DB) UnreadBills(ctx context.Context, limit int) (all []UnreadBill, err error) {
	err = db.SelectContext(ctx, &all, `select v.id, v.version, coalesce(v.details->'native'->>'subject', '') about,
			p.repository_id, p.ecosystem, p.namespace, p.name
		from version v join package p on p.id = v.package_id
		where `+mayBeBill+` and`+seen(0)+`and not exists (select from bill b where b.version_id = v.id)
			and exists (select from file f where f.version_id = v.id and f.media_type ~ 'spdx|cyclonedx|in-toto|dsse')
		order by v.id limit $1`, limit)
	return all, err
}

// Bill is what a bill of materials says.
type Bill struct {
	VersionID int64
	About     []string
	Entries   []purl.PURL
	Failure   string
	ReadAt    time.Time
}

// SetBill notes what a bill of materials says.
func (tx *Tx) SetBill(ctx context.Context, b Bill) error {
	about := b.About
	if about == nil {
		about = []string{}
	}
	if _, err := tx.ExecContext(ctx, `insert into bill (version_id, about, failure, read_at) values ($1, $2, $3, $4)
		on conflict do nothing`, b.VersionID, about, b.Failure, b.ReadAt); err != nil {
		return err
	}
	columns := make([][]string, 4)
	for _, p := range b.Entries {
		for i, value := range []string{p.Ecosystem, p.Namespace, p.Name, p.Version} {
			columns[i] = append(columns[i], value)
		}
	}
	_, err := tx.ExecContext(ctx, `insert into bill_entry (ecosystem, namespace, name, version, version_id)
		select *, $5::bigint from unnest($1::text[], $2::text[], $3::text[], $4::text[]) on conflict do nothing`,
		columns[0], columns[1], columns[2], columns[3], b.VersionID)
	return err
}

// Inside is that a version has one of another package inside, as a bill of materials says.
type Inside struct {
	UsedOf
	RepositoryID int64  `db:"repository_id"`
	Ecosystem    string `db:"ecosystem"`
	Namespace    string `db:"namespace"`
	Name         string `db:"name"`
	Along        string `db:"along"` // the ids of the version and of those that it is part of, with spaces between
	Label        string `db:"label"` // of the version, or of one that it is part of; "" if it has none
	InEcosystem  string `db:"in_ecosystem"`
	InNamespace  string `db:"in_namespace"`
	InName       string `db:"in_name"`
	InVersion    string `db:"in_version"`
}

// Key names its package.
func (i Inside) Key() catalog.PackageKey {
	return catalog.PackageKey{RepositoryID: i.RepositoryID, Ecosystem: i.Ecosystem, Namespace: i.Namespace, Name: i.Name}
}

// Entry names what it has inside.
func (i Inside) Entry() purl.PURL {
	return purl.PURL{Ecosystem: i.InEcosystem, Namespace: i.InNamespace, Name: i.InName, Version: i.InVersion}
}

// EntryKey names the package of that, in no repository.
func (i Inside) EntryKey() catalog.PackageKey {
	return catalog.PackageKey{Ecosystem: i.InEcosystem, Namespace: i.InNamespace, Name: i.InName}
}

const insideColumns = `p.repository_id, p.ecosystem, p.namespace, p.name, e.ecosystem in_ecosystem,
	e.namespace in_namespace, e.name in_name, e.version in_version`

// AdvisedInside lists what versions in a scope have inside of packages that an advisory is about that
// was not withdrawn, or any if its id is "". What is used of a version that is part of others counts
// for it.
func (db *DB) AdvisedInside(ctx context.Context, scope Scope, advisory string) (all []Inside, err error) {
	arguments := []any{scope.Repositories}
	advised := advisedBy(advisory, &arguments)
	within := scope.and(&arguments)
	err = db.SelectContext(ctx, &all, `with `+advised+`,
		inside as (select distinct v.id, v.package_id, v.version, `+insideColumns+` from advised x
			join bill_entry e using (ecosystem, namespace, name)
			join version s on s.id = e.version_id and s.visible_from is not null and s.visible_until is null
			join bill b on b.version_id = s.id
			join version v on v.package_id = s.package_id and v.version = any(b.about)
			join package p on p.id = v.package_id where p.repository_id = any($1) and`+seen(0)+within+`)
		select i.*, coalesce(u.downloads, 0) downloads, u.used_at, coalesce(l.name, '') label,
			array_to_string(w.ids, ' ') along from inside i
		cross join lateral (select array_agg(w.id) ids, array_agg(w.version) versions from (
			select v.id, v.version from version v where v.id = i.id
			union all select v.id, v.version from version v where v.package_id = i.package_id and`+seen(0)+`
				and v.details->'native'->'children' @> to_jsonb(i.version)) w) w
		cross join lateral (select sum(u.downloads)::bigint downloads, max(u.used_at) used_at from version_use u
			where u.version_id = any(w.ids)) u
		cross join lateral (select max(l.name) "name" from label l where l.package_id = i.package_id
			and l.version = any(w.versions) and l.visible_until is null) l
		order by i.ecosystem, i.namespace, i.name, i.id`, arguments...)
	return all, err
}

// InsideOf lists what some versions have inside, and what those that they are made of have.
func (db *DB) InsideOf(ctx context.Context, versionIDs []int64) (all []Inside, err error) {
	err = db.SelectContext(ctx, &all, `with asked as (
			select v.id asked, v.package_id, v.version from version v where v.id = any($1)
			union select v.id, v.package_id, c.version from version v
			cross join lateral jsonb_array_elements_text(coalesce(v.details->'native'->'children', '[]')) c (version)
			where v.id = any($1))
		select distinct a.asked id, a.package_id, `+insideColumns+`
		from asked a join version s on s.package_id = a.package_id and s.visible_from is not null and s.visible_until is null
		join bill b on b.version_id = s.id and a.version = any(b.about)
		join bill_entry e on e.version_id = s.id
		join package p on p.id = a.package_id`, versionIDs)
	return all, err
}
