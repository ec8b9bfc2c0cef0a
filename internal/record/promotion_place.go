package record

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"crelvo/internal/core/catalog"
)

// PlacedVersion is a version that a promotion, a transfer or a bundle puts into a repository.
type PlacedVersion struct {
	SourceID int64              // 0 for what came from outside
	Key      catalog.PackageKey // in the target
	Version  string
	Upload   string
	Snapshot bool
	// Details are those of a restamped version, or of one without a source; nil are those of the source.
	Details *catalog.Details
	// UploadedAt and UploadCount are those of a version without a source.
	UploadedAt  time.Time
	UploadCount int
	Files       []PlacedFile
	// FirstAt is when it was published where it comes from, and By who did; nil and "": at the moment, by
	// whoever places it.
	FirstAt *time.Time
	By      string
	BuildID int64 // of the build that made one without a source; 0 if none is known
}

// PlacedFile is a file of it.
type PlacedFile struct {
	Name, Classifier, Extension, MediaType string
	Digests                                catalog.Digests
	MadeFrom                               []byte // SHA-256; nil if its bytes are what they were
}

// Collision is a version that a promotion cannot put where it belongs.
type Collision struct {
	Key     catalog.PackageKey
	Version string
	// Gone: it was there, and removed, with other bytes.
	Gone bool
	// NoSource: what was to be promoted is not there any more.
	NoSource bool
}

// Place makes versions visible in their repository, all of them at once. It
// gives their ids in the order of the versions; or nil and what is there already,
// when nothing is to be committed.
func (tx *Tx) Place(
	ctx context.Context, placed []PlacedVersion, publisherID int64, publisher string, at time.Time,
) ([]int64, []Collision, error) {
	n := len(placed)
	repositories, ecosystems, namespaces, names := make([]int64, n), make([]string, n), make([]string, n),
		make([]string, n)
	versions, uploads, snapshots, sources, details := make([]string, n), make([]string, n), make([]bool, n),
		make([]int64, n), make([]sql.NullString, n)
	firstAt, by, uploadedAt, counts := make([]*time.Time, n), make([]string, n), make([]time.Time, n), make([]int, n)
	builds := make([]int64, n)
	for i, p := range placed {
		firstAt[i], by[i], uploadedAt[i], counts[i], builds[i] = p.FirstAt, p.By, p.UploadedAt, p.UploadCount, p.BuildID
		repositories[i], ecosystems[i], namespaces[i], names[i] = p.Key.RepositoryID, p.Key.Ecosystem, p.Key.Namespace,
			p.Key.Name
		versions[i], uploads[i], snapshots[i], sources[i] = p.Version, p.Upload, p.Snapshot, p.SourceID
		if p.Details != nil {
			raw, err := writeDetails(*p.Details)
			if err != nil {
				return nil, nil, err
			}
			details[i] = sql.NullString{String: string(raw), Valid: true}
		}
	}
	if missing, err := tx.withoutSource(ctx, placed, sources); err != nil || missing != nil {
		return nil, missing, err
	}
	// Everybody takes packages and versions in this order, so that two who want
	// some of the same wait for each other and not in a circle.
	if _, err := tx.ExecContext(ctx, `insert into package (repository_id, ecosystem, namespace, name, changed_at)
		select distinct n.repository, n.ecosystem, n.namespace, n.name, $5::timestamptz from unnest($1::bigint[], $2::text[],
		$3::text[], $4::text[]) n(repository, ecosystem, namespace, name)
		order by 1, 2, 3, 4 on conflict (repository_id, ecosystem, namespace, name) do nothing`, repositories, ecosystems,
		namespaces, names, at); err != nil {
		return nil, nil, err
	}
	var made []struct {
		ID       int64 `db:"id"`
		Position int   `db:"position"`
	}
	if err := tx.SelectContext(ctx, &made, `with wanted as (
			select k.id package_id, n.* from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[],
			$7::boolean[], $8::bigint[], $9::text[], $13::timestamptz[], $14::text[], $15::timestamptz[], $16::integer[],
			$17::bigint[])
				with ordinality n(repository, ecosystem, namespace, name, version, upload, snapshot, source, details, first_at, by,
				uploaded_at, upload_count, build, position)
			join package k on k.repository_id = n.repository and k.ecosystem = n.ecosystem and k.namespace = n.namespace
			and k.name = n.name
		), made as (
			insert into version (package_id, version, upload, snapshot, uploaded_at, upload_count, publisher_id, published_by,
			touched_at, visible_from, details, build_id, first_at)
			select w.package_id, w.version, w.upload, w.snapshot, coalesce(s.uploaded_at, w.uploaded_at), case
			when w.snapshot then coalesce(s.upload_count, w.upload_count) else 0 end, nullif($10, 0), coalesce(nullif(w.by, ''), $11), $12::timestamptz,
				$12::timestamptz, coalesce(w.details::jsonb, s.details),
				coalesce(s.build_id, nullif(w.build, 0)), w.first_at
			from wanted w left join version s on s.id = w.source order by w.package_id, w.version, w.upload
			on conflict (package_id, version, upload) where visible_until is null do nothing returning id, package_id, version,
			upload
		)
		select m.id, w.position from made m join wanted w on w.package_id = m.package_id and w.version = m.version
		and w.upload = m.upload order by w.position`,
		repositories, ecosystems, namespaces, names, versions, uploads, snapshots, sources, details, publisherID, publisher,
		at, firstAt, by, uploadedAt, counts, builds); err != nil {
		return nil, nil, err
	}
	ids := make([]int64, n)
	for _, m := range made {
		ids[m.Position-1] = m.ID
	}
	if collisions := notMade(placed, ids); collisions != nil {
		return nil, collisions, nil
	}
	collisions, err := tx.furnish(ctx, placed, ids, sources, publisher, at)
	return ids, collisions, err
}

// notMade are those of what was to be placed that no version was made of, since there is one.
func notMade(placed []PlacedVersion, ids []int64) []Collision {
	var collisions []Collision
	for i, p := range placed {
		if ids[i] == 0 {
			collisions = append(collisions, Collision{Key: p.Key, Version: p.Version})
		}
	}
	return collisions
}

// furnish gives versions that were just made their files, readmes and weights.
func (tx *Tx) furnish(
	ctx context.Context, placed []PlacedVersion, ids, sources []int64, publisher string, at time.Time,
) ([]Collision, error) {
	if err := tx.placeFiles(ctx, placed, ids, publisher, at); err != nil {
		return nil, err
	}
	collisions, err := tx.gone(ctx, placed, ids)
	if err != nil || collisions != nil {
		return collisions, err
	}
	if _, err := tx.ExecContext(ctx, `insert into readme (version_id, text, format) select n.id, r.text, r.format
		from unnest($1::bigint[], $2::bigint[]) n(id, source) join readme r on r.version_id = n.source`, ids,
		sources); err != nil {
		return nil, err
	}
	if err := tx.setReadmes(ctx, placed, ids); err != nil {
		return nil, err
	}
	if err := tx.weigh(ctx, ids); err != nil {
		return nil, err
	}
	if err := tx.recount(ctx, ids, 1, at); err != nil {
		return nil, err
	}
	return nil, tx.arrive(ctx, ids, at)
}

// setReadmes keeps the texts about versions without a source.
func (tx *Tx) setReadmes(ctx context.Context, placed []PlacedVersion, ids []int64) error {
	var of []int64
	var texts, formats []string
	for i, p := range placed {
		if p.SourceID != 0 || p.Details == nil {
			continue
		}
		if r := p.Details.Bounded().Readme; r != nil && r.Text != "" {
			of, texts, formats = append(of, ids[i]), append(texts, storable(r.Text)), append(formats, r.Format)
		}
	}
	if of == nil {
		return nil
	}
	_, err := tx.ExecContext(ctx, `insert into readme (version_id, text, format)
		select * from unnest($1::bigint[], $2::text[], $3::text[])`, of, texts, formats)
	return err
}

// withoutSource are those of whose source there is nothing any more. What is promoted must
// be there, and stay until this is done: its bytes are named by nothing else, perhaps.
func (tx *Tx) withoutSource(
	ctx context.Context, placed []PlacedVersion, sources []int64,
) (missing []Collision, err error) {
	var there []int64
	if err := tx.SelectContext(ctx, &there,
		`select id from version where id = any($1) and visible_from is not null and visible_until is null
			order by id for share`, sources); err != nil {
		return nil, err
	}
	for _, p := range placed {
		if _, ok := slices.BinarySearch(there, p.SourceID); !ok && p.SourceID != 0 {
			missing = append(missing, Collision{Key: p.Key, Version: p.Version, NoSource: true})
		}
	}
	return missing, nil
}

// arrive gives versions their place in the order of their packages, which are
// held.
func (tx *Tx) arrive(ctx context.Context, versionIDs []int64, at time.Time) error {
	_, err := tx.ExecContext(ctx, `with counted as (
			update package p set last_arrived = greatest($2::timestamptz, p.last_arrived + interval '1 microsecond')
			where p.id in (select package_id from version where id = any($1)) returning p.id, p.last_arrived
		)
		update version v set arrived = counted.last_arrived from counted where v.id = any($1) and counted.id = v.package_id`,
		versionIDs, at)
	return err
}

// placeFiles records the files of versions.
func (tx *Tx) placeFiles(
	ctx context.Context, placed []PlacedVersion, ids []int64, publisher string, at time.Time,
) error {
	var versions, sizes []int64
	var names, classifiers, extensions, mediaTypes []string
	var sha256s, sha512s, sha1s, md5s, from [][]byte
	for i, p := range placed {
		for _, f := range p.Files {
			versions, sizes = append(versions, ids[i]), append(sizes, f.Digests.Size)
			names, classifiers, extensions = append(names, f.Name), append(classifiers, f.Classifier),
				append(extensions, f.Extension)
			mediaTypes = append(mediaTypes, f.MediaType)
			sha256s, sha512s = append(sha256s, f.Digests.SHA256[:]), append(sha512s, f.Digests.SHA512[:])
			sha1s, md5s, from = append(sha1s, f.Digests.SHA1[:]), append(md5s, f.Digests.MD5[:]), append(from, f.MadeFrom)
		}
	}
	if _, err := tx.ExecContext(ctx, `insert into stored_file (sha256, sha512, sha1, md5, size, created_at)
		select distinct on (n.sha256) n.sha256, n.sha512, n.sha1, n.md5, n.size, $6::timestamptz
		from unnest($1::bytea[], $2::bytea[], $3::bytea[], $4::bytea[], $5::bigint[]) n(sha256, sha512, sha1, md5, size)
		order by n.sha256
		on conflict (sha256) do nothing`, sha256s, sha512s, sha1s, md5s, sizes, at); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx,
		`insert into file (version_id, name, classifier, extension, sha256, added_at, made_from, added_by, media_type)
		select n.version, n.name, n.classifier, n.extension, n.sha256, $7::timestamptz, n.made_from, $8,
			nullif(n.media_type, '')
		from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::bytea[], $6::bytea[], $9::text[]) n(version, name,
		classifier, extension, sha256, made_from, media_type)`,
		versions, names, classifiers, extensions, sha256s, from, at, publisher, mediaTypes)
	if err != nil || !slices.ContainsFunc(mediaTypes, func(m string) bool { return m != "" }) {
		return err
	}
	// What has a media type is asked for by its digest, as a part of the package.
	_, err = tx.ExecContext(ctx, `insert into package_part (package_id, file, sha256, named, at, by_name)
		select distinct v.package_id, f.name, f.sha256, true, $2::timestamptz, $3
		from version v join file f on f.version_id = v.id where v.id = any($1) and f.media_type is not null
			and f.name <> replace(v.version, ':', '-')
		on conflict (package_id, file) do update set named = true`, ids, at, publisher)
	return err
}

// gone finds those of the new releases that were there before with other bytes:
// they do not come back as something else.
func (tx *Tx) gone(ctx context.Context, placed []PlacedVersion, ids []int64) ([]Collision, error) {
	var bad []int64
	if err := tx.SelectContext(ctx, &bad,
		`select distinct v.id from version v join version g on g.package_id = v.package_id and g.version = v.version
			and g.id <> v.id
		join file f on f.version_id = v.id join (select version_id, name, sha256 from file union all select version_id, name,
		sha256 from past_file) o
			on o.version_id = g.id and o.name = f.name and o.sha256 <> f.sha256
		where v.id = any($1) and f.name <> $2 and not v.snapshot and not g.snapshot and g.visible_from is not null
		and g.visible_until is not null and not g.unseen`, ids, catalog.DerivedFile); err != nil {
		return nil, err
	}
	var collisions []Collision
	for _, id := range bad {
		for i, of := range ids {
			if of == id {
				collisions = append(collisions, Collision{Key: placed[i].Key, Version: placed[i].Version, Gone: true})
			}
		}
	}
	return collisions, nil
}

// weigh notes how many bytes versions have.
func (tx *Tx) weigh(ctx context.Context, versionIDs []int64) error {
	_, err := tx.ExecContext(ctx,
		`update version v set bytes = coalesce((select sum(b.size) from file f join stored_file b using (sha256)
			where f.version_id = v.id), 0)
		where v.id = any($1)`, versionIDs)
	return err
}

// recount notes in packages that versions came (sign 1) or went (-1).
func (tx *Tx) recount(ctx context.Context, versionIDs []int64, sign int, at time.Time) error {
	_, err := tx.ExecContext(ctx, `with locked as (
			select id from package where id in (select package_id from version where id = any($1)) order by id for update
		), moved as (
			select package_id, count(*) versions, sum(bytes) bytes from version where id = any($1) group by package_id
		)
		update package p set revision = p.revision + 1, changed_at = $3, versions = p.versions + $2 * moved.versions,
		bytes = p.bytes + $2 * moved.bytes
		from moved join locked on locked.id = moved.package_id where p.id = moved.package_id`, versionIDs, sign, at)
	return err
}
