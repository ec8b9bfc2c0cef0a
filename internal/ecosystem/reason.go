package ecosystem

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
)

// lingerTime is how long a refused client may go on sending before its
// connection is closed; closing at once could take the answer away from it.
const lingerTime = 2 * time.Second

// What of a refused body is read for the same reason: drainBytes before the
// answer, lingerBytes, within the time, after it.
const drainBytes, lingerBytes = 256 << 10, 64 << 20

// SendReason answers with a status line of its own wording (RFC 9112, 4), for
// clients that show nothing else, and a body. The connection is
// closed afterwards. Where the protocol has no reason phrases, it is an
// ordinary answer.
func (c *Call) SendReason(status int, reason, mediaType, body string) error {
	r := c.Request()
	h := c.Response().Header()
	if r.ProtoMajor != 1 {
		return c.Blob(status, mediaType, []byte(body))
	}
	h.Set("Content-Type", mediaType)
	// A client that waits for leave to send its body must not get it.
	if r.Header.Get("Expect") == "" {
		_, _ = io.CopyN(io.Discard, r.Body, drainBytes) // whatever is left is cut below
	}
	conn, buffered, err := http.NewResponseController(c.Response()).Hijack()
	if err != nil {
		return c.Blob(status, mediaType, []byte(body))
	}
	defer conn.Close()
	if response, err := echo.UnwrapResponse(c.Response()); err == nil {
		response.Status, response.Committed = status, true
	}
	if err := conn.SetDeadline(time.Now().Add(lingerTime)); err != nil {
		return err
	}
	h.Set("Connection", "close")
	h.Set("Date", time.Now().UTC().Format(http.TimeFormat))
	h.Set("Content-Length", strconv.Itoa(len(body)))
	fmt.Fprintf(buffered, "HTTP/1.1 %d %s\r\n", status, OneLine(reason))
	if err := h.Write(buffered); err != nil {
		return err
	}
	fmt.Fprint(buffered, "\r\n")
	if r.Method != http.MethodHead {
		fmt.Fprint(buffered, body)
	}
	if err := buffered.Flush(); err != nil {
		return nil // the client is gone
	}
	if half, ok := conn.(*net.TCPConn); ok && half.CloseWrite() == nil {
		_, _ = io.CopyN(io.Discard, conn, lingerBytes)
	}
	return nil
}

// OneLine makes text fit for a status line: printable ASCII, at most 300 bytes.
func OneLine(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return ' '
		}
		return r
	}, text)
	return text[:min(len(text), 300)]
}
