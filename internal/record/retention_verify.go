package record

import (
	"context"
	"time"
)

// Mended is what was not as the rows say, and was put right.
type Mended struct {
	What  string `db:"what" json:"what"` // in words
	Count int64  `db:"count" json:"count"`
	// Sample names one of them.
	Sample string `db:"sample" json:"sample"`
}

// mending are the statements that compare what is derived with what it is derived
// from, put it right, and give a sample of what they changed. They lock packages in
// the order of their ids; versions are locked before packages everywhere.
var mending = []struct{ what, statement string }{
	{"versions with another number of bytes than their files have", `with right_now as (
			select v.id, coalesce(sum(b.size), 0)::bigint bytes from version v left join file f on f.version_id = v.id left
			join stored_file b using (sha256)
			where v.visible_from is not null and v.reclaimed_at is null group by v.id, v.bytes
			having v.bytes <> coalesce(sum(b.size), 0)
		)
		update version v set bytes = r.bytes, changed_in = pg_current_xact_id() from right_now r, package p
		where v.id = r.id and p.id = v.package_id and $1::timestamptz is not null
		returning p.ecosystem || '/' || p.name || ' ' || v.version`},
	{"packages with other counts than their versions", `with right_now as (
			select p.id, count(v.id) versions, coalesce(sum(v.bytes), 0)::bigint bytes from package p
			left join version v on v.package_id = p.id and v.visible_from is not null and v.visible_until is null
			join repository r on r.id = p.repository_id and r.removed_at is null
			group by p.id having p.versions <> count(v.id) or p.bytes <> coalesce(sum(v.bytes), 0)
		), held as (select id from package where id in (select id from right_now) order by id for update)
		update package p set versions = r.versions, bytes = r.bytes, revision = p.revision + 1, changed_at = $1
		from right_now r, held
		where p.id = r.id and held.id = p.id returning p.ecosystem || '/' || p.name`},
	{"labels of versions that are not there",
		`update label l set visible_until = $1 from package p join repository r on r.id = p.repository_id
		where l.visible_until is null and p.id = l.package_id and r.kind = 'house' and r.removed_at is null and not exists (
			select from version v where v.package_id = l.package_id and v.version = l.version and v.visible_from is not null
			and v.visible_until is null)
		returning p.ecosystem || '/' || p.name || ' ' || l.name`},
	{"withdrawals of versions that are not there",
		`update withdrawal w set visible_until = $1 from package p join repository r on r.id = p.repository_id
		where w.visible_until is null and p.id = w.package_id and r.kind = 'house' and r.removed_at is null and not exists (
			select from version v where v.package_id = w.package_id and v.version = w.version and v.visible_from is not null
			and v.visible_until is null)
		returning p.ecosystem || '/' || p.name || ' ' || w.version`},
	{"visible versions without a place in their order",
		`update version v set arrived = v.visible_from from package p join repository r on r.id = p.repository_id
		where v.arrived is null and v.visible_from is not null and v.visible_until is null and p.id = v.package_id
		and r.kind = 'house' and $1::timestamptz is not null
		returning p.ecosystem || '/' || p.name || ' ' || v.version`},
}

// Mend compares counts, labels and marks with the rows that they are about, and
// puts right what differs.
func (tx *Tx) Mend(ctx context.Context, at time.Time) (all []Mended, err error) {
	for _, m := range mending {
		var names []string
		if err := tx.SelectContext(ctx, &names, m.statement, at); err != nil {
			return nil, err
		}
		if len(names) > 0 {
			all = append(all, Mended{m.what, int64(len(names)), names[0]})
		}
	}
	return all, nil
}
