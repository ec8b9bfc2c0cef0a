package cargo

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// KeyHeader implements ecosystem.Keyed: cargo sends a token without a scheme.
func (Cargo) KeyHeader() string { return "Authorization" }

// Routes implements ecosystem.Ecosystem.
func (k Cargo) Routes() []ecosystem.Route {
	const crates = "/api/v1/crates"
	routes := []ecosystem.Route{
		{Method: http.MethodPut, Path: crates + "/new", Action: access.Publish, Serve: k.publish},
		{Method: http.MethodDelete, Path: crates + "/:crate/:version/yank", Action: access.Publish,
			Serve: func(c *ecosystem.Call) error { return k.yank(c, new(string)) }},
		{Method: http.MethodPut, Path: crates + "/:crate/:version/unyank", Action: access.Publish,
			Serve: func(c *ecosystem.Call) error { return k.yank(c, nil) }},
		{Method: http.MethodPut, Path: crates + "/:crate/owners", Action: access.Read, Asks: true, Serve: owners},
		{Method: http.MethodDelete, Path: crates + "/:crate/owners", Action: access.Read, Asks: true, Serve: owners},
	}
	for path, serve := range map[string]func(*ecosystem.Call) error{"/config.json": config, crates: k.search, crates +
		"/:crate/owners": owners, "/me": me,
		"/crates/:crate/:version/download": k.download, "/files/*": k.file, "/*": k.index} {
		for _, method := range []string{http.MethodGet, http.MethodHead} {
			routes = append(routes, ecosystem.Route{Method: method, Path: path, Action: access.Read, Serve: serve})
		}
	}
	return routes
}

// Refuse implements ecosystem.Ecosystem: cargo shows the details of errors, and of
// another answer than 404 from the index all of it. It says by itself that a crate is not
// there, so why it is not let in has another status, for cargo alone: to whoever else asks,
// a mirror above all, 403 is a matter of credentials.
func (Cargo) Refuse(c *ecosystem.Call, err error) error {
	f := fault.Of(err)
	detail := f.Message
	if f.Hint != "" {
		detail += ". " + f.Hint
	}
	status := f.Status()
	if f.Kind == fault.NotFound && strings.HasPrefix(c.Request().UserAgent(), "cargo") &&
		(f.Code == "claimed" || f.Code == "removed" || f.Code == "not-admitted") {
		status = http.StatusForbidden
	}
	return c.JSON(status, map[string]any{"errors": []map[string]string{{"detail": detail}}})
}

// config tells cargo where things are. Who came with a token is told to go on doing so;
// who may read without one needs none.
func config(c *ecosystem.Call) error {
	c.Response().Header().Set("Cache-Control", "private, no-cache")
	c.Response().Header().Set("Vary", "Authorization")
	return c.JSON(http.StatusOK, map[string]any{
		"dl":  c.Base() + "crates/{crate}/{version}/download?sha256={sha256-checksum}",
		"api": strings.TrimSuffix(c.Base(), "/"), "auth-required": !c.Caller.Anonymous()})
}

// me is where cargo login sends people for a token.
func me(c *ecosystem.Call) error { return c.Redirect(http.StatusFound, "/tokens") }

func owners(*ecosystem.Call) error {
	return fault.New(fault.Invalid, "not-offered", "cargo owner is not offered by this server").
		WithHint("Who may publish a crate is a matter of grants: crelvo grant add publisher --to WHO --on REPOSITORY --for " +
			"pkg:cargo/NAME.")
}

// indexPath is where the index has a crate.
func indexPath(name string) string {
	name = strings.ToLower(name)
	switch len(name) {
	case 0:
		return ""
	case 1, 2:
		return string('0'+rune(len(name))) + "/" + name
	case 3:
		return "3/" + name[:1] + "/" + name
	}
	return name[:2] + "/" + name[2:4] + "/" + name
}

// root is the address below which all repositories of the server are.
func root(c *ecosystem.Call) string {
	at, _, _ := strings.Cut(c.Base(), "/at/")
	return at + "/at/"
}

// index answers with the file of a crate; anything else is a folder for people.
func (k Cargo) index(c *ecosystem.Call) error {
	name := c.Rest[strings.LastIndexByte(c.Rest, '/')+1:]
	if name == "" || indexPath(name) != c.Rest {
		return c.ShowFolder()
	}
	if !nameForm.MatchString(name) {
		return fault.New(fault.NotFound, "no-such-package", "%.80q cannot be the name of a crate", name)
	}
	key := c.Repository.Key(Name, "", name)
	p, err := c.Desk.Package(c.Request().Context(), key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return c.Absent(key, "", fault.New(fault.NotFound, "no-such-package", "%s holds no crate %s", c.Repository.At(),
			name))
	}
	if err != nil {
		return err
	}
	at := root(c)
	d, err := c.Desk.Rendered(p, "index "+at, func(ecosystem.Document) (ecosystem.Document, error) {
		var lines []byte
		for _, v := range ecosystem.Newest(p) {
			e, err := entryOf(v, at)
			if err != nil {
				return ecosystem.Document{}, err
			}
			line, err := json.Marshal(e)
			if err != nil {
				return ecosystem.Document{}, err
			}
			lines = append(append(lines, line...), '\n')
		}
		return ecosystem.NewDocument("text/plain; charset=utf-8", lines, p.Changed), nil
	})
	if err != nil {
		return err
	}
	return c.SendDocument(d, p.Stale)
}

// download answers with an archive. The index has its digest, so that a lock file keeps
// giving the upload of a snapshot that it was made with.
func (k Cargo) download(c *ecosystem.Call) error {
	name, version := strings.ToLower(c.Param("crate")), c.Param("version")
	q := catalog.FileQuestion{Key: c.Repository.Key(Name, "", name), Version: version}
	if !nameForm.MatchString(name) || !purl.IsSemver(version) {
		return fault.New(fault.NotFound, "no-such-file", "there is no crate at %.200q", c.Rest)
	}
	q.Name = k.FileName(name, version)
	sum := c.QueryParam("sha256")
	if purl.IsSnapshot(Name, version) {
		p, err := c.Desk.Uploads(c.Request().Context(), q.Key, version)
		if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
			return err
		}
		for i := 0; p != nil && i < len(p.Versions); i++ {
			for _, f := range p.Versions[i].Files {
				if v := p.Versions[i]; v.Version == version && f.Digests.Hex("sha256") == sum {
					q.Upload = v.Upload
				}
			}
		}
	}
	return k.send(c, q)
}

// file answers with an archive at its own address.
func (k Cargo) file(c *ecosystem.Call) error {
	q, ok := k.Question(c.Repository, c.Rest)
	if !ok {
		return fault.New(fault.NotFound, "no-such-file", "there is no crate at %.200q", c.Rest)
	}
	return k.send(c, q)
}

func (k Cargo) send(c *ecosystem.Call, q catalog.FileQuestion) error {
	found, err := c.Desk.File(c.Request().Context(), q)
	if err == nil {
		err = c.SendFile(found, "application/gzip", q.Upload != "" || !purl.IsSnapshot(Name, q.Version))
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return c.Absent(q.Key, q.Version, fault.New(fault.NotFound, "no-such-file", "%s holds no %s %s", c.Repository.At(),
			q.Key.Name, q.Version))
	}
	return err
}

// publish takes what cargo publish sends: the length of a JSON document, it, the length of
// the archive, and it, both lengths in four bytes, the lowest first.
func (k Cargo) publish(c *ecosystem.Call) error {
	ctx, body := c.Request().Context(), c.Request().Body
	cut := func(err error) error {
		return fault.New(fault.Invalid, "cut-upload", "what was published did not arrive whole").
			WithHint("Nothing of it was kept; publish it again.").WithCause(err)
	}
	var length uint32
	if err := binary.Read(body, binary.LittleEndian, &length); err != nil {
		return cut(err)
	}
	if length > maxManifest {
		return fault.New(fault.Invalid, "too-long", "what is said of the crate is longer than %d bytes", maxManifest)
	}
	raw := make([]byte, length)
	if _, err := io.ReadFull(body, raw); err != nil {
		return cut(err)
	}
	var said struct{ Name, Vers string }
	if err := json.Unmarshal(raw, &said); err != nil {
		return fault.New(fault.Invalid, "bad-document", "what is said of the crate is not JSON: %v", err)
	}
	if err := binary.Read(body, binary.LittleEndian, &length); err != nil {
		return cut(err)
	}
	staged, err := c.Desk.Stage(ctx, io.LimitReader(body, int64(length)), int64(length), said.Name+" "+said.Vers)
	if err != nil {
		return err
	}
	defer staged.Discard()
	place, err := k.Arrived(ctx, "what was published", staged)
	if err != nil {
		return err
	}
	if place.Name != strings.ToLower(said.Name) || place.Version != said.Vers {
		return fault.New(fault.Invalid, "archive-disagrees", "the Cargo.toml in it says %s %s, but it was sent as %s %s",
			place.Name, place.Version, said.Name, said.Vers)
	}
	target, err := c.Desk.Target(c.Caller, c.Repository, place.Snapshot)
	if err != nil {
		return err
	}
	for _, other := range variants(place.Name) {
		if _, err := c.Desk.Package(ctx, target.Key(Name, "", other)); err == nil {
			return fault.New(fault.Conflict, "name-taken", "%s holds a crate named %s, which is the same name as %s",
				target.Name, other, place.Name).WithHint("Publish it as %s.", other)
		}
	}
	if _, err := c.Desk.Publish(ctx, c.Caller, target, k,
		ecosystem.Publication{Files: []ecosystem.StagedFile{{Place: place, Staged: staged}}}); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"warnings": map[string][]string{"invalid_categories": {},
		"invalid_badges": {}, "other": {}}})
}

// yank withdraws a version that is behind the address, or takes that back.
func (Cargo) yank(c *ecosystem.Call, reason *string) error {
	key := c.Repository.Key(Name, "", strings.ToLower(c.Param("crate")))
	if err := c.Desk.Withdraw(c.Request().Context(), c.Caller, key,
		map[string]*string{c.Param("version"): reason}); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]bool{"ok": true})
}

func (Cargo) search(c *ecosystem.Call) error {
	hits, total, err := c.Desk.Hits(c.Request().Context(), c.Repository, Name,
		ecosystem.Search{Text: c.QueryParam("q"), Limit: c.Number("per_page", 10, 100), Snapshots: true})
	if err != nil {
		return err
	}
	type crate struct {
		Name        string `json:"name"`
		MaxVersion  string `json:"max_version"`
		Description string `json:"description"`
	}
	found := make([]crate, len(hits))
	for i, h := range hits {
		found[i] = crate{h.Details.Title, h.Latest, h.Details.Description}
		if found[i].Name == "" {
			found[i].Name = h.Name
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"crates": found, "meta": map[string]int{"total": total}})
}
