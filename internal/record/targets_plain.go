package record

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
)

// PlainPackage is a package in a plain tree.
type PlainPackage struct {
	Namespace string     `db:"namespace"`
	Name      string     `db:"name"`
	Gives     []byte     `db:"gives"`   // to documents about all
	Held      bool       `db:"held"`    // something of it is in the tree
	Changed   *time.Time `db:"changed"` // when it changed last
	Asked     int64      `db:"asked"`   // how often it was asked for until it was read here
}

// PlainVersion is a version that belongs in a tree.
type PlainVersion struct {
	ID           int64 `db:"version_id"`
	RepositoryID int64 `db:"repository_id"`
}

// PlainFile is a file that was written to a tree.
type PlainFile struct {
	Path string    `db:"path"`
	Sum  []byte    `db:"sum"` // of what it has, or is made from
	Size int64     `db:"size"`
	At   time.Time `db:"at"`
}

// PlainState is how a tree is.
type PlainState struct {
	Target   string `db:"target"`
	Packages int    `db:"packages"`
	Due      int    `db:"due"` // packages that are to be looked at
	Files    int    `db:"files"`
	Bytes    int64  `db:"bytes"`
}

// AddToPlain has versions belong in a tree, and their packages written there; it gives how often each was asked for
// by that.
func (tx *Tx) AddToPlain(ctx context.Context, target string, versionIDs []int64) (asked []PlainPackage, err error) {
	err = tx.SelectContext(ctx, &asked, `with of as (
			select distinct p.namespace, p.name from version v join package p on p.id = v.package_id where v.id = any($2)
			order by 1, 2)
		insert into plain_package (target, namespace, name) select $1, namespace, name from of
		on conflict (target, namespace, name) do update set asked = plain_package.asked + 1
		returning namespace, name, asked`, target, versionIDs)
	if err != nil {
		return nil, err
	}
	_, err = tx.ExecContext(ctx, `insert into plain_version (target, namespace, name, version_id)
		select $1, p.namespace, p.name, v.id from version v join package p on p.id = v.package_id where v.id = any($2)
		on conflict do nothing`, target, versionIDs)
	return asked, err
}

// AskForPlain has all packages of a tree looked at again.
func (tx *Tx) AskForPlain(ctx context.Context, target string) error {
	_, err := tx.ExecContext(ctx, `update plain_package set asked = asked + 1 where target = $1 and asked = done`, target)
	return err
}

// AskForAllPlain has all packages of all trees looked at again.
func (tx *Tx) AskForAllPlain(ctx context.Context) error {
	_, err := tx.ExecContext(ctx, `update plain_package set asked = asked + 1 where asked = done`)
	return err
}

// ChangedInPlain has packages looked at again in the trees that have them.
func (db *DB) ChangedInPlain(ctx context.Context, keys []catalog.PackageKey) (n int64, err error) {
	ecosystems, namespaces, names := make([]string, len(keys)), make([]string, len(keys)), make([]string, len(keys))
	for i, k := range keys {
		ecosystems[i], namespaces[i], names[i] = k.Ecosystem, k.Namespace, k.Name
	}
	result, err := db.ExecContext(ctx, `update plain_package p set asked = asked + 1 from destination d,
			unnest($1::text[], $2::text[], $3::text[]) k (ecosystem, namespace, name)
		where d.name = p.target and d.ecosystem = k.ecosystem and p.namespace = k.namespace and p.name = k.name`,
		ecosystems, namespaces, names)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// DuePlain lists packages of a tree that are to be looked at, from after a namespace and name on, and what is
// known of each.
func (r reads) DuePlain(
	ctx context.Context, target string, after [2]string, limit int,
) (all []PlainPackage, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select namespace, name, gives, held, changed, asked from plain_package
		where target = $1 and asked > done and (namespace, name) > ($2, $3) order by namespace, name limit $4`, target,
		after[0], after[1], limit)
	return all, err
}

// DueAmong tells which of some versions are of packages that are not yet in a tree as they were asked for.
func (r reads) DueAmong(
	ctx context.Context, target string, asked []PlainPackage, versionIDs []int64,
) (ids []int64, err error) {
	namespaces, names := namesOf(asked)
	often := make([]int64, len(asked))
	for i, p := range asked {
		often[i] = p.Asked
	}
	err = sqlx.SelectContext(ctx, r.q, &ids, `select pv.version_id
		from unnest($2::text[], $3::text[], $4::bigint[]) k (namespace, name, asked)
		join plain_package p on p.target = $1 and p.namespace = k.namespace and p.name = k.name and p.done < k.asked
		join plain_version pv on pv.target = $1 and pv.namespace = k.namespace and pv.name = k.name
		where pv.version_id = any($5)`, target, namespaces, names, often, versionIDs)
	return ids, err
}

// DueTrees names the trees of which something is due at a moment.
func (r reads) DueTrees(ctx context.Context, now time.Time) (all []string, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select name from destination d where plain and next_at <= $1 and
		worked_until <= $1 and exists (select from plain_package where target = d.name and asked > done) order by name`, now)
	return all, err
}

// PlainVersions lists the versions of packages that belong in a tree and are there, by namespace and name.
func (r reads) PlainVersions(
	ctx context.Context, target string, packages []PlainPackage,
) (map[[2]string][]PlainVersion, error) {
	namespaces, names := namesOf(packages)
	var rows []struct {
		PlainVersion
		Namespace string `db:"namespace"`
		Name      string `db:"name"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows, `select pv.namespace, pv.name, pv.version_id, p.repository_id
		from unnest($2::text[], $3::text[]) k (namespace, name)
		join plain_version pv on pv.target = $1 and pv.namespace = k.namespace and pv.name = k.name
		join version v on v.id = pv.version_id join package p on p.id = v.package_id
		where v.visible_from is not null and v.visible_until is null order by pv.version_id`, target, namespaces, names)
	all := map[[2]string][]PlainVersion{}
	for _, row := range rows {
		key := [2]string{row.Namespace, row.Name}
		all[key] = append(all[key], row.PlainVersion)
	}
	return all, err
}

func namesOf(packages []PlainPackage) (namespaces, names []string) {
	for _, p := range packages {
		namespaces, names = append(namespaces, p.Namespace), append(names, p.Name)
	}
	return namespaces, names
}

// PlainFiles lists the files of packages in a tree, by namespace and name, in the order in which they are written.
func (r reads) PlainFiles(
	ctx context.Context, target string, packages []PlainPackage,
) (map[[2]string][]PlainFile, error) {
	namespaces, names := namesOf(packages)
	var rows []struct {
		PlainFile
		Namespace string `db:"namespace"`
		Name      string `db:"name"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows, `select f.namespace, f.name, f.path, f.sum, f.size, f.at
		from unnest($2::text[], $3::text[]) k (namespace, name)
		join plain_file f on f.target = $1 and f.namespace = k.namespace and f.name = k.name order by f.place, f.path`,
		target, namespaces, names)
	all := map[[2]string][]PlainFile{}
	for _, row := range rows {
		key := [2]string{row.Namespace, row.Name}
		all[key] = append(all[key], row.PlainFile)
	}
	return all, err
}

// EachPlainFile lists files of a tree by their paths, from after one on.
func (r reads) EachPlainFile(ctx context.Context, target, after string, limit int) (all []PlainFile, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select path, sum, size, at from plain_file
		where target = $1 and path > $2 order by path limit $3`, target, after, limit)
	return all, err
}

// GivenPlain lists what the packages of a tree give to documents about all.
func (r reads) GivenPlain(ctx context.Context, target string) (all []PlainPackage, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select namespace, name, gives, held, changed, asked from plain_package
		where target = $1 and held order by namespace collate "C", name collate "C"`, target)
	return all, err
}

// NotePlainFiles notes files that were written for a package, or with no name for all; places are their own.
func (tx *Tx) NotePlainFiles(
	ctx context.Context, target string, of PlainPackage, files []PlainFile, places []int,
) error {
	paths, sums, sizes := make([]string, len(files)), make([][]byte, len(files)), make([]int64, len(files))
	for i, f := range files {
		paths[i], sums[i], sizes[i] = f.Path, f.Sum, f.Size
	}
	if len(files) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `insert into plain_file (target, path, namespace, name, sum, size, place, at)
		select $1, f.path, $2, $3, f.sum, f.size, f.place, $4
		from unnest($5::text[], $6::bytea[], $7::bigint[], $8::integer[]) f (path, sum, size, place)
		on conflict (target, path) do update set namespace = excluded.namespace, name = excluded.name, sum = excluded.sum,
			size = excluded.size, place = excluded.place, at = excluded.at`,
		target, of.Namespace, of.Name, files[0].At, paths, sums, sizes, places)
	return err
}

// ForgetPlainFiles forgets files that are not in a tree any more.
func (tx *Tx) ForgetPlainFiles(ctx context.Context, target string, paths []string) error {
	_, err := tx.ExecContext(ctx, `delete from plain_file where target = $1 and path = any($2)`, target, paths)
	return err
}

// NotePlainPackage notes what a package gives now.
func (tx *Tx) NotePlainPackage(ctx context.Context, target string, p PlainPackage) error {
	_, err := tx.ExecContext(ctx, `update plain_package set gives = $4, held = $5, changed = $6
		where target = $1 and namespace = $2 and name = $3`, target, p.Namespace, p.Name, p.Gives, p.Held, p.Changed)
	return err
}

// DonePlain notes that packages are in a tree as they were when they were read.
func (tx *Tx) DonePlain(ctx context.Context, target string, packages []PlainPackage) error {
	namespaces, names := namesOf(packages)
	asked := make([]int64, len(packages))
	for i, p := range packages {
		asked[i] = p.Asked
	}
	_, err := tx.ExecContext(ctx, `update plain_package p set done = k.asked
		from unnest($2::text[], $3::text[], $4::bigint[]) k (namespace, name, asked)
		where p.target = $1 and p.namespace = k.namespace and p.name = k.name`, target, namespaces, names, asked)
	return err
}

// ClaimPlain lets a worker write to a tree until a moment; ok is false while somebody else does.
func (db *DB) ClaimPlain(ctx context.Context, target, worker string, now, until time.Time) (ok bool, err error) {
	return changedOne(db.ExecContext(ctx, `update destination set worker = $2, worked_until = $4
		where name = $1 and plain and (worker = $2 or worked_until <= $3)`, target, worker, now, until))
}

// LeavePlain ends what a worker did: failure is what went wrong, and when to try again.
func (db *DB) LeavePlain(
	ctx context.Context, target, worker, failure string, now, next time.Time,
) error {
	_, err := db.ExecContext(ctx, `update destination set worker = '', worked_until = '-infinity', failure = $3,
			attempts = case when $3 = '' then 0 else attempts + 1 end,
			wrote_at = case when $3 = '' then $4 else wrote_at end, next_at = $5
		where name = $1 and worker = $2`, target, worker, failure, now, next)
	return err
}

// HurryPlain has a tree tried now that waits for another attempt.
func (tx *Tx) HurryPlain(ctx context.Context, target string) error {
	_, err := tx.ExecContext(ctx, `update destination set next_at = '-infinity', attempts = 0 where name = $1`, target)
	return err
}

// PlainStates tells how the trees are.
func (r reads) PlainStates(ctx context.Context) (all []PlainState, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select d.name target,
		(select count(*) from plain_package where target = d.name and held) packages,
		(select count(*) from plain_package where target = d.name and asked > done) due,
		(select count(*) from plain_file where target = d.name) files,
		(select coalesce(sum(size), 0)::bigint from plain_file where target = d.name) bytes
		from destination d where d.plain order by d.name`)
	return all, err
}

// DropPlain forgets versions that are gone for good, and packages that have none.
func (db *DB) DropPlain(ctx context.Context) error {
	_, err1 := db.ExecContext(ctx, `delete from plain_version pv
		where not exists (select from version where id = pv.version_id)`)
	_, err2 := db.ExecContext(ctx, `delete from plain_package p where not held and asked = done and not exists (
		select from plain_version where target = p.target and namespace = p.namespace and name = p.name)`)
	return errors.Join(err1, err2)
}
