// Package npm is Crelvo's npm: the registry protocol as npm, pnpm and yarn
// speak it
// (https://github.com/npm/registry/blob/main/docs/REGISTRY-API.md). Package
// documents are made from records.
package npm

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
)

// Name is the purl type.
const Name = "npm"

// NPM implements ecosystem.Ecosystem.
type NPM struct{ onefile.Kind }

var _ ecosystem.Ecosystem = NPM{}

// Routes implements ecosystem.Ecosystem.
func (n NPM) Routes() []ecosystem.Route {
	return []ecosystem.Route{
		{Method: http.MethodGet, Path: "/-/ping", Action: access.Read, Serve: n.ping},
		{Method: http.MethodHead, Path: "/-/ping", Action: access.Read, Serve: n.ping},
		{Method: http.MethodGet, Path: "/-/whoami", Action: access.SignedIn, Serve: n.whoAmI},
		{Method: http.MethodHead, Path: "/-/whoami", Action: access.SignedIn, Serve: n.whoAmI},
		{Method: http.MethodPut, Path: "/-/user/*", Action: access.Anyone, Serve: n.signIn},
		{Method: http.MethodDelete, Path: "/-/user/token/*", Action: access.SignedIn, Serve: n.signOut},
		{Method: http.MethodGet, Path: "/-/v1/search", Action: access.Read, Serve: n.search},
		{Method: http.MethodHead, Path: "/-/v1/search", Action: access.Read, Serve: n.search},
		{Method: http.MethodPost, Path: "/-/npm/v1/security/advisories/bulk", Action: access.Read, Asks: true,
			Serve: n.audit},
		{Method: http.MethodPost, Path: "/-/npm/v1/security/audits", Action: access.Read, Asks: true, Serve: n.olderAudit},
		{Method: http.MethodPost, Path: "/-/npm/v1/security/audits/quick", Action: access.Read, Asks: true,
			Serve: n.olderAudit},
		{Method: http.MethodGet, Path: "/-/user/*", Action: access.Read, Serve: n.notOffered},
		{Method: http.MethodHead, Path: "/-/user/*", Action: access.Read, Serve: n.notOffered},
		{Method: http.MethodGet, Path: "/-/*", Action: access.Read, EncodedSlash: true, Serve: n.notOffered},
		{Method: http.MethodHead, Path: "/-/*", Action: access.Read, EncodedSlash: true, Serve: n.notOffered},
		{Method: http.MethodPost, Path: "/-/*", Action: access.Read, Asks: true, EncodedSlash: true, Serve: n.notOffered},
		{Method: http.MethodPut, Path: "/-/*", Action: access.Read, Asks: true, EncodedSlash: true, Serve: n.notOffered},
		{Method: http.MethodDelete, Path: "/-/*", Action: access.Read, Asks: true, EncodedSlash: true, Serve: n.notOffered},
		{Method: http.MethodGet, Path: "/-/package/*", Action: access.Read, EncodedSlash: true, Serve: n.getTags},
		{Method: http.MethodHead, Path: "/-/package/*", Action: access.Read, EncodedSlash: true, Serve: n.getTags},
		{Method: http.MethodPut, Path: "/-/package/*", Action: access.Publish, EncodedSlash: true, Serve: n.setTag},
		{Method: http.MethodPost, Path: "/-/package/*", Action: access.Publish, EncodedSlash: true, Serve: n.setTag},
		{Method: http.MethodDelete, Path: "/-/package/*", Action: access.Publish, EncodedSlash: true, Serve: n.dropTag},
		{Method: http.MethodGet, Path: "/*", Action: access.Read, EncodedSlash: true, Serve: n.get},
		{Method: http.MethodHead, Path: "/*", Action: access.Read, EncodedSlash: true, Serve: n.get},
		{Method: http.MethodPut, Path: "/*", Action: access.Publish, EncodedSlash: true, Serve: n.putAny},
		{Method: http.MethodDelete, Path: "/*", Action: access.Remove, EncodedSlash: true, Serve: n.deleteAny},
	}
}

// Refuse implements ecosystem.Ecosystem. The clients print what stands at
// "error"; a conflict would make them try once more, and say less.
func (NPM) Refuse(c *ecosystem.Call, err error) error {
	f := fault.Of(err)
	status := f.Status()
	if f.Kind == fault.Conflict {
		status = http.StatusForbidden
	}
	said := f.Sentences()
	if f.Code == "claimed" || f.Code == "removed" || f.Code == "denied-by-pattern" || f.Code == ecosystem.KeptOut {
		c.Response().Header().Set("npm-notice", ecosystem.OneLine(said)) // which npm prints, whatever it does with the body
		body, err := json.Marshal(map[string]string{"error": said, "code": f.Code})
		if err != nil {
			return err
		}
		// pnpm and Yarn show the status line alone.
		return c.SendReason(status, said, "application/json", string(body))
	}
	return c.JSON(status, map[string]string{"error": said, "code": f.Code})
}

func badName(name string) error {
	return fault.New(fault.Invalid, "bad-name", "%.100q cannot be the name of an npm package", name).
		WithHint("Letters, digits and . _ - ~ are allowed, after an optional @scope/.")
}

func noPackage(c *ecosystem.Call, name string) error {
	scope, base, _ := splitName(name)
	return c.Absent(c.Repository.Key(Name, scope, base), "",
		fault.New(fault.NotFound, "no-such-package", "%s holds no %s", c.Repository.At(), name))
}

func (NPM) ping(c *ecosystem.Call) error { return c.JSON(http.StatusOK, map[string]string{}) }

func (NPM) whoAmI(c *ecosystem.Call) error {
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.JSON(http.StatusOK, map[string]string{"username": c.Caller.Name})
}

// maxSmall is how long a small body may be, in bytes.
const maxSmall = 64 << 10

// errNoSession is that nobody signs in or out here by the client's own protocol.
var errNoSession = fault.New(fault.NotFound, "no-sign-in", "nobody signs in here with npm").
	WithHint("Write a token into .npmrc.")

// signIn answers npm login in its older form: a password for a token.
func (NPM) signIn(c *ecosystem.Call) error {
	var who struct{ Name, Password string }
	if err := json.NewDecoder(io.LimitReader(c.Request().Body, maxSmall)).Decode(&who); err != nil || who.Name == "" {
		return fault.New(fault.Invalid, "bad-sign-in", "name and password cannot be read")
	}
	desk, ok := c.Desk.(ecosystem.Session)
	if !ok {
		return errNoSession
	}
	token, err := desk.SignInClient(c.Request().Context(), c.Caller, Name, who.Name, who.Password)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"ok": true, "id": "org.couchdb.user:" + who.Name, "token": token})
}

// signOut ends the token that the request was made with.
func (NPM) signOut(c *ecosystem.Call) error {
	desk, ok := c.Desk.(ecosystem.Session)
	if !ok {
		return errNoSession
	}
	if err := desk.SignOutClient(c.Request().Context(), c.Caller); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]bool{"ok": true})
}

func (NPM) search(c *ecosystem.Call) error {
	hits, total, err := c.Desk.Hits(c.Request().Context(), c.Repository, Name, ecosystem.Search{
		Text: c.QueryParam("text"), Limit: c.Number("size", 20, 250), Skip: c.Number("from", 0, 100_000), Snapshots: true})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, answerOf(hits, total, time.Now()))
}

// elsewhere are the commands of npm that work on what a public registry has and
// this server has otherwise, by the paths that they ask for.
var elsewhere = []struct{ path, command, instead string }{
	{"-/npm/v1/tokens", "npm token", "Make one with crelvo token new, or on the page of your tokens."},
	{"-/npm/v1/user", "npm profile", "crelvo whoami shows who you are; crelvo user password changes your password."},
	{"-/npm/v1/hooks", "npm hook", "crelvo events shows what happened."},
	{"-/org/", "npm org", "Teams and their members: crelvo team."},
	{"-/team/", "npm team", "Teams and their members: crelvo team."},
	{"-/user/", "npm owner",
		"Who may publish a package is a matter of grants: crelvo grant add publisher --to WHO --on REPOSITORY --for " +
			"PATTERN."},
	{"-/package/", "npm access", "Who may read and publish a package is a matter of grants: crelvo grant list."},
	{"-/_view/", "npm stars", "Searches can be saved: crelvo search --save NAME."},
	{"-/stage", "npm stage", "Publish to a repository of snapshots and promote from there: crelvo promote."},
}

// notOffered says what to do instead of what npm was asked to do. npm shows the
// text for this status, and tries no more.
func (NPM) notOffered(c *ecosystem.Call) error {
	for _, e := range elsewhere {
		if strings.HasPrefix(c.Rest, e.path) {
			return fault.New(fault.Invalid, "not-offered", "%s is not offered by this server", e.command).
				WithHint("%s", e.instead)
		}
	}
	return fault.New(fault.NotFound, "no-such-path", "%q is no path of this registry", c.Rest)
}

// parsed is what a path asks for.
type parsed struct {
	name, scope, base string
	rest              []string // after the name
}

// parsePath takes the name off a path.
func parsePath(path string) (p parsed, err error) {
	segments := strings.Split(strings.Trim(path, "/"), "/")
	n := 1
	if strings.HasPrefix(segments[0], "@") && len(segments) > 1 {
		n = 2
	}
	p.name = strings.Join(segments[:n], "/")
	p.rest = segments[n:]
	var ok bool
	if p.scope, p.base, ok = splitName(p.name); !ok {
		return p, badName(p.name)
	}
	return p, nil
}

func (n NPM) get(c *ecosystem.Call) error {
	rest := strings.Trim(c.Rest, "/")
	if rest == "" || strings.HasPrefix(rest, "@") && !strings.Contains(rest, "/") {
		return c.ShowFolder()
	}
	p, err := parsePath(rest)
	if err != nil {
		return err
	}
	switch {
	case len(p.rest) == 0:
		return n.getDocument(c, p)
	case p.rest[0] == "-":
		return n.getFile(c, p)
	case len(p.rest) == 1:
		return n.getVersion(c, p)
	}
	return fault.New(fault.NotFound, "no-such-path", "%q is no path of an npm registry", rest)
}

func (n NPM) find(c *ecosystem.Call, p parsed) (*catalog.Package, error) {
	found, err := c.Desk.Package(c.Request().Context(), c.Repository.Key(Name, p.scope, p.base))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		err = noPackage(c, p.name)
	}
	return found, err
}

func (n NPM) getDocument(c *ecosystem.Call, p parsed) error {
	found, err := n.find(c, p)
	if err != nil {
		return err
	}
	full := !strings.Contains(c.Request().Header.Get("Accept"), "application/vnd.npm.install-v1+json")
	which := "abbreviated " + c.Base()
	if full {
		which = "full " + c.Base()
	}
	document, err := c.Desk.Rendered(found, which, func(before ecosystem.Document) (ecosystem.Document, error) {
		var readme *catalog.Readme
		if full {
			if v := latestOf(found); v != nil {
				var err error
				if readme, err = c.Desk.Readme(context.WithoutCancel(c.Request().Context()), *v); err != nil {
					return ecosystem.Document{}, err
				}
			}
		}
		return packageDocument(found, c.Base(), full, readme, before)
	})
	if err != nil {
		return err
	}
	c.Response().Header().Add("Vary", "Accept")
	return c.SendDocument(document, found.Stale)
}

// latestOf is the version that the dist-tag latest is at.
func latestOf(p *catalog.Package) (latest *catalog.Version) {
	version, ok := p.Labels[latestTag]
	if !ok {
		version = tags(p, ecosystem.Newest(p))[latestTag]
	}
	for i := range p.Versions {
		if v := &p.Versions[i]; v.Version == version && (latest == nil || v.Newer(*latest)) {
			latest = v
		}
	}
	return latest
}

func (n NPM) getVersion(c *ecosystem.Call, p parsed) error {
	found, err := n.find(c, p)
	if err != nil {
		return err
	}
	newest := ecosystem.Newest(found)
	version := p.rest[0]
	if tagged, ok := tags(found, newest)[version]; ok {
		version = tagged
	}
	for _, v := range newest {
		if v.Version == version {
			return c.SendDocument(versionDocument(found, v, c.Base()), found.Stale)
		}
	}
	return c.Absent(found.Key, version, fault.New(fault.NotFound, "no-such-version", "%s holds no version %s of %s",
		c.Repository.At(), p.rest[0], p.name))
}

func (n NPM) getFile(c *ecosystem.Call, p parsed) error {
	file := p.rest[len(p.rest)-1]
	version, ok := strings.CutPrefix(strings.TrimSuffix(file, "."+tarball), p.base+"-")
	extension := tarball
	if attests, is := strings.CutSuffix(version, ".sigstore"); is {
		version, extension = attests, "sigstore"
	}
	if len(p.rest) < 2 || len(p.rest) > 3 || !ok || !purl.IsSemver(version) {
		return fault.New(fault.NotFound, "no-such-file", "%s holds no file at %s", c.Repository.At(), c.Rest)
	}
	q := catalog.FileQuestion{Key: c.Repository.Key(Name, p.scope, p.base), Version: version, Name: file}
	fixed := true
	switch {
	case len(p.rest) == 3:
		q.Upload = ecosystem.UploadWith(version, p.rest[1])
	case purl.IsSnapshot(Name, version):
		q.Name, q.Extension, fixed = "", extension, false // the newest upload
	}
	found, err := c.Desk.File(c.Request().Context(), q)
	if err == nil {
		err = c.SendFile(found, "application/octet-stream", fixed)
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return c.Absent(q.Key, version, fault.New(fault.NotFound, "no-such-file", "%s holds no file at %s", c.Repository.At(),
			c.Rest))
	}
	return err
}

func (n NPM) putAny(c *ecosystem.Call) error {
	p, err := parsePath(c.Rest)
	switch {
	case err != nil:
		return err
	case len(p.rest) == 0:
		return n.put(c, p.name)
	case len(p.rest) == 2 && p.rest[0] == "-rev":
		return n.shrink(c, p.name, p.rest[1])
	}
	return fault.New(fault.NotFound, "no-such-path", "nothing can be sent to %q", c.Rest)
}

func (n NPM) deleteAny(c *ecosystem.Call) error {
	p, err := parsePath(c.Rest)
	switch {
	case err != nil:
		return err
	case len(p.rest) == 2 && p.rest[0] == "-rev":
		return n.remove(c, p.name, p.rest[1])
	case len(p.rest) >= 4 && p.rest[0] == "-" && p.rest[len(p.rest)-2] == "-rev":
		// The document without the version was sent before; its files went with it.
		return c.JSON(http.StatusOK, map[string]bool{"ok": true})
	}
	return fault.New(fault.NotFound, "no-such-path", "nothing can be removed at %q", c.Rest)
}

// tagPath reads -/package/<name>/dist-tags/<tag>.
func tagPath(c *ecosystem.Call) (p parsed, tag string, err error) {
	path, ok := strings.CutPrefix(c.Rest, "-/package/")
	if p, err = parsePath(path); err != nil {
		return p, "", err
	}
	if !ok || len(p.rest) == 0 || len(p.rest) > 2 || p.rest[0] != "dist-tags" {
		return p, "", NPM{}.notOffered(c)
	}
	if len(p.rest) == 2 {
		tag = p.rest[1]
	}
	return p, tag, nil
}

func (n NPM) getTags(c *ecosystem.Call) error {
	p, _, err := tagPath(c)
	if err != nil {
		return err
	}
	found, err := n.find(c, p)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, tags(found, ecosystem.Newest(found)))
}

func (n NPM) setTag(c *ecosystem.Call) error {
	var version string
	if err := json.NewDecoder(io.LimitReader(c.Request().Body, maxSmall)).Decode(&version); err != nil || version == "" {
		return fault.New(fault.Invalid, "bad-version", "the body must be a version, in quotes")
	}
	return n.changeTag(c, version)
}

func (n NPM) dropTag(c *ecosystem.Call) error { return n.changeTag(c, "") }

func (n NPM) changeTag(c *ecosystem.Call, version string) error {
	p, tag, err := tagPath(c)
	if err != nil {
		return err
	}
	if err := checkTag(tag); err != nil {
		return err
	}
	if version == "" && tag == latestTag {
		return fault.New(fault.Invalid, "latest-stays", "the dist-tag latest cannot be taken away").
			WithHint("Move it to another version.")
	}
	key, found, err := n.own(c, p.name)
	if err != nil {
		return err
	}
	if err := c.Desk.SetLabel(c.Request().Context(), c.Caller, key, tag, version); err != nil {
		return err
	}
	now, err := c.Desk.Package(c.Request().Context(), found.Key)
	if err != nil {
		return err
	}
	// yarn looks for ok.
	return c.JSON(http.StatusOK, map[string]any{"ok": true, "id": p.name, "dist-tags": tags(now, ecosystem.Newest(now))})
}
