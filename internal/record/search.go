package record

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"time"

	"crelvo/internal/core/query"
)

// statement is SQL that is put together with its arguments.
type statement struct {
	strings.Builder
	arguments []any
}

// arg adds an argument, and gives its placeholder.
func (s *statement) arg(v any) string {
	s.arguments = append(s.arguments, v)
	return fmt.Sprintf("$%d", len(s.arguments))
}

// globs makes a pattern of LIKE of one with *.
func globs(text string) string { return strings.ReplaceAll(likeEscaper.Replace(text), "*", "%") }

// Search lists packages in scope that fit a query: those whose
// name is the first word first, then those that begin with it, then the rest,
// each the last changed first. A package fits if one of its versions fits all
// conditions; the newest one that does is its Latest. The conditions repo and
// the saved searches of the query are the caller's business.
func (db *DB) Search(
	ctx context.Context, scope Scope, q query.Query, now time.Time, limit, skip int,
) (found []Summary, err error) {
	s := new(statement)
	names, versions := s.ofPackage(q)+scope.and(&s.arguments), s.ofVersion(q, now)
	fit := "3"
	if len(q.Words) > 0 {
		first := s.arg(strings.ToLower(q.Words[0]))
		fit = fmt.Sprintf(
			"case when right(p.words, length(p.name)) = %[1]s then 0 when starts_with(right(p.words, length(p.name)), %[1]s) "+
				"then 1 else 2 end", first)
	}
	// Without conditions on versions, the first packages are the answer.
	enough, having, there := "", "p.versions > 0 and ", "v.visible_until is null"
	if asksForRemoved(q) {
		having, there = "",
			`v.visible_until is not null and not exists (select from version n where n.package_id = v.package_id
			and n.version = v.version and n.visible_from is not null and n.visible_until is null)`
	} else if versions == "" {
		enough = " limit " + s.arg(limit+skip)
	} else if packages, known, err := db.rare(ctx, q); err != nil {
		return nil, err
	} else if known {
		names += " and p.id = any(" + s.arg(packages) + ")"
	}
	// The packages come in their order, and each is asked for its version only
	// until there are enough.
	fmt.Fprintf(s, `with p as materialized (
			select p.id, p.repository_id, p.ecosystem, p.namespace, p.name, p.versions, p.bytes, p.last_arrived, %s fit
			from package p where %sp.repository_id = any(%s)%s order by fit, p.last_hour desc nulls last,
			p.last_arrived desc nulls last, p.id desc%s
		), hit as materialized (
			select p.*, l.visible_from changed_at, l.version latest, l.published_by, l.description from p
			cross join lateral (select v.version, v.published_by, v.visible_from, coalesce(v.details->>'description',
			'') description from version v
				where v.package_id = p.id and v.visible_from is not null and %s%s order by v.visible_from desc, v.id desc limit 1) l
			limit %s offset %s
		)
		select repository_id, ecosystem, namespace, name, versions, bytes, changed_at, latest, published_by, description
		from hit order by fit, last_arrived desc nulls last, id desc`, fit, having, s.arg(scope.Repositories), names, enough,
		there, versions, s.arg(limit), s.arg(skip))
	err = db.SelectContext(ctx, &found, s.String(), s.arguments...)
	return found, err
}

// ofPackage is what a query asks of names.
func (s *statement) ofPackage(q query.Query) string {
	var b strings.Builder
	if len(q.Words) > 0 {
		patterns := make([]string, len(q.Words))
		for i, w := range q.Words {
			patterns[i] = "%" + likeEscaper.Replace(strings.ToLower(w)) + "%"
		}
		b.WriteString(" and p.words like all (" + s.arg(patterns) + ")")
	}
	for _, p := range q.Patterns {
		kind, name, _ := p.Parts()
		b.WriteString(" and p.ecosystem like " + s.arg(globs(kind)) +
			" and " + fullName + " like " + s.arg(globs(name)))
	}
	for _, c := range q.Conditions {
		if column, ok := map[string]string{"ecosystem": "p.ecosystem", "name": "p.name",
			"namespace": "p.namespace"}[c.Key]; ok {
			b.WriteString(" and " + not(c) + column + " ilike " + s.arg(globs(c.Text)))
		}
	}
	return b.String()
}

func not(c query.Condition) string {
	if c.Not {
		return "not "
	}
	return ""
}

// ofVersion is what a query asks of versions.
func (s *statement) ofVersion(q query.Query, now time.Time) string {
	var b strings.Builder
	for _, p := range q.Patterns {
		if _, _, version := p.Parts(); version != "" {
			b.WriteString(" and v.version like " + s.arg(globs(version)))
		}
	}
	for _, c := range q.Conditions {
		if condition := s.condition(c, now); condition != "" {
			b.WriteString(" and " + not(c) + "(" + condition + ")")
		}
	}
	return b.String()
}

// asksForRemoved tells whether a query asks for what was removed.
func asksForRemoved(q query.Query) bool {
	for _, c := range q.Conditions {
		if c.Key == "removed" && (c.Text == "yes") != c.Not {
			return true
		}
	}
	return false
}

// condition is one condition on a version v of a package p.
func (s *statement) condition(c query.Condition, now time.Time) string {
	text := func() string { return s.arg(globs(c.Text)) }
	// Older than so long is before then.
	since := func() string {
		op := map[string]string{">": "<", ">=": "<=", "<": ">", "<=": ">="}[c.Op]
		return op + " " + s.arg(now.Add(-c.Length)) + "::timestamptz"
	}
	switch c.Key {
	case "age":
		return "v.visible_from " + since()
	case "used":
		return "v.id in (select u.version_id from version_use u where u.used_at " + since() + ")"
	case "downloads":
		return "coalesce((select u.downloads from version_use u where u.version_id = v.id), 0) " + c.Op + " " +
			s.arg(c.Number)
	case "size":
		return "v.bytes " + c.Op + " " + s.arg(c.Number)
	case "by":
		return "v.published_by ilike " + text()
	case "version":
		return "v.version ilike " + text()
	case "holds":
		if c.Text == "snapshots" {
			return "v.snapshot"
		}
		return "not v.snapshot"
	case "label":
		return "exists (select from label l where l.package_id = v.package_id and l.version = v.version and " +
			"l.visible_until is null and l.name ilike " + text() + ")"
	case "withdrawn":
		there := "exists (select from withdrawal w where w.package_id = v.package_id and w.version = v.version and " +
			"w.visible_until is null)"
		if c.Text == "no" {
			return "not " + there
		}
		return there
	case "licence":
		return "exists (select from jsonb_array_elements(v.details->'licences') x where x->>'name' ilike " + text() + ")"
	case "author":
		return "exists (select from jsonb_array_elements_text(v.details->'authors') x where x ilike " + text() + ")"
	case "has":
		return "v.id in (select l.version_id from symbol_look l join file_names n on n.id = l.names_id where n.names ~ " +
			s.arg(filePattern(c.Text)) + ")"
	case "needs":
		if !strings.HasPrefix(c.Text, "pkg:") {
			// The name alone, or with its scope or group.
			c.Text = strings.ReplaceAll(c.Text, "@", "%40")
			if !strings.HasPrefix(c.Text, "*") {
				c.Text = "*/" + c.Text
			}
		}
		return "exists (select from jsonb_array_elements(v.details->'dependencies') x where x->>'purl' ilike " + text() + ")"
	}
	return ""
}

// filePattern is the regular expression for paths between line feeds that fit a text in which * stands for any
// characters; one without a slash is about the name of a file, in whichever folder.
func filePattern(text string) string {
	begin, any := "\n", `[^\n]*`
	if !strings.Contains(text, "/") {
		begin, any = `[\n/]`, `[^\n/]*`
	}
	parts := strings.Split(strings.ToLower(text), "*")
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	return begin + strings.Join(parts, any) + "\n"
}

// SavedSearch is a query with a name.
type SavedSearch struct {
	Name    string    `db:"name"`
	Query   string    `db:"query"`
	Owner   string    `db:"owner"`
	OwnerID int64     `db:"owner_id"`
	Shared  bool      `db:"shared"` // with everybody who signs in
	At      time.Time `db:"at"`
}

// SavedSearches lists what a principal saved, and what others share, by name;
// of one name the principal's own first.
func (db *DB) SavedSearches(ctx context.Context, principalID int64) (all []SavedSearch, err error) {
	err = db.SelectContext(ctx, &all,
		`select s.name, s.query, p.name owner, s.owner_id, s.shared, s.at from saved_search s join principal p
			on p.id = s.owner_id
		where s.shared or s.owner_id = $1 order by s.name, s.owner_id <> $1, p.name`, principalID)
	return all, err
}

// SaveSearch keeps a query under a name of its owner.
func (tx *Tx) SaveSearch(ctx context.Context, s SavedSearch) error {
	_, err := tx.ExecContext(ctx, `insert into saved_search (owner_id, name, query, shared, at) values ($1, $2, $3, $4, $5)
		on conflict (owner_id, name) do update set query = $3, shared = $4, at = $5`, s.OwnerID, s.Name, s.Query, s.Shared,
		s.At)
	return err
}

// ForgetSearch drops a query of its owner; done is false if there was none.
func (tx *Tx) ForgetSearch(ctx context.Context, ownerID int64, name string) (done bool, err error) {
	result, err := tx.ExecContext(ctx, `delete from saved_search where owner_id = $1 and name = $2`, ownerID, name)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n > 0, err
}
