package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
)

// Advisory is one on record.
type Advisory struct {
	safety.Advisory
	Severity  safety.Severity // the worst that it says of any package
	By        string          // who brought it, or the name of a feed
	ArrivedAt time.Time
}

// advisoryRow is a row of the table of them.
type advisoryRow struct {
	ID        string
	Severity  int
	By        string    `db:"by_name"`
	ArrivedAt time.Time `db:"arrived_at"`
	Record    []byte
}

const advisoryColumns = `a.id, a.severity, a.by_name, a.arrived_at, a.record`

func (r advisoryRow) value() (Advisory, error) {
	a := Advisory{Severity: safety.Severity(r.Severity), By: r.By, ArrivedAt: r.ArrivedAt}
	return a, json.Unmarshal(r.Record, &a.Advisory)
}

// Imported is what became of records that were put before SetAdvisories.
type Imported struct {
	Added, Changed []*safety.Advisory
	// Packages are those that any of them is about, or was.
	Packages []catalog.PackageKey
}

// SetAdvisories puts advisories on record that are not there, or only as they were before.
// There must not be two of one id.
func (tx *Tx) SetAdvisories(
	ctx context.Context, all []*safety.Advisory, feedID int16, by string, at time.Time,
) (done Imported, err error) {
	type row struct {
		ID        string     `json:"id"`
		Modified  time.Time  `json:"modified"`
		Withdrawn *time.Time `json:"withdrawn"`
		Severity  int        `json:"severity"`
		Summary   string     `json:"summary"`
		Aliases   []string   `json:"aliases"`
		Record    any        `json:"record"`
	}
	rows := make([]row, len(all))
	byID := map[string]*safety.Advisory{}
	for i, a := range all {
		byID[a.ID] = a
		rows[i] = row{ID: a.ID, Modified: a.Modified, Severity: int(a.Worst().Severity), Summary: a.Summary,
			Aliases: append([]string{}, a.Aliases...), Record: a}
		if !a.Withdrawn.IsZero() {
			rows[i].Withdrawn = &a.Withdrawn
		}
	}
	raw, err := json.Marshal(rows)
	if err != nil {
		return done, err
	}
	var changed []struct {
		ID    string
		Added bool
	}
	if err := tx.SelectContext(ctx, &changed, `insert into advisory as a
			(id, feed_id, by_name, modified, withdrawn, severity, summary, aliases, record, arrived_at)
		select id, nullif($2, 0)::smallint, $3, modified, withdrawn, severity, summary, aliases, record, $4
		from jsonb_to_recordset($1::jsonb) x(id text, modified timestamptz, withdrawn timestamptz, severity smallint,
			summary text, aliases jsonb, record jsonb) order by id
		on conflict (id) do update set feed_id = excluded.feed_id, by_name = excluded.by_name,
			modified = excluded.modified, withdrawn = excluded.withdrawn, severity = excluded.severity,
			summary = excluded.summary, aliases = excluded.aliases, record = excluded.record
			where excluded.modified > a.modified
		returning a.id, xmax = 0 added`, string(storableJSON(raw)), feedID, by, at); err != nil {
		return done, err
	}
	var ids []string
	for _, c := range changed {
		ids = append(ids, c.ID)
		if c.Added {
			done.Added = append(done.Added, byID[c.ID])
		} else {
			done.Changed = append(done.Changed, byID[c.ID])
		}
	}
	done.Packages, err = tx.setAdvised(ctx, ids, byID)
	return done, err
}

// setAdvised writes which packages advisories are about, and gives those, and which it was.
func (tx *Tx) setAdvised(
	ctx context.Context, ids []string, byID map[string]*safety.Advisory,
) (all []catalog.PackageKey, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	var before []struct{ Ecosystem, Namespace, Name string }
	if err := tx.SelectContext(ctx, &before, `delete from advisory_package where advisory_id = any($1)
		returning ecosystem, namespace, name`, ids); err != nil {
		return nil, err
	}
	known := map[catalog.PackageKey]bool{}
	for _, p := range before {
		known[catalog.PackageKey{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name}] = true
	}
	type row struct {
		ID        string          `json:"advisory_id"`
		N         int             `json:"n"`
		Ecosystem string          `json:"ecosystem"`
		Namespace string          `json:"namespace"`
		Name      string          `json:"name"`
		Affects   safety.Affected `json:"affects"`
	}
	var rows []row
	for _, id := range ids {
		for n, f := range byID[id].Affected {
			known[catalog.PackageKey{Ecosystem: f.Package.Ecosystem, Namespace: f.Package.Namespace,
				Name: f.Package.Name}] = true
			rows = append(rows, row{id, n, f.Package.Ecosystem, f.Package.Namespace, f.Package.Name, f})
		}
	}
	raw, err := json.Marshal(rows)
	if err != nil {
		return nil, err
	}
	_, err = tx.ExecContext(ctx, `insert into advisory_package (advisory_id, n, ecosystem, namespace, name, affects)
		select advisory_id, n, ecosystem, namespace, name, affects from jsonb_to_recordset($1::jsonb)
		x(advisory_id text, n integer, ecosystem text, namespace text, name text, affects jsonb)`,
		string(storableJSON(raw)))
	return slices.Collect(maps.Keys(known)), err
}

// AboutKept tells which advisories are about packages of which something is kept, or inside of what is.
func (tx *Tx) AboutKept(ctx context.Context, ids []string) (about []string, err error) {
	err = tx.SelectContext(ctx, &about, `select distinct x.advisory_id from advisory_package x
		cross join repository r join package p on p.repository_id = r.id and p.ecosystem = x.ecosystem
			and p.namespace = x.namespace and p.name = x.name where x.advisory_id = any($1)
		union select x.advisory_id from advisory_package x join bill_entry e using (ecosystem, namespace, name)
			where x.advisory_id = any($1)`, ids)
	return about, err
}

// AdvisoriesOf lists what advisories that were not withdrawn say of packages, wherever these
// are; the keys of the answer name no repository.
func (r reads) AdvisoriesOf(ctx context.Context, packages ...catalog.PackageKey) (
	map[catalog.PackageKey][]safety.Known, error) {
	ecosystems, namespaces, names := make([]string, len(packages)), make([]string, len(packages)),
		make([]string, len(packages))
	for i, p := range packages {
		ecosystems[i], namespaces[i], names[i] = p.Ecosystem, p.Namespace, p.Name
	}
	rows, err := r.q.QueryxContext(ctx, `select distinct on (p.ecosystem, p.namespace, p.name, p.advisory_id, p.n)
			p.ecosystem, p.namespace, p.name, p.affects, a.id, a.summary, a.aliases, a.record->'rating'
		from unnest($1::text[], $2::text[], $3::text[]) x(e, s, n)
		join advisory_package p on p.ecosystem = x.e and p.namespace = x.s and p.name = x.n
		join advisory a on a.id = p.advisory_id where a.withdrawn is null`, ecosystems, namespaces, names)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := map[catalog.PackageKey][]safety.Known{}
	for rows.Next() {
		var of catalog.PackageKey
		var row knownRow
		if err := rows.Scan(&of.Ecosystem, &of.Namespace, &of.Name, &row.affects, &row.id, &row.summary, &row.aliases,
			&row.rating); err != nil {
			return nil, err
		}
		k, err := row.value(of)
		if err != nil {
			return nil, err
		}
		found[of] = append(found[of], k)
	}
	return found, rows.Err()
}

// Advisory is the one of an id, or which has it as an alias, with what it says of packages;
// else ErrNotFound.
func (db *DB) Advisory(ctx context.Context, id string) (a Advisory, err error) {
	var row advisoryRow
	err = db.GetContext(ctx, &row, `select `+advisoryColumns+` from advisory a
		where a.id = $1 or a.aliases @> to_jsonb($1::text) order by a.id <> $1, a.id limit 1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return a, ErrNotFound
	}
	if err != nil {
		return a, err
	}
	if a, err = row.value(); err != nil {
		return a, err
	}
	var packages []struct {
		Ecosystem, Namespace, Name string
		Affects                    []byte
	}
	if err := db.SelectContext(ctx, &packages, `select ecosystem, namespace, name, affects from advisory_package
		where advisory_id = $1 order by n`, a.ID); err != nil {
		return a, err
	}
	for _, p := range packages {
		var f safety.Affected
		if err := json.Unmarshal(p.Affects, &f); err != nil {
			return a, err
		}
		f.Package = purl.PURL{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name}
		a.Affected = append(a.Affected, f)
	}
	return a, nil
}

// AdvisoryQuestion says which advisories are wanted.
type AdvisoryQuestion struct {
	Words    string          // in the id, an alias, the summary or the name of a package
	Least    safety.Severity // at least as bad
	Standing bool            // without those that were withdrawn
	Before   time.Time       // changed before; with Skip of that very moment
	Skip     string
	Limit    int
}

// Advisories lists advisories, which changed last first.
func (db *DB) Advisories(ctx context.Context, q AdvisoryQuestion) (all []Advisory, err error) {
	arguments := []any{q.Limit, int(q.Least)}
	where := "a.severity >= $2"
	arg := func(v any) string {
		arguments = append(arguments, v)
		return fmt.Sprintf("$%d", len(arguments))
	}
	if q.Words != "" {
		like := arg(globs("*" + q.Words + "*"))
		where += ` and (a.id ilike ` + like + ` or a.summary ilike ` + like + ` or a.aliases @> to_jsonb(` +
			arg(q.Words) + `::text) or exists (select from advisory_package p where p.advisory_id = a.id
			and (p.name ilike ` + like + ` or p.namespace ilike ` + like + `)))`
	}
	if q.Standing {
		where += " and a.withdrawn is null"
	}
	if !q.Before.IsZero() {
		where += " and (a.modified, a.id) < (" + arg(q.Before) + ", " + arg(q.Skip) + ")"
	}
	var rows []advisoryRow
	if err := db.SelectContext(ctx, &rows, `select `+advisoryColumns+` from advisory a where `+where+`
		order by a.modified desc, a.id desc limit $1`, arguments...); err != nil {
		return nil, err
	}
	for _, row := range rows {
		a, err := row.value()
		if err != nil {
			return nil, err
		}
		all = append(all, a)
	}
	return all, nil
}

// AdvisoryCounts tell how much is known.
type AdvisoryCounts struct {
	Advisories int64
	Malicious  int64
	Packages   int64
	Newest     sql.NullTime
}

// CountAdvisories counts those that were not withdrawn.
func (db *DB) CountAdvisories(ctx context.Context) (n AdvisoryCounts, err error) {
	err = db.GetContext(ctx, &n, `select count(*) advisories, count(*) filter (where id like 'MAL-%') malicious,
		(select count(distinct (ecosystem, namespace, name)) from advisory_package) packages,
		max(modified) newest from advisory where withdrawn is null`)
	return n, err
}

// AdvisoriesIn goes through what advisories that were not withdrawn say of packages of an
// ecosystem, by their names.
func (db *DB) AdvisoriesIn(ctx context.Context, ecosystem string, each func(safety.Known) error) error {
	rows, err := db.QueryxContext(ctx, `select p.namespace, p.name, p.affects, a.id, a.summary, a.aliases,
			a.record->'rating' from advisory_package p join advisory a on a.id = p.advisory_id
		where p.ecosystem = $1 and a.withdrawn is null order by p.namespace, p.name, a.id, p.n`, ecosystem)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		of := catalog.PackageKey{Ecosystem: ecosystem}
		var row knownRow
		if err := rows.Scan(&of.Namespace, &of.Name, &row.affects, &row.id, &row.summary, &row.aliases,
			&row.rating); err != nil {
			return err
		}
		k, err := row.value(of)
		if err == nil {
			err = each(k)
		}
		if err != nil {
			return err
		}
	}
	return rows.Err()
}

// knownRow is what an advisory says of a package, as it is kept.
type knownRow struct {
	id, summary              string
	affects, aliases, rating []byte
}

func (r knownRow) value(of catalog.PackageKey) (k safety.Known, err error) {
	k.ID, k.Summary = r.id, r.summary
	if err = errors.Join(json.Unmarshal(r.affects, &k.Affected), json.Unmarshal(r.aliases, &k.Aliases)); err != nil {
		return k, err
	}
	if r.rating != nil {
		err = json.Unmarshal(r.rating, &k.Rating)
	}
	k.Package = purl.PURL{Ecosystem: of.Ecosystem, Namespace: of.Namespace, Name: of.Name}
	return k, err
}
