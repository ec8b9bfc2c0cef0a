package record

import (
	"context"
	"fmt"
	"time"

	"crelvo/internal/core/purl"
)

// Downloads is a batch of counted downloads: parallel slices. Those that begin
// with User are of the users among who asked.
type Downloads struct {
	VersionIDs    []int64
	Days          []time.Time
	Clients, Whos []string // what asked, and whether that is a "person", a "robot" or "nobody" who signed in
	Counts        []int64
	Lasts         []time.Time // when it was last

	UserVersionIDs        []int64
	UserDays              []time.Time
	UserClients, UserWhos []string
	UserIDs               []int64
	UserLasts             []time.Time
}

// CountDownloads adds a batch. Versions and users that are gone from the records
// are passed over.
func (tx *Tx) CountDownloads(ctx context.Context, d Downloads) error {
	if _, err := tx.ExecContext(ctx, `with u as (
			select u.id, u.day, u.client, u.who, array_agg(distinct u.person) users
			from unnest($6::bigint[], $7::date[], $8::text[], $9::text[], $10::bigint[]) u(id, day, client, who, person)
			group by 1, 2, 3, 4
		)
		insert into download_day (version_id, day, client, who, downloads, users)
		select n.id, n.day, n.client, n.who, n.count, coalesce(u.users, '{}')
		from unnest($1::bigint[], $2::date[], $3::text[], $4::text[], $5::bigint[]) n(id, day, client, who, count)
		join version v on v.id = n.id left join u on u.id = n.id and u.day = n.day and u.client = n.client and u.who = n.who
		order by 1, 2, 3, 4
		on conflict (version_id, day, client, who) do update set downloads = download_day.downloads + excluded.downloads,
			users = case when download_day.users @> excluded.users then download_day.users
				else (select array_agg(distinct x) from unnest(download_day.users || excluded.users) x) end`,
		d.VersionIDs, d.Days, d.Clients, d.Whos, d.Counts, d.UserVersionIDs, d.UserDays, d.UserClients, d.UserWhos,
		d.UserIDs); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `with noted as (
			insert into download_user (version_id, principal_id, last_at)
			select n.version, n.principal, max(n.last) from unnest($1::bigint[], $2::bigint[], $3::timestamptz[]) n(version,
			principal, last)
			join version v on v.id = n.version join principal p on p.id = n.principal group by 1, 2 order by 1, 2
			on conflict (version_id, principal_id) do update set last_at = greatest(download_user.last_at, excluded.last_at)
			returning version_id, xmax = 0 fresh
		), fresh as (
			select version_id, count(*) filter (where fresh) users from noted group by version_id
		)
		insert into version_use (version_id, used_at, downloads, users)
		select n.id, n.last, n.downloads, coalesce(f.users, 0)
		from (select id, sum(count) downloads, max(last) last from unnest($4::bigint[], $5::bigint[],
		$6::timestamptz[]) n(id, count, last) group by id) n
		join version v on v.id = n.id left join fresh f on f.version_id = n.id order by 1
		on conflict (version_id) do update set used_at = greatest(version_use.used_at, excluded.used_at),
			downloads = version_use.downloads + excluded.downloads, users = version_use.users + excluded.users`,
		d.UserVersionIDs, d.UserIDs, d.UserLasts, d.VersionIDs, d.Counts, d.Lasts)
	return err
}

// ForgetDownloads drops the counts of days before one; the totals of versions
// stay.
func (db *DB) ForgetDownloads(ctx context.Context, before time.Time) (int64, error) {
	result, err := db.ExecContext(ctx, `delete from download_day where day < $1::date`, before)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// UsePart is a day, or whatever else use is parted by, and what falls on it.
type UsePart struct {
	Part      string `db:"part"`
	Downloads int64  `db:"downloads"`
	Users     int64  `db:"users"` // different ones
}

// UseOf selects downloads: of packages in scope; of one, and one version of it,
// if they are named.
type UseOf struct {
	Scope                    Scope
	Ecosystem                string
	Namespace, Name, Version string
	From, Until              time.Time // days, the last one included
}

// Key tells different selections apart.
func (u UseOf) Key() string {
	return fmt.Sprintf("%q %s %s %s", []string{u.Ecosystem, u.Namespace, u.Name, u.Version}, u.From.Format(time.DateOnly),
		u.Until.Format(time.DateOnly), u.Scope.Key())
}

// where is the condition for downloads d of versions v of packages p.
func (u UseOf) where(s *statement) string {
	text := "d.day >= " + s.arg(u.From) + "::date and d.day <= " + s.arg(u.Until) + "::date and p.repository_id = any(" +
		s.arg(u.Scope.Repositories) + ")" + u.Scope.and(&s.arguments)
	if u.Ecosystem != "" {
		text += " and p.ecosystem = " + s.arg(u.Ecosystem)
	}
	if u.Name != "" {
		text += " and p.namespace = " + s.arg(u.Namespace) + " and p.name = " + s.arg(u.Name)
	}
	if u.Version != "" {
		text += " and v.version = " + s.arg(u.Version)
	}
	return text
}

const usedFrom = ` from download_day d join version v on v.id = d.version_id join package p on p.id = v.package_id `

// UseBy gives downloads and different users by day, client, who (person, robot or
// nobody), version or repository, in the order of that.
func (db *DB) UseBy(ctx context.Context, of UseOf, by string) (parts []UsePart, err error) {
	column, ok := map[string]string{"day": "to_char(d.day, 'YYYY-MM-DD')", "client": "d.client", "who": "d.who",
		"version":    "v.version",
		"repository": "p.repository_id::text"}[by]
	if !ok {
		return nil, fmt.Errorf("use cannot be grouped by %q", by)
	}
	s := new(statement)
	where := of.where(s)
	fmt.Fprintf(s, `with chosen as (select %s part, d.downloads, d.users %s where %s)
		select part, sum(downloads)::bigint downloads, (select count(distinct x) from chosen c, unnest(c.users) x
		where c.part = t.part) users
		from chosen t group by part order by part`, column, usedFrom, where)
	err = db.SelectContext(ctx, &parts, s.String(), s.arguments...)
	return parts, err
}

// UsedPackage is how much a package is used.
type UsedPackage struct {
	RepositoryID int64      `db:"repository_id"`
	Ecosystem    string     `db:"ecosystem"`
	Namespace    string     `db:"namespace"`
	Name         string     `db:"name"`
	Versions     int64      `db:"versions"`
	Bytes        int64      `db:"bytes"`
	Downloads    int64      `db:"downloads"` // in the time that was asked for
	Before       int64      `db:"before"`    // in as many days before it
	Users        int64      `db:"users"`
	UsedAt       *time.Time `db:"used_at"` // last, ever
}

// UseOrders are the orders of UsedPackages.
var UseOrders = []string{"top", "rising", "falling", "unused"}

// UsedPackages lists packages by their use: the most used, those whose use grew or
// shrank most against as many days before, or those that nobody used, the largest
// first.
func (db *DB) UsedPackages(ctx context.Context, of UseOf, order string, limit int) (found []UsedPackage, err error) {
	s := new(statement)
	length := of.Until.Sub(of.From)
	wider := of
	wider.From = of.From.Add(-length - 24*time.Hour)
	where := wider.where(s)
	from := s.arg(of.From)
	arranged := map[string]string{"top": "downloads > 0) order by downloads desc",
		"rising":  "downloads > before) order by downloads - before desc",
		"falling": "downloads < before) order by before - downloads desc",
		"unused":  "downloads = 0) order by bytes desc"}[order]
	if arranged == "" {
		return nil, fmt.Errorf("use has no order %q", order)
	}
	fmt.Fprintf(s,
		`with chosen as (select v.package_id, d.downloads, d.users, d.day >= %[1]s::date inside %[2]s where %[3]s
		), used as (
			select package_id, coalesce(sum(downloads) filter (where inside), 0)::bigint downloads,
			coalesce(sum(downloads) filter (where not inside), 0)::bigint "before" from chosen group by package_id
		), listed as (
			select p.id, p.repository_id, p.ecosystem, p.namespace, p.name, p.versions, p.bytes, coalesce(u.downloads,
			0) downloads, coalesce(u.before, 0) "before"
			from package p left join used u on u.package_id = p.id where p.versions > 0 and p.repository_id = any(%[4]s)%[5]s
		), page as (select * from listed where (%[6]s, ecosystem, namespace, name, repository_id limit %[7]s)
		select repository_id, ecosystem, namespace, name, versions, bytes, downloads, "before",
			(select count(distinct x) from chosen c, unnest(c.users) x where c.package_id = page.id and c.inside) users,
			(select max(w.used_at) from version v join version_use w on w.version_id = v.id
			where v.package_id = page.id) used_at from page`,
		from, usedFrom, where, s.arg(of.Scope.Repositories), of.Scope.and(&s.arguments), arranged, s.arg(limit))
	err = db.SelectContext(ctx, &found, s.String(), s.arguments...)
	return found, err
}

// VersionUser is who downloaded a version.
type VersionUser struct {
	Name   string    `db:"name"`
	Kind   string    `db:"kind"` // user or robot
	LastAt time.Time `db:"last_at"`
	// Clients are what they used.
	Clients []string `db:"-"`
}

// UsersOf lists who downloaded versions, who did so last first.
func (db *DB) UsersOf(ctx context.Context, versionIDs []int64) ([]VersionUser, error) {
	rows, err := db.QueryxContext(ctx, `select n.name, n.kind, max(u.last_at) last_at,
		array(select distinct d.client from download_day d where d.version_id = any($1) and u.principal_id = any(d.users)
		and d.client <> '' order by 1) clients
		from download_user u join principal n on n.id = u.principal_id where u.version_id = any($1)
		group by n.name, n.kind, u.principal_id order by last_at desc, n.name limit 500`, versionIDs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var users []VersionUser
	for rows.Next() {
		var u VersionUser
		if err := rows.Scan(&u.Name, &u.Kind, &u.LastAt, list(&u.Clients)); err != nil {
			return nil, err
		}
		users = append(users, u)
	}
	return users, rows.Err()
}

// UsingBuilds names the builds that used versions, the newest first.
func (db *DB) UsingBuilds(ctx context.Context, versionIDs []int64) (builds []Build, err error) {
	err = db.SelectContext(ctx, &builds, `select b.id, b.name, b.number, b.owner, b.started_at from build b
		where b.id in (select build_id from build_use where version_id = any($1)) order by b.started_at desc limit 200`,
		versionIDs)
	return builds, err
}

// Space is what a repository holds of an ecosystem now.
type Space struct {
	RepositoryID int64  `db:"repository_id"`
	Ecosystem    string `db:"ecosystem"`
	Packages     int64  `db:"packages"`
	Versions     int64  `db:"versions"`
	Bytes        int64  `db:"bytes"`
	Shared       int64  `db:"shared"` // of the bytes, those that other versions have too
	Grace        int64  `db:"grace"`  // removed, and to be reclaimed after their grace
}

// SpaceDay is what a repository held of an ecosystem at the end of a day.
type SpaceDay struct {
	RepositoryID int64  `db:"repository_id"`
	Ecosystem    string `db:"ecosystem"`
	Day          string `db:"day"`
	Versions     int64  `db:"versions"`
	Bytes        int64  `db:"bytes"`
}

// SpaceMonth is what a repository holds now that became visible in a month.
type SpaceMonth struct {
	RepositoryID int64  `db:"repository_id"`
	Month        string `db:"month"`
	Versions     int64  `db:"versions"`
	Bytes        int64  `db:"bytes"`
}

// Spaces tells what repositories hold now, by ecosystem.
func (db *DB) Spaces(ctx context.Context, scope Scope) (spaces []Space, err error) {
	arguments := []any{scope.Repositories}
	err = db.SelectContext(ctx, &spaces, `with twice as (
			select f.sha256 from file f group by f.sha256 having count(distinct f.version_id) > 1
		), held as (
			select p.repository_id, p.ecosystem, sum(b.size) filter (where v.visible_until is null) shared from twice t
			join file f using (sha256) join stored_file b using (sha256)
			join version v on v.id = f.version_id join package p on p.id = v.package_id where v.visible_from is not null
			group by 1, 2
		), gone as (
			select p.repository_id, p.ecosystem, sum(v.bytes) bytes from version v join package p on p.id = v.package_id
			where v.grace_until is not null group by 1, 2
		)
		select p.repository_id, p.ecosystem, count(*) filter (where p.versions > 0) packages,
		sum(p.versions)::bigint versions, sum(p.bytes)::bigint bytes,
			coalesce(max(h.shared), 0)::bigint shared, coalesce(max(g.bytes), 0)::bigint grace
		from package p left join held h on h.repository_id = p.repository_id and h.ecosystem = p.ecosystem
		left join gone g on g.repository_id = p.repository_id and g.ecosystem = p.ecosystem
		where p.repository_id = any($1)`+scope.and(&arguments)+` group by 1, 2 order by 1, 2`, arguments...)
	return spaces, err
}

// SpaceDays tells what repositories held at the end of days: of the first one, and
// of every day since on which that changed.
func (db *DB) SpaceDays(ctx context.Context, repositories []int64, since time.Time) (days []SpaceDay, err error) {
	err = db.SelectContext(ctx, &days, `with moves as (
			select v.package_id, (v.visible_from at time zone 'UTC')::date at, 1 n, v.bytes from version v
			where v.visible_from is not null
			union all select v.package_id, (v.visible_until at time zone 'UTC')::date, -1, -v.bytes from version v
			where v.visible_from is not null and v.visible_until is not null
		), daily as (
			select p.repository_id, p.ecosystem, greatest(m.at, $2::date) at, sum(m.n) n, sum(m.bytes) bytes from moves m
			join package p on p.id = m.package_id
			where p.repository_id = any($1) group by 1, 2, 3
		)
		select repository_id, ecosystem, to_char(at, 'YYYY-MM-DD') "day", (sum(n) over days)::bigint versions,
		(sum(bytes) over days)::bigint bytes from daily
		window days as (partition by repository_id, ecosystem order by at) order by at, repository_id, ecosystem`,
		repositories, since)
	return days, err
}

// SpaceByAge tells how many bytes became visible in which month, by repository.
func (db *DB) SpaceByAge(ctx context.Context, scope Scope) (parts []SpaceMonth, err error) {
	arguments := []any{scope.Repositories}
	err = db.SelectContext(ctx, &parts,
		`select p.repository_id, to_char(date_trunc('month', v.visible_from at time zone 'UTC'), 'YYYY-MM') "month",
			count(*) versions, sum(v.bytes)::bigint bytes
		from version v join package p on p.id = v.package_id where v.visible_from is not null and v.visible_until is null
		and p.repository_id = any($1)`+scope.and(&arguments)+`
		group by 1, 2 order by 2, 1`, arguments...)
	return parts, err
}

// Stored is what the store has.
type Stored struct {
	Files   int64 `db:"files"`
	Bytes   int64 `db:"bytes"`
	Unnamed int64 `db:"unnamed"` // of the bytes, those that nothing names
}

// Stored tells how many bytes the store has, and how many of them nothing names.
func (db *DB) Stored(ctx context.Context) (stored Stored, err error) {
	err = db.GetContext(ctx, &stored,
		`select count(*) files, coalesce(sum(size), 0)::bigint bytes,
			coalesce(sum(size) filter (where unnamed_since is not null), 0)::bigint unnamed from stored_file`)
	return stored, err
}

// Need is a version that states a dependency.
type Need struct {
	Ecosystem string `db:"ecosystem"`
	Namespace string `db:"namespace"`
	Name      string `db:"name"`
	Version   string `db:"version"`
	Wants     string `db:"wants"`
	Of        string `db:"of"` // the package that it needs
}

// PURL names the version.
func (n Need) PURL() string {
	return purl.PURL{Ecosystem: n.Ecosystem, Namespace: n.Namespace, Name: n.Name, Version: n.Version}.String()
}

// Needing lists versions in scope that state a dependency on one of some packages, by
// their package URLs without versions.
func (db *DB) Needing(ctx context.Context, scope Scope, names []string, limit int) (found []Need, err error) {
	arguments := []any{scope.Repositories, names, limit}
	err = db.SelectContext(ctx, &found,
		`select distinct p.ecosystem, p.namespace, p.name, v.version, coalesce(x->>'version', '') wants, x->>'purl' "of"
		from version v join package p on p.id = v.package_id cross
		join jsonb_array_elements(coalesce(v.details->'dependencies', '[]')) x
		where v.visible_from is not null and v.visible_until is null and p.repository_id = any($1)`+scope.and(&arguments)+
			` and x->>'purl' = any($2)
		order by 1, 2, 3, 4 limit $3`, arguments...)
	return found, err
}
