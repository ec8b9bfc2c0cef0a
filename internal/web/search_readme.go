package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"html"
	"strings"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/microcosm-cc/bluemonday"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	renderer "github.com/yuin/goldmark/renderer/html"
	"golang.org/x/sync/singleflight"

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
		"pre", "code", "em", "strong", "b", "i", "del", "sub", "sup", "kbd", "table", "thead", "tbody", "tr", "th", "td",
		"details", "summary")
	p.AllowAttrs("start").Matching(bluemonday.Integer).OnElements("ol")
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("https", "http", "mailto")
	p.AllowRelativeURLs(false)
	p.RequireNoFollowOnLinks(true)
	p.RequireNoReferrerOnLinks(true)
	p.AddTargetBlankToFullyQualifiedLinks(true)
	return p
}()

const (
	// maxMarkdown is how long a text may be to be read as Markdown, and maxHTML
	// what may come of it, in bytes. What is more is shown as it was written.
	maxMarkdown = 128 << 10
	maxHTML     = 1 << 20
	// What costs a reader of Markdown more than its length: marks that may open or
	// close something, within one block; containers in containers; cells of tables.
	maxOpeners = 500
	maxMarks   = 4000
	maxNesting = 20
	maxCells   = 20_000
)

// intricate tells whether reading a text as Markdown would cost much more than
// its length. It errs on the safe side.
func intricate(markdown string) bool {
	if len(markdown) > maxMarkdown {
		return true
	}
	openers, marks, cells, columns := 0, 0, 0, 0
	for line := range strings.Lines(markdown) {
		trimmed := strings.TrimSpace(line)
		if trimmed == "" {
			openers, marks, columns = 0, 0, 0
			continue
		}
		openers += strings.Count(line, "[")
		for _, mark := range []string{"*", "_", "~", "`", "<", "]", "!"} {
			marks += strings.Count(line, mark)
		}
		if strings.Trim(trimmed, "|:- \t>") == "" && strings.Contains(trimmed, "-") {
			columns = max(columns, strings.Count(trimmed, "|")+1)
		}
		if columns > 1 {
			cells += columns
		}
		if openers > maxOpeners || marks > maxMarks || cells > maxCells || nesting(line) > maxNesting {
			return true
		}
	}
	return false
}

// nesting is how many containers the beginning of a line opens at most.
func nesting(line string) (depth int) {
	for _, c := range []byte(line) {
		switch {
		case c == '>' || c == '-' || c == '+' || c == '*' || c == '.' || c == ')':
			depth++
		case c == ' ' || c == '\t' || '0' <= c && c <= '9':
		default:
			return depth
		}
	}
	if strings.Trim(line, "-*_ \t\r\n") == "" {
		return 0 // a rule
	}
	return depth
}

// limitedBuffer takes so much and no more.
type limitedBuffer struct {
	bytes.Buffer
	max int
}

var errTooMuch = errors.New("too much came of it")

// Write implements io.Writer.
func (b *limitedBuffer) Write(p []byte) (int, error) {
	if b.Len()+len(p) > b.max {
		return 0, errTooMuch
	}
	return b.Buffer.Write(p)
}

// safeHTML makes what people publish fit to be shown. What would cost too much,
// or become too long, is shown as it was written.
func safeHTML(r catalog.Readme) string {
	asWritten := func() string { return "<pre>" + html.EscapeString(r.Text) + "</pre>" }
	if !strings.HasPrefix(r.Format, "text/markdown") || intricate(r.Text) {
		return asWritten()
	}
	b := limitedBuffer{max: maxHTML}
	if err := markdown.Convert([]byte(r.Text), &b); err != nil {
		return asWritten()
	}
	clean := harmless.SanitizeReader(&b.Buffer)
	if clean.Len() > maxHTML {
		return asWritten()
	}
	return clean.String()
}

// readmes are texts that were made fit to be shown: each once, one at a time,
// and not for the sake of one request, which may be gone by then.
type readmes struct {
	known   *lru.Cache[[32]byte, string]
	flights singleflight.Group
	one     chan struct{}
}

// keptReadmes is how many are remembered; each has a MiB at most, most a few KiB.
const keptReadmes = 64

func newReadmes() *readmes {
	known, err := lru.New[[32]byte, string](keptReadmes)
	if err != nil {
		panic(err) // the size is a constant
	}
	return &readmes{known: known, one: make(chan struct{}, 1)}
}

// html is a text as it is shown.
func (r *readmes) html(ctx context.Context, text catalog.Readme) (string, error) {
	key := sha256.Sum256([]byte(text.Format + "\x00" + text.Text))
	if known, ok := r.known.Get(key); ok {
		return known, nil
	}
	flight := r.flights.DoChan(string(key[:]), func() (any, error) {
		r.one <- struct{}{}
		defer func() { <-r.one }()
		made := safeHTML(text)
		r.known.Add(key, made)
		return made, nil
	})
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case made := <-flight:
		return made.Val.(string), made.Err
	}
}
