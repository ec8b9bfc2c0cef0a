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
