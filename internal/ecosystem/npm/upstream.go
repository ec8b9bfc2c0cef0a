package npm

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"

	"golang.org/x/sync/errgroup"
)

var _ ecosystem.Mirrored = NPM{}

// ListingPath implements ecosystem.Mirrored: the package document.
func (NPM) ListingPath(p purl.PURL) string {
	if p.Name == "" {
		return ""
	}
	return joinName(p.Namespace, p.Name)
}

// Accepts implements ecosystem.Mirrored. The full form is asked for, since the
// abbreviated one does not say when versions were published.
func (NPM) Accepts() string { return "application/json" }

var _ ecosystem.Rooted = NPM{}

// Root implements ecosystem.Rooted.
func (NPM) Root() (path, what string) { return "-/ping", "its answer to npm ping" }

// ReadRoot implements ecosystem.Rooted.
func (NPM) ReadRoot(r ecosystem.Reading) error {
	var answer map[string]json.RawMessage
	if err := json.NewDecoder(io.LimitReader(r, maxSmall)).Decode(&answer); err != nil {
		return fault.New(fault.Invalid, "no-registry", "its answer to npm ping is no object of JSON")
	}
	return nil
}

// listedVersions is up to how many versions a document may list.
const listedVersions = 200_000

// ReadListing implements ecosystem.Mirrored. It keeps no more than one version
// at a time in its raw form.
func (NPM) ReadListing(ctx context.Context, p purl.PURL, r ecosystem.Reading) (catalog.Listing, error) {
	var l catalog.Listing
	name := joinName(p.Namespace, p.Name)
	var times map[string]text
	d := json.NewDecoder(r)
	if err := open(d, '{'); err != nil {
		return l, err
	}
	found := false
	for d.More() {
		key, err := keyOf(d)
		if err != nil {
			return l, err
		}
		switch key {
		case "versions":
			found = true
			if l.Versions, err = readVersions(d, p); err != nil {
				return l, err
			}
		case "dist-tags":
			var labels map[string]text
			if err := d.Decode(&labels); err != nil {
				return l, err
			}
			l.Labels = make(map[string]string, len(labels))
			for label, version := range labels {
				l.Labels[label] = string(version)
			}
		case "time":
			if err := d.Decode(&times); err != nil {
				return l, err
			}
		case "name":
			var stated text
			if err := d.Decode(&stated); err != nil {
				return l, err
			}
			if !strings.EqualFold(string(stated), name) {
				return l, fmt.Errorf("it is about %.100q", string(stated))
			}
		default:
			if err := skip(d); err != nil {
				return l, err
			}
		}
	}
	if _, err := d.Token(); err != nil {
		return l, err
	}
	if !found {
		return l, errors.New("it has no versions")
	}
	for i := range l.Versions {
		if at, err := time.Parse(time.RFC3339, string(times[l.Versions[i].Version])); err == nil {
			l.Versions[i].UploadedAt = at.UTC()
		}
	}
	return l, nil
}

// open takes the beginning of an object.
func open(d *json.Decoder, want json.Delim) error {
	token, err := d.Token()
	if err != nil {
		if err == io.EOF {
			return errors.New("it is empty")
		}
		return err
	}
	if token != want {
		return fmt.Errorf("it has %v where %v should be", token, want)
	}
	return nil
}

func keyOf(d *json.Decoder) (string, error) {
	token, err := d.Token()
	if err != nil {
		return "", err
	}
	key, ok := token.(string)
	if !ok {
		return "", fmt.Errorf("it has %v where a name should be", token)
	}
	return key, nil
}

// skip passes over a value piece by piece.
func skip(d *json.Decoder) error {
	for depth := 0; ; {
		token, err := d.Token()
		if err != nil {
			return err
		}
		if delim, ok := token.(json.Delim); ok {
			switch delim {
			case '{', '[':
				depth++
			default:
				depth--
			}
		}
		if depth == 0 {
			return nil
		}
	}
}

// manifestsAtOnce is how many manifests are taken apart by one hand before it gets others.
const manifestsAtOnce = 16

// readVersions reads the object of versions. What each is like is found out by several at
// once, while the next ones are read. Versions that cannot be read are passed over: old
// packages have all sorts of things.
func readVersions(d *json.Decoder, p purl.PURL) ([]catalog.ListedVersion, error) {
	if err := open(d, '{'); err != nil {
		return nil, err
	}
	var hands errgroup.Group
	hands.SetLimit(runtime.GOMAXPROCS(0))
	var parts []*[]catalog.ListedVersion
	var some []json.RawMessage
	hand := func() {
		of, part := some, new([]catalog.ListedVersion)
		parts, some = append(parts, part), nil
		hands.Go(func() (err error) {
			defer func() {
				if bad := recover(); bad != nil { // what comes from elsewhere must not end the service
					err = fmt.Errorf("reading a manifest failed badly: %v\n%s", bad, debug.Stack())
				}
			}()
			for _, raw := range of {
				if v, ok := readVersion(raw, p); ok {
					*part = append(*part, v)
				}
			}
			return nil
		})
	}
	read := func() error {
		for n := 0; d.More(); n++ {
			if _, err := keyOf(d); err != nil {
				return err
			}
			var raw json.RawMessage
			if err := d.Decode(&raw); err != nil {
				return err
			}
			if n >= listedVersions {
				return fmt.Errorf("it lists more than %d versions", listedVersions)
			}
			if some = append(some, raw); len(some) == manifestsAtOnce {
				hand()
			}
		}
		hand()
		_, err := d.Token()
		return err
	}
	err := read()
	if failed := hands.Wait(); err == nil {
		err = failed
	}
	if err != nil {
		return nil, err
	}
	var all []catalog.ListedVersion
	for _, part := range parts {
		all = append(all, *part...)
	}
	return all, nil
}

func readVersion(raw json.RawMessage, p purl.PURL) (v catalog.ListedVersion, ok bool) {
	m, err := parseManifest(raw, true) // the package page tells of dependencies once it is kept
	if err != nil || m.Name != joinName(p.Namespace, p.Name) {
		return v, false
	}
	m.Readme = "" // one for each version would be too much
	var at dist
	if json.Unmarshal(m.Dist, &at) != nil || at.Tarball == "" {
		return v, false
	}
	details, err := m.details()
	if err != nil {
		return v, false
	}
	file := catalog.ListedFile{Name: New().FileName(p.Name, m.Version), Extension: tarball, Address: string(at.Tarball),
		Digests: map[string]string{}}
	for _, one := range strings.Fields(string(at.Integrity)) { // Subresource Integrity, 3.5
		algorithm, digest, _ := strings.Cut(one, "-")
		digest, _, _ = strings.Cut(digest, "?")
		if sum, err := base64.StdEncoding.DecodeString(digest); err == nil && algorithm == "sha512" {
			file.Digests["sha512"] = hex.EncodeToString(sum)
		}
	}
	if at.Shasum != "" {
		file.Digests["sha1"] = strings.ToLower(string(at.Shasum))
	}
	v = catalog.ListedVersion{Version: m.Version, Files: []catalog.ListedFile{file}, Details: &details}
	if reason := m.deprecation(); reason != nil {
		v.Withdrawn = &catalog.Withdrawal{Reason: *reason}
	}
	return v, true
}
