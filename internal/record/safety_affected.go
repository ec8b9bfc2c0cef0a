package record

import (
	"context"
	"time"

	"crelvo/internal/core/catalog"
)

// AdvisedVersion is a version that is kept of a package that some advisory is about.
type AdvisedVersion struct {
	ID           int64      `db:"id"`
	RepositoryID int64      `db:"repository_id"`
	Ecosystem    string     `db:"ecosystem"`
	Namespace    string     `db:"namespace"`
	Name         string     `db:"name"`
	Version      string     `db:"version"`
	Upload       string     `db:"upload"`
	Snapshot     bool       `db:"snapshot"`
	PublishedBy  string     `db:"published_by"`
	PublishedAt  time.Time  `db:"published_at"`
	Downloads    int64      `db:"downloads"`
	UsedAt       *time.Time `db:"used_at"`
}

// Key names the package, in no repository.
func (v AdvisedVersion) Key() catalog.PackageKey {
	return catalog.PackageKey{Ecosystem: v.Ecosystem, Namespace: v.Namespace, Name: v.Name}
}

// Advised goes through the versions in a scope of packages that advisories are about which
// were not withdrawn: of all, or of one by its id; those of one package one after the other,
// wherever they are.
func (db *DB) Advised(ctx context.Context, scope Scope, advisory string, each func(AdvisedVersion) error) error {
	arguments := []any{scope.Repositories}
	about := "a.withdrawn is null"
	if advisory != "" {
		arguments = append(arguments, advisory)
		about = "a.id = $2"
	}
	within := scope.and(&arguments)
	rows, err := db.QueryxContext(ctx, `with advised as materialized (
			select distinct x.ecosystem, x.namespace, x.name from advisory_package x
			join advisory a on a.id = x.advisory_id where `+about+`)
		select v.id, p.repository_id, p.ecosystem, p.namespace, p.name, v.version, v.upload, v.snapshot,
			v.published_by, v.visible_from published_at, coalesce(u.downloads, 0) downloads, u.used_at
		from advised x join package p using (ecosystem, namespace, name)
		join version v on v.package_id = p.id and`+seen(0)+`
		left join version_use u on u.version_id = v.id
		where p.repository_id = any($1)`+within+`
		order by p.ecosystem, p.namespace, p.name, p.repository_id, v.id`, arguments...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var v AdvisedVersion
		if err := rows.StructScan(&v); err != nil {
			return err
		}
		if err := each(v); err != nil {
			return err
		}
	}
	return rows.Err()
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
