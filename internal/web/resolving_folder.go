package web

import (
	"html/template"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem"
)

// folderPage is a plain listing, for a browser that is pointed at an address
// of a package client.
type folderPage struct {
	Title, Base, Up string
	Entries         []ecosystem.Entry
	Total           int    // entries, on all pages
	Next            string // the name to go on after; "" if this is the last page
}

// folderLines is how many lines a page has.
const folderLines = 1000

var folderTemplate = template.Must(template.New("folder").Funcs(template.FuncMap{
	"size": api.Bytes,
	"time": func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format("2006-01-02 15:04 UTC")
	},
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}}</title>
<style>
:root { color-scheme: light dark }
body { font: 14px/1.6 system-ui, sans-serif; margin: 2rem auto; max-width: 60rem; padding: 0 1rem }
table { border-collapse: collapse; width: 100% }
th { text-align: left; font-weight: 600; border-bottom: 1px solid }
td, th { padding: .15rem 1rem .15rem 0 } td:nth-child(2), th:nth-child(2) { text-align: right; white-space: nowrap } td:nth-child(3) { white-space: nowrap }
</style></head><body>
<h1>{{.Title}}</h1>
<table><thead><tr><th>Name</th><th>Size</th><th>Changed</th></tr></thead><tbody>
{{if .Up}}<tr><td><a href="{{.Up}}">../</a></td><td></td><td></td></tr>{{end}}
{{range .Entries}}<tr><td><a href="{{$.Base}}{{.Name}}{{if .Folder}}/{{end}}">{{.Name}}{{if .Folder}}/{{end}}</a></td><td>{{if or .Size (not .Folder)}}{{size .Size}}{{end}}</td><td>{{time .ChangedAt}}</td></tr>
{{else}}<tr><td colspan="3">Nothing has been published here yet.</td></tr>{{end}}
</tbody></table>
{{if .Next}}<p>{{.Total}} entries in all. <a href="?after={{.Next}}">Further entries</a></p>{{end}}
</body></html>
`))

func renderFolder(c *echo.Context, page folderPage) error {
	var b strings.Builder
	if err := folderTemplate.Execute(&b, page); err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "private, no-cache")
	return c.HTML(http.StatusOK, b.String())
}
