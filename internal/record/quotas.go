package record

import "context"

// QuotaAbout is what a quota bounds.
type QuotaAbout string

// What quotas bound.
const (
	QuotaOfRepository QuotaAbout = "repository"
	QuotaOfTeam       QuotaAbout = "team" // all repositories that the team is an admin of
	QuotaOfStore      QuotaAbout = "store"
)

// Quota is the most bytes that something may use. From Soft on that is told, and nothing
// that goes beyond Hard is taken; 0 is no bound.
type Quota struct {
	ID           int64      `db:"id"`
	About        QuotaAbout `db:"about"`
	RepositoryID int64      `db:"repository_id"`
	TeamID       int64      `db:"team_id"`
	StoreID      int16      `db:"store_id"`
	Name         string     `db:"name"`
	Soft         int64      `db:"soft"`
	Hard         int64      `db:"hard"`
	Reached      string     `db:"reached"` // soft, hard or "", as it was told last
}

// Quotas lists the quotas of what there is, by what they are about and its name.
func (db *DB) Quotas(ctx context.Context) (all []Quota, err error) {
	err = db.SelectContext(ctx, &all, `select q.id, coalesce(q.repository_id, 0) repository_id,
			coalesce(q.team_id, 0) team_id, coalesce(q.store_id, 0) store_id, coalesce(r.name, t.name, s.name) "name", q.soft, q.hard, q.reached,
			case when r.id is not null then 'repository' when t.id is not null then 'team' else 'store' end about
		from quota q left join repository r on r.id = q.repository_id left join team t on t.id = q.team_id
		left join store s on s.id = q.store_id where r.removed_at is null order by about, "name"`)
	return all, err
}

// SetQuota gives a quota to what it names.
func (tx *Tx) SetQuota(ctx context.Context, q Quota) error {
	by := map[QuotaAbout]string{QuotaOfRepository: "repository_id", QuotaOfTeam: "team_id",
		QuotaOfStore: "store_id"}[q.About]
	_, err := tx.ExecContext(ctx, `insert into quota (repository_id, team_id, store_id, soft, hard)
		values (nullif($1::bigint, 0), nullif($2::bigint, 0), nullif($3::smallint, 0), $4, $5)
		on conflict (`+by+`) do update set soft = excluded.soft, hard = excluded.hard`,
		q.RepositoryID, q.TeamID, q.StoreID, q.Soft, q.Hard)
	return err
}

// RemoveQuota takes a quota away.
func (tx *Tx) RemoveQuota(ctx context.Context, id int64) error {
	_, err := tx.ExecContext(ctx, `delete from quota where id = $1`, id)
	return err
}

// NoteReached notes that a bound was reached, or is not any more; done is false if another
// node did so.
func (tx *Tx) NoteReached(ctx context.Context, id int64, was, is string) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, `update quota set reached = $3 where id = $1 and reached = $2`, id, was, is))
}

// HeldBytes tells how many bytes the versions in use of repositories have together, those
// that are arriving, parts that no version names yet, and what came of bundles included.
func (db *DB) HeldBytes(ctx context.Context, repositoryIDs []int64) (n int64, err error) {
	err = db.GetContext(ctx, &n,
		`select (select coalesce(sum(bytes), 0) from package where repository_id = any($1))::bigint
		+ (select coalesce(sum(b.size), 0) from version v join package p on p.id = v.package_id
			join file f on f.version_id = v.id join stored_file b using (sha256)
			where v.visible_from is null and v.visible_until is null and p.repository_id = any($1))::bigint
		+ (select coalesce(sum(b.size), 0) from package_part t join package p on p.id = t.package_id
			join stored_file b using (sha256) where not t.named and p.repository_id = any($1))::bigint
		+ (select coalesce(sum(b.size), 0) from landed l join stored_file b using (sha256)
			where l.repository_id = any($1))::bigint`, repositoryIDs)
	return n, err
}

// StoreBytes tells how many bytes are in a store.
func (db *DB) StoreBytes(ctx context.Context, id int16) (n int64, err error) {
	err = db.GetContext(ctx, &n, `select (select coalesce(sum(size), 0) from stored_file where store_id = $1)::bigint
		+ (select coalesce(sum(b.size), 0) from stored_copy c join stored_file b using (sha256) where c.store_id = $1)::bigint`,
		id)
	return n, err
}

// Heavy is a package, or a repository, that uses much.
type Heavy struct {
	RepositoryID int64  `db:"repository_id"`
	Ecosystem    string `db:"ecosystem"`
	Namespace    string `db:"namespace"`
	Name         string `db:"name"`
	Bytes        int64  `db:"bytes"`
}

// Heaviest lists the packages of repositories that use most, the heaviest first.
func (db *DB) Heaviest(ctx context.Context, repositoryIDs []int64, limit int) (all []Heavy, err error) {
	err = db.SelectContext(ctx, &all, `select repository_id, ecosystem, namespace, name, bytes from package
		where repository_id = any($1) and bytes > 0 order by bytes desc, id limit $2`, repositoryIDs, limit)
	return all, err
}

// UsedLeast lists versions of a repository that were used least lately and are not pinned, that first
// which was not used for longest, so that those that stay have at most so many bytes; up to limit.
func (db *DB) UsedLeast(ctx context.Context, repositoryID, stay int64, limit int) (ids []int64, err error) {
	err = db.SelectContext(ctx, &ids, `select x.id from (select v.id, coalesce(u.used_at, v.visible_from) used,
			sum(v.bytes) over (order by coalesce(u.used_at, v.visible_from) desc, v.id desc) total
			from version v join package p on p.id = v.package_id left join version_use u on u.version_id = v.id
			where p.repository_id = $1 and v.visible_from is not null and v.visible_until is null
			and not exists (select from pin n where n.package_id = p.id and n.version in (v.version, v.upload)
				and n.ended_at is null and (n.until is null or n.until > now()))) x
		where x.total > $2 order by x.used, x.id limit $3`, repositoryID, stay, limit)
	return ids, err
}
