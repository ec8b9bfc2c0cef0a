package record

import (
	"context"
	"crypto/sha256"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/symbols"
)

// UnlookedVersion is a version that was not looked into for symbols.
type UnlookedVersion struct {
	ID      int64
	Key     catalog.PackageKey
	Version string
	Upload  string
}

type symbolRow struct {
	keyRow
	ID      int64  `db:"id"`
	Version string `db:"version"`
	Upload  string `db:"upload"`
	MadeBy  string `db:"made_by"`
	File    string `db:"file"`
	Path    string `db:"path"`
	Format  string `db:"format"`
	Asked   string `db:"asked"`
	Code    bool   `db:"code"`
	Debug   bool   `db:"debug"`
	Size    int64  `db:"size"`
}

// UnlookedVersions are versions of some ecosystems that can be seen and were not looked into: of some packages or, if
// keys is nil, of all, by their ids from after one on.
func (db *DB) UnlookedVersions(
	ctx context.Context, ecosystems []string, keys []catalog.PackageKey, after int64, limit int,
) ([]UnlookedVersion, error) {
	// From package to versions to looks by their indexes, whatever the size of the tables was when it was planned.
	const unlooked = `v.id > $3 and v.visible_from is not null and v.visible_until is null
		and not exists (select from symbol_look l where l.version_id = v.id)`
	from, arguments := `version v join package p on p.id = v.package_id where `+unlooked+` and`,
		[]any{ecosystems, limit, after}
	if keys != nil {
		repositories, kinds := make([]int64, len(keys)), make([]string, len(keys))
		namespaces, names := make([]string, len(keys)), make([]string, len(keys))
		for i, k := range keys {
			repositories[i], kinds[i], namespaces[i], names[i] = k.RepositoryID, k.Ecosystem, k.Namespace, k.Name
		}
		from = `unnest($4::bigint[], $5::text[], $6::text[], $7::text[]) k (repository_id, ecosystem, namespace, name)
			cross join lateral (select p.* from package p where p.repository_id = k.repository_id
				and p.ecosystem = k.ecosystem and p.namespace = k.namespace and p.name = k.name offset 0) p
			cross join lateral (select v.* from version v where v.package_id = p.id and ` + unlooked + ` offset 0) v where`
		arguments = append(arguments, repositories, kinds, namespaces, names)
	}
	var rows []symbolRow
	err := db.SelectContext(ctx, &rows, `select v.id, v.version, v.upload, p.repository_id, p.ecosystem, p.namespace, p.name
		from `+from+` p.ecosystem = any($1) order by v.id limit $2`, arguments...)
	all := make([]UnlookedVersion, len(rows))
	for i, r := range rows {
		all[i] = UnlookedVersion{r.ID, r.keyRow.value(), r.Version, r.Upload}
	}
	return all, err
}

// LookedVersion is what was found in a version.
type LookedVersion struct {
	ID      int64
	Symbols []symbols.At // what it has for debuggers
	Names   []string     // the paths of the files in a file set; nil for others
	Said    string       // what could not be read
}

// SetSymbols notes what some versions have.
func (tx *Tx) SetSymbols(ctx context.Context, looked []LookedVersion, at time.Time) error {
	var ids, of, sizes []int64
	var namesIDs []*int64
	var said, files, paths, called, formats, keys []string
	var codes, debugs []bool
	for _, v := range looked {
		namesID, err := tx.namesID(ctx, v.Names)
		if err != nil {
			return err
		}
		ids, said, namesIDs = append(ids, v.ID), append(said, storable(v.Said)), append(namesIDs, namesID)
		for _, s := range v.Symbols {
			of, sizes = append(of, v.ID), append(sizes, s.Size)
			files, paths = append(files, storable(s.File)), append(paths, storable(s.Path))
			called = append(called, storable(symbols.NameOf(s.File, s.Path)))
			formats, keys = append(formats, string(s.Format)), append(keys, s.Key)
			codes, debugs = append(codes, s.Code), append(debugs, s.Debug)
		}
	}
	return tx.do(ctx, step{`delete from symbol where version_id = any($1)`, []any{ids}},
		step{`insert into symbol (version_id, file, path, name, format, key, code, debug, size)
			select * from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::boolean[],
			$8::boolean[], $9::bigint[])`, []any{of, files, paths, called, formats, keys, codes, debugs, sizes}},
		step{`insert into symbol_look (version_id, at, said, names_id)
			select n.id, $2, n.said, n.names from unnest($1::bigint[], $3::text[], $4::bigint[]) n (id, said, names)
			on conflict (version_id) do update set at = excluded.at, said = excluded.said, names_id = excluded.names_id`,
			[]any{ids, at, said, namesIDs}})
}

// namesID is under which number paths are on record, which are put there if they are not; nil for none.
func (tx *Tx) namesID(ctx context.Context, names []string) (id *int64, err error) {
	if names == nil {
		return nil, nil
	}
	text := storable("\n" + strings.ToLower(strings.Join(names, "\n")) + "\n")
	sum := sha256.Sum256([]byte(text))
	err = tx.GetContext(ctx, &id, `with known as (select id from file_names where sha256 = $1), new as (
			insert into file_names (sha256, names) select $1, $2 where not exists (select from known)
			on conflict (sha256) do update set sha256 = excluded.sha256 returning id
		) select id from known union all select id from new`, sum[:], text)
	return id, err
}

// SymbolQuestion is which symbols are wanted: by key, by name or of a version.
type SymbolQuestion struct {
	Key, Name string
	Of        *catalog.PackageKey // of this package, whichever repository its key names
	Version   string              // of it, or an upload of it; "" for all
}

// Symbols finds what debuggers may ask for in a scope, in the order of its repositories, the newest first in each.
func (db *DB) Symbols(
	ctx context.Context, q SymbolQuestion, scope Scope, at catalog.Moment, limit int,
) ([]symbols.At, error) {
	arguments := []any{scope.Repositories, limit}
	by := ``
	switch {
	case q.Key != "":
		by = `s.key = $3`
		arguments = append(arguments, q.Key)
	case q.Of != nil:
		by = `p.ecosystem = $3 and p.namespace = $4 and p.name = $5 and $6 in ('', v.version, v.upload)`
		arguments = append(arguments, q.Of.Ecosystem, q.Of.Namespace, q.Of.Name, q.Version)
	default:
		by = `s.name = $3`
		arguments = append(arguments, q.Name)
	}
	var rows []symbolRow
	err := db.SelectContext(ctx, &rows, `select v.id, v.version, v.upload, coalesce((select b.name || '#' || b.number from build b where b.id = v.build_id), '') made_by, p.repository_id,
			p.ecosystem, p.namespace, p.name, s.file, s.path, s.format, s.key asked, s.code, s.debug, s.size
		from symbol s join version v on v.id = s.version_id join package p on p.id = v.package_id
		where `+by+` and p.repository_id = any($1) and`+seen(at)+scope.and(&arguments)+`
		order by array_position($1::bigint[], p.repository_id), v.visible_from desc, s.id limit $2`, arguments...)
	all := make([]symbols.At, len(rows))
	for i, r := range rows {
		all[i] = symbols.At{Symbol: symbols.Symbol{Format: symbols.Format(r.Format), Key: r.Asked, Code: r.Code,
			Debug: r.Debug}, Of: r.keyRow.value(), VersionID: r.ID, Version: r.Version, Upload: r.Upload, File: r.File,
			Path: r.Path, Size: r.Size, MadeBy: r.MadeBy}
	}
	return all, err
}

// KeysWithDebug tells of which keys something that can be seen in a scope has what debuggers want to know.
func (db *DB) KeysWithDebug(ctx context.Context, keys []string, scope Scope) (map[string]bool, error) {
	known := map[string]bool{}
	if len(keys) == 0 {
		return known, nil
	}
	arguments := []any{scope.Repositories, keys}
	var rows []string
	err := db.SelectContext(ctx, &rows, `select distinct s.key from symbol s join version v on v.id = s.version_id
		join package p on p.id = v.package_id where s.key = any($2) and s.debug and p.repository_id = any($1) and`+
		seen(0)+scope.and(&arguments), arguments...)
	for _, key := range rows {
		known[key] = true
	}
	return known, err
}

// Programs are those of a version that debuggers know by a build id.
type Programs struct {
	Count   int
	Without []string // those whose symbols are not known
}

// ProgramsOf tells of versions that were looked into which programs they have, and of which of these nothing in some
// repositories has the symbols.
func (db *DB) ProgramsOf(
	ctx context.Context, versionIDs, repositories []int64,
) (map[int64]Programs, error) {
	var rows []struct {
		ID      int64  `db:"id"`
		At      string `db:"at"`
		Program bool   `db:"program"`
		Known   bool   `db:"known"`
	}
	err := db.SelectContext(ctx, &rows, `select l.version_id id, coalesce(nullif(s.path, ''), s.file, '') at,
			s.id is not null program, coalesce(s.debug, false) or exists (select from symbol d join version v on v.id = d.version_id
				join package p on p.id = v.package_id where d.key = s.key and d.debug and p.repository_id = any($2)
				and v.visible_from is not null and v.visible_until is null) known
		from symbol_look l left join symbol s on s.version_id = l.version_id and s.code and s.format = 'elf'
		where l.version_id = any($1) order by l.version_id, at`, versionIDs, repositories)
	all := map[int64]Programs{}
	for _, r := range rows {
		of := all[r.ID]
		if r.Program {
			of.Count++
		}
		if r.Program && !r.Known {
			of.Without = append(of.Without, r.At)
		}
		all[r.ID] = of
	}
	return all, err
}

// DropFileNames drops names that no version has any more.
func (db *DB) DropFileNames(ctx context.Context) error {
	_, err := db.ExecContext(ctx, `delete from file_names n
		where not exists (select from symbol_look l where l.names_id = n.id)`)
	return err
}
