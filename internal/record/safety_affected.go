package record

import (
	"context"
	"fmt"
	"time"

	"crelvo/internal/core/catalog"
)

// AdvisedPackage is a package of which something is kept, and that some advisory is about.
type AdvisedPackage struct {
	ID           int64  `db:"id"`
	RepositoryID int64  `db:"repository_id"`
	Ecosystem    string `db:"ecosystem"`
	Namespace    string `db:"namespace"`
	Name         string `db:"name"`
}

// Key names the package, in no repository.
func (p AdvisedPackage) Key() catalog.PackageKey {
	return catalog.PackageKey{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name}
}

// AdvisedPackages lists the packages in a scope that advisories are about which were not
// withdrawn: any, or the one of an id.
func (db *DB) AdvisedPackages(ctx context.Context, scope Scope, advisory string) (all []AdvisedPackage, err error) {
	arguments := []any{scope.Repositories}
	advised := advisedBy(advisory, &arguments)
	within := scope.and(&arguments)
	err = db.SelectContext(ctx, &all, `with `+advised+`
		select p.id, p.repository_id, p.ecosystem, p.namespace, p.name
		from advised x join package p using (ecosystem, namespace, name)
		where p.repository_id = any($1) and p.versions > 0`+within+`
		order by p.ecosystem, p.namespace, p.name, p.repository_id`, arguments...)
	return all, err
}

// advisedBy are, as "advised", the packages that an advisory is about, or any that was not withdrawn if
// its id is "".
func advisedBy(advisory string, arguments *[]any) string {
	about := "a.withdrawn is null"
	if advisory != "" {
		*arguments = append(*arguments, advisory)
		about = fmt.Sprintf("a.id = $%d", len(*arguments))
	}
	return `advised as materialized (select distinct x.ecosystem, x.namespace, x.name from advisory_package x
		join advisory a on a.id = x.advisory_id where ` + about + `)`
}

// UsedOf is a version that can be seen of a package, and how much it is used; uploads of a
// snapshot each for itself.
type UsedOf struct {
	ID        int64      `db:"id"`
	PackageID int64      `db:"package_id"`
	Version   string     `db:"version"`
	Downloads int64      `db:"downloads"`
	UsedAt    *time.Time `db:"used_at"`
}

// VersionsUsed lists the versions of packages, those of each in the order of their coming.
func (db *DB) VersionsUsed(ctx context.Context, packageIDs []int64) (map[int64][]UsedOf, error) {
	rows, err := db.QueryxContext(ctx, `select v.id, v.package_id, v.version, coalesce(u.downloads, 0) downloads, u.used_at
		from version v left join version_use u on u.version_id = v.id
		where v.package_id = any($1) and`+seen(0)+`order by v.id`, packageIDs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := make(map[int64][]UsedOf, len(packageIDs))
	for rows.Next() {
		var v UsedOf
		if err := rows.Scan(&v.ID, &v.PackageID, &v.Version, &v.Downloads, &v.UsedAt); err != nil {
			return nil, err
		}
		all[v.PackageID] = append(all[v.PackageID], v)
	}
	return all, rows.Err()
}

// UsedVersion is a version that a build used.
type UsedVersion struct {
	BuildID   int64  `db:"build_id"`
	Ecosystem string `db:"ecosystem"`
	Namespace string `db:"namespace"`
	Name      string `db:"name"`
	Version   string `db:"version"`
}

// Key names the package, in no repository.
func (v UsedVersion) Key() catalog.PackageKey {
	return catalog.PackageKey{Ecosystem: v.Ecosystem, Namespace: v.Namespace, Name: v.Name}
}

// UsedByBuilds lists what builds used, by their ids.
func (db *DB) UsedByBuilds(ctx context.Context, ids []int64) (map[int64][]UsedVersion, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	var rows []UsedVersion
	if err := db.SelectContext(ctx, &rows, `select distinct u.build_id, p.ecosystem, p.namespace, p.name, v.version
		from build_use u join version v on v.id = u.version_id join package p on p.id = v.package_id
		where u.build_id = any($1) order by u.build_id, p.ecosystem, p.namespace, p.name, v.version`, ids); err != nil {
		return nil, err
	}
	used := map[int64][]UsedVersion{}
	for _, row := range rows {
		used[row.BuildID] = append(used[row.BuildID], row)
	}
	return used, nil
}

// UsedAdvised lists the versions in a scope, whether they are still there or not, that builds used and
// whose packages an advisory is about.
func (db *DB) UsedAdvised(ctx context.Context, scope Scope, advisory string) (all []AdvisedVersion, err error) {
	arguments := []any{scope.Repositories, advisory}
	within := scope.and(&arguments)
	err = db.SelectContext(ctx, &all, `select distinct v.id, p.ecosystem, p.namespace, p.name, v.version
		from advisory_package x join package p using (ecosystem, namespace, name)
		join version v on v.package_id = p.id
		where x.advisory_id = $2 and p.repository_id = any($1)`+within+`
			and exists (select from build_use u where u.version_id = v.id)`, arguments...)
	return all, err
}

// AdvisedVersion is a version of a package that an advisory is about.
type AdvisedVersion struct {
	ID        int64  `db:"id"`
	Ecosystem string `db:"ecosystem"`
	Namespace string `db:"namespace"`
	Name      string `db:"name"`
	Version   string `db:"version"`
}

// Key names the package, in no repository.
func (v AdvisedVersion) Key() catalog.PackageKey {
	return catalog.PackageKey{Ecosystem: v.Ecosystem, Namespace: v.Namespace, Name: v.Name}
}

// ListedAdvised gives what the upstreams of some mirrors listed last of packages that an advisory is
// about, without what versions are like.
func (db *DB) ListedAdvised(
	ctx context.Context, repositories []int64, advisory string, limit int,
) (all []UpstreamDocument, err error) {
	var rows []documentRow
	if err := db.SelectContext(ctx, &rows, `select distinct d.* from advisory_package x
		cross join unnest($1::bigint[]) r (id)
		join upstream_document d on d.repository_id = r.id and d.ecosystem = x.ecosystem and d.namespace = x.namespace
			and d.name = x.name
		where x.advisory_id = $2 and d.found and d.listing is not null
		order by d.repository_id, d.path limit $3`, repositories, advisory, limit); err != nil {
		return nil, err
	}
	for _, row := range rows {
		d, err := row.value(false)
		if err != nil {
			return nil, err
		}
		all = append(all, d)
	}
	return all, nil
}
