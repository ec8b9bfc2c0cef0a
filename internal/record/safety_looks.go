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
	// Bundles are the Sigstore bundles that its upstream has about the file, as they came.
	Bundles []json.RawMessage
	At      time.Time
}

// AsideOf tells what is known of a package in a repository besides what its versions say of themselves: how
// often all of it was downloaded, wherever it is, and what was found inside its versions, one after the other.
func (db *DB) AsideOf(ctx context.Context, key catalog.PackageKey, found func(Look)) (downloads int64, err error) {
	if err := db.GetContext(ctx, &downloads, `select coalesce(sum(u.downloads), 0)::bigint from package p
		join version v on v.package_id = p.id join version_use u on u.version_id = v.id
		where p.ecosystem = $1 and p.namespace = $2 and p.name = $3`, key.Ecosystem, key.Namespace, key.Name); err != nil {
		return 0, err
	}
	rows, err := db.QueryContext(ctx, `select version, file, digests, code, licences, bundles, at from look
		where repository_id = $1 and ecosystem = $2 and namespace = $3 and name = $4`, key.RepositoryID, key.Ecosystem,
		key.Namespace, key.Name)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var l Look
		var stated, code, licences, bundles []byte
		digests := map[string]string{}
		if err := rows.Scan(&l.Version, &l.File, &stated, &code, &licences, &bundles, &l.At); err != nil {
			return 0, err
		}
		if err := errors.Join(json.Unmarshal(code, &l.Code), json.Unmarshal(stated, &digests),
			json.Unmarshal(licences, &l.Licences), json.Unmarshal(bundles, &l.Bundles)); err != nil {
			return 0, err
		}
		for algorithm, text := range digests {
			l.Digests.ParseHex(algorithm, text)
		}
		found(l)
	}
	return downloads, rows.Err()
}

// SetLook notes what was found inside a version.
func (tx *Tx) SetLook(ctx context.Context, key catalog.PackageKey, l Look) error {
	digests := map[string]string{}
	for _, algorithm := range catalog.Algorithms {
		digests[algorithm] = l.Digests.Hex(algorithm)
	}
	var raw [4][]byte
	for i, value := range []any{digests, append([]string{}, l.Code...), append([]string{}, l.Licences...),
		append([]json.RawMessage{}, l.Bundles...)} {
		var err error
		if raw[i], err = json.Marshal(value); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `insert into look (repository_id, ecosystem, namespace, name, version, file, digests, code,
			licences, bundles, at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
		on conflict (repository_id, ecosystem, namespace, name, version) do update set file = excluded.file,
			digests = excluded.digests, code = excluded.code, licences = excluded.licences, bundles = excluded.bundles,
			at = excluded.at`,
		key.RepositoryID, key.Ecosystem, key.Namespace, key.Name, l.Version, l.File, raw[0], raw[1], raw[2], raw[3], l.At)
	return err
}
