package npm

import (
	"bytes"
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

	"github.com/go-json-experiment/json/jsontext"
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
	// Old documents have names twice, and bytes that are no UTF-8.
	d := jsontext.NewDecoder(r, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	if err := open(d); err != nil {
		return l, err
	}
	found := false
	for d.PeekKind() == '"' {
		key, err := d.ReadToken()
		if err != nil {
			return l, err
		}
		switch key.String() {
		case "versions":
			found = true
			if l.Versions, err = readVersions(d, p); err != nil {
				return l, err
			}
		case "dist-tags":
			var labels map[string]text
			if err := decode(d, &labels); err != nil {
				return l, err
			}
			l.Labels = make(map[string]string, len(labels))
			for label, version := range labels {
				l.Labels[label] = string(version)
			}
		case "time":
			if err := decode(d, &times); err != nil {
				return l, err
			}
		case "name":
			var stated text
			if err := decode(d, &stated); err != nil {
				return l, err
			}
			if !strings.EqualFold(string(stated), name) {
				return l, fmt.Errorf("it is about %.100q", string(stated))
			}
		default:
			if err := d.SkipValue(); err != nil {
				return l, err
			}
		}
	}
	if _, err := d.ReadToken(); err != nil {
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
func open(d *jsontext.Decoder) error {
	token, err := d.ReadToken()
	if err == io.EOF {
		return errors.New("it is empty")
	}
	if err == nil && token.Kind() != '{' {
		err = fmt.Errorf("it has %.100s where an object should be", token)
	}
	return err
}

// decode reads the next value.
func decode(d *jsontext.Decoder, into any) error {
	raw, err := d.ReadValue()
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, into)
}

// manifestsAtOnce is how many manifests are taken apart by one hand before it gets others.
const manifestsAtOnce = 16

// readVersions reads the object of versions. What each is like is found out by several at
// once, while the next ones are read. Versions that cannot be read are passed over: old
// packages have all sorts of things.
func readVersions(d *jsontext.Decoder, p purl.PURL) ([]catalog.ListedVersion, error) {
	if err := open(d); err != nil {
		return nil, err
	}
	var hands errgroup.Group
	hands.SetLimit(runtime.GOMAXPROCS(0))
	var parts []*[]catalog.ListedVersion
	var some [][]byte
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
		for n := 0; d.PeekKind() == '"'; n++ {
			if _, err := d.ReadToken(); err != nil {
				return err
			}
			raw, err := d.ReadValue()
			if err != nil {
				return err
			}
			if n >= listedVersions {
				return fmt.Errorf("it lists more than %d versions", listedVersions)
			}
			if some = append(some, bytes.Clone(raw)); len(some) == manifestsAtOnce {
				hand()
			}
		}
		hand()
		_, err := d.ReadToken()
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
	address := string(textOf(find(m.dist, "tarball")))
	if address == "" {
		return v, false
	}
	details, err := m.details()
	if err != nil {
		return v, false
	}
	file := catalog.ListedFile{Name: New().FileName(p.Name, m.Version), Extension: tarball, Address: address,
		Digests: map[string]string{}}
	for _, one := range strings.Fields(string(textOf(find(m.dist, "integrity")))) { // Subresource Integrity, 3.5
		algorithm, digest, _ := strings.Cut(one, "-")
		digest, _, _ = strings.Cut(digest, "?")
		if sum, err := base64.StdEncoding.DecodeString(digest); err == nil && algorithm == "sha512" {
			file.Digests["sha512"] = hex.EncodeToString(sum)
		}
	}
	if sum := textOf(find(m.dist, "shasum")); sum != "" {
		file.Digests["sha1"] = strings.ToLower(string(sum))
	}
	v = catalog.ListedVersion{Version: m.Version, Files: []catalog.ListedFile{file}, Details: &details}
	if reason := m.deprecation(); reason != nil {
		v.Withdrawn = &catalog.Withdrawal{Reason: *reason}
	}
	return v, true
}
