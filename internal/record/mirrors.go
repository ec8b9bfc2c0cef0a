package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"crelvo/internal/core/catalog"
)

// UpstreamDocument is what an upstream said of a path, last time it was asked.
type UpstreamDocument struct {
	RepositoryID int64
	Path         string
	// About is the package, or with an empty name the namespace, that it tells of.
	About        catalog.PackageKey
	Found        bool
	URL          string
	ETag         string
	LastModified string
	CheckedAt    time.Time
	ChangedAt    time.Time
	FailedAt     time.Time // zero unless it could not be refreshed since
	Failure      string
	Listing      catalog.Listing
}

// Lists tells whether the document has a version.
func (d UpstreamDocument) Lists(version string) bool {
	return slices.ContainsFunc(d.Listing.Versions, func(v catalog.ListedVersion) bool {
		return v.Version == version && v.Then(0)
	})
}

type documentRow struct {
	RepositoryID int64      `db:"repository_id"`
	Path         string     `db:"path"`
	Ecosystem    string     `db:"ecosystem"`
	Namespace    string     `db:"namespace"`
	Name         string     `db:"name"`
	Found        bool       `db:"found"`
	URL          string     `db:"url"`
	ETag         string     `db:"etag"`
	LastModified string     `db:"last_modified"`
	CheckedAt    time.Time  `db:"checked_at"`
	ChangedAt    time.Time  `db:"changed_at"`
	FailedAt     *time.Time `db:"failed_at"`
	Failure      string     `db:"failure"`
	Listing      []byte     `db:"listing"`
}

func (row documentRow) value(details bool) (UpstreamDocument, error) {
	d := UpstreamDocument{RepositoryID: row.RepositoryID, Path: row.Path, Found: row.Found, URL: row.URL, ETag: row.ETag,
		LastModified: row.LastModified, CheckedAt: row.CheckedAt, ChangedAt: row.ChangedAt, Failure: row.Failure,
		About: catalog.PackageKey{RepositoryID: row.RepositoryID, Ecosystem: row.Ecosystem, Namespace: row.Namespace,
			Name: row.Name}}
	if row.FailedAt != nil {
		d.FailedAt = *row.FailedAt
	}
	var err error
	d.Listing, err = unpackListing(row.Listing, details)
	return d, err
}

// UpstreamDocument finds what is known of a path, or ErrNotFound. Without details, what
// its versions are like is left out, which costs a third.
func (db *DB) UpstreamDocument(
	ctx context.Context, repositoryID int64, path string, details bool,
) (UpstreamDocument, error) {
	var row documentRow
	err := db.GetContext(ctx, &row, `select * from upstream_document where repository_id = $1 and path = $2`, repositoryID,
		path)
	if errors.Is(err, sql.ErrNoRows) {
		return UpstreamDocument{}, ErrNotFound
	}
	if err != nil {
		return UpstreamDocument{}, err
	}
	return row.value(details)
}

// UpstreamPackages lists the packages that the upstream of a mirror listed, in order.
func (db *DB) UpstreamPackages(ctx context.Context, repositoryID int64) ([]catalog.PackageKey, error) {
	var rows []keyRow
	err := db.SelectContext(ctx, &rows, `select distinct repository_id, ecosystem, namespace, name from upstream_document
		where repository_id = $1 and found and name <> '' order by ecosystem, namespace, name`, repositoryID)
	return keysOf(rows), err
}

// SetUpstreamDocument notes what an upstream said just now.
func (tx *Tx) SetUpstreamDocument(ctx context.Context, d UpstreamDocument) error {
	var listing []byte
	if d.Found || d.Listing.Versions != nil {
		var err error
		if listing, err = packListing(d.Listing); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx,
		`insert into upstream_document (repository_id, path, ecosystem, namespace, name, found, url, etag, last_modified,
		checked_at, changed_at, listing) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
		on conflict (repository_id, path) do update set found = $6, url = $7, etag = $8, last_modified = $9, checked_at = $10,
		changed_at = $11, listing = $12, failed_at = null, failure = ''`,
		d.RepositoryID, d.Path, d.About.Ecosystem, d.About.Namespace, d.About.Name, d.Found, d.URL, d.ETag, d.LastModified,
		d.CheckedAt, d.ChangedAt, listing)
	return err
}

// CheckedUpstreamDocument notes that a document is as it was.
func (db *DB) CheckedUpstreamDocument(ctx context.Context, repositoryID int64, path string, at time.Time) error {
	_, err := db.ExecContext(ctx, `update upstream_document set checked_at = $3, failed_at = null, failure = ''
		where repository_id = $1 and path = $2`, repositoryID, path, at)
	return err
}

// FailedUpstreamDocument notes that a document could not be refreshed.
func (db *DB) FailedUpstreamDocument(
	ctx context.Context, repositoryID int64, path string, at time.Time, failure string,
) error {
	_, err := db.ExecContext(ctx, `update upstream_document set failed_at = $3, failure = $4
		where repository_id = $1 and path = $2`, repositoryID, path, at, failure)
	return err
}

// StaleDocument is a document that could not be refreshed.
type StaleDocument struct {
	Path      string    `db:"path"`
	CheckedAt time.Time `db:"checked_at"`
	FailedAt  time.Time `db:"failed_at"`
	Failure   string    `db:"failure"`
}

// StaleDocuments lists documents of a mirror that could not be refreshed, the
// last ones first, and how many there are.
func (db *DB) StaleDocuments(
	ctx context.Context, repositoryID int64, limit int,
) (stale []StaleDocument, total int, err error) {
	const where = ` from upstream_document where repository_id = $1 and failed_at is not null and found`
	if err := db.GetContext(ctx, &total, `select count(*)`+where, repositoryID); err != nil || total == 0 {
		return nil, 0, err
	}
	err = db.SelectContext(ctx, &stale, `select path, checked_at, failed_at, failure`+where+
		` order by failed_at desc, path limit $2`, repositoryID, limit)
	return stale, total, err
}

// ForgetUpstreamDocument forgets what an upstream said of a path.
func (tx *Tx) ForgetUpstreamDocument(ctx context.Context, repositoryID int64, path string) error {
	_, err := tx.ExecContext(ctx, `delete from upstream_document where repository_id = $1 and path = $2`, repositoryID,
		path)
	return err
}

// ForgetUpstreamDocuments forgets all that an upstream said of a package.
func (tx *Tx) ForgetUpstreamDocuments(ctx context.Context, key catalog.PackageKey) (n int64, err error) {
	result, err := tx.ExecContext(ctx,
		`delete from upstream_document where repository_id = $1 and ecosystem = $2 and namespace = $3 and name = $4`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// ForgetOldAbsences drops what was never there, and was not asked for since.
func (db *DB) ForgetOldAbsences(ctx context.Context, before time.Time) error {
	_, err := db.ExecContext(ctx, `delete from upstream_document where not found and listing is null and checked_at < $1`,
		before)
	return err
}

// AddCopy records a file that a mirror fetched, and its package and version
// where they are new; the version can be seen at once. If a copy was recorded
// meanwhile, it stays, and kept is false.
func (tx *Tx) AddCopy(ctx context.Context, f NewFile) (kept bool, err error) {
	var v struct {
		ID        int64  `db:"id"`
		PackageID int64  `db:"package_id"`
		Fresh     bool   `db:"fresh"`
		Details   []byte `db:"details"`
	}
	err = sql.ErrNoRows
	for try := 0; errors.Is(err, sql.ErrNoRows) && try < 3; try++ {
		err = tx.GetContext(ctx, &v, versionUpsert+` do update set touched_at = version.touched_at
			returning id, package_id, visible_from is null fresh, details`, f.versionArguments("")...)
	}
	if err != nil {
		return false, err
	}
	var there bool
	if err := tx.GetContext(ctx, &there, `select exists (select from file where version_id = $1 and name = $2)`, v.ID,
		f.Name); err != nil || there {
		return false, err
	}
	var known catalog.Details
	if err := json.Unmarshal(v.Details, &known); err != nil {
		return false, err
	}
	details, err := writeDetails(f.Details.Merge(known))
	if err != nil {
		return false, err
	}
	if err := tx.writeFile(ctx, v.ID, f, touched{details: details, sends: 1, againFrom: 1, countsFrom: 1}); err != nil {
		return false, err
	}
	if v.Fresh {
		return true, tx.completeCopy(ctx, v.ID, f.At)
	}
	return true, tx.grow(ctx, v.ID, v.PackageID, f.Digests.Size, f.At)
}

// MirrorHour is what a mirror did in an hour.
type MirrorHour struct {
	RepositoryID int64     `db:"repository_id"`
	Hour         time.Time `db:"hour"`
	Hits         int64     `db:"hits"`
	Misses       int64     `db:"misses"`
	Stale        int64     `db:"stale"`
	Failures     int64     `db:"failures"`
	Requests     int64     `db:"requests"`
	BytesServed  int64     `db:"bytes_served"`
	BytesFetched int64     `db:"bytes_fetched"`
	FirstByteUS  int64     `db:"first_byte_us"`
}

// CountMirrors adds what mirrors did.
func (tx *Tx) CountMirrors(ctx context.Context, hours []MirrorHour) error {
	if len(hours) == 0 {
		return nil
	}
	_, err := tx.NamedExecContext(ctx,
		`insert into mirror_hour as h (repository_id, hour, hits, misses, stale, failures, requests, bytes_served,
			bytes_fetched, first_byte_us)
		values (:repository_id, :hour, :hits, :misses, :stale, :failures, :requests, :bytes_served, :bytes_fetched,
		:first_byte_us)
		on conflict (repository_id, hour) do update set hits = h.hits + excluded.hits, misses = h.misses + excluded.misses,
		stale = h.stale + excluded.stale, failures = h.failures + excluded.failures,
		requests = h.requests + excluded.requests,
		bytes_served = h.bytes_served + excluded.bytes_served, bytes_fetched = h.bytes_fetched + excluded.bytes_fetched,
		first_byte_us = h.first_byte_us + excluded.first_byte_us`, hours)
	return err
}

// MirrorHours gives what a mirror did since a moment, hour by hour; hours with
// nothing are left out.
func (db *DB) MirrorHours(ctx context.Context, repositoryID int64, since time.Time) (hours []MirrorHour, err error) {
	err = db.SelectContext(ctx, &hours, `select * from mirror_hour where repository_id = $1 and hour >= $2 order by hour`,
		repositoryID, since)
	return hours, err
}

// UpstreamContact is how an upstream was, last time it was asked.
type UpstreamContact struct {
	RepositoryID int64      `db:"repository_id"`
	URL          string     `db:"url"`
	ContactAt    *time.Time `db:"contact_at"`
	LatencyUS    int64      `db:"latency_us"`
	FailedAt     *time.Time `db:"failed_at"`
	Failure      string     `db:"failure"`
	FailingSince *time.Time `db:"failing_since"`
	RetryAt      *time.Time `db:"retry_at"`
	// How much more it lets us ask, by its own word: AllowedLeft of AllowedMost within so many
	// seconds, and when there is more; AllowedAt is nil if it never said anything.
	AllowedAt     *time.Time `db:"allowed_at"`
	AllowedLeft   int64      `db:"allowed_left"`
	AllowedMost   int64      `db:"allowed_most"`
	AllowedWindow int64      `db:"allowed_window"`
	AllowedAgain  *time.Time `db:"allowed_again"`
}

// Scarce tells whether an upstream lets us ask little more: less than a tenth of what it
// allows.
func (c UpstreamContact) Scarce(now time.Time) bool {
	if c.AllowedAt == nil || c.AllowedMost == 0 || c.AllowedLeft*10 >= c.AllowedMost {
		return false
	}
	ends := c.AllowedAt.Add(time.Duration(c.AllowedWindow) * time.Second)
	if c.AllowedAgain != nil {
		ends = *c.AllowedAgain
	}
	return now.Before(ends)
}

// NoteContacts writes how upstreams were.
func (tx *Tx) NoteContacts(ctx context.Context, contacts []UpstreamContact) error {
	if len(contacts) == 0 {
		return nil
	}
	_, err := tx.NamedExecContext(ctx,
		`insert into upstream_contact as c (repository_id, url, contact_at, latency_us, failed_at, failure, failing_since,
			retry_at, allowed_at, allowed_left, allowed_most, allowed_window, allowed_again)
		values (:repository_id, :url, :contact_at, :latency_us, :failed_at, :failure, :failing_since, :retry_at,
			:allowed_at, :allowed_left, :allowed_most, :allowed_window, :allowed_again)
		on conflict (repository_id, url) do update set contact_at = coalesce(excluded.contact_at, c.contact_at),
		latency_us = case when excluded.contact_at is null then c.latency_us else excluded.latency_us end,
		failed_at = coalesce(excluded.failed_at, c.failed_at),
		failure = case when excluded.failed_at is null then c.failure else excluded.failure end,
		failing_since = excluded.failing_since, retry_at = excluded.retry_at,
		(allowed_at, allowed_left, allowed_most, allowed_window, allowed_again) = (select n.* from (select excluded.allowed_at,
			excluded.allowed_left, excluded.allowed_most, excluded.allowed_window, excluded.allowed_again
			where excluded.allowed_at is not null union all select c.allowed_at, c.allowed_left, c.allowed_most,
			c.allowed_window, c.allowed_again where excluded.allowed_at is null) n)`, contacts)
	return err
}

// Contacts lists how upstreams were: of one mirror, or of all for 0.
func (db *DB) Contacts(ctx context.Context, repositoryID int64) (contacts []UpstreamContact, err error) {
	err = db.SelectContext(ctx, &contacts,
		`select * from upstream_contact where $1::bigint in (0, repository_id) order by repository_id, url`, repositoryID)
	return contacts, err
}

// LastKept is the release that a repository got last, or ErrNotFound.
func (db *DB) LastKept(ctx context.Context, repositoryID int64) (catalog.PackageKey, string, error) {
	var row struct {
		keyRow
		Version string `db:"version"`
	}
	err := db.GetContext(ctx, &row, `select p.repository_id, p.ecosystem, p.namespace, p.name, v.version from package p
		join lateral (select version, id from version where package_id = p.id and visible_from is not null
		and visible_until is null and not snapshot
			order by id desc limit 1) v on true
		where p.repository_id = $1 and p.versions > 0 order by p.last_hour desc nulls last,
		p.last_arrived desc nulls last limit 1`, repositoryID)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return row.value(), row.Version, err
}
