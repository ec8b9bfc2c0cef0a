package web

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
)

const (
	// maxUploads is how many uploads one caller may have open at a time.
	maxOpenUploads = 64
	// leastRate is how many bytes a second a client must send at least, over
	// rateWindow of waiting for it.
	leastRate, rateWindow = 512, time.Minute
	// overhead is what may come with a file in one request: a document, or a form.
	overhead = 64 << 20
)

// uploads counts what is being sent, by caller.
type uploads struct {
	mu   sync.Mutex
	open map[string]int
}

// count tells how many are open.
func (u *uploads) count() (n int) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, open := range u.open {
		n += open
	}
	return n
}

// begin counts an upload, or refuses it; end must be called for one that began.
func (u *uploads) begin(caller access.Caller) (end func(), err error) {
	key := strconv.FormatInt(caller.ID, 10)
	if caller.Anonymous() {
		key = caller.Address
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.open[key] >= maxOpenUploads {
		f := fault.New(fault.TooMany, "too-many-uploads", "%s has %d uploads open already", caller.Name, maxOpenUploads).
			WithHint("Send fewer at once.")
		f.After = 5 * time.Second
		return nil, f
	}
	if u.open == nil {
		u.open = map[string]int{}
	}
	u.open[key]++
	return func() {
		u.mu.Lock()
		defer u.mu.Unlock()
		if u.open[key]--; u.open[key] <= 0 {
			delete(u.open, key)
		}
	}, nil
}

// receive bounds the body of a request: how long it is, and how slowly it may come.
// One that publishes may have a file in it.
func (w *Server) receive(c *echo.Context, repository catalog.Repository, publishes bool) error {
	r := c.Request()
	limit := int64(overhead)
	tooLarge := fault.New(fault.TooLarge, "too-large", "the request has more than %s", api.Bytes(limit))
	if publishes {
		most := w.service.Publishing.LargestFile(repository)
		limit = most/3*4 + overhead // files may be written as text in documents
		tooLarge = fault.New(fault.TooLarge, "file-too-large", "%s takes files of up to %s, and the request has more",
			repository.Name, api.Bytes(most)).
			WithHint("An admin of %s can raise that: crelvo repo edit %s --largest-file SIZE.", repository.Name, repository.Name)
	}
	if r.ContentLength > limit {
		return tooLarge
	}
	r.Body = &patient{ReadCloser: r.Body, controller: http.NewResponseController(c.Response()), left: limit,
		tooLarge: tooLarge}
	return nil
}

// patient gives up on a client that stops sending, or hardly sends, however long
// its body is.
type patient struct {
	io.ReadCloser
	controller *http.ResponseController
	waited     time.Duration // for bytes, in this window
	got        int64
	left       int64
	tooLarge   error
}

// errSlow is the end of a body that comes too slowly.
var errSlow = fault.New(http.StatusRequestTimeout, "too-slow", "it came more slowly than %d bytes a second", leastRate).
	WithHint("Nothing of it was kept; send it again over a better connection.")

// Read implements io.Reader.
func (p *patient) Read(b []byte) (int, error) {
	// Where deadlines are not supported there is nothing to do.
	_ = p.controller.SetReadDeadline(time.Now().Add(silence))
	begun := time.Now()
	n, err := p.ReadCloser.Read(b)
	p.waited, p.got = p.waited+time.Since(begun), p.got+int64(n)
	if errors.Is(err, io.EOF) {
		_ = p.controller.SetReadDeadline(time.Time{})
		return n, err
	}
	if p.left -= int64(n); p.left < 0 {
		return 0, p.tooLarge
	}
	if p.waited > rateWindow {
		if p.got < int64(rateWindow.Seconds())*leastRate {
			return n, errSlow
		}
		p.waited, p.got = 0, 0
	}
	return n, err
}
