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

// UnlookedVersions are versions of some ecosystems that can be seen and were not looked into: of one package or, if
// key is nil, of all, by their ids from after one on.
func (db *DB) UnlookedVersions(
	ctx context.Context, ecosystems []string, key *catalog.PackageKey, after int64, limit int,
) ([]UnlookedVersion, error) {
	query, arguments := ` v.id > $3`, []any{ecosystems, limit, after}
	if key != nil {
		query = ` v.package_id = (select id from package where repository_id = $3 and ecosystem = $4 and namespace = $5
			and name = $6)`
		arguments = []any{ecosystems, limit, key.RepositoryID, key.Ecosystem, key.Namespace, key.Name}
	}
	var rows []symbolRow
	err := db.SelectContext(ctx, &rows, `select v.id, v.version, v.upload, p.repository_id, p.ecosystem, p.namespace, p.name
		from version v join package p on p.id = v.package_id
		where`+query+` and p.ecosystem = any($1) and v.visible_from is not null and v.visible_until is null
			and not exists (select from symbol_look l where l.version_id = v.id) order by v.id limit $2`, arguments...)
	all := make([]UnlookedVersion, len(rows))
	for i, r := range rows {
		all[i] = UnlookedVersion{r.ID, r.keyRow.value(), r.Version, r.Upload}
	}
	return all, err
}

// SetSymbols notes what a version has for debuggers, and what could not be read of it; names are the paths of the
// files in a file set, nil for others.
func (tx *Tx) SetSymbols(
	ctx context.Context, versionID int64, all []symbols.At, names []string, said string, at time.Time,
) error {
	n := len(all)
	files, paths, called, formats, keys := make([]string, n), make([]string, n), make([]string, n), make([]string, n),
		make([]string, n)
	codes, debugs, sizes := make([]bool, n), make([]bool, n), make([]int64, n)
	for i, s := range all {
		files[i], paths[i], called[i], formats[i], keys[i] = storable(s.File), storable(s.Path),
			storable(symbols.NameOf(s.File, s.Path)), string(s.Format), s.Key
		codes[i], debugs[i], sizes[i] = s.Code, s.Debug, s.Size
	}
	var namesID *int64
	if names != nil {
		text := storable("\n" + strings.ToLower(strings.Join(names, "\n")) + "\n")
		sum := sha256.Sum256([]byte(text))
		if err := tx.GetContext(ctx, &namesID, `with known as (select id from file_names where sha256 = $1), new as (
				insert into file_names (sha256, names) select $1, $2 where not exists (select from known)
				on conflict (sha256) do update set sha256 = excluded.sha256 returning id
			) select id from known union all select id from new`, sum[:], text); err != nil {
			return err
		}
	}
	return tx.do(ctx, step{`delete from symbol where version_id = $1`, []any{versionID}},
		step{`insert into symbol (version_id, file, path, name, format, key, code, debug, size)
			select $1, n.* from unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::boolean[], $8::boolean[],
			$9::bigint[]) n`, []any{versionID, files, paths, called, formats, keys, codes, debugs, sizes}},
		step{`insert into symbol_look (version_id, at, said, names_id) values ($1, $2, $3, $4)
			on conflict (version_id) do update set at = excluded.at, said = excluded.said, names_id = excluded.names_id`,
			[]any{versionID, at, storable(said), namesID}})
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
