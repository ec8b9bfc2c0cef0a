package cargo

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"io"
	"net/http"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
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
	const archive = "application/gzip"
	return append(routes, ecosystem.Reads(map[string]func(*ecosystem.Call) error{
		"/config.json": config, "/me": me, crates: k.search, crates + "/:crate/owners": owners, "/*": k.index,
		"/files/*": func(c *ecosystem.Call) error { return k.File(c, archive) },
		"/crates/:crate/:version/download": func(c *ecosystem.Call) error {
			return k.Download(c, c.Param("crate"), c.Param("version"), c.QueryParam("sha256"), archive)
		}})...)
}

// Refuse implements ecosystem.Ecosystem: cargo shows the details of errors, and of
// another answer than 404 from the index all of it. It says by itself that a crate is not
// there, so why it is not let in has another status, for cargo alone: to whoever else asks,
// a mirror above all, 403 is a matter of credentials.
func (Cargo) Refuse(c *ecosystem.Call, err error) error {
	f := fault.Of(err)
	status := f.Status()
	if f.Kind == fault.NotFound && strings.HasPrefix(c.Request().UserAgent(), "cargo") &&
		(f.Code == "claimed" || f.Code == "removed" || f.Code == "not-admitted") {
		status = http.StatusForbidden
	}
	return c.JSON(status, map[string]any{"errors": []map[string]string{{"detail": f.Sentences()}}})
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
		WithHint("Who may publish it is a matter of grants: crelvo grant add publisher --to WHO --on REPOSITORY.")
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

// index answers with the file of a crate; anything else is a folder for people.
func (k Cargo) index(c *ecosystem.Call) error {
	name := c.Rest[strings.LastIndexByte(c.Rest, '/')+1:]
	if name == "" || indexPath(name) != c.Rest {
		return c.ShowFolder()
	}
	server, _, _ := strings.Cut(c.Base(), "/at/")
	at := server + "/at/" // below it are all repositories
	return k.Lines(c, name, "index "+at, func(v *catalog.Version) (any, error) { return entryOf(v, below(at)) })
}

// publish takes what cargo publish sends: the length of a JSON document, it, the length of
// the archive, and it, both lengths in four bytes, the lowest first.
func (k Cargo) publish(c *ecosystem.Call) error {
	body := c.Request().Body
	var length uint32
	if err := binary.Read(body, binary.LittleEndian, &length); err != nil {
		return ecosystem.CutUpload(err)
	}
	if length > maxManifest {
		return fault.New(fault.Invalid, "too-long", "what is said of the crate is longer than %d bytes", maxManifest)
	}
	raw := make([]byte, length)
	if _, err := io.ReadFull(body, raw); err != nil {
		return ecosystem.CutUpload(err)
	}
	var said struct{ Name, Vers string }
	if err := json.Unmarshal(raw, &said); err != nil {
		return fault.New(fault.Invalid, "bad-document", "what is said of the crate is not JSON: %v", err)
	}
	if err := binary.Read(body, binary.LittleEndian, &length); err != nil {
		return ecosystem.CutUpload(err)
	}
	err := k.Take(c, k, io.LimitReader(body, int64(length)), int64(length), purl.PURL{Name: said.Name, Version: said.Vers},
		onefile.Hyphens)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"warnings": map[string][]string{"invalid_categories": {},
		"invalid_badges": {}, "other": {}}})
}

// yank withdraws a version that is behind the address, or takes that back.
func (k Cargo) yank(c *ecosystem.Call, reason *string) error {
	if err := k.Withdraw(c, c.Param("crate"), c.Param("version"), reason); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]bool{"ok": true})
}

func (Cargo) search(c *ecosystem.Call) error {
	q := ecosystem.Search{Text: c.QueryParam("q"), Limit: c.Number("per_page", 10, 100), Snapshots: true}
	q.Skip = (max(1, c.Number("page", 1, 100_000)) - 1) * q.Limit
	hits, total, err := c.Desk.Hits(c.Request().Context(), c.Repository, Name, q)
	if err != nil {
		return err
	}
	found := []map[string]string{}
	for _, h := range hits {
		found = append(found, map[string]string{"name": cmp.Or(h.Details.Title, h.Name), "max_version": h.Latest,
			"description": h.Details.Description})
	}
	return c.JSON(http.StatusOK, map[string]any{"crates": found, "meta": map[string]int{"total": total}})
}
