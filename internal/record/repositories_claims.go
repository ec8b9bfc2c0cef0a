package record

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

// Claim is a pattern of names that are ours, or a lift of what would be.
type Claim struct {
	Pattern string    `db:"pattern"`
	Lifted  bool      `db:"lifted"`
	Reason  string    `db:"reason"`
	By      string    `db:"by_name"`
	At      time.Time `db:"at"`
}

// Claims lists all claims and lifts by pattern.
func (r reads) Claims(ctx context.Context) (claims []Claim, err error) {
	err = sqlx.SelectContext(ctx, r.q, &claims, `select pattern, lifted, reason, by_name, at from claim order by pattern`)
	return claims, err
}

// SetClaim writes a claim or lift, in place of one with the same pattern.
func (tx *Tx) SetClaim(ctx context.Context, c Claim) error {
	_, err := tx.ExecContext(ctx, `insert into claim (pattern, lifted, reason, by_name, at) values ($1, $2, $3, $4, $5)
		on conflict (pattern) do update set lifted = $2, reason = $3, by_name = $4, at = $5`, c.Pattern, c.Lifted, c.Reason,
		c.By, c.At)
	return err
}

// RemoveClaim removes a claim or lift.
func (tx *Tx) RemoveClaim(ctx context.Context, pattern string) error {
	_, err := tx.ExecContext(ctx, `delete from claim where pattern = $1`, pattern)
	return err
}

// PublishedIn tells which of the repositories ever published a package, be it
// there still or not.
func (db *DB) PublishedIn(ctx context.Context, repositories []int64, key catalog.PackageKey) (in []int64, err error) {
	err = db.SelectContext(ctx, &in,
		`select p.repository_id from package p where p.repository_id = any($1) and p.ecosystem = $2
		and p.namespace = $3 and p.name = $4 and exists (select from version v where v.package_id = p.id
		and v.visible_from is not null)`,
		repositories, key.Ecosystem, key.Namespace, key.Name)
	return in, err
}

// PublishedName is a package that was published.
type PublishedName struct {
	Ecosystem string    `db:"ecosystem"`
	Namespace string    `db:"namespace"`
	Name      string    `db:"name"`
	Since     time.Time `db:"since"`
	In        []string
}

// PublishedNames lists what the repositories ever published, with the names
// of those that did, and how many there are. words is part of the name.
func (db *DB) PublishedNames(
	ctx context.Context, scope Scope, words string, limit int,
) (names []PublishedName, total int, err error) {
	arguments := []any{scope.Repositories, "%" + likeEscaper.Replace(words) + "%", limit}
	rows, err := db.QueryContext(ctx,
		`with named as (
			select p.ecosystem, p.namespace, p.name, array_agg(p.id) packages, array_agg(p.repository_id) repositories
			from package p where p.repository_id = any($1) and p.last_arrived is not null
			and (p.namespace || ' ' || p.name) ilike $2`+scope.and(&arguments)+`
			group by 1, 2, 3
		), page as (select * from named order by 1, 2, 3 limit $3)
		select ecosystem, namespace, name, (select min(v.visible_from) from version v
			where v.package_id = any(packages) and v.visible_from is not null),
			(select array_agg(r.name order by r.name) from repository r where r.id = any(repositories)),
			(select count(*) from named)
		from page order by 1, 2, 3`, arguments...)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var n PublishedName
		if err := rows.Scan(&n.Ecosystem, &n.Namespace, &n.Name, &n.Since, list(&n.In), &total); err != nil {
			return nil, 0, err
		}
		names = append(names, n)
	}
	return names, total, rows.Err()
}
