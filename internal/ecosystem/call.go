package ecosystem

import (
	"encoding/base64"
	"errors"
	"io"
	"net/http"
	"os"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
)

// What a Desk and an ecosystem tell each other besides faults.
var (
	ErrNoFile    = errors.New("no such file")
	ErrNoPackage = errors.New("no such package")
	ErrNoFolder  = errors.New("no such folder")
	ErrNotMine   = errors.New("not a file of this ecosystem")
)

// Call is a request to a route, after its caller and repository were found and
// the right that the route needs was seen to be there.
type Call struct {
	*echo.Context
	Caller     access.Caller
	Repository catalog.Repository
	Desk       Desk
	// Rest is the decoded path below the ecosystem's door.
	Rest string
	// ShowFolder writes the folder at Rest for a person.
	ShowFolder func() error
}

// immutable is for content that never changes under its address.
const immutable = "private, max-age=31536000, immutable"

// SendFile answers with a stored file: conditions, ranges and HEAD included,
// by sendfile where the store is a folder. fixed tells that its address will
// never give other bytes. A GET that is answered with the beginning counts as a
// download.
func (c *Call) SendFile(f catalog.File, contentType string, fixed bool) error {
	opened, err := c.Desk.Open(c.Request().Context(), f)
	if err != nil {
		return err
	}
	defer opened.Close()
	h := c.Response().Header()
	h.Set("Content-Type", contentType)
	h.Set("ETag", `"`+f.Digests.Hex("sha256")+`"`)
	// RFC 9530, 3.
	h.Set("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(f.Digests.SHA256[:])+":")
	h.Set("Cache-Control", "private, no-cache")
	if fixed {
		h.Set("Cache-Control", immutable)
	}
	w := c.Response()
	if _, isFile := opened.(*os.File); isFile {
		w = direct(w) // bytes in memory leave with the header in one write instead
	}
	http.ServeContent(w, c.Request(), "", f.AddedAt, opened)
	if c.Request().Method == http.MethodGet && firstPart(c.Request().Header.Get("Range")) && c.sent() {
		c.Desk.Downloaded(c.Caller, f)
	}
	return nil
}

// sent tells whether the answer had content: neither "not modified" nor an error.
func (c *Call) sent() bool {
	r, err := echo.UnwrapResponse(c.Response())
	return err == nil && (r.Status == http.StatusOK || r.Status == http.StatusPartialContent)
}

// firstPart tells whether a range begins with the first byte, so that a
// download in parts is counted once.
func firstPart(header string) bool {
	return header == "" || len(header) > 8 && header[:8] == "bytes=0-"
}

// SendDocument answers with a rendered document and its validator.
func (c *Call) SendDocument(d Document) error {
	h := c.Response().Header()
	h.Set("Content-Type", d.ContentType)
	h.Set("ETag", d.ETag)
	h.Set("Cache-Control", "private, no-cache")
	http.ServeContent(c.Response(), c.Request(), "", d.Changed, d.Reader())
	return nil
}

// sendfile gives echo's response back the ReadFrom of the response below it.
type sendfile struct{ *echo.Response }

func direct(w http.ResponseWriter) http.ResponseWriter {
	if r, ok := w.(*echo.Response); ok {
		if _, ok := r.ResponseWriter.(io.ReaderFrom); ok {
			return sendfile{r}
		}
	}
	return w
}

// ReadFrom implements io.ReaderFrom.
func (s sendfile) ReadFrom(r io.Reader) (int64, error) {
	if !s.Committed {
		s.WriteHeader(http.StatusOK)
	}
	n, err := s.ResponseWriter.(io.ReaderFrom).ReadFrom(r)
	s.Size += n
	return n, err
}
