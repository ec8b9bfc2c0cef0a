package cargo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// ListingPath implements ecosystem.Mirrored: the crate's file of the sparse index.
func (Cargo) ListingPath(p purl.PURL) string { return indexPath(p.Name) }

// Accepts implements ecosystem.Mirrored.
func (Cargo) Accepts() string { return "text/plain, */*" }

// Root implements ecosystem.Rooted.
func (Cargo) Root() (path, what string) { return "config.json", "the config.json of a sparse index" }

// ReadRoot implements ecosystem.Rooted.
func (Cargo) ReadRoot(r ecosystem.Reading) error {
	_, err := readConfig(r)
	return err
}

// readConfig gives the address of archives, with its markers.
func readConfig(r io.Reader) (string, error) {
	var c struct{ DL string }
	if err := json.NewDecoder(io.LimitReader(r, maxManifest)).Decode(&c); err != nil || c.DL == "" {
		return "", errors.New("its config.json does not say where crates are (dl)")
	}
	return c.DL, nil
}

// at puts an entry into the address of archives
// (https://doc.rust-lang.org/cargo/reference/registry-index.html#index-configuration).
func at(dl string, e entry) string {
	if !strings.Contains(dl, "{") {
		return strings.TrimSuffix(dl, "/") + "/" + e.Name + "/" + url.PathEscape(e.Vers) + "/download"
	}
	prefix := strings.TrimSuffix(indexPath(e.Name), "/"+strings.ToLower(e.Name))
	return strings.NewReplacer("{crate}", e.Name, "{version}", url.PathEscape(e.Vers), "{lowerprefix}", prefix,
		"{prefix}", prefix, "{sha256-checksum}", e.Cksum).Replace(dl)
}

// ReadListing implements ecosystem.Mirrored. Lines that cannot be read are passed over, as
// cargo does.
func (k Cargo) ReadListing(_ context.Context, p purl.PURL, r ecosystem.Reading) (l catalog.Listing, err error) {
	dl := ""
	err = ecosystem.Lines(r, func(line []byte) error {
		var e entry
		if json.Unmarshal(line, &e) != nil || !strings.EqualFold(e.Name, p.Name) || !purl.IsSemver(e.Vers) ||
			len(e.Cksum) != 64 || e.V > 2 {
			return nil
		}
		if dl == "" {
			if dl, err = k.archives(p, r); err != nil {
				return err
			}
		}
		details, err := e.details()
		v := catalog.ListedVersion{Version: e.Vers, Details: &details,
			Files: []catalog.ListedFile{{Name: k.FileName(e.Name, e.Vers), Extension: k.Extension,
				Address: at(dl, e), Digests: map[string]string{"sha256": strings.ToLower(e.Cksum)}}}}
		if when, err := time.Parse(time.RFC3339, e.Pubtime); err == nil {
			v.UploadedAt = when.UTC()
		}
		if e.Yanked {
			v.Withdrawn = &catalog.Withdrawal{}
		}
		l.Versions = append(l.Versions, v)
		return err
	})
	if err == nil && l.Versions == nil {
		err = fmt.Errorf("it has no line about %s", p.Name)
	}
	return l, err
}

// archives asks the upstream where archives are.
func (Cargo) archives(p purl.PURL, r ecosystem.Reading) (string, error) {
	if r.More == nil {
		return "", errors.New("there is nobody to ask where its crates are")
	}
	body, err := r.More(strings.TrimSuffix(r.Address, indexPath(p.Name)) + "config.json")
	if err != nil {
		return "", fmt.Errorf("its config.json cannot be had: %w", err)
	}
	defer body.Close()
	return readConfig(body)
}
