package record

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"crelvo/internal/core/catalog"
)

// Look is what was found inside a version.
type Look struct {
	Version string
	File    string          // the archive that was looked into
	Digests catalog.Digests // of that
	Code    []string        // the files that a processor runs as they are
	// Licences are those that it states inside, or whose texts it has, of which one is enough.
	Licences []string
	At       time.Time
}

// Aside is what is known of a package besides what its versions say of themselves.
type Aside struct {
	Downloads int64 // of all of it, wherever it is
	Looks     map[string]Look
}

// AsideOf tells what is known of a package in a repository besides.
func (db *DB) AsideOf(ctx context.Context, key catalog.PackageKey) (a Aside, err error) {
	if err := db.GetContext(ctx, &a.Downloads, `select coalesce(sum(u.downloads), 0)::bigint from package p
		join version v on v.package_id = p.id join version_use u on u.version_id = v.id
		where p.ecosystem = $1 and p.namespace = $2 and p.name = $3`, key.Ecosystem, key.Namespace, key.Name); err != nil {
		return a, err
	}
	var rows []struct {
		Version  string    `db:"version"`
		File     string    `db:"file"`
		Digests  []byte    `db:"digests"`
		Code     []byte    `db:"code"`
		Licences []byte    `db:"licences"`
		At       time.Time `db:"at"`
	}
	if err := db.SelectContext(ctx, &rows, `select version, file, digests, code, licences, at from look
		where repository_id = $1 and ecosystem = $2 and namespace = $3 and name = $4`, key.RepositoryID, key.Ecosystem,
		key.Namespace, key.Name); err != nil {
		return a, err
	}
	a.Looks = make(map[string]Look, len(rows))
	for _, row := range rows {
		l := Look{Version: row.Version, File: row.File, At: row.At}
		digests := map[string]string{}
		if err := errors.Join(json.Unmarshal(row.Code, &l.Code), json.Unmarshal(row.Digests, &digests),
			json.Unmarshal(row.Licences, &l.Licences)); err != nil {
			return a, err
		}
		for algorithm, text := range digests {
			l.Digests.ParseHex(algorithm, text)
		}
		a.Looks[row.Version] = l
	}
	return a, nil
}

// SetLook notes what was found inside a version.
func (tx *Tx) SetLook(ctx context.Context, key catalog.PackageKey, l Look) error {
	digests := map[string]string{}
	for _, algorithm := range catalog.Algorithms {
		digests[algorithm] = l.Digests.Hex(algorithm)
	}
	var raw [3][]byte
	for i, value := range []any{digests, append([]string{}, l.Code...), append([]string{}, l.Licences...)} {
		var err error
		if raw[i], err = json.Marshal(value); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `insert into look (repository_id, ecosystem, namespace, name, version, file, digests, code,
			licences, at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		on conflict (repository_id, ecosystem, namespace, name, version) do update set file = excluded.file,
			digests = excluded.digests, code = excluded.code, licences = excluded.licences, at = excluded.at`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, l.Version, l.File, raw[0], raw[1], raw[2], l.At)
	return err
}
