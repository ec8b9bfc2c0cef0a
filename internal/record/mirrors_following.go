package record

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// Following is how far a mirror is with the changes of its upstream.
type Following struct {
	RepositoryID int64      `db:"repository_id"`
	Upstream     string     `db:"upstream"` // which it follows
	Number       int64      `db:"number"`   // of the last change that was taken over
	Behind       int        `db:"behind"`   // packages that changed since
	Oldest       *time.Time `db:"oldest"`   // when the first of them did
	DoneAt       *time.Time `db:"done_at"`  // when it was in step last
	AskedAt      *time.Time `db:"asked_at"`
	Failure      string     `db:"failure"`
}

const followingColumns = `repository_id, upstream, number, behind, oldest, done_at, asked_at, failure`

// Following tells how far a mirror is; ErrNotFound if it follows nothing.
func (r reads) Following(ctx context.Context, repositoryID int64) (f Following, err error) {
	err = sqlx.GetContext(ctx, r.q, &f, `select `+followingColumns+` from mirror_following where repository_id = $1`,
		repositoryID)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return f, err
}

// LateFollowing lists the mirrors that cannot follow their upstreams, and were in step before a moment at the latest.
func (r reads) LateFollowing(ctx context.Context, before time.Time) (all []Following, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select `+followingColumns+` from mirror_following
		where failure <> '' and coalesce(done_at, '-infinity') < $1 order by repository_id`, before)
	return all, err
}

// ClaimFollowing lets somebody follow an upstream for a mirror until a moment, unless somebody else does; what is
// known of another upstream is forgotten.
func (db *DB) ClaimFollowing(
	ctx context.Context, repositoryID int64, upstream string, now, until time.Time,
) (f Following, ok bool, err error) {
	var taken []Following
	err = db.SelectContext(ctx, &taken, `insert into mirror_following (repository_id, upstream, number, until)
		values ($1, $2, 0, $4)
		on conflict (repository_id) do update set until = excluded.until, upstream = excluded.upstream,
			number = case when mirror_following.upstream = excluded.upstream then mirror_following.number else 0 end
		where mirror_following.until <= $3 returning `+followingColumns, repositoryID, upstream, now, until)
	if err != nil || len(taken) == 0 {
		return f, false, err
	}
	return taken[0], true, nil
}

// NoteFollowing notes how far it is, and until when whoever is at it goes on.
func (db *DB) NoteFollowing(ctx context.Context, f Following, until time.Time) error {
	_, err := db.ExecContext(ctx, `update mirror_following set number = $2, behind = $3, oldest = $4, done_at = $5,
		asked_at = $6, failure = $7, until = $8 where repository_id = $1`, f.RepositoryID, f.Number, f.Behind, f.Oldest,
		f.DoneAt, f.AskedAt, storable(f.Failure), until)
	return err
}
