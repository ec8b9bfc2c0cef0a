package web

import (
	"errors"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"crelvo/internal/core/fault"
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
		if strings.HasPrefix(name, "assets/") {
			if _, err := fs.Stat(w.settings.Console, name); err != nil {
				return fault.New(fault.NotFound, "no-such-file", "there is no file %s", r.URL.Path)
			}
			// Their names change with their content.
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
			return c.FileFS(name, w.settings.Console)
		}
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
}
