package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

type fileRow struct {
	ID         int64     `db:"id"`
	VersionID  int64     `db:"version_id"`
	Name       string    `db:"name"`
	Classifier string    `db:"classifier"`
	Extension  string    `db:"extension"`
	AddedAt    time.Time `db:"added_at"`
	Size       int64     `db:"size"`
	SHA256     []byte    `db:"sha256"`
	SHA512     []byte    `db:"sha512"`
	SHA1       []byte    `db:"sha1"`
	MD5        []byte    `db:"md5"`
	MadeFrom   []byte    `db:"made_from"`
	AddedBy    string    `db:"added_by"`
	MediaType  string    `db:"media_type"`
}

const fileColumns = `f.id, f.version_id, f.name, f.classifier, f.extension, f.added_at, f.added_by, f.made_from,
	coalesce(f.media_type, '') media_type,
	b.size, b.sha256, b.sha512, b.sha1, b.md5`

func (r fileRow) value() catalog.File {
	f := catalog.File{ID: r.ID, VersionID: r.VersionID, Name: r.Name, Classifier: r.Classifier,
		Extension: r.Extension, MediaType: r.MediaType, AddedAt: r.AddedAt, AddedBy: r.AddedBy,
		Digests: catalog.Digests{Size: r.Size}}
	copy(f.Digests.SHA256[:], r.SHA256)
	copy(f.Digests.SHA512[:], r.SHA512)
	copy(f.Digests.SHA1[:], r.SHA1)
	copy(f.Digests.MD5[:], r.MD5)
	copy(f.MadeFrom[:], r.MadeFrom)
	return f
}

// File answers a question, or ErrNotFound.
func (db *DB) File(ctx context.Context, q catalog.FileQuestion) (catalog.File, error) {
	if q.Label != "" || q.Version == "" {
		return db.labelledOrPart(ctx, q)
	}
	visible := "v.visible_until is null and (v.visible_from is not null or $6 and f.sent >= v.counts_from)"
	if q.Key.AsOf != 0 {
		visible = seen(q.Key.AsOf) + addedBy(q.Key.AsOf) + " and not $6"
	}
	from := ` from package p join version v on v.package_id = p.id join file f on f.version_id = v.id
		join stored_file b using (sha256)
		where p.repository_id = $1 and p.ecosystem = $2 and p.namespace = $3 and p.name = $4
		and v.version = $5 and ` + visible + `
		and ($7 = 0 or v.publisher_id = $7) `
	var row fileRow
	var err error
	if q.Name != "" {
		err = db.GetContext(ctx, &row, `select `+fileColumns+from+`and v.upload = $8 and f.name = $9`,
			q.Key.RepositoryID, q.Key.Ecosystem, q.Key.Namespace, q.Key.Name, q.Version, q.Open, q.By, q.Upload, q.Name)
	} else {
		err = db.GetContext(ctx, &row, `select `+fileColumns+from+`and f.classifier = $8 and f.extension = $9
			order by coalesce(v.arrived, v.uploaded_at) desc, v.upload_count desc, v.id desc limit 1`,
			q.Key.RepositoryID, q.Key.Ecosystem, q.Key.Namespace, q.Key.Name, q.Version, q.Open, q.By, q.Classifier, q.Extension)
	}
	if errors.Is(err, sql.ErrNoRows) {
		return catalog.File{}, ErrNotFound
	}
	f := row.value()
	f.RepositoryID = q.Key.RepositoryID
	return f, err
}

// labelledOrPart is File for the file of a version that a label points to and that is
// named by it, unless that is withdrawn, or for a part.
func (db *DB) labelledOrPart(ctx context.Context, q catalog.FileQuestion) (catalog.File, error) {
	statement, last := `select p.id, 0 version_id, p.file "name", '' classifier, '' extension, p.at added_at,
		'' added_by, null::bytea made_from, '' media_type, b.size, b.sha256, b.sha512, b.sha1, b.md5
		from package_part p join stored_file b using (sha256) where p.package_id = `+packageOf+` and p.file = $5`, q.Name
	if q.Label != "" {
		statement, last = `select `+fileColumns+` from label l join version v on v.package_id = l.package_id
			and v.version = l.version join file f on f.version_id = v.id and f.name = replace(v.version, ':', '-')
			join stored_file b using (sha256)
			where l.package_id = `+packageOf+` and l.name = $5 and `+during("l", q.Key.AsOf)+` and `+seen(q.Key.AsOf)+`
			and not exists (select from withdrawal w where w.package_id = l.package_id and w.version = l.version
				and `+during("w", q.Key.AsOf)+`)`, q.Label
	}
	var row fileRow
	err := db.GetContext(ctx, &row, statement, q.Key.RepositoryID, q.Key.Ecosystem, q.Key.Namespace, q.Key.Name, last)
	if errors.Is(err, sql.ErrNoRows) {
		return catalog.File{}, ErrNotFound
	}
	f := row.value()
	f.RepositoryID = q.Key.RepositoryID
	return f, err
}

// FilesOf gives the files of versions, open or not, by version id; of an open one
// those that count.
func (r reads) FilesOf(ctx context.Context, versionIDs []int64) (map[int64][]catalog.File, error) {
	var rows []fileRow
	err := sqlx.SelectContext(ctx, r.q, &rows,
		`select `+fileColumns+` from unnest($1::bigint[]) wanted (id)`+filesOfWanted, versionIDs)
	return byVersion(rows), err
}

// filesOfWanted goes from version to files to bytes by their indexes, whatever the size
// of the tables was when it was planned.
const filesOfWanted = `
	cross join lateral (select v.id, v.visible_from, v.counts_from from version v where v.id = wanted.id offset 0) v
	cross join lateral (select f.* from file f where f.version_id = v.id
		and (v.visible_from is not null or f.sent >= v.counts_from) offset 0) f
	cross join lateral (select b.* from stored_file b where b.sha256 = f.sha256 offset 0) b`

func byVersion(rows []fileRow) map[int64][]catalog.File {
	files := map[int64][]catalog.File{}
	for _, row := range rows {
		files[row.VersionID] = append(files[row.VersionID], row.value())
	}
	return files
}

// seenIn is the condition on a stored file b that a file or a part which can be seen in a
// scope, whose repositories are the second argument, has its bytes.
func seenIn(scope Scope, arguments *[]any) string {
	within := scope.and(arguments)
	return ` and (exists (select from file f join version v on v.id = f.version_id join package p on p.id = v.package_id
		where f.sha256 = b.sha256 and p.repository_id = any($2) and v.visible_from is not null and v.visible_until is null` +
		within + `) or exists (select from package_part t join package p on p.id = t.package_id
		where t.sha256 = b.sha256 and p.repository_id = any($2)` + within + `))`
}

// BytesIn tells which bytes of those digests files that can be seen in a scope have, and
// how many they are.
func (db *DB) BytesIn(ctx context.Context, sha256s [][]byte, scope Scope) (map[[32]byte]int64, error) {
	var rows []struct {
		SHA256 []byte `db:"sha256"`
		Size   int64
	}
	arguments := []any{sha256s, scope.Repositories}
	err := db.SelectContext(ctx, &rows, `select b.sha256, b.size from stored_file b where b.sha256 = any($1)`+
		seenIn(scope, &arguments), arguments...)
	there := map[[32]byte]int64{}
	for _, row := range rows {
		there[[32]byte(row.SHA256)] = row.Size
	}
	return there, err
}

// SizesIn tells of which sizes there are bytes of files that can be seen in a scope; of
// sizes below 8 MiB, of which there is no index, none.
func (db *DB) SizesIn(ctx context.Context, sizes []int64, scope Scope) (map[int64]bool, error) {
	var found []int64
	arguments := []any{sizes, scope.Repositories}
	err := db.SelectContext(ctx, &found, `select distinct b.size from stored_file b
		where b.size = any($1) and b.size >= 8388608`+seenIn(scope, &arguments), arguments...)
	there := map[int64]bool{}
	for _, size := range found {
		there[size] = true
	}
	return there, err
}

// PackagesOf lists the packages of which a repository has something.
func (db *DB) PackagesOf(ctx context.Context, repositoryID int64) ([]catalog.PackageKey, error) {
	var rows []keyRow
	err := db.SelectContext(ctx, &rows, `select repository_id, ecosystem, namespace, name from package
		where repository_id = $1 and versions > 0 order by ecosystem, namespace, name`, repositoryID)
	return keysOf(rows), err
}

// PackagesAfter are the first of them that come after one of them, by ecosystem, namespace and name; ecosystem is
// which, or "" for all.
func (db *DB) PackagesAfter(
	ctx context.Context, after catalog.PackageKey, ecosystem string, limit int,
) ([]catalog.PackageKey, error) {
	var rows []keyRow
	err := db.SelectContext(ctx, &rows, `select repository_id, ecosystem, namespace, name from package
		where repository_id = $1 and (ecosystem, namespace, name) > ($2, $3, $4) and $5 in ('', ecosystem) and versions > 0
		order by ecosystem, namespace, name limit $6`, after.RepositoryID, after.Ecosystem, after.Namespace, after.Name,
		ecosystem, limit)
	return keysOf(rows), err
}

// Holder is a repository that has a version.
type Holder struct {
	RepositoryID int64     `db:"repository_id"`
	PublishedAt  time.Time `db:"published_at"` // of its newest upload
	PublishedBy  string    `db:"published_by"`
}

// Holders tells which of the repositories have a version that can be seen, by
// repository.
func (db *DB) Holders(
	ctx context.Context, repositories []int64, key catalog.PackageKey, version string,
) (map[int64]Holder, error) {
	var rows []Holder
	err := db.SelectContext(ctx, &rows,
		`select distinct on (p.repository_id) p.repository_id, v.visible_from published_at, v.published_by
		from package p join version v on v.package_id = p.id where p.repository_id = any($1) and p.ecosystem = $2
		and p.namespace = $3 and p.name = $4 and v.version = $5 and`+seen(key.AsOf)+`
		order by p.repository_id, v.visible_from desc`, repositories, key.Ecosystem, key.Namespace, key.Name, version)
	holders := make(map[int64]Holder, len(rows))
	for _, row := range rows {
		holders[row.RepositoryID] = row
	}
	return holders, err
}

// VersionNames lists the version names of a package that are, or are about to
// be, visible.
func (r reads) VersionNames(ctx context.Context, key catalog.PackageKey) (names []string, err error) {
	err = sqlx.SelectContext(ctx, r.q, &names,
		`select distinct v.version from package p join version v on v.package_id = p.id
		where p.repository_id = $1 and p.ecosystem = $2 and p.namespace = $3 and p.name = $4 and v.visible_until is null`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name)
	return names, err
}

// LastUpload is the highest number that an upload of a snapshot has, open ones
// included; 0 if there is none.
func (tx *Tx) LastUpload(ctx context.Context, key catalog.PackageKey, version string) (n int, err error) {
	err = tx.GetContext(ctx, &n,
		`select coalesce(max(v.upload_count), 0) from package p join version v on v.package_id = p.id
		where p.repository_id = $1 and p.ecosystem = $2 and p.namespace = $3 and p.name = $4 and v.version = $5`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, version)
	return n, err
}

// LockName holds off others who lock the same name until the transaction ends.
func (tx *Tx) LockName(ctx context.Context, name string) error {
	_, err := tx.ExecContext(ctx, `select pg_advisory_xact_lock(hashtextextended($1, 1))`, name)
	return err
}

// Summary is a package in a list.
type Summary struct {
	RepositoryID int64     `db:"repository_id"`
	Ecosystem    string    `db:"ecosystem"`
	Namespace    string    `db:"namespace"`
	Name         string    `db:"name"`
	Versions     int64     `db:"versions"`
	Bytes        int64     `db:"bytes"`
	ChangedAt    time.Time `db:"changed_at"` // when that version arrived
	Latest       string    `db:"latest"`     // the version that arrived last
	PublishedBy  string    `db:"published_by"`
	Description  string    `db:"description"`
}

const summarySelect = `select p.repository_id, p.ecosystem, p.namespace, p.name, p.versions, p.bytes, l.visible_from changed_at,
	l.version latest, l.published_by, coalesce(l.details->>'description', '') description
	from package p cross join lateral (select v.version, v.published_by, v.visible_from, v.details from version v
		where v.package_id = p.id and v.visible_from is not null and v.visible_until is null
		order by v.visible_from desc, v.id desc limit 1) l
	where p.versions > 0 and p.repository_id = any($1) `

// InNamespace lists the packages that stand directly in a namespace of several
// repositories, by name; of one name in the order of the repositories.
func (db *DB) InNamespace(
	ctx context.Context, scope Scope, at catalog.Moment, ecosystem, namespace string,
) (found []Summary, err error) {
	arguments := []any{scope.Repositories, ecosystem, namespace}
	inScope := scope.and(&arguments)
	if at != 0 {
		err = db.SelectContext(ctx, &found,
			`select p.repository_id, p.name, max(v.visible_from) changed_at, count(distinct v.id) versions,
				coalesce(sum(b.size), 0)::bigint bytes
			from package p join version v on v.package_id = p.id left join file f on f.version_id = v.id `+addedBy(at)+
				` left join stored_file b using (sha256)
			where p.repository_id = any($1) and p.ecosystem = $2 and p.namespace = $3`+inScope+` and`+seen(at)+`
			group by p.repository_id, p.name order by p.name, array_position($1, p.repository_id)`, arguments...)
		return found, err
	}
	err = db.SelectContext(ctx, &found, summarySelect+`and p.ecosystem = $2 and p.namespace = $3`+inScope+`
		order by p.name, array_position($1, p.repository_id)`, arguments...)
	return found, err
}

// Branch is a namespace segment with packages somewhere below it.
type Branch struct {
	Segment   string    `db:"segment"`
	Bytes     int64     `db:"bytes"`
	ChangedAt time.Time `db:"changed_at"`
}

// Branches lists the next segments of the namespaces below one, in several
// repositories together; separator is what the ecosystem puts between segments. An empty namespace is the root.
func (db *DB) Branches(
	ctx context.Context, scope Scope, at catalog.Moment, ecosystem, namespace, separator string,
) (found []Branch, err error) {
	prefix := namespace
	if prefix != "" {
		prefix += separator
	}
	arguments := []any{scope.Repositories, ecosystem, prefix, separator, likeEscaper.Replace(prefix) + "%"}
	inScope := scope.and(&arguments)
	if at != 0 {
		err = db.SelectContext(ctx, &found, `select split_part(substr(p.namespace, length($3) + 1), $4, 1) segment,
			coalesce(sum(b.size), 0)::bigint bytes, max(v.visible_from) changed_at
			from package p join version v on v.package_id = p.id left join file f on f.version_id = v.id `+addedBy(at)+
			` left join stored_file b using (sha256)
			where p.repository_id = any($1) and p.ecosystem = $2 and p.namespace like $5 and p.namespace <> ''`+inScope+` and`+
			seen(at)+`
			group by 1 order by 1`, arguments...)
		return found, err
	}
	err = db.SelectContext(ctx, &found, `select split_part(substr(namespace, length($3) + 1), $4, 1) segment,
		sum(bytes)::bigint bytes, max(coalesce(last_arrived, changed_at)) changed_at from package p
		where repository_id = any($1) and ecosystem = $2 and versions > 0 and namespace like $5 and namespace <> ''`+inScope+`
		group by 1 order by 1`, arguments...)
	return found, err
}

// Ecosystems lists which ecosystems there is anything of.
func (db *DB) Ecosystems(ctx context.Context, scope Scope) (names []string, err error) {
	arguments := []any{scope.Repositories}
	err = db.SelectContext(ctx, &names,
		`select distinct ecosystem from package p where repository_id = any($1) and versions > 0`+
			scope.and(&arguments)+` order by 1`, arguments...)
	return names, err
}

// Plugin is a Maven-style plugin of a namespace.
type Plugin struct {
	RepositoryID int64  `db:"repository_id"`
	Name         string `db:"name"`
	Prefix       string `db:"prefix"`
	Title        string `db:"title"`
}

// Plugins lists the packages of a namespace whose last version is a plugin, in
// several repositories.
func (db *DB) Plugins(
	ctx context.Context, scope Scope, at catalog.Moment, ecosystem, namespace, packaging string,
) (found []Plugin, err error) {
	arguments := []any{scope.Repositories, ecosystem, namespace, packaging}
	err = db.SelectContext(ctx, &found, `select p.repository_id, p.name, coalesce(l.details->>'pluginPrefix', '') prefix,
		coalesce(l.details->>'title', '') title
		from package p cross join lateral (select v.details from version v
			where v.package_id = p.id and`+seen(at)+`
			order by v.visible_from desc, v.id desc limit 1) l
		where p.repository_id = any($1) and p.ecosystem = $2 and p.namespace = $3
		and l.details->>'packaging' = $4`+scope.and(&arguments)+` order by p.name`, arguments...)
	return found, err
}

// Use is how often a version was downloaded, and by how many.
type Use struct {
	VersionID int64      `db:"version_id"`
	Downloads int64      `db:"downloads"`
	Users     int64      `db:"users"`
	UsedAt    *time.Time `db:"used_at"` // last
}

// Uses gives the use of each of the versions that was used.
func (db *DB) Uses(ctx context.Context, versionIDs []int64) (map[int64]Use, error) {
	var rows []Use
	err := db.SelectContext(ctx, &rows,
		`select version_id, downloads, users, used_at from version_use where version_id = any($1)`, versionIDs)
	uses := make(map[int64]Use, len(rows))
	for _, row := range rows {
		uses[row.VersionID] = row
	}
	return uses, err
}
