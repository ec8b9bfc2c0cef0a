package pypi

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"regexp"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// The limits of what is read of a file, in bytes, and of its fields.
const maxMetadata, maxReadme, maxFields = 4 << 20, catalog.MaxReadme, 10_000

// metadata is core metadata
// (https://packaging.python.org/specifications/core-metadata/).
type metadata struct {
	fields map[string][]string // by the name in lower case
	body   string
}

// parseMetadata reads a METADATA or PKG-INFO file: header fields as in mail, and
// perhaps a body.
func parseMetadata(raw []byte) (*metadata, error) {
	m := &metadata{fields: map[string][]string{}}
	head := strings.ReplaceAll(string(raw), "\r\n", "\n")
	name, n := "", 0
	var value strings.Builder // of the last field, line by line
	end := func() {
		if name != "" {
			m.fields[name] = append(m.fields[name], value.String())
		}
		value.Reset()
	}
	for head != "" {
		var line string
		line, head, _ = strings.Cut(head, "\n")
		if line == "" {
			m.body = head
			break
		}
		if line[0] == ' ' || line[0] == '\t' {
			if name == "" {
				return nil, errors.New("it begins in the middle of a field")
			}
			value.WriteString("\n" + line)
			continue
		}
		key, first, ok := strings.Cut(line, ":")
		if !ok || strings.ContainsAny(key, " \t") {
			return nil, fmt.Errorf("its line %.60q is no field", line)
		}
		if n++; n > maxFields {
			return nil, fmt.Errorf("it has more than %d fields", maxFields)
		}
		end()
		name = strings.ToLower(key)
		value.WriteString(strings.TrimSpace(first))
	}
	end()
	if m.get("name") == "" || m.get("version") == "" {
		return nil, errors.New("it does not say name and version")
	}
	return m, nil
}

// get is the first value of a field; "UNKNOWN" is how old tools wrote nothing.
func (m *metadata) get(name string) string {
	for _, value := range m.fields[name] {
		if value != "UNKNOWN" {
			return value
		}
	}
	return ""
}

var requirementForm = regexp.MustCompile(`^\s*([A-Za-z0-9][A-Za-z0-9._-]*)\s*(\[[^\]]*\])?\s*([^;]*)(?:;(.*))?$`)

// details is what the metadata tells of its version.
func (m *metadata) details() catalog.Details {
	d := catalog.Details{Description: m.get("summary"), Homepage: ecosystem.WebOnly(m.get("home-page"))}
	if name := m.get("name"); name != purl.NormalName(Name, name) {
		d.Title = name
	}
	for _, value := range m.fields["project-url"] {
		label, address, _ := strings.Cut(value, ",")
		address = ecosystem.WebOnly(strings.TrimSpace(address))
		switch strings.ToLower(strings.TrimSpace(label)) {
		case "homepage", "home":
			if d.Homepage == "" {
				d.Homepage = address
			}
		case "source", "source code", "repository", "code":
			d.Source = address
		}
	}
	d.Licences = m.licences()
	if author := m.get("author"); author != "" {
		d.Authors = []string{author}
	} else if mail := m.get("author-email"); mail != "" {
		for _, one := range strings.Split(mail, ",") {
			one, _, _ = strings.Cut(one, "<")
			if one = strings.Trim(one, ` "`); one != "" {
				d.Authors = append(d.Authors, one)
			}
		}
	}
	for _, value := range m.fields["requires-dist"] {
		r := requirementForm.FindStringSubmatch(strings.ReplaceAll(value, "\n", " "))
		if r == nil {
			continue
		}
		marker := strings.TrimSpace(r[4])
		d.Dependencies = append(d.Dependencies, catalog.Dependency{PURL: purl.PURL{Ecosystem: Name,
			Name: purl.NormalName(Name, r[1])}.String(),
			Version: strings.Trim(strings.TrimSpace(r[3]), "()"), Scope: marker, Optional: strings.Contains(marker, "extra")})
	}
	d.Readme = m.readme()
	fields := map[string][]string{}
	for name, values := range m.fields {
		if name != "description" {
			fields[name] = values
		}
	}
	raw, err := json.Marshal(fields)
	if err == nil { // strings can be written
		d.Native = map[string]json.RawMessage{"metadata": raw}
	}
	return d
}

func (m *metadata) licences() []catalog.Licence {
	if expression := m.get("license-expression"); expression != "" {
		return []catalog.Licence{{Name: expression}}
	}
	// Some write the whole text there.
	if licence := m.get("license"); licence != "" && len(licence) <= 100 && !strings.Contains(licence, "\n") {
		return []catalog.Licence{{Name: licence}}
	}
	var all []catalog.Licence
	for _, c := range m.fields["classifier"] {
		if rest, ok := strings.CutPrefix(c, "License :: "); ok {
			all = append(all, catalog.Licence{Name: strings.TrimPrefix(rest, "OSI Approved :: ")})
		}
	}
	return all
}

func (m *metadata) readme() *catalog.Readme {
	text := m.body
	if text == "" {
		// In a field, further lines are indented by eight blanks, or a bar.
		lines := strings.Split(m.get("description"), "\n")
		for i, line := range lines {
			lines[i] = strings.TrimPrefix(strings.TrimPrefix(line, "       |"), "        ")
		}
		text = strings.Join(lines, "\n")
	}
	if strings.TrimSpace(text) == "" {
		return nil
	}
	format, _, err := mime.ParseMediaType(m.get("description-content-type"))
	if err != nil {
		format = "text/x-rst" // the default of the specification
	}
	return &catalog.Readme{Text: text, Format: format}
}
