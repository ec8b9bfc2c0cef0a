package pypi

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"path"
	"regexp"
	"strings"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Restamp implements ecosystem.Restamping. In a wheel: METADATA, the names of
// the .dist-info and .data folders, and RECORD; in a source distribution:
// PKG-INFO, the folder, and where the build reads the version from. In both,
// also what a module says of its own version.
func (PyPI) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	if strings.HasSuffix(f.File.Extension, "."+signature) {
		return ecosystem.Rewriting{Name: f.File.Name, Dropped: "it signs the bytes of before"}, nil
	}
	if strings.HasSuffix(f.File.Extension, "."+metadataFile) {
		return ecosystem.Rewriting{Name: f.File.Name, Dropped: "it is made anew from the wheel"}, nil
	}
	r := restamp{f: f}
	var ok bool
	if r.written, ok = writtenVersion(f); !ok {
		return ecosystem.RestampPlain(ctx, f, f.File.Name)
	}
	name := strings.Replace(f.File.Name, "-"+r.written, "-"+f.Stamp.To, 1)
	edit := ecosystem.ArchiveEdit{Rename: r.rename, Wants: r.wants, Edit: r.edit, Prose: r.description}
	if f.File.Extension == sdist {
		return ecosystem.RestampTarGz(ctx, f, name, edit)
	}
	if f.File.Extension == wheel {
		edit.Seal = func(name string) bool {
			return strings.Contains(name, ".dist-info/RECORD.") // .jws and .p7s
		}
		entry, err := wheelEntry(ctx, ecosystem.Place{Name: f.Stamp.Name, Version: f.Stamp.From}, f)
		if err != nil {
			return ecosystem.Rewriting{Name: name}, err
		}
		edit.Last = path.Dir(entry.Name) + "/RECORD"
		edit.Relist = r.relist
	}
	return ecosystem.RestampZip(ctx, f, name, edit)
}

// writtenVersion is how the name of a file writes the version.
func writtenVersion(f ecosystem.ToRestamp) (string, bool) {
	stem := strings.TrimSuffix(f.File.Name, "."+f.File.Extension)
	if f.File.Extension == wheel {
		m := wheelForm.FindStringSubmatch(stem)
		if m == nil {
			return "", false
		}
		return m[2], true
	}
	_, version, ok := splitSource(stem, f.Stamp.Name)
	return version, ok
}

type restamp struct {
	f       ecosystem.ToRestamp
	written string
}

// rename changes the folder at the root whose name has the version.
func (r restamp) rename(name string) string {
	folder, rest, ok := strings.Cut(name, "/")
	if !ok {
		return name
	}
	ending := ""
	for _, known := range []string{".dist-info", ".data"} {
		if cut, ok := strings.CutSuffix(folder, known); ok {
			folder, ending = cut, known
		}
	}
	at := strings.LastIndex(folder, "-")
	if at < 0 || ending == "" && r.f.File.Extension == wheel || purl.NormalName(Name, folder[:at]) != r.f.Stamp.Name ||
		purl.NormalVersion(Name, strings.ReplaceAll(folder[at+1:], "_", "-")) != r.f.Stamp.From {
		return name
	}
	return folder[:at+1] + r.f.Stamp.To + ending + "/" + rest
}

// builders are the files from which a build reads the version.
var builders = []string{"pyproject.toml", "setup.cfg", "setup.py"}

func (r restamp) wants(name string) bool {
	return r.isMetadata(name) || path.Ext(name) == ".py" || r.isBuilder(name)
}

func (r restamp) isBuilder(name string) bool {
	for _, b := range builders {
		if ok, err := path.Match("*/"+b, path.Clean(name)); ok && err == nil {
			return r.f.File.Extension != wheel
		}
	}
	return false
}

func (r restamp) isMetadata(name string) bool {
	base := path.Base(name)
	if r.f.File.Extension == wheel {
		return base == "METADATA" && strings.HasSuffix(path.Dir(name), ".dist-info")
	}
	return base == "PKG-INFO"
}

// stated is an assignment of a version in Python, TOML or INI.
var stated = regexp.MustCompile(
	`(?m)(\b(?:__version__|version|VERSION)\b\s*=\s*)(["']?)([0-9][A-Za-z0-9.!+_-]*)(["']?)`)

func (r restamp) edit(name string, raw []byte) ([]byte, []ecosystem.Edit, error) {
	if r.isMetadata(name) {
		edited, changes := r.metadata(name, string(raw))
		return []byte(edited), changes, nil
	}
	var changes []ecosystem.Edit
	edited := stated.ReplaceAllStringFunc(string(raw), func(all string) string {
		m := stated.FindStringSubmatch(all)
		if m[2] != m[4] || m[2] == "" && path.Base(name) != "setup.cfg" || !r.isOld(m[3]) {
			return all
		}
		changes = append(changes, ecosystem.Edit{Entry: name, What: "version", Old: m[3], New: r.f.Stamp.To})
		return m[1] + m[2] + r.f.Stamp.To + m[4]
	})
	return []byte(edited), changes, nil
}

// description is what follows the header of the metadata.
func (r restamp) description(name string, edited []byte) []byte {
	if !r.isMetadata(name) {
		return nil
	}
	for _, end := range []string{"\n\n", "\n\r\n"} {
		if _, text, ok := bytes.Cut(edited, []byte(end)); ok {
			return text
		}
	}
	return nil
}

func (r restamp) isOld(version string) bool {
	return purl.NormalVersion(Name, version) == r.f.Stamp.From
}

var requirementName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*`)

// metadata changes the fields of the header; the description below it stays.
func (r restamp) metadata(name, text string) (string, []ecosystem.Edit) {
	var changes []ecosystem.Edit
	var out strings.Builder
	for len(text) > 0 {
		end := strings.IndexByte(text, '\n') + 1
		if end == 0 {
			end = len(text)
		}
		line := text[:end]
		text = text[end:]
		if strings.TrimSpace(line) == "" {
			out.WriteString(line)
			break
		}
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimSpace(value)
		edited := value
		switch strings.ToLower(field) {
		case "version":
			if r.isOld(value) {
				edited = r.f.Stamp.To
			}
		case "requires-dist", "provides-dist":
			if stamp := r.f.All.Of("", purl.NormalName(Name, requirementName.FindString(value))); stamp != nil {
				edited = stamp.Swap(value)
			}
		}
		if edited != value {
			changes = append(changes, ecosystem.Edit{Entry: name, What: field, Old: value, New: edited})
			line = strings.Replace(line, value, edited, 1)
		}
		out.WriteString(line)
	}
	return out.String() + text, changes
}

// relist changes the lines of RECORD whose file has another name or other bytes
// (https://packaging.python.org/specifications/recording-installed-packages/).
func (r restamp) relist(raw []byte, changed map[string][]byte) ([]byte, []ecosystem.Edit, error) {
	entry := ""
	var changes []ecosystem.Edit
	var out strings.Builder
	for text := string(raw); len(text) > 0; {
		end := strings.IndexByte(text, '\n') + 1
		if end == 0 {
			end = len(text)
		}
		line := text[:end]
		text = text[end:]
		record := strings.TrimRight(line, "\r\n")
		// A name with a comma stands in quotes; digest and size have none.
		size := strings.LastIndexByte(record, ',')
		digest := -1
		if size > 0 {
			digest = strings.LastIndexByte(record[:size], ',')
		}
		if digest < 0 {
			out.WriteString(line)
			continue
		}
		was, hash := record[:digest], record[digest:]
		name := r.rename(was)
		if strings.HasSuffix(was, ".dist-info/RECORD") {
			entry = was
		}
		if content, ok := changed[strings.Trim(name, `"`)]; ok && hash != ",," {
			sum := sha256.Sum256(content)
			hash = fmt.Sprintf(",sha256=%s,%d", base64.RawURLEncoding.EncodeToString(sum[:]), len(content))
		}
		if name+hash != record {
			changes = append(changes, ecosystem.Edit{What: "record of " + was, Old: record, New: name + hash})
		}
		out.WriteString(name + hash + line[len(record):])
	}
	for i := range changes {
		changes[i].Entry = entry
	}
	return []byte(out.String()), changes, nil
}
