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
	At      time.Time
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
		Version string    `db:"version"`
		File    string    `db:"file"`
		Digests []byte    `db:"digests"`
		Code    []byte    `db:"code"`
		At      time.Time `db:"at"`
	}
	if err := db.SelectContext(ctx, &rows, `select version, file, digests, code, at from look
		where repository_id = $1 and ecosystem = $2 and namespace = $3 and name = $4`, key.RepositoryID, key.Ecosystem,
		key.Namespace, key.Name); err != nil {
		return a, err
	}
	a.Looks = make(map[string]Look, len(rows))
	for _, row := range rows {
		l := Look{Version: row.Version, File: row.File, At: row.At}
		digests := map[string]string{}
		if err := errors.Join(json.Unmarshal(row.Code, &l.Code), json.Unmarshal(row.Digests, &digests)); err != nil {
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
	code := l.Code
	if code == nil {
		code = []string{}
	}
	digests := map[string]string{}
	for _, algorithm := range catalog.Algorithms {
		digests[algorithm] = l.Digests.Hex(algorithm)
	}
	raw, err := json.Marshal(code)
	if err != nil {
		return err
	}
	sums, err := json.Marshal(digests)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `insert into look (repository_id, ecosystem, namespace, name, version, file, digests, code, at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		on conflict (repository_id, ecosystem, namespace, name, version)
		do update set file = excluded.file, digests = excluded.digests, code = excluded.code, at = excluded.at`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, l.Version, l.File, sums, raw, l.At)
	return err
}
