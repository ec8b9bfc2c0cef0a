package generic

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Routes implements ecosystem.Ecosystem: the protocol for sets below a name that no set has, and files by themselves.
func (g Generic) Routes() []ecosystem.Route {
	const name, version = "/" + setsDoor + "/:name", "/" + setsDoor + "/:name/:version"
	return append(ecosystem.Reads(map[string]func(*ecosystem.Call) error{
		name: g.versions, version + "/:file": g.kept, "/*": g.get}),
		ecosystem.Route{Method: http.MethodPost, Path: version + "/chunks", Action: access.Read, Asks: true, Serve: g.chunks},
		ecosystem.Route{Method: http.MethodPost, Path: name + "/lacking", Action: access.Publish, Asks: true,
			Serve: g.lacking},
		ecosystem.Route{Method: http.MethodPost, Path: name + "/packs", Action: access.Publish, Serve: g.takePack},
		ecosystem.Route{Method: http.MethodPut, Path: version + "/" + manifestFile, Action: access.Publish,
			Serve: g.takeManifest},
		ecosystem.Route{Method: http.MethodPut, Path: "/*", Action: access.Publish, Serve: g.put},
		ecosystem.Route{Method: http.MethodPost, Path: "/*", Action: access.Publish, Serve: g.publishGathered},
		ecosystem.Route{Method: http.MethodDelete, Path: "/*", Action: access.Publish, Serve: g.remove})
}

// Refuse implements ecosystem.Ecosystem: curl shows the body, and with --fail the status line; others read JSON.
func (Generic) Refuse(c *ecosystem.Call, err error) error {
	f := fault.Of(err)
	if strings.Contains(c.Request().Header.Get("Accept"), "json") {
		return c.JSON(f.Status(), map[string]string{"code": f.Code, "detail": f.Message, "hint": f.Hint})
	}
	return c.RefuseInReason(f)
}

// named are the package and the version that a request to the protocol names.
func named(c *ecosystem.Call) (k catalog.PackageKey, version, upload string, err error) {
	version, upload = versionOf(c.Param("version"))
	k, err = key(c.Repository, c.Param("name"), version)
	return k, version, upload, err
}

// kept answers with a file of a version as it is kept.
func (g Generic) kept(c *ecosystem.Call) error {
	key, version, upload, err := named(c)
	if err != nil {
		return err
	}
	q, err := question(c.Request().Context(), c.Desk, key, version, upload)
	if err == nil {
		var found ecosystem.Found
		q.Name = c.Param("file")
		if found, err = c.Desk.File(c.Request().Context(), q); err == nil {
			kind := "application/octet-stream"
			if q.Name == manifestFile {
				kind = fileset.MediaType
			}
			return c.SendFile(found, kind, upload != "" || !isSnapshot(version))
		}
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return noVersion(c, key, version)
	}
	return err
}

// get answers with a file of a set, an archive of it or of a folder in it, or what a folder has.
func (g Generic) get(c *ecosystem.Call) error {
	segments := strings.SplitN(strings.TrimSuffix(c.Rest, "/"), "/", 3)
	as := c.QueryParam("as")
	if len(segments) == 1 && segments[0] != "" && (as == "json" || wantsJSON(c)) {
		return g.listVersions(c, segments[0])
	}
	if len(segments) < 2 || segments[0] == setsDoor {
		return c.ShowFolder()
	}
	version, upload := versionOf(segments[1])
	key, err := key(c.Repository, segments[0], version)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	s, err := open(ctx, c.Desk, key, version, upload)
	if errors.Is(err, ecosystem.ErrNoFile) {
		return noVersion(c, key, version)
	}
	if err != nil {
		return err
	}
	defer s.Close()
	inside := ""
	if len(segments) == 3 {
		inside = segments[2]
	}
	switch {
	case as != "" && as != "json":
		return g.archive(c, s, inside, as)
	case inside != "" && !strings.HasSuffix(c.Rest, "/"):
		found, err := s.layout.Find(inside)
		if err == nil && found.Kind == fileset.Link {
			return c.Redirect(http.StatusFound, linked(c, segments, found.Entry))
		}
		if err == nil {
			return g.sendFile(c, s, found, upload != "" || !isSnapshot(version))
		}
		if !errors.Is(err, fileset.ErrNotThere) {
			return unreadable(err)
		}
	}
	if as == "json" || wantsJSON(c) {
		return g.listFolder(c, s, inside)
	}
	if _, _, err := s.layout.List(folderOf(inside), "", 1); errors.Is(err, fileset.ErrNotThere) {
		return noFile(key, version, inside)
	}
	return c.ShowFolder()
}

// linked is the address that a link leads to, which is in the set.
func linked(c *ecosystem.Call, segments []string, e fileset.Entry) string {
	return c.Base() + (&url.URL{Path: path.Join(segments[0], segments[1], path.Dir(e.Path), e.Target)}).EscapedPath()
}

func folderOf(inside string) string {
	if inside == "" {
		return ""
	}
	return inside + "/"
}

func noFile(key catalog.PackageKey, version, inside string) error {
	return fault.New(fault.NotFound, "no-such-file", "%s %s has no %.200q", key.Name, version, inside).
		WithHint("crelvo show %s --files lists what it has.", purl.PURL{Ecosystem: Name, Name: key.Name, Version: version})
}

func wantsJSON(c *ecosystem.Call) bool {
	return strings.HasPrefix(c.Request().Header.Get("Accept"), "application/json")
}

// shown are the media types of files that browsers show without running anything in them; any other is sent as bytes.
var shown = map[string]string{".txt": plainText, ".md": plainText, ".log": plainText, ".csv": plainText,
	".json": plainText, ".jsonl": plainText,
	".yaml": plainText, ".yml": plainText, ".toml": plainText, ".ini": plainText, ".conf": plainText, ".xml": plainText, ".png": "image/png",
	".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif", ".webp": "image/webp", ".pdf": "application/pdf"}

const plainText = "text/plain; charset=utf-8"

func mediaType(name string) string {
	if is := shown[strings.ToLower(path.Ext(name))]; is != "" {
		return is
	}
	return "application/octet-stream"
}

// sendFile answers with a file of a set.
func (g Generic) sendFile(c *ecosystem.Call, s *set, f fileset.Found, fixed bool) error {
	content := s.content(c.Request().Context(), f)
	defer content.Close()
	h := c.Response().Header()
	// What people put into a set must not run as ours.
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	found := s.found
	found.File = s.kept
	found.Name = path.Base(f.Path)
	found.Digests = catalog.Digests{SHA256: f.Digest, Size: f.Size}
	found.AddedAt = f.Modified
	return c.SendWithin(found, content, mediaType(f.Path), fixed)
}

// line is what stands in a folder, as JSON.
type line struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind"` // file, folder or link
	Size     int64      `json:"size"`
	Files    int        `json:"files,omitempty"` // below a folder
	Mode     string     `json:"mode,omitempty"`
	Modified *time.Time `json:"modified,omitempty"`
	SHA256   string     `json:"sha256,omitempty"`
	Target   string     `json:"target,omitempty"`
}

// listFolder answers with what a folder has, by page.
func (g Generic) listFolder(c *ecosystem.Call, s *set, inside string) error {
	lines, more, err := s.layout.List(folderOf(inside), c.QueryParam("after"), maxListed)
	if errors.Is(err, fileset.ErrNotThere) {
		return noFile(s.q.Key, s.q.Version, inside)
	}
	if err != nil {
		return unreadable(err)
	}
	listed := struct {
		Path    string `json:"path"`
		Entries []line `json:"entries"`
		Next    string `json:"next,omitempty"`
	}{inside, make([]line, 0, len(lines)), ""}
	for _, l := range lines {
		one := line{Name: l.Name, Size: l.Size, Files: l.Files, Kind: l.Kind.String(), Target: l.Target}
		if l.Kind == fileset.File {
			one.SHA256 = fmt.Sprintf("%x", l.Digest)
		}
		if l.Kind != fileset.Folder {
			one.Modified = &l.Modified
		}
		if l.Kind != fileset.Link {
			one.Mode = fmt.Sprintf("%o", l.Mode)
		}
		listed.Entries = append(listed.Entries, one)
	}
	if more {
		listed.Next = lines[len(lines)-1].Name
	}
	return c.JSON(http.StatusOK, listed)
}

// listed is a version in the list of a set's versions.
type listed struct {
	Version     string       `json:"version"`
	Upload      string       `json:"upload,omitempty"`
	PublishedAt time.Time    `json:"publishedAt"`
	Description string       `json:"description,omitempty"`
	Withdrawn   *string      `json:"withdrawn,omitempty"` // why
	Labels      []string     `json:"labels,omitempty"`
	Files       int64        `json:"files"`
	Bytes       int64        `json:"bytes"`
	Kept        []listedFile `json:"kept"` // the files that it is kept as
}

type listedFile struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

func (g Generic) versions(c *ecosystem.Call) error { return g.listVersions(c, c.Param("name")) }

// listVersions answers with the versions of a set, the oldest first.
func (g Generic) listVersions(c *ecosystem.Call, name string) error {
	k, err := key(c.Repository, name, "")
	if err != nil {
		return err
	}
	p, err := c.Desk.Package(c.Request().Context(), k)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return noVersion(c, k, "")
	}
	if err != nil {
		return err
	}
	d, err := c.Desk.Rendered(p, "versions", func(ecosystem.Document) (ecosystem.Document, error) {
		raw, err := json.Marshal(struct {
			Name     string   `json:"name"`
			Versions []listed `json:"versions"`
		}{k.Name, listedOf(p)})
		return ecosystem.NewDocument("application/json", raw, p.Changed), err
	})
	if err != nil {
		return err
	}
	return c.SendDocument(d, p.Stale)
}

func listedOf(p *catalog.Package) (all []listed) {
	for _, v := range ecosystem.Newest(p) {
		one := listed{Version: v.Version, Upload: v.Upload, PublishedAt: v.PublishedAt.UTC(),
			Description: v.Details.Description, Labels: p.LabelsAt(v.Version), Files: counted(v, nativeFiles),
			Bytes: counted(v, nativeBytes)}
		if v.Withdrawn != nil {
			one.Withdrawn = &v.Withdrawn.Reason
		}
		for _, f := range v.Files {
			if f.Extension == "" {
				continue
			}
			one.Kept = append(one.Kept, listedFile{f.Name, f.Digests.Size, f.Digests.Hex("sha256")})
		}
		all = append(all, one)
	}
	return all
}

func counted(v *catalog.Version, what string) (n int64) {
	// What is on record was written by Inspect.
	_ = json.Unmarshal(v.Details.Native[what], &n)
	return n
}

// remove takes a version away.
func (g Generic) remove(c *ecosystem.Call) error {
	segments := strings.Split(strings.Trim(c.Rest, "/"), "/")
	if len(segments) != 2 || segments[0] == setsDoor {
		return fault.New(fault.Invalid, "not-a-version", "only whole versions of a file set can be removed").
			WithHint("DELETE NAME/VERSION. To leave out a file, publish another version.")
	}
	key, err := key(c.Repository, segments[0], segments[1])
	if err != nil {
		return err
	}
	key.Sight = ""
	if err := c.Desk.Remove(c.Request().Context(), c.Caller, key, []string{segments[1]}); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// contentType is the media type that a request has, in small letters.
func contentType(c *ecosystem.Call) string {
	kind, _, err := mime.ParseMediaType(c.Request().Header.Get("Content-Type"))
	if err != nil {
		return ""
	}
	return kind
}
