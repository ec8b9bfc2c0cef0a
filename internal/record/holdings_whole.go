package record

import (
	"context"
	"sync/atomic"

	"crelvo/internal/core/catalog"
)

// Named is a package of a repository.
type Named struct {
	RepositoryID int64  `db:"repository_id"`
	Namespace    string `db:"namespace"`
	Name         string `db:"name"`
}

// Named lists all packages of an ecosystem in several repositories, by namespace and name.
func (db *DB) Named(ctx context.Context, scope Scope, at catalog.Moment, ecosystem string) (all []Named, err error) {
	arguments := []any{scope.Repositories, ecosystem}
	visible := "p.versions > 0"
	if at != 0 {
		visible = "exists (select from version v where v.package_id = p.id and" + seen(at) + ")"
	}
	err = db.SelectContext(ctx, &all, `select p.repository_id, p.namespace, p.name from package p
		where p.repository_id = any($1) and p.ecosystem = $2 and `+visible+scope.and(&arguments)+`
		order by p.namespace, p.name`, arguments...)
	return all, err
}

// manyHead is a packageHead with its names.
type manyHead struct {
	packageHead
	Namespace string `db:"namespace"`
	Name      string `db:"name"`
}

// Packages is Package for several packages of one ecosystem in one repository, by three
// questions for all of them. What is not visible is left out.
func (db *DB) Packages(ctx context.Context, keys []catalog.PackageKey) (map[catalog.PackageKey]Known, error) {
	if len(keys) == 0 {
		return nil, nil
	}
	of := keys[0]
	var namespaces, names []string
	for _, key := range keys {
		namespaces, names = append(namespaces, key.Namespace), append(names, key.Name)
	}
	visible := during("x", of.AsOf)
	var heads []manyHead
	if err := db.SelectContext(ctx, &heads, `select p.id, p.namespace, p.name, p.revision, p.changed_at,
		pg_current_snapshot()::text state,
		(select jsonb_object_agg(x.name, x.version) from label x where x.package_id = p.id and`+visible+`) labels,
		(select jsonb_object_agg(x.version, jsonb_build_object('reason', x.reason, 'by', x.by_name, 'at', x.visible_from))
			from withdrawal x where x.package_id = p.id and`+visible+`) withdrawals
		from unnest($3::text[], $4::text[]) n(namespace, name)
		join package p on p.repository_id = $1 and p.ecosystem = $2 and p.namespace = n.namespace and p.name = n.name
		where p.versions > 0 or $5`, of.RepositoryID, of.Ecosystem, namespaces, names, of.AsOf != 0); err != nil {
		return nil, err
	}
	ids := make([]int64, len(heads))
	for i := range heads {
		ids[i] = heads[i].ID
	}
	which := `v.package_id = any($1) and` + seen(of.AsOf)
	var rows []*struct {
		versionRow
		PackageID int64 `db:"package_id"`
	}
	if err := db.SelectContext(ctx, &rows, `select v.package_id, v.id, v.version, v.upload, v.snapshot, v.uploaded_at,
		v.upload_count, v.published_by, coalesce(v.build_id, 0) build_id, v.visible_from, v.first_at, v.arrived,
		v.details, true seen from version v where `+which, ids); err != nil {
		return nil, err
	}
	var files []struct {
		fileRow
		PackageID int64 `db:"package_id"`
	}
	if err := db.SelectContext(ctx, &files, `select v.package_id, `+fileColumns+` from version v
		join file f on f.version_id = v.id join stored_file b using (sha256)
		where `+which+addedBy(of.AsOf)+` order by f.version_id, f.name`, ids); err != nil {
		return nil, err
	}
	versionsOf, filesOf := map[int64][]*versionRow{}, map[int64][]fileRow{}
	for _, r := range rows {
		versionsOf[r.PackageID] = append(versionsOf[r.PackageID], &r.versionRow)
	}
	for _, f := range files {
		filesOf[f.PackageID] = append(filesOf[f.PackageID], f.fileRow)
	}
	all := make(map[catalog.PackageKey]Known, len(heads))
	for _, h := range heads {
		key := of
		key.Namespace, key.Name = h.Namespace, h.Name
		p := &catalog.Package{ID: h.ID, Key: key, Revision: h.Revision, Changed: h.Changed}
		known := Known{Package: p, state: h.State, marked: h.Withdrawals != nil, grown: new(atomic.Bool)}
		var err error
		if known.room, known.newest, err = gather(key, nil, 0, versionsOf[h.ID], filesOf[h.ID]); err != nil {
			return nil, err
		}
		if err := known.put(h.packageHead, false); err != nil {
			return nil, err
		}
		if len(p.Versions) > 0 {
			all[key] = known
		}
	}
	return all, nil
}
