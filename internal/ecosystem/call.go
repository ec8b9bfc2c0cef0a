package ecosystem

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
)

// What a Desk and an ecosystem tell each other besides faults.
var (
	ErrNoFile    = errors.New("no such file")
	ErrNoPackage = errors.New("no such package")
	ErrNoFolder  = errors.New("no such folder")
	// ErrNotKept: a file of an upstream that can be passed on, but not kept.
	ErrNotKept = errors.New("it cannot be kept")
	ErrNotMine = errors.New("not a file of this ecosystem")
	// ErrDisagrees is the cause of a fault of Inspect about a file that is sound,
	// but says that it is something else than its place does.
	ErrDisagrees = errors.New("the file says that it is something else")
)

// Call is a request to a route, after its caller and repository were found and
// the right that the route needs was seen to be there.
type Call struct {
	*echo.Context
	Caller     access.Caller
	Repository catalog.Repository
	Desk       Desk
	// ByHost: the client knows the repository by a host of its own, and does not name it in
	// paths below a door of its own.
	ByHost bool
	// Base gives the address of the ecosystem's door, as the client reaches it,
	// with a slash at the end.
	Base func() string
	// Rest is the decoded path below the ecosystem's door.
	Rest string
	// Parts are what the path names below a door of its own, by their names in the route.
	Parts map[string]string
	// Folder is what a person sees at a path; a fault if there is nothing.
	Folder func(path string) (Folder, error)
	// ShowFolder writes the folder at Rest for a person.
	ShowFolder func() error
}

// AdvisoryPage is where a person reads more of an advisory.
func (c *Call) AdvisoryPage(id string) string {
	server, _, _ := strings.Cut(c.Base(), "/at/")
	return server + "/safety/advisories/" + url.PathEscape(id)
}

// Absent says that there is nothing of a package or version where it was asked for:
// why, if something can be told of that, else as in otherwise.
func (c *Call) Absent(key catalog.PackageKey, version string, otherwise *fault.Error) error {
	if why := c.Desk.WhyNot(c.Request().Context(), key, version); why != nil {
		return why
	}
	return otherwise
}

// immutable is for content that never changes under its address.
const immutable = "private, max-age=31536000, immutable"

// SendFile answers with a file: conditions, ranges and HEAD included, by
// sendfile where the store is a folder. fixed tells that its address will never
// give other bytes. A GET that is answered with the beginning counts as a
// download. What is still arriving from an upstream is passed on as it comes.
func (c *Call) SendFile(f Found, contentType string, fixed bool) error {
	c.describe(f, contentType, fixed)
	if f.Arriving != nil {
		return c.pass(f)
	}
	if f.Mirror != "" {
		c.Response().Header().Set("Cache-Status", f.Mirror+"; hit")
	}
	return c.sendKept(f.File, false)
}

// describe says in the header what is answered.
func (c *Call) describe(f Found, contentType string, fixed bool) {
	h := c.Response().Header()
	h.Set("Content-Type", contentType)
	h["Cache-Control"] = askAgain
	if fixed {
		h["Cache-Control"] = fixedHere
	}
	c.answeredBy(f.From)
}

// answeredBy names the repository behind a chain that answers.
func (c *Call) answeredBy(name string) {
	if name != "" {
		c.Response().Header().Set("Crelvo-Repository", name)
	}
}

// following are the clients that are known to read a file where they are sent, and not to
// send their credentials there too. A mirror of another Crelvo is none: it goes nowhere that
// its admin did not name.
var following = regexp.MustCompile(`^(Apache-Maven|Buildah|Helm|cargo|containerd|containers|cri-o|docker|` +
	`go-containerregistry|npm|oras|pip|pnpm|podman|skopeo|yarn)[/ ]`)

// follows tells whether a request is for bytes, by a client that reads them where it is sent.
// Who has them already is told so here.
func follows(r *http.Request) bool {
	return r.Method == http.MethodGet && r.Header.Get("If-None-Match") == "" &&
		r.Header.Get("If-Modified-Since") == "" && following.MatchString(r.UserAgent())
}

// sendKept answers with a file of the store.
func (c *Call) sendKept(f catalog.File, fetched bool) error {
	if follows(c.Request()) {
		if at := c.Desk.Elsewhere(c.Request().Context(), f); at != "" {
			if firstPart(c.Request().Header.Get("Range")) {
				c.Desk.Downloaded(c.Caller, f, fetched)
			}
			c.Response().Header().Set("Cache-Control", "no-store") // the address lasts for minutes
			return c.Redirect(http.StatusTemporaryRedirect, at)
		}
	}
	opened, err := c.Desk.Open(c.Request().Context(), f)
	if err != nil {
		return err
	}
	defer opened.Close()
	return c.sendOpened(f, opened, fetched)
}

// SendWithin answers with a file that is kept within others of a version, as SendFile does: f has its name and SHA-256,
// and says by its version what it counts for.
func (c *Call) SendWithin(f Found, content SeekableFile, contentType string, fixed bool) error {
	c.describe(f, contentType, fixed)
	return c.sendOpened(f.File, content, f.Fetched)
}

// sendOpened answers with the bytes of a file.
func (c *Call) sendOpened(f catalog.File, opened SeekableFile, fetched bool) error {
	h, w := c.Response().Header(), c.Response()
	var watched *sendfile
	var held *Held
	if memory, ok := opened.(InMemory); ok { // whose bytes leave with the header in one write
		held = memory.Held()
		h["Etag"], h["Repr-Digest"] = held.etag, held.digest
	} else {
		etag, digest := validators(f.Digests.SHA256)
		h.Set("ETag", etag)
		h.Set("Repr-Digest", digest)
		if watched = direct(w); watched != nil {
			w = watched
		}
	}
	_, isFile := opened.(*os.File)
	switch {
	case held != nil && usual(c.Request()):
		if err := c.sendHeld(held, f.AddedAt); err != nil {
			return fault.New(brokenOff, "broken-off", "the download of %s broke off", f.Name).WithCause(err)
		}
	case watched != nil && isFile:
		gathered(c.Request().Context(), func() { http.ServeContent(w, c.Request(), "", f.AddedAt, opened) })
	default:
		http.ServeContent(w, c.Request(), "", f.AddedAt, opened)
	}
	if c.Request().Method == http.MethodGet && firstPart(c.Request().Header.Get("Range")) && c.sent() {
		c.Desk.Downloaded(c.Caller, f, fetched)
	}
	if watched != nil && watched.err != nil {
		return fault.New(brokenOff, "broken-off", "the download of %s broke off after %d bytes", f.Name, watched.Size).
			WithCause(watched.err)
	}
	return nil
}

// brokenOff is for the log: nobody is there to be told.
const brokenOff fault.Kind = 499

// pass answers with a file that is arriving. If it turns out not to be what it
// should, the connection is cut before the end, so that no client takes what it
// got for whole.
func (c *Call) pass(f Found) error {
	ctx := c.Request().Context()
	kept, isKept, length, err := f.Arriving.Ready(ctx)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	if f.Arriving.Passing() {
		h.Set("Cache-Status", f.Mirror+`; fwd=uri-miss; detail="not kept: the store does not take it"`)
	} else {
		h.Set("Cache-Status", f.Mirror+"; fwd=uri-miss; stored")
	}
	if isKept {
		return c.sendKept(kept, f.Fetched)
	}
	if length >= 0 {
		h.Set("Content-Length", strconv.FormatInt(length, 10))
	}
	if c.Request().Method == http.MethodHead {
		return c.NoContent(http.StatusOK)
	}
	var w http.ResponseWriter = c.Response()
	if quick := direct(w); quick != nil {
		w = quick
	}
	err = f.Arriving.CopyTo(ctx, w)
	switch {
	case err != nil && !c.committed():
		h.Del("Content-Length")
		if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	case err != nil:
		return errors.Join(err, c.cut())
	default:
		// The client need not wait for the counting.
		if err := http.NewResponseController(c.Response()).Flush(); err != nil {
			return err
		}
	}
	if f.Arriving.Passing() {
		return nil // there is nothing here that it could count for
	}
	kept, keepErr := f.Arriving.File(context.WithoutCancel(ctx))
	if keepErr != nil {
		return keepErr
	}
	if err != nil {
		return c.sendKept(kept, f.Fetched)
	}
	c.Desk.Downloaded(c.Caller, kept, f.Fetched)
	return nil
}

// SendStream answers with what write gives, by sendfile where it copies from files. length is -1 if it is not known.
// What goes wrong on the way cuts the connection, so that nobody takes what came for whole.
func (c *Call) SendStream(contentType string, length int64, write func(w io.Writer) error) error {
	h := c.Response().Header()
	h.Set("Content-Type", contentType)
	h["Cache-Control"] = askAgain
	if length >= 0 {
		h.Set("Content-Length", strconv.FormatInt(length, 10))
	}
	if c.Request().Method == http.MethodHead {
		return c.NoContent(http.StatusOK)
	}
	var w http.ResponseWriter = c.Response()
	if quick := direct(w); quick != nil {
		w = quick
	}
	err := write(w)
	if err == nil || !c.committed() {
		if err != nil {
			h.Del("Content-Length")
		}
		return err
	}
	return errors.Join(fault.New(brokenOff, "broken-off", "a download broke off").WithCause(err), c.cut())
}

// cut ends the connection at once.
func (c *Call) cut() error {
	connection, _, err := http.NewResponseController(c.Response()).Hijack()
	if err != nil {
		return err
	}
	return connection.Close()
}

// committed tells whether the answer has begun.
func (c *Call) committed() bool {
	r, err := echo.UnwrapResponse(c.Response())
	return err == nil && r.Committed
}

// sent tells whether the answer had content: neither "not modified" nor an error.
func (c *Call) sent() bool {
	r, err := echo.UnwrapResponse(c.Response())
	return err == nil && (r.Status == http.StatusOK || r.Status == http.StatusPartialContent)
}

// firstPart tells whether a range begins with the first byte, so that a
// download in parts is counted once.
func firstPart(header string) bool {
	return header == "" || strings.HasPrefix(strings.ReplaceAll(header, " ", ""), "bytes=0-")
}

// SendDocument answers with a rendered document and its validator. stale tells
// which mirrors could not bring up to date what it was made from.
func (c *Call) SendDocument(d Document, stale []catalog.Staleness) error {
	h := c.Response().Header()
	h.Set("Content-Type", d.ContentType)
	h.Set("ETag", d.ETag)
	h["Cache-Control"] = askAgain
	for _, s := range stale {
		// RFC 9211, 2.3: a negative time to live is the mark of a stale hit.
		h.Add("Cache-Status", fmt.Sprintf("%s; hit; ttl=-%d; detail=%q", s.Mirror, int64(s.By.Seconds()), OneLine(s.Why)))
	}
	h.Add("Vary", "Accept-Encoding")
	r := c.Request()
	pieces := d.Parts()
	asked := r.Header.Get("If-None-Match")
	packedTag := strings.TrimSuffix(d.ETag, `"`) + `-gzip"`
	// The two forms have validators of their own (RFC 9110, 8.8.3.3); who has
	// the other form need not get this one.
	if strings.Contains(asked, packedTag) {
		h.Set("ETag", packedTag)
	}
	if AcceptsGzip(r.Header.Get("Accept-Encoding")) {
		if packed := d.Packed(); packed != nil {
			pieces = []Part{{bytes: packed}}
			h.Set("Content-Encoding", "gzip")
			if !strings.Contains(asked, d.ETag) {
				h.Set("ETag", packedTag)
			}
		}
	}
	if usual(r) {
		return c.answer(d.Changed, pieces...)
	}
	http.ServeContent(c.Response(), r, "", d.Changed, &whole{pieces: pieces})
	return nil
}

// usual tells whether a request wants all of something, however it is: that needs no more
// than its answer.
func usual(r *http.Request) bool {
	h := r.Header
	return r.Method == http.MethodGet && h["Range"] == nil && h["If-None-Match"] == nil && h["If-Modified-Since"] == nil &&
		h["If-Match"] == nil && h["If-Unmodified-Since"] == nil
}

// answer is all of what was changed then.
func (c *Call) answer(changed time.Time, pieces ...Part) error {
	size := 0
	for _, p := range pieces {
		size += len(p.bytes)
	}
	h, w := c.Response().Header(), c.Response()
	if !changed.IsZero() {
		h.Set("Last-Modified", changed.UTC().Format(http.TimeFormat))
	}
	h.Set("Content-Length", strconv.Itoa(size))
	w.WriteHeader(http.StatusOK)
	for _, p := range pieces {
		if _, err := w.Write(p.bytes); err != nil {
			return err
		}
	}
	return nil
}

// whole reads pieces as one, which are put together only if they are read.
type whole struct {
	pieces []Part
	reader *bytes.Reader
	at     int64
}

// Read implements io.Reader.
func (w *whole) Read(p []byte) (int, error) {
	if w.reader == nil {
		w.reader = bytes.NewReader(Document{parts: w.pieces}.Bytes())
		if _, err := w.reader.Seek(w.at, io.SeekStart); err != nil {
			return 0, err
		}
	}
	return w.reader.Read(p)
}

// Seek implements io.Seeker.
func (w *whole) Seek(offset int64, whence int) (int64, error) {
	if w.reader != nil {
		return w.reader.Seek(offset, whence)
	}
	switch whence {
	case io.SeekCurrent:
		offset += w.at
	case io.SeekEnd:
		for _, p := range w.pieces {
			offset += int64(len(p.bytes))
		}
	}
	w.at = offset
	return offset, nil
}

// sendfile gives echo's response back the ReadFrom of the response below it, and
// keeps what it failed with.
type sendfile struct {
	*echo.Response
	err error
}

// direct gives the sendfile of a response; nil for one that cannot.
func direct(w http.ResponseWriter) *sendfile {
	if r, ok := w.(*echo.Response); ok {
		if _, ok := r.ResponseWriter.(io.ReaderFrom); ok {
			return &sendfile{Response: r}
		}
	}
	return nil
}

// ReadFrom implements io.ReaderFrom.
func (s *sendfile) ReadFrom(r io.Reader) (int64, error) {
	if !s.Committed {
		s.WriteHeader(http.StatusOK)
	}
	n, err := sendTo(s.ResponseWriter, r)
	s.Size += n
	if err != nil {
		s.err = err
	}
	return n, err
}

func sendTo(w http.ResponseWriter, r io.Reader) (n int64, err error) {
	if limited, ok := r.(*io.LimitedReader); ok {
		if sends, ok := limited.R.(Sender); ok {
			n, err = sends.SendTo(w, limited.N)
			limited.N -= n
			return n, err
		}
	}
	return w.(io.ReaderFrom).ReadFrom(r)
}

// Reads are routes that only read, for GET and HEAD, by their paths.
func Reads(by map[string]func(*Call) error) (all []Route) {
	for path, serve := range by {
		for _, method := range []string{http.MethodGet, http.MethodHead} {
			all = append(all, Route{Method: method, Path: path, Action: access.Read, Serve: serve})
		}
	}
	return all
}

// MatchPath tells whether a decoded path is one of those that a route of a door has, and
// gives what it names: "*" is what one * stands for.
func MatchPath(route, path string) (names map[string]string, ok bool) {
	want, has := strings.Split(strings.Trim(route, "/"), "/"), strings.Split(strings.Trim(path, "/"), "/")
	names = map[string]string{}
	for i, segment := range want {
		if segment == "*" {
			n := len(has) - (len(want) - 1)
			if n < 1 {
				return nil, false
			}
			names["*"] = strings.Join(has[i:i+n], "/")
			has = append(append(has[:i:i], "*"), has[i+n:]...)
		}
		switch {
		case i >= len(has):
			return nil, false
		case strings.HasPrefix(segment, ":"):
			names[segment[1:]] = has[i]
		case segment != has[i]:
			return nil, false
		}
	}
	return names, len(want) == len(has)
}
