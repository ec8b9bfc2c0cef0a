package web

import (
	"bytes"
	"html"
	"strings"

	"github.com/microcosm-cc/bluemonday"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	renderer "github.com/yuin/goldmark/renderer/html"

	"crelvo/internal/core/catalog"
)

// markdown reads Markdown with tables, bare links and strikethrough. What HTML is
// inside it passes through to harmless.
var markdown = goldmark.New(goldmark.WithExtensions(extension.GFM), goldmark.WithRendererOptions(renderer.WithUnsafe()))

// harmless lets through what a text needs: no scripts, styles, forms, or
// anything that is fetched from elsewhere.
var harmless = func() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements("h1", "h2", "h3", "h4", "h5", "h6", "p", "br", "hr", "blockquote", "ul", "ol", "li", "dl", "dt", "dd",
		"pre", "code", "em", "strong", "b", "i", "del", "sub", "sup", "kbd", "table", "thead", "tbody", "tr", "th", "td", "details", "summary")
	p.AllowAttrs("start").Matching(bluemonday.Integer).OnElements("ol")
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("https", "http", "mailto")
	p.AllowRelativeURLs(false)
	p.RequireNoFollowOnLinks(true)
	p.RequireNoReferrerOnLinks(true)
	p.AddTargetBlankToFullyQualifiedLinks(true)
	return p
}()

// safeHTML makes what people publish fit to be shown.
func safeHTML(r catalog.Readme) (string, error) {
	if !strings.HasPrefix(r.Format, "text/markdown") {
		return "<pre>" + html.EscapeString(r.Text) + "</pre>", nil
	}
	var b bytes.Buffer
	if err := markdown.Convert([]byte(r.Text), &b); err != nil {
		return "", err
	}
	return harmless.Sanitize(b.String()), nil
}
