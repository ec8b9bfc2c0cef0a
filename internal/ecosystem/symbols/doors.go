package symbols

import (
	"debug/elf"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/symbols"
	"crelvo/internal/ecosystem"
)

// Routes implements ecosystem.Ecosystem: the protocol of debuginfod (debuginfod(8), "WEBAPI"), and the layout of symbol
// servers (SSQP).
func (d Symbols) Routes() []ecosystem.Route {
	folder := func(c *ecosystem.Call) error { return c.ShowFolder() }
	return ecosystem.Reads(map[string]func(*ecosystem.Call) error{
		"/buildid/:id/:what": d.byBuildID, "/buildid/:id/source/*": d.source, "/buildid/:id/section/:section": d.section,
		"/:name/:key/:file": d.byKey, "/metadata": d.metadata, "/": folder, "/*": folder})
}

// Refuse implements ecosystem.Ecosystem: debuggers show the status line at most.
func (Symbols) Refuse(c *ecosystem.Call, err error) error { return c.RefuseInReason(fault.Of(err)) }

func finder(c *ecosystem.Call) ecosystem.SymbolFinder { return c.Desk.(ecosystem.SymbolFinder) }

func noSymbol(c *ecosystem.Call, what, id string) *fault.Error {
	return fault.New(fault.NotFound, "no-such-symbol", "%s has no %s of %.80q", c.Repository.At(), what, id).
		WithHint("crelvo symbols find %.80s looks everywhere.", id)
}

// foundBy are those with a key that fit, those that fit best first.
func (d Symbols) foundBy(c *ecosystem.Call, key string, rank func(core.At) int) ([]core.At, error) {
	all, err := finder(c).SymbolsBy(c.Request().Context(), c.Repository, strings.ToLower(key))
	all = slices.DeleteFunc(all, func(s core.At) bool { return rank(s) < 0 })
	slices.SortStableFunc(all, func(a, b core.At) int { return rank(b) - rank(a) })
	return all, err
}

// asDebug ranks what has something for debuggers: best alone.
func asDebug(s core.At) int {
	switch {
	case !s.Debug:
		return -1
	case s.Code:
		return 0
	}
	return 1
}

// asCode ranks what can be run.
func asCode(s core.At) int {
	if s.Code {
		return 1
	}
	return -1
}

// byBuildID answers with a program, or what is to be known of it.
func (d Symbols) byBuildID(c *ecosystem.Call) error {
	rank := map[string]func(core.At) int{debugVersion: asDebug, codeVersion: asCode}[c.Param("what")]
	if rank == nil {
		return fault.New(fault.NotFound, "no-such-address", "of a build id there are debuginfo, executable, source and section")
	}
	all, err := d.foundBy(c, c.Param("id"), rank)
	if err != nil {
		return err
	}
	return d.sendFirst(c, all, c.Param("what"), c.Param("what"), c.Param("id"))
}

// open opens what was found; nil if it is not to be had now.
func open(c *ecosystem.Call, s core.At) (ecosystem.SizedFile, error) {
	file, err := finder(c).OpenSymbol(c.Request().Context(), c.Repository, s)
	if errors.Is(err, ecosystem.ErrNoFile) || errors.Is(err, ecosystem.ErrNotKept) {
		return nil, nil
	}
	return file, err
}

// elsewhere answers with what an upstream has of a build id, or once had.
func (Symbols) elsewhere(c *ecosystem.Call, version, what, id string) error {
	id = strings.ToLower(id)
	if !idForm.MatchString(id) || !purl.IsVersion(Name, version) {
		return noSymbol(c, what, id)
	}
	key := c.Repository.Key(Name, "", id)
	found, err := c.Desk.File(c.Request().Context(), catalog.FileQuestion{Key: key, Version: version,
		Name: path.Base(version)})
	if errors.Is(err, ecosystem.ErrNoFile) {
		return c.Absent(key, version, noSymbol(c, what, id))
	}
	if err != nil {
		return err
	}
	if found.Arriving == nil {
		c.Response().Header().Set(sizeHeader, strconv.FormatInt(found.Digests.Size, 10))
	}
	return c.SendFile(found, "application/octet-stream", true)
}

// sendFirst answers with the first that can be had. What came from upstreams is not among these, but asked for where it
// stands, since it counts there.
func (d Symbols) sendFirst(c *ecosystem.Call, all []core.At, version, what, id string) error {
	for _, s := range all {
		if s.Of.Ecosystem == Name {
			continue
		}
		file, err := open(c, s)
		if err != nil {
			return err
		}
		if file == nil {
			continue
		}
		defer file.Close()
		h := c.Response().Header()
		h.Set(fileHeader, url.PathEscape(s.Name()))
		if s.Path != "" && s.File != "" {
			h.Set(archiveHeader, url.PathEscape(s.File))
		}
		return d.sendSymbol(c, file, file.Size())
	}
	if version == "" {
		return noSymbol(c, what, id)
	}
	return d.elsewhere(c, version, what, id)
}

func (d Symbols) sendSymbol(c *ecosystem.Call, content io.Reader, size int64) error {
	c.Response().Header().Set(sizeHeader, strconv.FormatInt(size, 10))
	return c.SendStream("application/octet-stream", size, func(w io.Writer) error {
		_, err := io.Copy(w, content)
		return err
	})
}

// source answers with a source file of a program, from the version that has the program or its symbols.
func (d Symbols) source(c *ecosystem.Call) error {
	all, err := d.foundBy(c, c.Param("id"), func(core.At) int { return 0 })
	if err != nil {
		return err
	}
	source, err := url.PathUnescape(c.Param("*"))
	if err != nil {
		return fault.New(fault.Invalid, "bad-path", "%.100q is no path", c.Param("*"))
	}
	looked := map[int64]bool{}
	for _, s := range all {
		if looked[s.VersionID] {
			continue
		}
		looked[s.VersionID] = true
		file, err := finder(c).OpenSource(c.Request().Context(), c.Repository, s, source)
		if errors.Is(err, ecosystem.ErrNoFile) {
			continue
		}
		if err != nil {
			return err
		}
		defer file.Close()
		c.Response().Header().Set(fileHeader, url.PathEscape(source))
		return d.sendSymbol(c, file, file.Size())
	}
	return d.elsewhere(c, sourceVersion(source), "source "+source, c.Param("id"))
}

// section answers with a section of a program, from what is to be known of it or else from the program itself.
func (d Symbols) section(c *ecosystem.Call) error {
	name, err := url.PathUnescape(c.Param("section"))
	if err != nil {
		return fault.New(fault.Invalid, "bad-path", "%.100q is no section", c.Param("section"))
	}
	all, err := d.foundBy(c, c.Param("id"), func(s core.At) int { return 1 + asDebug(s) })
	if err != nil {
		return err
	}
	for _, s := range all {
		file, err := open(c, s)
		if err != nil {
			return err
		}
		if file == nil {
			continue
		}
		defer file.Close()
		if content, size := sectionOf(file, name); content != nil {
			c.Response().Header().Set(fileHeader, url.PathEscape(s.Name()))
			return d.sendSymbol(c, content, size)
		}
	}
	return d.elsewhere(c, sectionVersion+name, "section "+name, c.Param("id"))
}

// sectionOf finds a section that has bytes in a program; nil if there is none.
func sectionOf(file io.ReaderAt, name string) (content io.Reader, size int64) {
	defer func() {
		// The reader of the standard library is not made for files that want to harm.
		if recover() != nil {
			content = nil
		}
	}()
	f, err := elf.NewFile(file)
	if err != nil {
		return nil, 0
	}
	s := f.Section(name)
	if s == nil || s.Type == elf.SHT_NOBITS || s.FileSize == 0 {
		return nil, 0
	}
	// As it is in the file: who asks unpacks it.
	return io.NewSectionReader(file, int64(s.Offset), int64(s.FileSize)), int64(s.FileSize)
}

// byKey answers in the layout of symbol servers: NAME/KEY/NAME.
func (d Symbols) byKey(c *ecosystem.Call) error {
	name, key, file := strings.ToLower(c.Param("name")), strings.ToLower(c.Param("key")), strings.ToLower(c.Param("file"))
	rank := func(s core.At) int {
		if strings.ToLower(s.Name()) == name {
			return 1
		}
		return -1
	}
	version := "" // by which upstreams know it
	for _, known := range []struct {
		prefix, version string
		rank            func(core.At) int
	}{{"elf-buildid-sym-", debugVersion, asDebug}, {"elf-buildid-", codeVersion, asCode},
		{"mach-uuid-sym-", "", asDebug}, {"mach-uuid-", "", asCode}} {
		if id, ok := strings.CutPrefix(key, known.prefix); ok {
			key, rank, version = id, known.rank, known.version
			break
		}
	}
	if file != name {
		return fault.New(fault.NotFound, "not-compressed", "%.100q is here as it is alone, not compressed or elsewhere", name)
	}
	all, err := d.foundBy(c, key, rank)
	if err != nil {
		return err
	}
	return d.sendFirst(c, all, version, name, key)
}

// metadata answers which build ids files have that are called so (debuginfod(8), "/metadata").
func (d Symbols) metadata(c *ecosystem.Call) error {
	kind, value := c.QueryParam("key"), c.QueryParam("value")
	if kind != "file" && kind != "buildid" {
		return fault.New(fault.Invalid, "bad-question", "files are found by key=file or key=buildid, and not by %.20q", kind)
	}
	all, err := finder(c).SymbolsNamed(c.Request().Context(), c.Repository, kind == "buildid", value)
	if err != nil {
		return err
	}
	type result struct {
		Type    string `json:"type"`
		BuildID string `json:"buildid"`
		File    string `json:"file"`
		Archive string `json:"archive,omitempty"`
	}
	answer := struct {
		Results  []result `json:"results"`
		Complete bool     `json:"complete"`
	}{[]result{}, !finder(c).MoreSymbols(c.Repository)}
	for _, s := range all {
		for what, is := range map[string]bool{"executable": s.Code, "debuginfo": s.Debug} {
			if is && s.Format == core.ELF {
				one := result{Type: what, BuildID: s.Key, File: s.Path}
				if one.File == "" {
					one.File = s.File
				} else {
					one.Archive = s.File
				}
				answer.Results = append(answer.Results, one)
			}
		}
	}
	slices.SortFunc(answer.Results, func(a, b result) int { return strings.Compare(a.File+a.Type, b.File+b.Type) })
	raw, err := json.Marshal(answer)
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "application/json", raw)
}
