package record

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
)

// PackageChange is that a package changed.
type PackageChange struct {
	Number       int64     `db:"number"`
	RepositoryID int64     `db:"repository_id"`
	Ecosystem    string    `db:"ecosystem"`
	Namespace    string    `db:"namespace"`
	Name         string    `db:"name"`
	At           time.Time `db:"at"`
}

// followedAgain is how often it is noted that somebody follows.
const followedAgain = time.Minute

// Follow notes that somebody follows the changes of repositories, and gives the number from which on all of them
// are known, and the last one that was given to any.
func (db *DB) Follow(ctx context.Context, repositoryIDs []int64, at time.Time) (since, last int64, err error) {
	// That it is followed has to be known to whoever seals before a number is read: what is sealed after that is
	// noted then.
	if _, err := db.ExecContext(ctx, `insert into followed (repository_id, asked_at) select id, $2 from unnest($1::bigint[]) id
		order by 1
		on conflict (repository_id) do update set asked_at = $2 where followed.asked_at < $3`, repositoryIDs, at,
		at.Add(-followedAgain)); err != nil {
		return 0, 0, err
	}
	var fresh bool
	if err := db.GetContext(ctx, &fresh, `select exists (select from followed where repository_id = any($1) and since is null)`,
		repositoryIDs); err != nil {
		return 0, 0, err
	}
	if fresh {
		if err := db.followFromNow(ctx, repositoryIDs); err != nil {
			return 0, 0, err
		}
	}
	var known struct {
		Since int64 `db:"since"`
		Last  int64 `db:"last"`
	}
	err = db.GetContext(ctx, &known, `select coalesce(max(since), 0) since, (select last_value from change_number) as last
		from followed where repository_id = any($1)`, repositoryIDs)
	return known.Since, known.Last, err
}

func (db *DB) followFromNow(ctx context.Context, repositoryIDs []int64) error {
	return pgx.BeginFunc(ctx, db.pool, func(tx pgx.Tx) error {
		// Whoever seals now may not know of it yet.
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, eventLock); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update followed set since = nextval('change_number') where repository_id = any($1)
			and since is null`, repositoryIDs)
		return err
	})
}

// PackageChanges lists changes of packages of an ecosystem after a number, in their order, and tells how many there
// are and which number is the last.
func (r reads) PackageChanges(
	ctx context.Context, repositoryIDs []int64, ecosystem string, after int64, limit int,
) (some []PackageChange, left int, last int64, err error) {
	var total struct {
		Left int   `db:"left"`
		Last int64 `db:"last"`
	}
	if err := sqlx.GetContext(ctx, r.q, &total, `select count(*) as left, coalesce(max(number), $3) as last from package_change
		where repository_id = any($1) and ecosystem = $2 and number > $3`, repositoryIDs, ecosystem, after); err != nil {
		return nil, 0, 0, err
	}
	err = sqlx.SelectContext(ctx, r.q, &some, `select number, repository_id, ecosystem, namespace, name, at from package_change
		where repository_id = any($1) and ecosystem = $2 and number > $3 order by number limit $4`, repositoryIDs, ecosystem,
		after, limit)
	return some, total.Left, total.Last, err
}

// Unfollow forgets changes that nobody asked for since a moment.
func (db *DB) Unfollow(ctx context.Context, before time.Time) error {
	return db.Within(ctx, func(tx *Tx) error {
		_, err := tx.ExecContext(ctx, `with gone as (delete from followed where asked_at < $1 returning repository_id)
			delete from package_change where repository_id in (select repository_id from gone)`, before)
		return err
	})
}

// noteChanges are the changes that are told as those of packages, for whoever follows them.
const noteChanges = `insert into package_change (repository_id, ecosystem, namespace, name, number, at)
	select repository_id, ecosystem, namespace, name, nextval('change_number'), now() from (
		select distinct f.repository_id, c.x ->> 'ecosystem' ecosystem, coalesce(c.x ->> 'namespace', '') namespace,
			c.x ->> 'name' as name
		from unnest($1::text[]) t, lateral (select t::jsonb x) c
		join followed f on f.repository_id = (c.x ->> 'repositoryId')::bigint
		where exists (select from followed) and c.x ->> 'kind' = 'package' and c.x ->> 'name' <> '') changed
	on conflict (repository_id, ecosystem, namespace, name) do update set number = excluded.number, at = excluded.at`
