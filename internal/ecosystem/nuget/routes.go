// Package nuget is Crelvo's NuGet: the v3 protocol as nuget and dotnet speak it
// (https://learn.microsoft.com/nuget/api/overview). Its documents are made from
// records.
package nuget

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
)

// Name is the purl type.
const Name = "nuget"

// NuGet implements ecosystem.Ecosystem.
type NuGet struct{ onefile.Kind }

var (
	_ ecosystem.Ecosystem = NuGet{}
	_ ecosystem.Keyed     = NuGet{}
)

// KeyHeader implements ecosystem.Keyed.
func (NuGet) KeyHeader() string { return keyHeader }

// Routes implements ecosystem.Ecosystem.
func (n NuGet) Routes() []ecosystem.Route {
	all := ecosystem.Reads(map[string]func(*ecosystem.Call) error{"/index.json": n.getIndex, "/flat/*": n.getFlat,
		"/registration/*": n.getRegistration, "/search": n.search, "/autocomplete": n.complete, "/v2": n.getV2,
		"/v2/*": n.getV2, "/" + doorAdvised + "*": getAdvised, "/*": func(c *ecosystem.Call) error { return c.ShowFolder() }})
	for _, path := range []string{"/package", "/package/", "/symbols", "/symbols/", "/v2", "/v2/", "/v2/package",
		"/v2/package/"} {
		all = append(all, ecosystem.Route{Method: http.MethodPut, Path: path, Action: access.Publish, Serve: n.push})
	}
	for _, path := range []string{"/", "/index.json"} {
		all = append(all, ecosystem.Route{Method: http.MethodPut, Path: path, Action: access.Publish, Serve: elsewhere})
	}
	return append(all,
		ecosystem.Route{Method: http.MethodDelete, Path: "/v2/:id/:version", Action: access.Publish, Serve: n.unlist},
		ecosystem.Route{Method: http.MethodDelete, Path: "/v2/package/:id/:version", Action: access.Publish, Serve: n.unlist},
		ecosystem.Route{Method: http.MethodDelete, Path: "/package/:id/:version", Action: access.Publish, Serve: n.unlist},
		ecosystem.Route{Method: http.MethodPost, Path: "/package/:id/:version", Action: access.Publish, Serve: n.relist})
}

// Refuse implements ecosystem.Ecosystem. The clients show the reason phrase.
func (NuGet) Refuse(c *ecosystem.Call, err error) error { return c.RefuseInReason(fault.Of(err)) }

// elsewhere answers who pushes to the address of the whole.
func elsewhere(c *ecosystem.Call) error {
	return fault.New(fault.NotFound, "wrong-address", "packages are not pushed to this address").
		WithHint("Push to %s or, by the older protocol, to %s.", c.Base()+"index.json", c.Base()+"v2/")
}

func (NuGet) getIndex(c *ecosystem.Call) error {
	changed, err := advisoriesChanged(c)
	if err != nil {
		return err
	}
	at := c.Repository.ChangedAt
	if changed.After(at) {
		at = changed
	}
	d, err := jsonDocument(serviceIndex(c.Base(), !changed.IsZero(), false), at)
	if err != nil {
		return err
	}
	return c.SendDocument(d, nil)
}

func missing(c *ecosystem.Call) *fault.Error {
	return fault.New(fault.NotFound, "no-such-document", "%s holds nothing at %s", c.Repository.At(), c.Rest)
}

func (NuGet) find(c *ecosystem.Call, id string) (*catalog.Package, error) {
	if !isID(id) {
		return nil, fault.New(fault.Invalid, "bad-name", "%.100q cannot be the id of a NuGet package", id)
	}
	p, err := c.Desk.Package(c.Request().Context(), c.Repository.Key(Name, "", strings.ToLower(id)))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		err = c.Absent(c.Repository.Key(Name, "", strings.ToLower(id)), "",
			fault.New(fault.NotFound, "no-such-package", "%s holds no %s", c.Repository.At(), id))
	}
	return p, err
}

func (n NuGet) getFlat(c *ecosystem.Call) error {
	segments := strings.Split(strings.TrimPrefix(c.Rest, doorFlat), "/")
	if len(segments) == 2 && segments[1] == "index.json" {
		p, err := n.find(c, segments[0])
		if err != nil {
			return err
		}
		d, err := c.Desk.Rendered(p, "flat", func(ecosystem.Document) (ecosystem.Document, error) { return flat(p) })
		if err != nil {
			return err
		}
		return c.SendDocument(d, p.Stale)
	}
	if len(segments) == 3 && slices.Contains([]string{embeddedIcon, embeddedLicence, embeddedReadme}, segments[2]) {
		return n.getEmbedded(c, segments)
	}
	if len(segments) < 3 || len(segments) > 4 {
		return missing(c)
	}
	id, version := strings.ToLower(segments[0]), purl.NormalVersion(Name, segments[1])
	name := strings.ToLower(segments[len(segments)-1])
	q := catalog.FileQuestion{Key: c.Repository.Key(Name, "", id), Version: version, Name: name}
	extension := name[strings.LastIndexByte(name, '.')+1:]
	manifest := extension == "nuspec"
	switch {
	case manifest && name == id+".nuspec":
		extension = packed
	case name != n.Named(id, strings.ToLower(segments[1]), extension) && name != n.Named(id, version, extension):
		return missing(c)
	}
	q.Name = n.Named(id, version, extension)
	if len(segments) == 4 {
		q.Upload = ecosystem.UploadWith(version, segments[2])
	} else if purl.IsSnapshot(Name, version) {
		q.Name, q.Extension = "", extension // the newest upload
	}
	found, err := c.Desk.File(c.Request().Context(), q)
	switch {
	case err == nil && manifest:
		return n.sendManifest(c, found)
	case err == nil:
		err = c.SendFile(found, "application/octet-stream", q.Name != "")
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return c.Absent(q.Key, version, missing(c))
	}
	return err
}

// What of a package has an address of its own.
const embeddedIcon, embeddedLicence, embeddedReadme = "icon", "license", "readme"

// maxEmbedded is how large such a file may be, in bytes.
const maxEmbedded = 2 << 20

// getEmbedded takes the icon, the licence or the README out of a package.
func (n NuGet) getEmbedded(c *ecosystem.Call, segments []string) error {
	p, err := n.find(c, segments[0])
	if err != nil {
		return err
	}
	version := purl.NormalVersion(Name, segments[1])
	i := slices.IndexFunc(ecosystem.Newest(p), func(v *catalog.Version) bool { return v.Version == version })
	if i < 0 {
		return c.Absent(p.Key, version, missing(c))
	}
	v := ecosystem.Newest(p)[i]
	f := factsOf(v.Details, p.Key.Name, version)
	name := map[string]string{embeddedIcon: f.Icon, embeddedLicence: f.LicenceFile, embeddedReadme: f.Readme}[segments[2]]
	if name == "" {
		return missing(c)
	}
	found, err := c.Desk.File(c.Request().Context(),
		catalog.FileQuestion{Key: p.Key, Version: version, Upload: v.Upload, Name: n.Named(p.Key.Name, version, packed)})
	if errors.Is(err, ecosystem.ErrNoFile) {
		return missing(c)
	}
	if err != nil {
		return err
	}
	return c.ReadKept(found, func(kept catalog.File, content ecosystem.SizedReaderAt) error {
		raw, err := entryOf(c.Request().Context(), content, name)
		if err != nil || raw == nil {
			return missing(c)
		}
		contentType := "text/plain; charset=utf-8"
		if segments[2] == embeddedIcon {
			if contentType = http.DetectContentType(raw); contentType != "image/png" && contentType != "image/jpeg" {
				return missing(c) // the protocol knows no other
			}
		}
		return c.SendDocument(ecosystem.NewDocument(contentType, raw, kept.AddedAt), nil)
	})
}

// entryOf reads a file in a package; nil if there is none.
func entryOf(ctx context.Context, content ecosystem.SizedReaderAt, name string) ([]byte, error) {
	archive, err := ecosystem.OpenZip(ctx, content)
	if err != nil {
		return nil, err
	}
	for _, entry := range archive.File {
		if strings.EqualFold(entry.Name, name) {
			return ecosystem.ReadZipEntry(ctx, entry, maxEmbedded)
		}
	}
	return nil, nil
}

// sendManifest takes the .nuspec out of a package.
func (n NuGet) sendManifest(c *ecosystem.Call, found ecosystem.Found) error {
	return c.ReadKept(found, func(f catalog.File, content ecosystem.SizedReaderAt) error {
		_, raw, _, err := readPackage(c.Request().Context(), content)
		if err != nil {
			return missing(c)
		}
		return c.SendDocument(ecosystem.NewDocument("application/xml", raw, f.AddedAt), nil)
	})
}

func (n NuGet) getRegistration(c *ecosystem.Call) error {
	segments := strings.Split(strings.TrimPrefix(c.Rest, doorRegistration), "/")
	p, err := n.find(c, segments[0])
	if err != nil {
		return err
	}
	w := writer{p, c.Base()}
	switch {
	case len(segments) == 2 && segments[1] == "index.json":
		d, err := c.Desk.Rendered(p, "registration "+c.Base(), func(ecosystem.Document) (ecosystem.Document, error) {
			return w.index()
		})
		if err != nil {
			return err
		}
		return c.SendDocument(d, p.Stale)
	case len(segments) == 2:
		version := purl.NormalVersion(Name, strings.TrimSuffix(segments[1], ".json"))
		for _, v := range ecosystem.Newest(p) {
			if v.Version == version {
				d, err := jsonDocument(w.single(v), v.PublishedAt)
				if err != nil {
					return err
				}
				return c.SendDocument(d, p.Stale)
			}
		}
	case len(segments) == 4 && segments[1] == "page":
		d, ok, err := w.page(segments[2], strings.TrimSuffix(segments[3], ".json"))
		if err != nil {
			return err
		}
		if ok {
			return c.SendDocument(d, p.Stale)
		}
	}
	return missing(c)
}

// single is a leaf by itself.
func (w writer) single(v *catalog.Version) any {
	l := w.leaf(v)
	return map[string]any{"@id": l.ID, "@type": []string{"Package"}, "catalogEntry": l.Entry, "listed": l.Entry.Listed,
		"packageContent": l.Content,
		"published":      l.Entry.Published, "registration": l.Registration}
}

// asked reads what a client searches for: words, and fields such as tags:boats
// (https://learn.microsoft.com/nuget/consume-packages/finding-and-choosing-packages#search-syntax).
func asked(c *ecosystem.Call) ecosystem.Search {
	q := ecosystem.Search{Skip: c.Number("skip", 0, 100_000), Limit: c.Number("take", 20, 1000),
		Snapshots: c.QueryParam("prerelease") == "true"}
	var words []string
	for _, word := range strings.Fields(strings.ToLower(c.QueryParam("q"))) {
		field, value, ok := strings.Cut(word, ":")
		value = strings.Trim(value, `"`)
		switch {
		case !ok || value == "":
			words = append(words, word)
		case field == "packageid":
			q.Name = value
		case field == "tags" || field == "tag":
			q.Having = append(q.Having, ecosystem.Having{Path: []string{"native", nativeFacts, "tags"}, Value: value})
		case field == "author" || field == "authors" || field == "owner" || field == "owners":
			q.Having = append(q.Having, ecosystem.Having{Path: []string{"authors"}, Value: value})
		default: // id, title, description, summary: they are looked through anyhow
			words = append(words, value)
		}
	}
	q.Text = strings.Join(words, " ")
	if kind := c.QueryParam("packageType"); kind != "" {
		q.Having = append(q.Having, ecosystem.Having{Path: []string{"native", nativeFacts, "types"}, Value: kind,
			OrNone: strings.EqualFold(kind, "Dependency")})
	}
	return q
}

func (n NuGet) search(c *ecosystem.Call) error {
	hits, total, err := c.Desk.Hits(c.Request().Context(), c.Repository, Name, asked(c))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, answerOf(hits, total, c.Base()))
}

func (n NuGet) complete(c *ecosystem.Call) error {
	data := []string{}
	if id := c.QueryParam("id"); id != "" {
		p, err := n.find(c, id)
		if err != nil && !fault.Is(err, fault.NotFound) {
			return err
		}
		if p != nil {
			for _, v := range ordered(p) {
				if v.Withdrawn == nil && (!v.Snapshot || c.QueryParam("prerelease") == "true") {
					data = append(data, v.Version)
				}
			}
		}
		return c.JSON(http.StatusOK, map[string]any{"totalHits": len(data), "data": data})
	}
	hits, total, err := c.Desk.Hits(c.Request().Context(), c.Repository, Name, asked(c))
	if err != nil {
		return err
	}
	for _, h := range hits {
		data = append(data, factsOf(h.Details, h.Name, h.Latest).ID)
	}
	return c.JSON(http.StatusOK, map[string]any{"totalHits": total, "data": data})
}

// push takes a package, or the symbols of one.
func (n NuGet) push(c *ecosystem.Call) error {
	ctx := c.Request().Context()
	extension := packed
	if strings.HasPrefix(c.Rest, doorSymbols) {
		extension = symbols
	}
	body := io.Reader(c.Request().Body)
	if parts, err := c.Request().MultipartReader(); err == nil {
		part, err := parts.NextPart()
		if err != nil {
			return fault.New(fault.Invalid, "cut-upload", "the package did not arrive whole").
				WithHint("Nothing of it was kept; push it again.").WithCause(err)
		}
		body = part
	}
	staged, err := c.Desk.Stage(ctx, c.Repository, body, -1, "the package")
	if err != nil {
		return err
	}
	defer staged.Discard()
	spec, _, _, err := readPackage(ctx, staged)
	if err != nil {
		return n.Refused("what was pushed", err)
	}
	if isSymbols := slices.ContainsFunc(spec.Metadata.PackageType, func(t packageType) bool {
		return strings.EqualFold(t.Name, "SymbolsPackage")
	}); isSymbols != (extension == symbols) {
		what, door := "a package", doorPackage
		if isSymbols {
			what, door = "a package of symbols", doorSymbols
		}
		return fault.New(fault.Invalid, "wrong-door", "%s %s is %s, which is not pushed here", spec.Metadata.ID,
			spec.Metadata.Version, what).
			WithHint("Push it to %s.", c.Base()+door)
	}
	place := n.At("", spec.Metadata.ID, spec.Metadata.Version, extension)
	target, err := c.Desk.Target(c.Caller, c.Repository, place.Snapshot)
	if err != nil {
		return err
	}
	if extension == symbols {
		p, err := c.Desk.Package(ctx, place.Key(Name, target))
		if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
			return err
		}
		there := false
		if p != nil {
			for _, v := range p.Versions {
				there = there || v.Version == place.Version
			}
		}
		if !there {
			return fault.New(fault.Conflict, "package-first", "%s does not hold %s %s, so its symbols have no place",
				target.Name, spec.Metadata.ID, place.Version).
				WithHint("Push the .nupkg before the .snupkg.")
		}
	}
	_, err = c.Desk.Publish(ctx, c.Caller, target, n,
		ecosystem.Publication{Joins: true, Beside: extension == symbols,
			Files: []ecosystem.StagedFile{{Place: place, Staged: staged}}})
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusCreated)
}

func (n NuGet) unlist(c *ecosystem.Call) error {
	reason := ""
	return n.withdraw(c, &reason, http.StatusNoContent)
}

func (n NuGet) relist(c *ecosystem.Call) error { return n.withdraw(c, nil, http.StatusOK) }

// withdraw marks a version that is behind the address, or takes the mark away.
func (n NuGet) withdraw(c *ecosystem.Call, reason *string, status int) error {
	id, version := strings.ToLower(c.Param("id")), purl.NormalVersion(Name, c.Param("version"))
	if err := c.Desk.Withdraw(c.Request().Context(), c.Caller, c.Repository.Key(Name, "", id),
		map[string]*string{version: reason}); err != nil {
		return err
	}
	return c.NoContent(status)
}
