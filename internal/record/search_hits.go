package record

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
)

// Hit is a package in the answer to a search by a package client.
type Hit struct {
	RepositoryID int64
	Namespace    string
	Name         string
	ChangedAt    time.Time
	Latest       string // the version that arrived last
	PublishedBy  string
	PublishedAt  time.Time
	Details      catalog.Details // of Latest
	Versions     []string
	Downloads    int64
}

// HitsAsked is what a package client searches for.
type HitsAsked struct {
	Ecosystem   string
	Words       []string
	Name        string // the only name, in lower case; "" for any
	Having      []Having
	Snapshots   bool
	Skip, Limit int
}

// Having asks that a list at a path of a version's details has a value, in any case;
// with OrNone, a version without the list fits too.
type Having struct {
	Path   []string
	Value  string
	OrNone bool
}

// Hits finds packages of an ecosystem whose name, title or description has all
// the words, those whose name fits best first, and tells how many there are. Of
// a name that several repositories have, the first one's counts. Without
// snapshots, packages that have nothing else are left out; versions that are
// withdrawn are not found.
func (db *DB) Hits(ctx context.Context, scope Scope, asked HitsAsked) (hits []Hit, total int, err error) {
	patterns := make([]string, len(asked.Words))
	for i, w := range asked.Words {
		patterns[i] = "%" + likeEscaper.Replace(strings.ToLower(w)) + "%"
	}
	var rows []struct {
		Total        int       `db:"total"`
		RepositoryID int64     `db:"repository_id"`
		Namespace    string    `db:"namespace"`
		Name         string    `db:"name"`
		ChangedAt    time.Time `db:"changed_at"`
		Latest       string    `db:"latest"`
		PublishedBy  string    `db:"published_by"`
		PublishedAt  time.Time `db:"visible_from"`
		Details      []byte    `db:"details"`
		Versions     string    `db:"versions"`
		Downloads    int64     `db:"downloads"`
	}
	arguments := []any{scope.Repositories, asked.Ecosystem, patterns, asked.Snapshots, asked.Skip, asked.Limit,
		strings.ToLower(strings.Join(asked.Words, " ")), asked.Name}
	inScope := scope.and(&arguments)
	for _, h := range asked.Having {
		arguments = append(arguments, h.Path, h.Value, h.OrNone)
		n := len(arguments)
		inScope += fmt.Sprintf(` and ($%d and l.details #> $%d is null or exists (select from jsonb_array_elements_text(
			case when jsonb_typeof(l.details #> $%[2]d) = 'array' then l.details #> $%[2]d else '[]' end) x
			where lower(x) = lower($%[3]d)))`, n, n-2, n-1)
	}
	err = db.SelectContext(ctx, &rows, `with fitting as (
			select distinct on (p.namespace, p.name) p.id, p.repository_id, p.namespace, p.name, p.changed_at, l.version latest,
			l.published_by, l.visible_from, l.details
			from package p cross join lateral (select v.version, v.published_by, v.visible_from, v.details from version v
				where v.package_id = p.id and v.visible_from is not null and v.visible_until is null and ($4 or not v.snapshot)
					and not exists (select from withdrawal w where w.package_id = p.id and w.version = v.version
					and w.visible_until is null)
				order by v.visible_from desc, v.id desc limit 1) l
			where p.versions > 0 and p.repository_id = any($1) and p.ecosystem = $2`+inScope+`
				and ($8 = '' or lower(p.name) = $8) and (cardinality($3::text[]) = 0 or p.words like all ($3)
					or (p.words || ' ' || coalesce(l.details->>'title', '') || ' ' || coalesce(l.details->>'description',
					'')) ilike all ($3))
			order by p.namespace, p.name, array_position($1, p.repository_id)
		), page as (
			select f.*, count(*) over () total, case when $7 = '' then 3 when lower(name) = $7 then 0
			when starts_with(lower(name), $7) then 1
				when position($7 in lower(namespace || ' ' || name)) > 0 then 2 else 3 end fit
			from fitting f order by fit, name, namespace offset $5 limit $6
		)
		select f.total, f.repository_id, f.namespace, f.name, f.changed_at, f.latest, f.published_by, f.visible_from,
		f.details,
			(select string_agg(distinct v.version, ' ') from version v where v.package_id = f.id and v.visible_from is not null
				and v.visible_until is null and ($4 or not v.snapshot)
				and not exists (select from withdrawal w where w.package_id = f.id and w.version = v.version
				and w.visible_until is null)) versions,
			coalesce((select sum(u.downloads) from version v join version_use u on u.version_id = v.id
			where v.package_id = f.id), 0)::bigint downloads
		from page f order by f.fit, f.name, f.namespace`,
		arguments...)
	for _, row := range rows {
		h := Hit{RepositoryID: row.RepositoryID, Namespace: row.Namespace, Name: row.Name, ChangedAt: row.ChangedAt,
			Latest:      row.Latest,
			PublishedBy: row.PublishedBy, PublishedAt: row.PublishedAt, Versions: strings.Fields(row.Versions),
			Downloads: row.Downloads}
		if err := json.Unmarshal(row.Details, &h.Details); err != nil {
			return nil, 0, err
		}
		hits, total = append(hits, h), row.Total
	}
	return hits, total, err
}
