package record

import (
	"context"
	"fmt"
)

// BuiltUpon is a version that is made upon another one: what that consists of, it begins
// with.
type BuiltUpon struct {
	Ecosystem string `db:"ecosystem"`
	Namespace string `db:"namespace"`
	Name      string `db:"name"`
	Version   string `db:"version"`
	Label     string `db:"label"` // one of those that it has; "" if it has none
}

// layersOf are the layers of a version, in their order, as a column l.
const layersOf = `(select array_agg(e->>'name' order by n) l
	from jsonb_array_elements(coalesce(%s.details->'native'->'parts', '[]')) with ordinality x(e, n)
	where e->>'extension' = 'layer')`

// baseOf is what a version v says of itself that it is built upon, by the digest of that
// (https://github.com/opencontainers/image-spec/blob/v1.1.1/annotations.md).
const baseOf = `v.details->'native'->'annotations'->>'org.opencontainers.image.base.digest'`

// BuiltUpon lists versions whose layers begin with those of one of some versions, or of what
// one of these is made of, or that say so of themselves; of a version that is part of another
// one, that.
func (db *DB) BuiltUpon(ctx context.Context, scope Scope, ids []int64, limit int) (all []BuiltUpon, err error) {
	arguments := []any{ids, scope.Repositories, limit}
	within := scope.and(&arguments)
	err = db.SelectContext(ctx, &all, `with asked as (
			select v.id, v.package_id, v.version, v.details from version v where v.id = any($1)
			union all select c.id, c.package_id, c.version, c.details from version v
			cross join lateral jsonb_array_elements_text(coalesce(v.details->'native'->'children', '[]')) child
			join version c on c.package_id = v.package_id and c.version = child where v.id = any($1)),
		base as (select a.id, b.l, array_length(b.l, 1) n from asked a cross join lateral `+
		fmt.Sprintf(layersOf, "a")+` b where b.l is not null),
		upon as ((select v.id, p.id package_id, p.ecosystem, p.namespace, p.name, v.version from base b
			join file f on f.sha256 = decode(substr(b.l[b.n], 8), 'hex') and f.extension = 'layer'
			join version v on v.id = f.version_id and v.id <> b.id and `+seen(0)+`
			join package p on p.id = v.package_id and p.repository_id = any($2)`+within+`
			cross join lateral `+fmt.Sprintf(layersOf, "v")+` own
			where own.l[1:b.n] = b.l and array_length(own.l, 1) > b.n limit $3)
			union (select v.id, p.id, p.ecosystem, p.namespace, p.name, v.version from asked a
			join version v on `+baseOf+` = a.version and v.id <> a.id and `+seen(0)+`
			join package p on p.id = v.package_id and p.repository_id = any($2)`+within+` limit $3))
		select distinct u.ecosystem, u.namespace, u.name, coalesce(i.version, u.version) "version",
			coalesce((select min(l.name) from label l where l.package_id = u.package_id and l.visible_until is null
				and l.version = coalesce(i.version, u.version)), '') label
		from upon u left join lateral (select v.version from version v where v.package_id = u.package_id and`+seen(0)+`
			and v.details->'native'->'children' @> to_jsonb(u.version) limit 1) i on true
		order by u.ecosystem, u.namespace, u.name, label, "version"`, arguments...)
	return all, err
}
