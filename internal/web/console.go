package web

import (
	"errors"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// consolePolicy lets the console run its own files and nothing else.
const consolePolicy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' " +
	"data:; " +
	"font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// addConsole serves the built console; every path that is no file of it is a
// page, which the console itself knows.
func (w *Server) addConsole() {
	serve := func(c *echo.Context) error {
		r := c.Request()
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "api/") {
			return fault.New(fault.NotFound, "no-such-operation", "the API has no operation at %s", r.URL.Path).
				WithHint("The operations are described at /api/openapi.json.")
		}
		h := c.Response().Header()
		h.Set("Content-Security-Policy", consolePolicy)
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cache-Control", "no-cache")
		if stat, err := fs.Stat(w.settings.Console, name); err == nil && !stat.IsDir() {
			return c.FileFS(name, w.settings.Console)
		}
		page, err := fs.ReadFile(w.settings.Console, "index.html")
		if errors.Is(err, fs.ErrNotExist) {
			return c.String(http.StatusNotFound, "This program was built without the console; build it with make build.\n")
		}
		if err != nil {
			return err
		}
		return c.HTMLBlob(http.StatusOK, page)
	}
	compress := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1024})
	w.both("/*", forAnyone, serve, compress)
	w.both("/assets/*", forAnyone, w.asset())
}

// asset serves the parts of the console, whose names change with their content. They were
// compressed when the console was built.
func (w *Server) asset() echo.HandlerFunc {
	return func(c *echo.Context) error {
		name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		if stat, err := fs.Stat(w.settings.Console, name); err != nil || stat.IsDir() || path.Dir(name) != "assets" {
			return fault.New(fault.NotFound, "no-such-file", "there is no file %s", c.Request().URL.Path)
		}
		h := c.Response().Header()
		h.Set("Content-Security-Policy", consolePolicy)
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
		h.Set("Vary", "Accept-Encoding")
		if ecosystem.AcceptsGzip(c.Request().Header.Get("Accept-Encoding")) {
			if packed, err := fs.ReadFile(w.settings.Console, name+".gz"); err == nil {
				h.Set("Content-Encoding", "gzip")
				return c.Blob(http.StatusOK, mime.TypeByExtension(path.Ext(name)), packed)
			}
		}
		return c.FileFS(name, w.settings.Console)
	}
}
