package web

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"testing"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/fault"
)

// TestAsFault: every error is told as what it is; above all, a client that
// stalls is not the database's fault.
func TestAsFault(t *testing.T) {
	stalled := &net.OpError{Op: "read", Err: os.ErrDeadlineExceeded}
	for name, c := range map[string]struct {
		err  error
		kind fault.Kind
		code string
	}{
		"a fault": {fault.New(fault.Conflict, "name-taken", "x"), fault.Conflict, "name-taken"},
		"a client that stalled": {fault.New(fault.Invalid, "cut-upload", "x").WithCause(fmt.Errorf("cut: %w", stalled)),
			fault.Invalid, "cut-upload"},
		"an absent database": {fmt.Errorf("asking: %w", &net.OpError{Op: "dial", Err: errors.New("refused")}),
			fault.Unavailable, "database-away"},
		"a client that left":     {fmt.Errorf("asking: %w", context.Canceled), clientGone, "client-gone"},
		"too large a body":       {&http.MaxBytesError{Limit: 7}, fault.TooLarge, "too-large"},
		"echo's own":             {echo.ErrMethodNotAllowed, 405, "http-405"},
		"echo's with a message":  {echo.NewHTTPError(418, "Teapot"), 418, "http-418"},
		"anything else, hidden":  {errors.New("secret inner workings"), fault.Internal, "internal"},
		"a hidden one, as fault": {fault.Of(errors.New("secret")), fault.Internal, "internal"},
	} {
		if f := asFault(c.err); f.Kind != c.kind || f.Code != c.code || f.Message == "secret inner workings" {
			t.Errorf("%s: %d %s %q; want %d %s", name, f.Kind, f.Code, f.Message, c.kind, c.code)
		}
	}
}
