package record

import (
	"context"

	"crelvo/internal/core/catalog"
)

// PartsShared names, of each of the parts of a package, other packages in a scope that have
// it too: so many of them, by name, among the first thousand places where it is.
func (db *DB) PartsShared(
	ctx context.Context, scope Scope, key catalog.PackageKey, names []string, limit int,
) (map[string][]string, error) {
	var rows []struct {
		File    string `db:"file"`
		Package string `db:"package"`
	}
	arguments := []any{key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, names, scope.Repositories, limit}
	err := db.SelectContext(ctx, &rows, `select own.file, other.package from package_part own
		cross join lateral (select distinct `+fullName+` package
			from (select package_id from package_part where sha256 = own.sha256 and named limit 1000) t
			join package p on p.id = t.package_id where p.repository_id = any($6)
			and (p.ecosystem, p.namespace, p.name) <> ($2, $3, $4)`+scope.and(&arguments)+`
			order by 1 limit $7) other
		where own.package_id = `+packageOf+` and own.file = any($5) order by 1, 2`, arguments...)
	shared := map[string][]string{}
	for _, row := range rows {
		shared[row.File] = append(shared[row.File], row.Package)
	}
	return shared, err
}

// SharedVersion is a version that has bytes of another one.
type SharedVersion struct {
	Version, Upload string
	Bytes           int64
}

// VersionsShared are the versions of a package that have files of one kind of a version too, by how many bytes these
// have: the files are known by their extension. A version may be named by that of an upload.
func (db *DB) VersionsShared(
	ctx context.Context, key catalog.PackageKey, exact, extension string, limit int,
) (all []SharedVersion, err error) {
	err = db.SelectContext(ctx, &all, `select o.version, o.upload, sum(b.size)::bigint bytes from version v
		join file f on f.version_id = v.id and f.extension = $6 join stored_file b on b.sha256 = f.sha256
		join file g on g.sha256 = f.sha256 and g.version_id <> v.id
		join version o on o.id = g.version_id and o.package_id = v.package_id and o.visible_from is not null
			and o.visible_until is null
		where v.package_id = `+packageOf+` and $5 in (v.version, v.upload) and v.visible_from is not null
			and v.visible_until is null
		group by o.id order by 3 desc, o.visible_from desc limit $7`, key.RepositoryID, key.Ecosystem, key.Namespace,
		key.Name, exact, extension, limit)
	return all, err
}
