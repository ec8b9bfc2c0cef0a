package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/junit"
)

// Build is a record of one run of a CI system.
type Build struct {
	ID        int64      `db:"id"`
	Name      string     `db:"name"`
	Number    string     `db:"number"`
	Revision  string     `db:"revision"`
	Branch    string     `db:"branch"`
	Link      string     `db:"link"`
	Agent     string     `db:"agent"`
	RawNotes  []byte     `db:"notes"`
	RawTests  []byte     `db:"tests"`
	StartedAt time.Time  `db:"started_at"`
	EndedAt   *time.Time `db:"ended_at"`
	OwnerID   int64      `db:"owner_id"`
	Owner     string     `db:"owner"`
	Token     string     `db:"token"`
	// Made counts the versions that it published, and Promoted those of them, or
	// of what became of them, that a promotion put somewhere.
	Made     int `db:"made"`
	Promoted int `db:"promoted"`

	Notes map[string]string `db:"-"`
	Tests *junit.Summary    `db:"-"`
}

// Title is name#number.
func (b Build) Title() string { return b.Name + "#" + b.Number }

const buildColumns = `b.id, b.name, b.number, b.revision, b.branch, b.link, b.agent, b.notes, b.tests, b.started_at, b.ended_at,
	coalesce(b.owner_id, 0) owner_id, b.owner, b.token,
	(select count(*) from version v where v.build_id = b.id and v.visible_from is not null and not exists (select
	from promotion_item i where i.target_id = v.id)) made,
	(select count(*) from version v where v.build_id = b.id and v.visible_from is not null and exists (select
	from promotion_item i where i.target_id = v.id)) promoted`

func readBuilds(builds []Build) ([]Build, error) {
	for i := range builds {
		b := &builds[i]
		if err := json.Unmarshal(b.RawNotes, &b.Notes); err != nil {
			return nil, err
		}
		if b.RawTests != nil {
			if err := json.Unmarshal(b.RawTests, &b.Tests); err != nil {
				return nil, err
			}
		}
	}
	return builds, nil
}

// BuildFilter selects builds; zero fields select all.
type BuildFilter struct {
	ID     int64
	IDs    []int64
	Name   string
	Number string
	Titles []string // name#number of each
	Words  string   // a part of the name, revision or branch
	Before int64
	Limit  int // 0 for no limit
	// Scope, if it is not nil, is what somebody may read: builds of which nothing
	// is in it are left out, unless OwnerID began them.
	Scope   *Scope
	OwnerID int64
}

// Builds lists builds, the newest first.
func (r reads) Builds(ctx context.Context, f BuildFilter) (builds []Build, err error) {
	arguments := []any{f.ID, f.Name, f.Number, f.Words, f.Before, f.IDs}
	where := `($1 = 0 or b.id = $1) and ($2 = '' or b.name = $2) and ($3 = '' or b.number = $3)
		and ($4 = '' or position(lower($4) in lower(b.name || ' ' || b.revision || ' ' || b.branch || ' #' || b.number)) > 0)
		and ($5 = 0 or b.id < $5) and ($6::bigint[] is null or b.id = any($6))`
	if f.Scope != nil {
		arguments = append(arguments, f.Scope.Repositories, f.OwnerID)
		where += ` and (b.owner_id = $8 or exists (select from version v join package p on p.id = v.package_id
			where v.build_id = b.id and v.visible_from is not null and p.repository_id = any($7)` + f.Scope.and(&arguments) +
			`))`
	}
	if f.Titles != nil {
		var names, numbers []string
		for _, title := range f.Titles {
			i := strings.LastIndexByte(title, '#')
			names, numbers = append(names, title[:max(i, 0)]), append(numbers, title[i+1:])
		}
		arguments = append(arguments, names, numbers)
		n := len(arguments)
		where += ` and (b.name, b.number) in (select * from unnest($` + itoa(n-1) + `::text[], $` + itoa(n) + `::text[]))`
	}
	limit := any(f.Limit)
	if f.Limit == 0 {
		limit = nil
	}
	arguments = append(arguments, limit)
	err = sqlx.SelectContext(ctx, r.q, &builds, `select `+buildColumns+` from build b where `+where+
		` order by b.id desc limit $`+itoa(len(arguments)), arguments...)
	if err != nil {
		return nil, err
	}
	return readBuilds(builds)
}

// Build finds a build, or ErrNotFound.
func (r reads) Build(ctx context.Context, f BuildFilter) (Build, error) {
	f.Limit = 1
	builds, err := r.Builds(ctx, f)
	if err == nil && len(builds) == 0 {
		return Build{}, ErrNotFound
	}
	if err != nil {
		return Build{}, err
	}
	return builds[0], nil
}

// OpenBuild is a build that has not ended.
type OpenBuild struct {
	ID      int64  `db:"id"`
	OwnerID int64  `db:"owner_id"`
	Token   string `db:"token"`
	Title   string `db:"title"`
	// GivenName: an admin gave its name to its owner.
	GivenName bool `db:"given_name"`
}

// OpenBuilds lists those that began after a moment, the oldest first.
func (db *DB) OpenBuilds(ctx context.Context, after time.Time) (open []OpenBuild, err error) {
	err = db.SelectContext(ctx, &open, `select id, coalesce(owner_id, 0) owner_id, token, name || '#' || number title,
		exists (select from build_name n where n.name = build.name and n.owner_id = build.owner_id
		and n.given_by <> '') given_name from build
		where ended_at is null and started_at > $1 order by id`, after)
	return open, err
}

// BeginBuild makes a build that has not ended. ok is false if there is one of
// that name and number.
func (tx *Tx) BeginBuild(ctx context.Context, b Build) (id int64, ok bool, err error) {
	err = tx.GetContext(ctx, &id,
		`insert into build (name, number, started_at, owner_id, owner, token) values ($1, $2, $3, nullif($4, 0), $5, $6)
		on conflict (name, number) do nothing returning id`, b.Name, b.Number, b.StartedAt, b.OwnerID, b.Owner, b.Token)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// SetBuild writes what is known of a build.
func (tx *Tx) SetBuild(ctx context.Context, b Build) error {
	notes, err := json.Marshal(b.Notes)
	if err != nil {
		return err
	}
	if b.Notes == nil {
		notes = []byte("{}")
	}
	var tests any
	if b.Tests != nil {
		raw, err := json.Marshal(b.Tests)
		if err != nil {
			return err
		}
		tests = string(storableJSON(raw))
	}
	_, err = tx.ExecContext(ctx,
		`update build set revision = $2, branch = $3, link = $4, agent = $5, notes = $6, tests = $7, started_at = $8,
			ended_at = $9
		where id = $1`, b.ID, storable(b.Revision), storable(b.Branch), storable(b.Link), storable(b.Agent),
		string(storableJSON(notes)), tests, b.StartedAt, b.EndedAt)
	return err
}

// MadeVersion is a version that a build made or used.
type MadeVersion struct {
	ID           int64      `db:"id"`
	RepositoryID int64      `db:"repository_id"`
	Ecosystem    string     `db:"ecosystem"`
	Namespace    string     `db:"namespace"`
	Name         string     `db:"name"`
	Version      string     `db:"version"`
	Upload       string     `db:"upload"`
	PublishedBy  string     `db:"published_by"`
	PublisherID  int64      `db:"publisher_id"`
	PublishedAt  time.Time  `db:"published_at"`
	Arrived      time.Time  `db:"arrived"` // its place among the uploads of its package
	GoneAt       *time.Time `db:"gone_at"`
	Promotion    int64      `db:"promotion"` // that put it there; 0 for none
	BuildID      int64      `db:"build_id"`
	Bytes        int64      `db:"bytes"`
	Files        int        `db:"files"`
	Digest       []byte     `db:"digest"` // over its files' names and digests
}

// Key names the package.
func (m MadeVersion) Key() catalog.PackageKey {
	return catalog.PackageKey{RepositoryID: m.RepositoryID, Ecosystem: m.Ecosystem, Namespace: m.Namespace, Name: m.Name}
}

const madeColumns = `v.id, p.repository_id, p.ecosystem, p.namespace, p.name, v.version, v.upload, v.published_by, coalesce(v.publisher_id, 0) publisher_id,
	v.visible_from published_at, coalesce(v.arrived, v.visible_from) arrived, v.visible_until gone_at,
	coalesce(v.build_id, 0) build_id,
	coalesce((select i.promotion_id from promotion_item i where i.target_id = v.id limit 1), 0) promotion,
	f.bytes, f.files, coalesce(f.digest, '') digest
	from version v join package p on p.id = v.package_id cross join lateral (
		select coalesce(sum(b.size), 0)::bigint bytes, count(*) files, sha256(string_agg(f.name || ' ', ''
		order by f.name)::bytea || string_agg(f.sha256, '' order by f.name)) digest
		from file f join stored_file b using (sha256) where f.version_id = v.id) f
	where v.visible_from is not null`

// MadeBy lists the versions that a build made, those put elsewhere by a
// promotion included, by name.
func (r reads) MadeBy(ctx context.Context, buildIDs ...int64) (made []MadeVersion, err error) {
	err = sqlx.SelectContext(ctx, r.q, &made, `select `+madeColumns+
		` and v.build_id = any($1) order by p.ecosystem, p.namespace, p.name, v.id`, buildIDs)
	return made, err
}

// Arriving are versions that are being received: they are not complete, and what
// they lack may still come.
type Arriving struct {
	Ecosystem string    `db:"ecosystem"`
	Namespace string    `db:"namespace"`
	Name      string    `db:"name"`
	Version   string    `db:"version"`
	Broken    string    `db:"broken_file"`
	TouchedAt time.Time `db:"touched_at"`
}

const arrivingRows = `select p.ecosystem, p.namespace, p.name, v.version, v.broken_file, v.touched_at from version v join package p on p.id = v.package_id
	where v.visible_from is null and v.visible_until is null and `

// ArrivingOf lists what a build publishes and what is not complete yet.
func (r reads) ArrivingOf(ctx context.Context, buildID int64) (all []Arriving, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, arrivingRows+`v.build_id = $1 order by v.id`, buildID)
	return all, err
}

// ArrivingWith lists the same of what is published with a token since a moment.
func (r reads) ArrivingWith(
	ctx context.Context, principalID int64, token string, since time.Time,
) (all []Arriving, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, arrivingRows+
		`v.publisher_id = $1 and v.token = $2 and v.touched_at >= $3 order by v.id`, principalID, token, since)
	return all, err
}

// UsedBy lists the versions that a build used, by name.
func (r reads) UsedBy(ctx context.Context, buildID int64) (used []MadeVersion, err error) {
	err = sqlx.SelectContext(ctx, r.q, &used, `select `+madeColumns+
		` and v.id in (select version_id from build_use where build_id = $1)
		order by p.ecosystem, p.namespace, p.name, v.id`, buildID)
	return used, err
}

// LicencesOf gives the licences that versions state; those that state none are left out.
func (r reads) LicencesOf(ctx context.Context, ids []int64) (map[int64][]catalog.Licence, error) {
	var rows []struct {
		ID       int64
		Licences []byte
	}
	if err := sqlx.SelectContext(ctx, r.q, &rows, `select id, details->'licences' licences from version
		where id = any($1) and details ? 'licences'`, ids); err != nil {
		return nil, err
	}
	found := make(map[int64][]catalog.Licence, len(rows))
	for _, row := range rows {
		var all []catalog.Licence
		if err := json.Unmarshal(row.Licences, &all); err != nil {
			return nil, err
		}
		found[row.ID] = all
	}
	return found, nil
}

// PublishedWith lists what was published with a token since a moment, and
// belongs to no build.
func (r reads) PublishedWith(
	ctx context.Context, principalID int64, token string, since time.Time,
) (made []MadeVersion, err error) {
	err = sqlx.SelectContext(ctx, r.q, &made, `select `+madeColumns+
		` and v.visible_until is null and v.publisher_id = $1 and v.token = $2
		and v.visible_from >= $3 and v.build_id is null order by v.id`, principalID, token, since)
	return made, err
}

// VersionsByID lists versions that can be seen.
func (r reads) VersionsByID(ctx context.Context, ids []int64) (found []MadeVersion, err error) {
	err = sqlx.SelectContext(ctx, r.q, &found, `select `+madeColumns+` and v.visible_until is null and v.id = any($1)`,
		ids)
	return found, err
}

// VersionsWithDigest lists versions in some repositories that have a file of
// such bytes, the newest first.
func (r reads) VersionsWithDigest(
	ctx context.Context, repositories []int64, sha256 []byte,
) (found []MadeVersion, err error) {
	err = sqlx.SelectContext(ctx, r.q, &found, `select `+madeColumns+
		` and v.visible_until is null and p.repository_id = any($1)
		and v.id in (select version_id from file where sha256 = $2) order by v.id desc`, repositories, sha256)
	return found, err
}

// NamedVersion is a version in a repository; Version may be the name of an upload
// too.
type NamedVersion struct {
	Key     catalog.PackageKey
	Version string
}

// VersionsNamed lists versions that can be seen in one of some repositories, the
// newest first.
func (r reads) VersionsNamed(
	ctx context.Context, repositories []int64, named []NamedVersion,
) (found []MadeVersion, err error) {
	ecosystems, namespaces, names, versions := make([]string, len(named)), make([]string, len(named)),
		make([]string, len(named)), make([]string, len(named))
	for i, n := range named {
		ecosystems[i], namespaces[i], names[i], versions[i] = n.Key.Ecosystem, n.Key.Namespace, n.Key.Name, n.Version
	}
	err = sqlx.SelectContext(ctx, r.q, &found, `select `+madeColumns+` and v.visible_until is null and v.id in (
		select w.id from unnest($2::text[], $3::text[], $4::text[], $5::text[]) n(ecosystem, namespace, name, version)
		join package k on k.repository_id = any($1) and k.ecosystem = n.ecosystem and k.namespace = n.namespace
		and k.name = n.name
		join version w on w.package_id = k.id and (w.version = n.version or w.upload = n.version and n.version <> ''))
		order by coalesce(v.arrived, v.visible_from) desc, v.id desc`, repositories, ecosystems, namespaces, names, versions)
	return found, err
}

// ReleasesOf lists the releases of packages that can be seen in a repository, by
// package.
func (r reads) ReleasesOf(
	ctx context.Context, repositoryID int64, keys []catalog.PackageKey,
) (map[catalog.PackageKey][]string, error) {
	ecosystems, namespaces, names := make([]string, len(keys)), make([]string, len(keys)), make([]string, len(keys))
	for i, k := range keys {
		ecosystems[i], namespaces[i], names[i] = k.Ecosystem, k.Namespace, k.Name
	}
	var rows []struct {
		keyRow
		Version string `db:"version"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows,
		`select distinct p.repository_id, p.ecosystem, p.namespace, p.name, v.version
		from unnest($2::text[], $3::text[], $4::text[]) n(ecosystem, namespace, name)
		join package p on p.repository_id = $1 and p.ecosystem = n.ecosystem and p.namespace = n.namespace and p.name = n.name
		join version v on v.package_id = p.id where not v.snapshot and v.visible_from is not null and v.visible_until is null`,
		repositoryID, ecosystems, namespaces, names)
	of := map[catalog.PackageKey][]string{}
	for _, row := range rows {
		key := row.value()
		of[key] = append(of[key], row.Version)
	}
	return of, err
}

// DetailsOf gives what is known of versions, by their ids.
func (r reads) DetailsOf(ctx context.Context, versionIDs []int64) (map[int64]catalog.Details, error) {
	var rows []struct {
		ID      int64  `db:"id"`
		Details []byte `db:"details"`
	}
	if err := sqlx.SelectContext(ctx, r.q, &rows, `select id, details from version where id = any($1)`,
		versionIDs); err != nil {
		return nil, err
	}
	of := make(map[int64]catalog.Details, len(rows))
	for _, row := range rows {
		var d catalog.Details
		if err := json.Unmarshal(row.Details, &d); err != nil {
			return nil, err
		}
		of[row.ID] = d
	}
	return of, nil
}

// GiveToBuild notes that a build made versions. It gives the number that belong
// to no other build.
func (tx *Tx) GiveToBuild(ctx context.Context, buildID int64, versionIDs []int64) (int64, error) {
	result, err := tx.ExecContext(ctx,
		`update version set build_id = $1 where id = any($2) and (build_id is null or build_id = $1)`, buildID, versionIDs)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// UseBy notes what a build used: what was downloaded with its token since it
// began, and what is named.
func (tx *Tx) UseBy(ctx context.Context, b Build, versionIDs []int64) error {
	_, err := tx.ExecContext(ctx, `insert into build_use (build_id, version_id)
		select $1::bigint, version_id from token_download where principal_id = $2 and token = $3 and $3 <> ''
		and last_at >= $4
		union select $1::bigint, id from unnest($5::bigint[]) n(id) on conflict do nothing`, b.ID, b.OwnerID, b.Token,
		b.StartedAt, versionIDs)
	return err
}

// NoteTokenDownloads notes what was downloaded with which token: parallel slices
// of distinct triples.
func (tx *Tx) NoteTokenDownloads(
	ctx context.Context, principals []int64, tokens []string, versions []int64, at time.Time,
) error {
	_, err := tx.ExecContext(ctx, `insert into token_download (principal_id, token, version_id, last_at)
		select n.principal, n.token, n.version, $4 from unnest($1::bigint[], $2::text[], $3::bigint[]) n(principal, token,
		version)
		join version v on v.id = n.version join principal p on p.id = n.principal order by 1, 2, 3
		on conflict (principal_id, token, version_id) do update set last_at = excluded.last_at`, principals, tokens, versions,
		at)
	return err
}

// BuildDocument is a document attached to a build.
type BuildDocument struct {
	ID       int64     `db:"id"`
	BuildID  int64     `db:"build_id"`
	Name     string    `db:"name"`
	Kind     string    `db:"kind"`
	Type     string    `db:"type"`
	Builder  string    `db:"builder"`
	Signed   bool      `db:"signed"`
	SignedBy []string  `db:"-"`
	ByName   string    `db:"by_name"`
	At       time.Time `db:"at"`
	Size     int64     `db:"size"`
	Content  []byte    `db:"-"`
}

// AddDocument attaches a document.
func (tx *Tx) AddDocument(ctx context.Context, d BuildDocument) error {
	_, err := tx.ExecContext(ctx,
		`insert into build_document (build_id, name, kind, type, builder, signed, signed_by, content, by_name, at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`, d.BuildID, d.Name, d.Kind, storable(d.Type), storable(d.Builder),
		d.Signed,
		append([]string{}, d.SignedBy...), d.Content, d.ByName, d.At)
	return err
}

// Documents lists what is attached to builds, without the contents.
func (r reads) Documents(ctx context.Context, buildIDs ...int64) ([]BuildDocument, error) {
	rows, err := r.q.QueryxContext(ctx,
		`select id, build_id, name, kind, type, builder, signed, signed_by, by_name, at, length(content)
		from build_document where build_id = any($1) order by id`, buildIDs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []BuildDocument
	for rows.Next() {
		var d BuildDocument
		if err := rows.Scan(&d.ID, &d.BuildID, &d.Name, &d.Kind, &d.Type, &d.Builder, &d.Signed, list(&d.SignedBy), &d.ByName,
			&d.At, &d.Size); err != nil {
			return nil, err
		}
		all = append(all, d)
	}
	return all, rows.Err()
}

// DocumentContent gives the content of a document of a build, or ErrNotFound.
func (db *DB) DocumentContent(ctx context.Context, buildID, id int64) (content []byte, err error) {
	err = db.GetContext(ctx, &content, `select content from build_document where build_id = $1 and id = $2`, buildID, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	return content, err
}
