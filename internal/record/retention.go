package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/query"
	"crelvo/internal/core/retention"
)

// rows are what both database/sql and pgx give.
type rows interface {
	Next() bool
	Scan(into ...any) error
	Err() error
}

// Facts reads what retention is decided by. Those of Tx see what the transaction
// sees; those of DB one moment, however long it takes.
type Facts struct {
	ask func(ctx context.Context, sql string, arguments ...any) (rows, func(), error)
	// beside runs do with another connection that sees the same; nil where there is
	// none.
	beside func(ctx context.Context, do func(f Facts) error) error
}

// planning has a plan of each question made for what it asks: how many packages
// it is about decides how they are best found. What is sorted is large.
const planning = `set local plan_cache_mode = force_custom_plan; set local work_mem = '64MB'`

// Facts runs do with what is known at one moment.
func (db *DB) Facts(ctx context.Context, do func(f Facts) error) error {
	return db.factsAs(ctx, "", func(f Facts, tx pgx.Tx) error {
		var snapshot string
		if err := tx.QueryRow(ctx, `select pg_export_snapshot()`).Scan(&snapshot); err != nil {
			return err
		}
		f.beside = func(ctx context.Context, do func(f Facts) error) error {
			return db.factsAs(ctx, snapshot, func(f Facts, _ pgx.Tx) error { return do(f) })
		}
		return do(f)
	})
}

// factsAs runs do with what a snapshot sees, or with "" what is known now.
func (db *DB) factsAs(ctx context.Context, snapshot string, do func(f Facts, tx pgx.Tx) error) error {
	return pgx.BeginTxFunc(ctx, db.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly},
		func(tx pgx.Tx) error {
			begin := planning
			if snapshot != "" {
				// What is done beside something else leaves it the other processors.
				begin = "set transaction snapshot '" + snapshot + "'; set local max_parallel_workers_per_gather = 0; " + begin
			}
			if _, err := tx.Exec(ctx, begin); err != nil {
				return err
			}
			return do(Facts{ask: func(ctx context.Context, sql string, arguments ...any) (rows, func(), error) {
				found, err := tx.Query(ctx, sql, arguments...)
				if err != nil {
					return nil, nil, err
				}
				return found, found.Close, nil
			}}, tx)
		})
}

// Beside runs do with the same facts, at the same time as what the caller does
// meanwhile if there is a way to; wait gives its error.
func (f Facts) Beside(ctx context.Context, do func(f Facts) error) (wait func() error) {
	if f.beside == nil {
		err := do(f)
		return func() error { return err }
	}
	done := make(chan error, 1)
	go func() { done <- f.beside(ctx, do) }()
	return sync.OnceValue(func() error { return <-done })
}

// Facts is what the transaction knows.
func (tx *Tx) Facts() Facts {
	return Facts{ask: func(ctx context.Context, sql string, arguments ...any) (rows, func(), error) {
		found, err := tx.QueryContext(ctx, sql, arguments...)
		if err != nil {
			return nil, nil, err
		}
		return found, func() { found.Close() }, nil
	}}
}

// each calls scan for every row.
func (f Facts) each(ctx context.Context, sql string, arguments []any, scan func(row rows) error) error {
	found, end, err := f.ask(ctx, sql, arguments...)
	if err != nil {
		return err
	}
	defer end()
	for found.Next() {
		if err := scan(found); err != nil {
			return err
		}
	}
	return found.Err()
}

// FactPackage is a package of which something can be seen. About tells for each of
// the queries whether it asks for names like that.
type FactPackage struct {
	ID       int64
	Key      purl.PURL
	Versions int64 // how many there are now
	About    []bool
}

// Packages lists the packages of a repository in their order; as of a moment those
// of which anything was ever there.
func (f Facts) Packages(
	ctx context.Context, repositoryID int64, queries []query.Query, at catalog.Moment,
) (found []FactPackage, err error) {
	s := new(statement)
	fmt.Fprintf(s,
		"select p.id, p.ecosystem, p.namespace, p.name, p.versions, (%s)::text from package p where p.repository_id = %s",
		s.each(queries, s.ofPackage), s.arg(repositoryID))
	if at == 0 {
		s.WriteString(" and p.versions > 0")
	}
	s.WriteString(" order by p.ecosystem, p.namespace, p.name")
	err = f.each(ctx, s.String(), s.arguments, func(row rows) error {
		var p FactPackage
		var about string
		err := row.Scan(&p.ID, &p.Key.Ecosystem, &p.Key.Namespace, &p.Key.Name, &p.Versions, &about)
		p.About = fits(about)
		found = append(found, p)
		return err
	})
	return found, err
}

// each writes which of the queries fit, as a text with t or f for each.
func (s *statement) each(queries []query.Query, of func(query.Query) string) string {
	conditions := []string{"''"}
	for _, q := range queries {
		if condition := of(q); condition != "" {
			conditions = append(conditions, "case when true"+condition+" then 't' else 'f' end")
		} else {
			conditions = append(conditions, "'t'")
		}
	}
	return strings.Join(conditions, " || ")
}

// fits reads such a text.
func fits(text string) []bool {
	all := make([]bool, len(text))
	for i := range all {
		all[i] = text[i] == 't'
	}
	return all
}

// PackagesOf gives the packages of versions, with what Packages gives of them, and
// their repositories.
func (f Facts) PackagesOf(
	ctx context.Context, versionIDs []int64, queries []query.Query,
) (found []FactPackage, repositories []int64, err error) {
	s := new(statement)
	fmt.Fprintf(s, `select p.id, p.repository_id, p.ecosystem, p.namespace, p.name, p.versions, (%s)::text from package p
		where p.id in (select package_id from version where id = any(%s)) order by p.repository_id, p.ecosystem, p.namespace,
		p.name`, s.each(queries, s.ofPackage), s.arg(versionIDs))
	err = f.each(ctx, s.String(), s.arguments, func(row rows) error {
		var p FactPackage
		var repository int64
		var about string
		err := row.Scan(&p.ID, &repository, &p.Key.Ecosystem, &p.Key.Namespace, &p.Key.Name, &p.Versions, &about)
		p.About = fits(about)
		found, repositories = append(found, p), append(repositories, repository)
		return err
	})
	return found, repositories, err
}

// Belonging is what a version is made of, and about.
type Belonging struct {
	Parts []string
	About string
	// For are the platforms of its parts, as far as it says them.
	For []PartPlatform
}

// PartPlatform is for which platform a part is.
type PartPlatform struct {
	Version  string `json:"digest"`
	Platform string `json:"platform"`
}

// Belongs gives those of the versions of packages that are made of others, or about one,
// by version id.
func (f Facts) Belongs(ctx context.Context, packageIDs []int64) (map[int64]Belonging, error) {
	if len(packageIDs) == 0 {
		return nil, nil
	}
	of := map[int64]Belonging{}
	err := f.each(ctx, `select v.id, coalesce(v.details->'native'->>'subject', ''),
			array_to_string(array(select jsonb_array_elements_text(coalesce(v.details->'native'->'children', '[]'))), ' '),
			coalesce(v.details->'native'->'platforms', '[]')
		from version v where v.package_id = any($1) and v.visible_from is not null
		and (v.details->'native'->>'subject' is not null or v.details->'native'->'children' is not null)`,
		[]any{packageIDs}, func(row rows) error {
			var id int64
			var b Belonging
			var parts string
			var platforms []byte
			err := row.Scan(&id, &b.About, &parts, &platforms)
			if err == nil {
				err = json.Unmarshal(platforms, &b.For)
			}
			if parts != "" {
				b.Parts = strings.Fields(parts)
			}
			of[id] = b
			return err
		})
	return of, err
}

// Versions calls each for one package after the other, in their order, with the
// versions that can be seen and what is known of each for a verdict as of now; at
// is a moment that is past, or 0. Fits[i] tells whether a version fits the ith
// query, as far as the query is about versions. It is called by another goroutine
// and must not keep the versions; nothing else can be asked meanwhile.
func (f Facts) Versions(
	ctx context.Context, packageIDs []int64, queries []query.Query, now time.Time, at catalog.Moment,
	each func(i int, versions []retention.Version) error,
) error {
	s := versionsOf(packageIDs, queries, now, at)
	known := map[string][]bool{} // most fit alike
	var versions []retention.Version
	last := 0
	// While one package is looked at, the next ones are read.
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	type read struct {
		i        int
		versions []retention.Version
	}
	ready, used, ended := make(chan read, 16), make(chan []retention.Version, 16), make(chan struct{})
	go func() {
		defer close(ended)
		for r := range ready {
			if ctx.Err() != nil {
				continue
			}
			if err := each(r.i, r.versions); err != nil {
				stop(err)
			}
			select {
			case used <- r.versions[:0]:
			default:
			}
		}
	}()
	end := func() {
		if len(versions) == 0 {
			return
		}
		ready <- read{last - 1, versions}
		select {
		case versions = <-used:
		default:
			versions = nil
		}
	}
	var back, usedAt *time.Time
	var fitted string
	var place int
	var v retention.Version
	into := []any{&place, &v.ID, &v.Version, &v.Upload, &v.Snapshot, &v.At, &v.UploadedAt, &v.UploadCount, &v.BuildID,
		&v.Bytes, &back, &usedAt, &v.Downloads, &v.Users, &fitted}
	err := f.each(ctx, s.String(), s.arguments, func(row rows) error {
		if err := row.Scan(into...); err != nil {
			return err
		}
		if place != last {
			end()
			last = place
		}
		v.BackAt, v.UsedAt = time.Time{}, time.Time{}
		if back != nil {
			v.BackAt = *back
		}
		if usedAt != nil {
			v.UsedAt = *usedAt
		}
		if v.Fits = known[fitted]; v.Fits == nil {
			v.Fits = fits(fitted)
			known[fitted] = v.Fits
		}
		versions = append(versions, v)
		return nil
	})
	if err == nil {
		end()
	}
	close(ready)
	<-ended
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	return err
}

// versionsOf asks for the versions of packages, in the order of these, with their use and
// with which queries each fits.
func versionsOf(packageIDs []int64, queries []query.Query, now time.Time, at catalog.Moment) *statement {
	s := new(statement)
	use := "left join version_use u on u.version_id = v.id"
	if at != 0 {
		use = `left join lateral (select max(d.day)::timestamptz used_at, sum(d.downloads)::bigint downloads,
			(select count(distinct x) from download_day e, unnest(e.users) x where e.version_id = v.id and e.day <= ` +
			s.arg(now) + `::date) users
			from download_day d where d.version_id = v.id and d.day <= ` + s.arg(now) + `::date having count(*) > 0) u on true`
	}
	fit := s.each(queries, func(q query.Query) string { return s.ofVersion(q, now) })
	fmt.Fprintf(s,
		`select n.place, v.id, v.version, v.upload, v.snapshot, v.visible_from, coalesce(v.arrived, v.uploaded_at),
			v.upload_count, coalesce(v.build_id, 0), v.bytes,
		v.brought_back_at, u.used_at, coalesce(u.downloads, 0), coalesce(u.users, 0), (%s)::text
		from unnest(%s::bigint[]) with ordinality n(id, place) join version v on v.package_id = n.id %s where %s
		order by n.place`, fit, s.arg(packageIDs), use, seen(at))
	return s
}

// Labels gives the labels of packages, by package and version.
func (f Facts) Labels(
	ctx context.Context, packageIDs []int64, at catalog.Moment,
) (map[int64]map[string][]string, error) {
	during := "l.visible_until is null"
	if at != 0 {
		during = "l.visible_from <= " + moment(at) + " and (l.visible_until is null or l.visible_until > " + moment(at) + ")"
	}
	found := map[int64]map[string][]string{}
	err := f.each(ctx, `select l.package_id, l.version, l.name from label l where l.package_id = any($1) and `+during+
		` order by 1, 2, 3`, []any{packageIDs}, func(row rows) error {
		var id int64
		var version, name string
		err := row.Scan(&id, &version, &name)
		if found[id] == nil {
			found[id] = map[string][]string{}
		}
		found[id][version] = append(found[id][version], name)
		return err
	})
	return found, err
}

// Pinned gives why versions are pinned at a moment, by package and by version or
// upload.
func (f Facts) Pinned(ctx context.Context, repositories []int64, now time.Time) (map[int64]map[string]string, error) {
	found := map[int64]map[string]string{}
	err := f.each(ctx, pinColumns+
		`where p.repository_id = any($1) and k.at <= $2 and (k.ended_at is null or k.ended_at > $2) and (k.until is null
			or k.until > $2)`,
		[]any{repositories, now}, func(row rows) error {
			var p Pin
			err := row.Scan(&p.ID, &p.PackageID, &p.RepositoryID, &p.Ecosystem, &p.Namespace, &p.Name, &p.Version, &p.Reason,
				&p.By, &p.At, &p.Until)
			if found[p.PackageID] == nil {
				found[p.PackageID] = map[string]string{}
			}
			found[p.PackageID][p.Version] = "by " + p.By + ": " + p.Reason
			return err
		})
	return found, err
}

// Held tells of versions with which something is under way, what that is.
func (f Facts) Held(ctx context.Context) (map[int64]string, error) {
	held := map[int64]string{}
	note := func(text string) func(row rows) error {
		return func(row rows) error {
			var version, id int64
			err := row.Scan(&version, &id)
			held[version] = fmt.Sprintf(text, id)
			return err
		}
	}
	err := f.each(ctx, `select d.version_id, d.promotion_id from delivery d where d.state = 'waiting'`, nil,
		note("it is being sent on for promotion %d"))
	if err == nil {
		err = f.each(ctx,
			`select i.source_id, i.promotion_id from promotion_item i join promotion q on q.id = i.promotion_id
				where q.state in ('waiting', 'underway')`,
			nil, note("promotion %d waits for it"))
	}
	return held, err
}

// Promoted tells which promotions took versions further, by version and by build.
func (f Facts) Promoted(ctx context.Context, now time.Time) (versions, builds map[int64]int64, err error) {
	versions, builds = map[int64]int64{}, map[int64]int64{}
	err = f.each(ctx,
		`select i.source_id, coalesce(v.build_id, 0), i.promotion_id from promotion_item i join promotion q
			on q.id = i.promotion_id
		join version v on v.id = i.source_id where q.state = 'done' and q.ended_at <= $1 order by i.promotion_id`, []any{now},
		func(row rows) error {
			var version, build, promotion int64
			err := row.Scan(&version, &build, &promotion)
			versions[version] = promotion
			if build != 0 {
				builds[build] = promotion
			}
			return err
		})
	return versions, builds, err
}

// Room tells since when a version of a repository must have been used to be among
// those that were used last and together have at most so many bytes.
func (f Facts) Room(ctx context.Context, repositoryID, bytes int64) (since time.Time, err error) {
	err = f.each(ctx,
		`select x.used from (select coalesce(u.used_at, v.visible_from) used, sum(v.bytes) over (order by coalesce(u.used_at,
			v.visible_from) desc, v.id desc) total
			from version v join package p on p.id = v.package_id left join version_use u on u.version_id = v.id
			where p.repository_id = $1 and v.visible_from is not null and v.visible_until is null) x
		where x.total > $2 order by x.total limit 1`, []any{repositoryID, bytes}, func(row rows) error {
			err := row.Scan(&since)
			since = since.Add(time.Microsecond) // that one is beyond it already
			return err
		})
	return since, err
}

// Shares tells which bytes several versions have, of those that can be seen or are
// arriving.
func (f Facts) Shares(ctx context.Context) (*retention.Shares, error) {
	shares := new(retention.Shares)
	var last [32]byte
	var raw []byte
	err := f.each(ctx,
		`select f.sha256, f.version_id, b.size from (select sha256 from file group by sha256 having count(*) > 1) several
		join file f using (sha256) join stored_file b using (sha256) join version v on v.id = f.version_id
		where v.visible_until is null order by f.sha256, f.version_id`, nil, func(row rows) error {
			var version, size int64
			if err := row.Scan(&raw, &version, &size); err != nil {
				return err
			}
			if digest := [32]byte(raw); digest != last {
				last = digest
				shares.File(size)
			}
			shares.Holder(version)
			return nil
		})
	return shares, err
}

// Needs calls each for every version that can be seen and needs one of the packages
// that are named, by package URL without a version; but not for those in without,
// or only for those in only if that is not nil.
func (f Facts) Needs(
	ctx context.Context, names []string, without, only []int64, each func(title string, needs []catalog.Dependency) error,
) error {
	return f.each(ctx,
		`select p.name || ' ' || v.version, v.details->'dependencies' from version v join package p on p.id = v.package_id
		where v.visible_from is not null and v.visible_until is null
		and jsonb_array_length(coalesce(v.details->'dependencies', '[]')) > 0
		and ($3::bigint[] is null and not v.id = any($2) or v.id = any($3))
		and exists (select from jsonb_array_elements(v.details->'dependencies') x where x->>'purl' = any($1))
		order by p.repository_id, p.ecosystem, p.namespace, p.name, v.id`, []any{names, append([]int64{}, without...), only},
		func(row rows) error {
			var title string
			var raw []byte
			if err := row.Scan(&title, &raw); err != nil {
				return err
			}
			var needs []catalog.Dependency
			if err := json.Unmarshal(raw, &needs); err != nil {
				return err
			}
			return each(title, needs)
		})
}

// Elsewhere calls each for every version of packages of some names that can be
// seen in other repositories than some.
func (f Facts) Elsewhere(
	ctx context.Context, keys []purl.PURL, repositories []int64, each func(of purl.PURL, version string),
) error {
	var ecosystems, namespaces, names []string
	for _, k := range keys {
		ecosystems, namespaces, names = append(ecosystems, k.Ecosystem), append(namespaces, k.Namespace),
			append(names, k.Name)
	}
	return f.each(ctx,
		`select distinct p.ecosystem, p.namespace, p.name, v.version from package p join version v on v.package_id = p.id
		join (select * from unnest($1::text[], $2::text[], $3::text[])) n(ecosystem, namespace, name) using (ecosystem,
		namespace, name)
		where not p.repository_id = any($4) and v.visible_from is not null and v.visible_until is null order by 1, 2, 3, 4`,
		[]any{ecosystems, namespaces, names, repositories}, func(row rows) error {
			var of purl.PURL
			var version string
			err := row.Scan(&of.Ecosystem, &of.Namespace, &of.Name, &version)
			each(of, version)
			return err
		})
}

// BuildUses calls each for every build that used one of the versions, and kept for
// every one of those builds that made something that can be seen besides them.
func (f Facts) BuildUses(
	ctx context.Context, versionIDs []int64, each func(build int64, title string, version int64), kept func(build int64),
) error {
	err := f.each(ctx,
		`select b.id, b.name || '#' || b.number, u.version_id from build_use u join build b on b.id = u.build_id
			where u.version_id = any($1)
		order by b.id, u.version_id`, []any{versionIDs}, func(row rows) error {
			var build, version int64
			var title string
			err := row.Scan(&build, &title, &version)
			each(build, title, version)
			return err
		})
	if err != nil {
		return err
	}
	return f.each(ctx,
		`select distinct v.build_id from version v where v.build_id in (select build_id from build_use
			where version_id = any($1))
		and v.visible_from is not null and v.visible_until is null and not v.id = any($1) order by 1`, []any{versionIDs},
		func(row rows) error {
			var build int64
			err := row.Scan(&build)
			kept(build)
			return err
		})
}

// Programs calls each for every version with a program whose symbols it does not have itself, and some of the versions
// have: for each program with all versions that have them, in the order in which these came.
func (f Facts) Programs(
	ctx context.Context, versionIDs []int64, each func(version int64, title string, symbols []int64),
) error {
	return f.each(ctx,
		`select c.version_id, p.name || ' ' || v.version, json_agg(distinct d.version_id order by d.version_id)
		from (select distinct key from symbol where version_id = any($1) and debug and key <> '') going
		join symbol c on c.key = going.key and c.code
		join version v on v.id = c.version_id and v.visible_from is not null and v.visible_until is null
		join package p on p.id = v.package_id
		join symbol d on d.key = going.key and d.debug
		join version w on w.id = d.version_id and w.visible_from is not null and w.visible_until is null
		where not exists (select from symbol o where o.version_id = c.version_id and o.key = c.key and o.debug)
		group by c.version_id, p.name, v.version, going.key order by 1, going.key`, []any{versionIDs},
		func(row rows) error {
			var version int64
			var title string
			var raw []byte
			if err := row.Scan(&version, &title, &raw); err != nil {
				return err
			}
			var symbols []int64
			if err := json.Unmarshal(raw, &symbols); err != nil {
				return err
			}
			each(version, title, symbols)
			return nil
		})
}

// Count tells how many versions of repositories can be seen.
func (f Facts) Count(ctx context.Context, repositoryID int64) (n int64, err error) {
	var versions sql.NullInt64
	err = f.each(ctx, `select sum(versions)::bigint from package where repository_id = $1`, []any{repositoryID},
		func(row rows) error { return row.Scan(&versions) })
	return versions.Int64, err
}
