package helm

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// WholePath implements ecosystem.Sectioned.
func (Helm) WholePath() string { return indexFile }

// ListingPath implements ecosystem.Mirrored: the chart's part of the index.
func (Helm) ListingPath(p purl.PURL) string { return indexFile + "#" + p.Name }

// Accepts implements ecosystem.Mirrored.
func (Helm) Accepts() string { return "application/yaml, text/yaml, */*" }

// Root implements ecosystem.Rooted.
func (Helm) Root() (path, what string) { return indexFile, "the index of a chart repository" }

// ReadRoot implements ecosystem.Rooted.
func (k Helm) ReadRoot(r ecosystem.Reading) error {
	return k.Sections(r, func(string, []byte) error { return nil })
}

// maxSection is how long the part of one chart may be in an index, in bytes, and maxCharts
// how many charts it may have.
const maxSection, maxCharts = 16 << 20, 100_000

// Sections implements ecosystem.Sectioned. An index is YAML in lines, as helm writes it, or
// JSON; so it need not be parsed as a whole, which costs many times its length.
func (Helm) Sections(r io.Reader, each func(name string, section []byte) error) error {
	b := bufio.NewReaderSize(r, 64<<10)
	count := 0
	counted := func(name string, section []byte) error {
		if count++; count > maxCharts {
			return fmt.Errorf("it lists more than %d charts", maxCharts)
		}
		if !nameForm.MatchString(name) {
			return nil
		}
		return each(name, section)
	}
	for {
		first, err := b.Peek(1)
		if err != nil {
			return errors.New("it is empty")
		}
		if strings.IndexByte(" \t\r\n", first[0]) < 0 {
			if first[0] == '{' {
				return sectionsOfJSON(b, counted)
			}
			return sectionsOfYAML(b, counted)
		}
		if _, err := b.Discard(1); err != nil {
			return err
		}
	}
}

func sectionsOfJSON(r io.Reader, each func(name string, section []byte) error) error {
	d := json.NewDecoder(r)
	if _, err := d.Token(); err != nil {
		return err
	}
	found := false
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		if key != "entries" {
			var skipped json.RawMessage
			if err := d.Decode(&skipped); err != nil {
				return err
			}
			continue
		}
		found = true
		if begin, err := d.Token(); err != nil || begin != json.Delim('{') {
			return errors.New("its entries are no map")
		}
		for d.More() {
			name, err := d.Token()
			if err != nil {
				return err
			}
			var section json.RawMessage
			if err := d.Decode(&section); err != nil {
				return err
			}
			if err := each(name.(string), section); err != nil {
				return err
			}
		}
		if _, err := d.Token(); err != nil {
			return err
		}
	}
	if !found {
		return errors.New("it has no entries")
	}
	_, err := d.Token()
	return err
}

// sectionsOfYAML goes by indentation: below entries, the names of charts stand in one
// column, and all that is of a chart further right, but for the dashes of its versions.
func sectionsOfYAML(r *bufio.Reader, each func(name string, section []byte) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 64<<10), 4<<20)
	var section bytes.Buffer
	name, column := "", -1 // before the first chart
	found, inside := false, false
	end := func() error {
		if name == "" {
			return nil
		}
		err := each(name, bytes.Clone(section.Bytes()))
		name = ""
		section.Reset()
		return err
	}
	for lines.Scan() {
		line := bytes.TrimRight(lines.Bytes(), "\r")
		bare := bytes.TrimLeft(line, " ")
		at := len(line) - len(bare)
		if !inside || len(bare) > 0 && at == 0 && column != 0 && bare[0] != '#' {
			if err := end(); err != nil {
				return err
			}
			value, is := bytes.CutPrefix(line, []byte("entries:"))
			if inside = is; is {
				found = true
				if value = bytes.TrimSpace(value); len(value) > 0 && value[0] != '#' && string(value) != "{}" {
					return errors.New("its entries are written in one line")
				}
			}
			continue
		}
		if column < 0 && len(bare) > 0 && bare[0] != '#' {
			column = at
		}
		if len(bare) > 0 && at == column && bare[0] != '#' && bare[0] != '-' {
			if err := end(); err != nil {
				return err
			}
			key, value, ok := bytes.Cut(bare, []byte(":"))
			if !ok {
				return fmt.Errorf("%.60q is no name of a chart", bare)
			}
			name = strings.Trim(string(bytes.TrimSpace(key)), `"'`)
			section.Write(bytes.TrimSpace(value))
			section.WriteByte('\n')
			continue
		}
		if section.Len()+len(line) > maxSection {
			return fmt.Errorf("it lists more than %d bytes of %s", maxSection, name)
		}
		section.Write(line)
		section.WriteByte('\n')
	}
	if err := lines.Err(); err != nil {
		return err
	}
	if !found {
		return errors.New("it has no entries")
	}
	return end()
}

// ReadListing implements ecosystem.Mirrored: a section of the index. Versions that cannot
// be read are passed over.
func (k Helm) ReadListing(_ context.Context, p purl.PURL, r ecosystem.Reading) (l catalog.Listing, err error) {
	raw, err := io.ReadAll(io.LimitReader(r, maxSection+1))
	if err != nil {
		return l, err
	}
	add := func(read func(into any) error) error {
		var e entry
		if errors.Join(read(&e), read(&e.chart)) != nil || e.Name != p.Name || !purl.IsVersion(Name, e.Version) ||
			len(e.URLs) == 0 {
			return nil
		}
		v, err := k.listed(e, r)
		if err == nil {
			l.Versions = append(l.Versions, v)
		}
		return nil
	}
	if json.Valid(raw) {
		var all []json.RawMessage
		if err := json.Unmarshal(raw, &all); err != nil {
			return l, err
		}
		for _, one := range all {
			if err := add(func(into any) error { return json.Unmarshal(one, into) }); err != nil {
				return l, err
			}
		}
	} else if err := splice.EachYAML(raw, add); err != nil {
		return l, err
	}
	if l.Versions == nil {
		err = fmt.Errorf("it has no version of %s that can be read", p.Name)
	}
	return l, err
}

// listed is a version that an upstream lists.
func (k Helm) listed(e entry, r ecosystem.Reading) (v catalog.ListedVersion, err error) {
	address, err := r.Resolve(e.URLs[0])
	if err != nil {
		return v, err
	}
	details, err := e.details()
	if err != nil {
		return v, err
	}
	f := catalog.ListedFile{Name: k.FileName(e.Name, e.Version), Extension: archive, Address: address}
	if digest := strings.ToLower(strings.TrimPrefix(e.Digest, "sha256:")); len(digest) == 64 {
		f.Digests = map[string]string{"sha256": digest}
	}
	v = catalog.ListedVersion{Version: e.Version, Details: &details, Files: []catalog.ListedFile{f}}
	if when, err := time.Parse(time.RFC3339, e.Created); err == nil {
		v.UploadedAt = when.UTC()
	}
	return v, nil
}
