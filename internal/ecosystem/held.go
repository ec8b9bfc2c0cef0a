package ecosystem

import (
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"strconv"
	"sync/atomic"
	"time"
)

// Held is a file whose bytes are in memory, and what each answer says of them, made once: a
// small file is sent in less time than its header takes to be put together.
type Held struct {
	Content              []byte // not to be changed
	etag, digest, length []string
	changed              atomic.Pointer[moment]
}

// moment is when something was changed, as a header says it.
type moment struct {
	at   time.Time
	said []string
}

// Hold makes it of bytes with that SHA-256.
func Hold(content []byte, sha256 [32]byte) *Held {
	etag, digest := validators(sha256)
	return &Held{Content: content, etag: []string{etag}, digest: []string{digest},
		length: []string{strconv.Itoa(len(content))}}
}

// validators are what tells bytes apart: the entity tag (RFC 9110, 8.8.3), and the digest of what is represented
// (RFC 9530, 3).
func validators(sha256 [32]byte) (etag, digest string) {
	return `"` + hex.EncodeToString(sha256[:]) + `"`,
		"sha-256=:" + base64.StdEncoding.EncodeToString(sha256[:]) + ":"
}

// lastModified is the header that says when the file was put where it was asked for. The same
// bytes may be in several places.
func (h *Held) lastModified(at time.Time) []string {
	known := h.changed.Load()
	if known == nil || !known.at.Equal(at) {
		known = &moment{at, []string{at.UTC().Format(http.TimeFormat)}}
		h.changed.Store(known)
	}
	return known.said
}

// Values of headers that are the same in all answers. Nobody changes what is in a header's
// list; who adds to it gets a list of his own.
var (
	inRanges  = []string{"bytes"}
	fixedHere = []string{immutable}
	askAgain  = []string{"private, no-cache"}
)

// sendHeld answers with all of a file that is in memory.
func (c *Call) sendHeld(of *Held, changed time.Time) error {
	h, w := c.Response().Header(), c.Response()
	h["Accept-Ranges"], h["Content-Length"] = inRanges, of.length
	if !changed.IsZero() {
		h["Last-Modified"] = of.lastModified(changed)
	}
	w.WriteHeader(http.StatusOK)
	_, err := w.Write(of.Content)
	return err
}
