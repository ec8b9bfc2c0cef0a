package record

import (
	"context"
	"fmt"

	"crelvo/internal/core/query"
)

// A search walks packages in their order until it has enough that fit. Where hardly
// anything fits it would walk all of them, so it is found out first which packages have
// what is asked for, if they are few.

// fewVersions is up to how many versions that fit a condition their packages are named.
const fewVersions = 3000

// mostValues bounds how many different values of a column are looked at.
const mostValues = 20000

// values are conditions on a column of versions that has an index and few different
// values, and what makes such a value fit: of a licence's, the column has but the
// beginning, and what is cut may fit.
var values = map[string]struct{ column, fits string }{
	"by": {"published_by", "value ilike $1"},
	"licence": {"licences", `case when length(value) >= 300 then true else exists (select from
		jsonb_array_elements(value::jsonb) x where x->>'name' ilike $1) end`},
}

const listed = `visible_from is not null and visible_until is null`

// rare names the packages that have a version that fits one of the conditions; known is
// false if these are many, or nothing tells which.
func (db *DB) rare(ctx context.Context, q query.Query) (packages []int64, known bool, err error) {
	for _, c := range q.Conditions {
		v, ok := values[c.Key]
		if !ok || c.Not {
			continue
		}
		var fitting []string
		// From one value to the next, by the index, whatever stands between.
		if err := db.QueryRowContext(ctx, fmt.Sprintf(`with recursive step as (
				(select %[1]s as value from version where %[2]s and %[1]s is not null order by %[1]s limit 1)
				union all
				select (select %[1]s from version where %[2]s and %[1]s > step.value order by %[1]s limit 1)
				from step where step.value is not null
			), known as (select value from step where value is not null limit %[3]d)
			select array_agg(value) from known where %[4]s
				or (select count(*) from known) >= %[3]d`, v.column, listed, mostValues, v.fits), globs(c.Text)).
			Scan(list(&fitting)); err != nil {
			return nil, false, err
		}
		if len(fitting) >= mostValues {
			continue
		}
		var having []int64 // with some twice
		if err := db.SelectContext(ctx, &having, fmt.Sprintf(
			`select package_id from version where %s and %s = any($1) limit $2`, listed, v.column), fitting,
			fewVersions+1); err != nil {
			return nil, false, err
		}
		if len(having) <= fewVersions {
			return having, true, nil
		}
	}
	return nil, false, nil
}
