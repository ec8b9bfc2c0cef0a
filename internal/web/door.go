package web

import (
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service"
)

// addDoors adds the package protocols: /at/<repository>/<ecosystem>/….
func (w *Server) addDoors() {
	for _, e := range service.Ecosystems() {
		prefix := "/at/:repository/" + e.Name()
		for _, route := range e.Routes() {
			w.echo.Add(route.Method, prefix+route.Path, w.door(e, route))
		}
		w.echo.GET(prefix, func(c *echo.Context) error {
			return c.Redirect(http.StatusMovedPermanently, c.Request().URL.Path+"/")
		})
	}
	w.echo.GET("/at/:repository", w.repositoryFolder)
	w.echo.GET("/at/:repository/", w.repositoryFolder)
	w.echo.RouteNotFound("/at/*", func(c *echo.Context) error {
		var known []string
		for _, e := range service.Ecosystems() {
			known = append(known, e.Name())
		}
		return c.String(http.StatusNotFound, "There is nothing at this address. Addresses are /at/<repository>/<ecosystem>/…; the ecosystems are: "+
			strings.Join(known, ", ")+".\n")
	})
}

// door finds caller, repository and right for a route of an ecosystem.
func (w *Server) door(e ecosystem.Ecosystem, route ecosystem.Route) echo.HandlerFunc {
	prefix := "/" + e.Name() + "/"
	return func(c *echo.Context) error {
		r := c.Request()
		h := c.Response().Header()
		// What people publish must not act in the name of the console.
		h.Set("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'")
		call := &ecosystem.Call{Context: c, Desk: w.service}
		err := func() error {
			escaped := strings.ToLower(r.URL.EscapedPath())
			if strings.Contains(escaped, "%5c") || strings.Contains(escaped, "%2f") && !route.EncodedSlash {
				return fault.New(fault.Invalid, "bad-path", "the path has an encoded slash, which cannot be part of a name")
			}
			if keyed, ok := e.(ecosystem.Keyed); ok && r.Header.Get("Authorization") == "" {
				if key := r.Header.Get(keyed.KeyHeader()); key != "" {
					r.Header.Set("Authorization", "Bearer "+key)
				}
			}
			caller, err := w.identify(c)
			if err != nil {
				return err
			}
			call.Caller = caller
			if call.Repository, err = w.service.Repository(caller, param(c, "repository"), route.Action); err != nil {
				return err
			}
			_, call.Rest, _ = strings.Cut(strings.TrimPrefix(r.URL.Path, "/at/"), prefix)
			call.Base = func() string { return w.address(r) + "/at/" + call.Repository.At() + prefix }
			call.ShowFolder = func() error { return w.showFolder(c, call, e) }
			if r.Method == http.MethodPut || r.Method == http.MethodPost {
				r.Body = patient{r.Body, http.NewResponseController(c.Response())}
			}
			return route.Serve(call)
		}()
		if err == nil {
			return nil
		}
		f := asFault(err)
		switch f.Kind {
		case fault.Unknown:
			challenge(h)
		case fault.Unavailable:
			h.Set("Retry-After", "5")
		}
		h.Del("ETag")
		if refuseErr := e.Refuse(call, f); refuseErr != nil {
			return refuseErr
		}
		return f // for the log; the answer is out
	}
}

// patient gives up on a client that stops sending, however long its body is.
type patient struct {
	io.ReadCloser
	controller *http.ResponseController
}

func (p patient) Read(b []byte) (int, error) {
	// Where deadlines are not supported there is nothing to do.
	_ = p.controller.SetReadDeadline(time.Now().Add(silence))
	n, err := p.ReadCloser.Read(b)
	if errors.Is(err, io.EOF) {
		_ = p.controller.SetReadDeadline(time.Time{})
	}
	return n, err
}

// repositoryFolder lists the doors of a repository for a person.
func (w *Server) repositoryFolder(c *echo.Context) error {
	caller, err := w.identify(c)
	if err != nil {
		return err
	}
	r, err := w.service.Repository(caller, param(c, "repository"), access.Read)
	if err != nil {
		if fault.Is(err, fault.Unknown) {
			challenge(c.Response().Header())
		}
		return err
	}
	names, err := w.service.EcosystemsIn(c.Request().Context(), r)
	if err != nil {
		return err
	}
	page := folderPage{Title: r.At(), Base: "/at/" + r.At() + "/"}
	for _, name := range names {
		page.Entries = append(page.Entries, ecosystem.Entry{Name: name, Folder: true})
	}
	return renderFolder(c, page)
}

func (w *Server) showFolder(c *echo.Context, call *ecosystem.Call, e ecosystem.Ecosystem) error {
	folder, err := w.service.Folder(c.Request().Context(), call.Repository, e, call.Rest)
	if err != nil {
		return err
	}
	page := folderPage{Title: call.Repository.At() + " / " + folder.Path, Up: "../",
		Base: "/at/" + call.Repository.At() + "/" + e.Name() + "/", Entries: folder.Entries}
	if folder.Path != "" {
		page.Base += folder.Path + "/"
	}
	return renderFolder(c, page)
}
