package web

import (
	"errors"
	"log/slog"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/traces"
)

// newRequestID numbers the requests of this process, whose name is random.
func (w *Server) newRequestID() string {
	return w.process + strconv.FormatUint(w.requests.Add(1), 36)
}

var requestIDForm = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

// answersForAll tells whether what is answered under a path depends on what other nodes did:
// all but the console's own files, and what is asked of this one node.
func answersForAll(path string) bool {
	return !strings.HasPrefix(path, "/assets/") && path != "/livez" && path != "/readyz" && path != "/metrics"
}

// Values of headers that are the same in all answers: nobody changes what is in a header's list.
var (
	asSaid = []string{"nosniff"}
	// What people publish must not act in the name of the console.
	actsNowhere = []string{"sandbox; default-src 'none'; style-src 'unsafe-inline'"}
)

// observe gives each request an id, counts it, and logs what is worth it.
func (w *Server) observe(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		start := time.Now()
		r, endSpan := traces.Request(c.Request())
		c.SetRequest(r)
		id := r.Header.Get("X-Request-Id")
		if id == "" || !requestIDForm.MatchString(id) {
			id = w.newRequestID()
		}
		h := c.Response().Header()
		h.Set("X-Request-Id", id)
		h["X-Content-Type-Options"] = asSaid
		c.Set(requestKey, id)
		w.metrics.running.Inc()
		w.service.Running.Add(1)
		defer func() {
			w.metrics.running.Dec()
			w.service.Running.Add(-1)
			w.service.Answered.Add(1)
		}()
		if answersForAll(r.URL.Path) {
			w.service.DB.CatchUp(r.Context())
		}
		var body *counted
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			body = &counted{ReadCloser: r.Body}
			r.Body = body
		}
		err := next(c)
		if err != nil {
			w.onError(c, err)
		}
		of := observed{method: r.Method, route: c.Path(), status: http.StatusOK, took: time.Since(start)}
		if body != nil {
			of.received = body.read
		}
		if route, ok := c.Get(routeKey).(string); ok {
			of.route = route
		}
		if response, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil {
			if response.Status != 0 {
				of.status = response.Status
			}
			of.sent = response.Size
		}
		w.metrics.observe(of)
		who, _ := c.Get(whoKey).(string)
		endSpan(of.route, id, who, of.status)
		if err == nil { // operations tell of their errors so
			err, _ = c.Get(errorKey).(error)
		}
		w.logRequest(c, id, of, err)
		return nil
	}
}

// What is kept in the context of a request: its id, the route within a door of an ecosystem's
// own, who made it, and what an operation of the API failed by.
const (
	requestKey = "request-id"
	routeKey   = "route"
	whoKey     = "who"
	errorKey   = "error"
)

// requestID is the id of a request.
func requestID(c *echo.Context) string {
	id, _ := c.Get(requestKey).(string)
	return id
}

// logRequest writes one line about a request. What nobody asks about later, such as the
// console's own files and questions after this node's health, is for who looks closely.
func (w *Server) logRequest(c *echo.Context, id string, of observed, err error) {
	r := c.Request()
	level := slog.LevelInfo
	switch {
	case of.status >= 500:
		level = slog.LevelError
	case err == nil && of.status < 400 && !answersForAll(r.URL.Path):
		level = slog.LevelDebug
	}
	if !w.log.Enabled(r.Context(), level) {
		return
	}
	attributes := make([]slog.Attr, 0, 12)
	attributes = append(attributes, slog.String("id", id), slog.String("method", r.Method),
		slog.String("path", w.hideSecrets(r.URL.Path)), slog.Int("status", of.status), slog.Int64("bytes", of.sent),
		slog.Int64("ms", of.took.Milliseconds()), slog.String("from", c.RealIP()))
	if of.received > 0 {
		attributes = append(attributes, slog.Int64("received", of.received))
	}
	if who, ok := c.Get(whoKey).(string); ok {
		attributes = append(attributes, slog.String("who", who))
	}
	if f := (*fault.Error)(nil); errors.As(err, &f) {
		attributes = append(attributes, slog.String("code", f.Code))
		if f.Cause != nil {
			attributes = append(attributes, slog.String("cause", f.Cause.Error()))
		}
	} else if err != nil {
		attributes = append(attributes, slog.String("error", err.Error()))
	}
	w.log.LogAttrs(r.Context(), level, "request", attributes...)
}

// named is a fault whose reason is only in the log, with how to find it there.
func named(f *fault.Error, request string) *fault.Error {
	if f.Kind != fault.Internal || f.Hint != "" {
		return f
	}
	copied := *f
	return copied.WithHint("Tell whoever runs the server that it was the request %s.", request)
}

var secretForm = regexp.MustCompile(access.TokenPrefix + `[A-Za-z0-9_-]+`)

// hideSecrets is a text for the log without the tokens that somebody put into an
// address, nor what the settings say must not be in it.
func (w *Server) hideSecrets(text string) string {
	for _, secret := range w.settings.Secrets {
		text = strings.ReplaceAll(text, secret, "…")
	}
	if !strings.Contains(text, access.TokenPrefix) {
		return text
	}
	return secretForm.ReplaceAllString(text, access.TokenPrefix+"…")
}
