// Package pypi is Crelvo's PyPI: the simple repository API and the upload form,
// as pip and twine speak them
// (https://packaging.python.org/specifications/simple-repository-api/). Pages are
// made from records.
package pypi

import (
	"context"
	"errors"
	"net/http"
	"path"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Name is the purl type.
const Name = "pypi"

// PyPI implements ecosystem.Ecosystem.
type PyPI struct{}

var _ ecosystem.Ecosystem = PyPI{}

// Name implements ecosystem.Ecosystem.
func (PyPI) Name() string { return Name }

// Title implements ecosystem.Ecosystem.
func (PyPI) Title() string { return "PyPI" }

// Routes implements ecosystem.Ecosystem.
func (y PyPI) Routes() []ecosystem.Route {
	return []ecosystem.Route{
		{Method: http.MethodPost, Path: "/", Action: access.Publish, Serve: y.upload},
		{Method: http.MethodPost, Path: "/*", Action: access.Publish, Serve: elsewhere},
		{Method: http.MethodGet, Path: "/simple/*", Action: access.Read, Serve: y.getPage},
		{Method: http.MethodHead, Path: "/simple/*", Action: access.Read, Serve: y.getPage},
		{Method: http.MethodGet, Path: "/files/*", Action: access.Read, Serve: y.getFile},
		{Method: http.MethodHead, Path: "/files/*", Action: access.Read, Serve: y.getFile},
		{Method: http.MethodGet, Path: "/*", Action: access.Read, Serve: y.getFolder},
		{Method: http.MethodHead, Path: "/*", Action: access.Read, Serve: y.getFolder},
	}
}

// Refuse implements ecosystem.Ecosystem. pip and twine show the reason phrase of
// the status line.
func (PyPI) Refuse(c *ecosystem.Call, err error) error { return c.RefuseInReason(fault.Of(err)) }

// elsewhere answers who uploads to another address.
func elsewhere(c *ecosystem.Call) error {
	return fault.New(fault.NotFound, "wrong-address", "distributions are not uploaded to this address").
		WithHint("Upload to %s, as in twine upload --repository-url %s", c.Base(), c.Base())
}

// getFolder shows what people look at. The page of all projects has a slash at its
// end, as all pages have (PEP 503).
func (PyPI) getFolder(c *ecosystem.Call) error {
	if c.Rest == "simple" {
		return c.Redirect(http.StatusMovedPermanently, c.Base()+"simple/")
	}
	if name, version, ok := aboutOf(c.Rest); ok {
		return getAbout(c, name, version)
	}
	return c.ShowFolder()
}

// formOf chooses the form of a page (RFC 9110, 12.5.1; PEP 691).
func formOf(c *ecosystem.Call) string {
	if format := c.QueryParam("format"); format == typeJSON || format == typeHTML {
		return format
	}
	best, weight := plainHTML, 0.0
	for _, a := range ecosystem.Accepted(c.Request().Header.Get("Accept")) {
		form := a.Value
		switch form {
		case "application/vnd.pypi.simple.latest+json":
			form = typeJSON
		case "application/vnd.pypi.simple.latest+html":
			form = typeHTML
		case "text/*":
			form = plainHTML
		}
		if (form == typeJSON || form == typeHTML || form == plainHTML) && a.Weight > weight {
			best, weight = form, a.Weight
		}
	}
	return best
}

func (y PyPI) getPage(c *ecosystem.Call) error {
	name, ok := strings.CutPrefix(c.Rest, "simple/")
	if !ok || strings.Count(name, "/") > 1 || strings.Count(name, "/") == 1 && !strings.HasSuffix(name, "/") {
		return fault.New(fault.NotFound, "no-such-page", "there is no page at %q", c.Rest)
	}
	c.Response().Header().Add("Vary", "Accept")
	if name == "" {
		return y.getAll(c)
	}
	bare := strings.TrimSuffix(name, "/")
	normal := purl.NormalName(Name, bare)
	if !nameForm.MatchString(bare) {
		return fault.New(fault.Invalid, "bad-name", "%.100q cannot be the name of a Python project", bare)
	}
	if name != normal+"/" {
		return c.Redirect(http.StatusMovedPermanently, c.Base()+"simple/"+normal+"/")
	}
	p, err := c.Desk.Package(c.Request().Context(), c.Repository.Key(Name, "", normal))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return c.Absent(c.Repository.Key(Name, "", normal), "",
			fault.New(fault.NotFound, "no-such-package", "%s holds no %s", c.Repository.At(), normal))
	}
	if err != nil {
		return err
	}
	form := formOf(c)
	document, err := c.Desk.Rendered(p, form, func(ecosystem.Document) (ecosystem.Document, error) {
		return projectOf(p).tracking(c.Repository).document(form, p.Changed)
	})
	if err != nil {
		return err
	}
	return c.SendDocument(document, p.Stale)
}

// getAll lists the projects: of a mirror, those of which something is kept.
func (y PyPI) getAll(c *ecosystem.Call) error {
	_, packages, err := c.Desk.Below(c.Request().Context(), c.Repository, Name, "", "/")
	if err != nil {
		return err
	}
	names := make([]string, len(packages))
	changed := c.Repository.ChangedAt
	for i, p := range packages {
		names[i] = p.Name
		if p.ChangedAt.After(changed) {
			changed = p.ChangedAt
		}
	}
	document, err := allProjects(names, formOf(c), changed)
	if err != nil {
		return err
	}
	return c.SendDocument(document, nil)
}

func missing(c *ecosystem.Call) *fault.Error {
	return fault.New(fault.NotFound, "no-such-file", "%s holds no file at %s", c.Repository.At(), c.Rest)
}

func (y PyPI) getFile(c *ecosystem.Call) error {
	segments := strings.Split(c.Rest, "/") // files, name, version, perhaps an upload, file
	if len(segments) < 4 || len(segments) > 5 {
		return missing(c)
	}
	name := segments[len(segments)-1]
	place, ok := parseName(name, purl.NormalName(Name, segments[1]))
	if !ok || place.Name != segments[1] || place.Version != segments[2] {
		return missing(c)
	}
	q := catalog.FileQuestion{Key: c.Repository.Key(Name, "", place.Name), Version: place.Version, Name: name}
	if len(segments) == 5 {
		q.Upload = ecosystem.UploadWith(place.Version, segments[3])
	}
	found, err := c.Desk.File(c.Request().Context(), q)
	if errors.Is(err, ecosystem.ErrNoFile) && place.Extension == wheel+"."+metadataFile {
		return y.sendMetadata(c, q)
	}
	if err == nil {
		err = c.SendFile(found, contentType(place.Extension), true)
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return c.Absent(q.Key, q.Version, missing(c))
	}
	return err
}

func contentType(extension string) string {
	switch {
	case strings.HasSuffix(extension, metadataFile), strings.HasSuffix(extension, signature):
		return "text/plain; charset=utf-8"
	case extension == sdist, extension == short:
		return "application/gzip"
	case extension == bzipped:
		return "application/x-bzip2"
	}
	return "application/zip"
}

// sendMetadata takes the core metadata out of a wheel (PEP 658).
func (y PyPI) sendMetadata(c *ecosystem.Call, q catalog.FileQuestion) error {
	ctx := c.Request().Context()
	q.Name = strings.TrimSuffix(q.Name, "."+metadataFile)
	found, err := c.Desk.File(ctx, q)
	if errors.Is(err, ecosystem.ErrNoFile) {
		return missing(c)
	}
	if err != nil {
		return err
	}
	return c.ReadKept(found, func(f catalog.File, content ecosystem.SizedReaderAt) error {
		place, _ := parseName(q.Name, q.Key.Name) // getFile saw that it is one
		raw, err := readMetadata(ctx, place, content)
		if err != nil {
			return missing(c)
		}
		return c.SendDocument(ecosystem.NewDocument("text/plain; charset=utf-8", raw, f.AddedAt), nil)
	})
}

// Folder implements ecosystem.Ecosystem.
func (PyPI) Folder(
	ctx context.Context, desk ecosystem.Shelves, repository catalog.Repository, at string,
) (ecosystem.Folder, error) {
	return ecosystem.TreeFolder(ctx, desk, repository, Name, path.Clean("/" + at)[1:])
}
