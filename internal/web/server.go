// Package web is how Crelvo is reached: sign-in, the package protocols of all
// ecosystems, the management API, metrics, and the console's files.
package web

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service"
	"crelvo/internal/service/act"
	"crelvo/internal/service/rights"
)

// Settings of a Server.
type Settings struct {
	// TrustedProxies are those whose word counts for where a request comes from and
	// how it reached them. Nobody else's does.
	TrustedProxies []netip.Prefix
	// PublicURL is how clients reach the service; "" takes it from each request.
	PublicURL string
	Version   string
	Log       *slog.Logger
	Console   fs.FS // the built console
	// Secrets are texts that are never written to the log: those that were given to the
	// service, and have not the form of its own tokens.
	Secrets []string
}

// Server answers requests.
type Server struct {
	service  *service.Service
	settings Settings
	log      *slog.Logger
	echo     *echo.Echo
	api      huma.API
	metrics  *metrics
	started  time.Time
	crossing *http.CrossOriginProtection
	needs    map[string]Need // by method and path
	declared []string        // routes below doors of ecosystems' own, by method and path
	process  string          // begins the ids of this process's requests
	requests atomic.Uint64
	readmes  *readmes
	uploads  uploads

	// stopping ends requests that would never end by themselves.
	stopping context.Context
	stop     context.CancelFunc
}

// addresses finds where requests come from: the connection says it, unless a
// trusted proxy is at its other end.
func addresses(trusted []netip.Prefix) echo.IPExtractor {
	if len(trusted) == 0 {
		return echo.ExtractIPDirect()
	}
	options := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range trusted {
		_, network, err := net.ParseCIDR(p.Masked().String())
		if err == nil { // a prefix is written as one
			options = append(options, echo.TrustIPRange(network))
		}
	}
	return echo.ExtractIPFromXFFHeader(options...)
}

// secure tells whether a request came over TLS, by itself or as far as a trusted
// proxy says.
func (w *Server) secure(r *http.Request) bool {
	if r.TLS != nil || strings.HasPrefix(w.settings.PublicURL, "https:") {
		return true
	}
	return w.trusted(r) && strings.EqualFold(lastOf(r.Header.Values("X-Forwarded-Proto")), "https")
}

const (
	headerTime = 15 * time.Second
	idleTime   = 2 * time.Minute
	// silence is how long a client may send nothing in the middle of a body.
	silence = time.Minute
)

// New makes a server over a service. The service may be nil if only the
// OpenAPI document is wanted.
func New(s *service.Service, settings Settings) *Server {
	if settings.Log == nil {
		settings.Log = slog.Default()
	}
	w := &Server{service: s, settings: settings, log: settings.Log, started: time.Now(),
		needs: map[string]Need{}, readmes: newReadmes(), crossing: http.NewCrossOriginProtection(),
		process: strings.ToLower(rand.Text()[:8]) + "-"}
	w.metrics = newMetrics(func() int64 { return s.Remembered.Weight() }, w.uploads.count) // s may be nil
	if s != nil {
		w.metrics.held.MustRegister(&held{service: s}, s.DB.Statements())
		w.metrics.held.MustRegister(s.Store.Measures()...)
	}
	w.stopping, w.stop = context.WithCancel(context.Background())
	w.echo = echo.NewWithConfig(echo.Config{Logger: settings.Log, HTTPErrorHandler: w.onError,
		IPExtractor: addresses(settings.TrustedProxies)})
	w.echo.Use(w.observe, middleware.Recover())
	w.route(http.MethodGet, "/livez", forAnyone, func(c *echo.Context) error { return c.String(http.StatusOK, "alive\n") })
	w.route(http.MethodGet, "/readyz", forAnyone, w.ready)
	figures, more := echo.WrapHandler(w.metrics.handler(false)), echo.WrapHandler(w.metrics.handler(true))
	w.guarded(http.MethodGet, "/metrics", forSignedIn, func(c *echo.Context, by access.Caller, _ catalog.Repository,
	) error {
		// What is held has names of repositories and stores.
		if s.Directory.Allow(by, access.Manage, act.Everything) == nil {
			return more(c)
		}
		return figures(c)
	})
	w.addAPI()
	w.addDoors()
	w.addPasses()
	w.addConsole()
	return w
}

// OpenAPI is the description of the management API as JSON.
func (w *Server) OpenAPI() ([]byte, error) { return w.api.OpenAPI().MarshalJSON() }

// Handler answers all requests.
func (w *Server) Handler() http.Handler { return w.forwarded(w.echo) }

// Figures answers with all metrics, without asking who wants them: for an address of its own.
func (w *Server) Figures() http.Handler {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", w.metrics.handler(true))
	return mux
}

// Serve answers on l until ctx ends, and then lets running requests finish
// within the drain time.
func (w *Server) Serve(ctx context.Context, l net.Listener, drain time.Duration) error {
	server := &http.Server{Handler: w.Handler(), ReadHeaderTimeout: headerTime, IdleTimeout: idleTime,
		ErrorLog:    slog.NewLogLogger(w.log.Handler(), slog.LevelDebug),
		ConnContext: ecosystem.WithConnection}
	server.RegisterOnShutdown(w.stop)
	served := make(chan error, 1)
	go func() { served <- server.Serve(l) }()
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
	}
	draining, cancel := context.WithTimeout(context.WithoutCancel(ctx), drain)
	defer cancel()
	err := server.Shutdown(draining)
	if errors.Is(err, context.DeadlineExceeded) {
		w.log.Warn("some requests did not finish in time and were cut", "drain", drain)
		err = server.Close()
	}
	return err
}

func (w *Server) ready(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	if w.service.Draining.Load() {
		return c.String(http.StatusServiceUnavailable, "this node is to be left alone\n")
	}
	if err := w.service.Ready(ctx); err != nil {
		return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

// retryAfter tells when to try again, where that makes sense.
func retryAfter(h http.Header, f *fault.Error) {
	switch {
	case f.After > 0:
		h.Set("Retry-After", strconv.Itoa(int(f.After.Seconds())))
	case f.Kind == fault.Unavailable:
		h.Set("Retry-After", "5")
	}
}

// clientGone is for the log: the client did not wait for its answer.
const clientGone fault.Kind = 499

// asFault makes a fault of any error, so that everybody is told something of
// use.
func asFault(err error) *fault.Error {
	var already *fault.Error
	var e *echo.HTTPError
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &already):
		// Its cause may be a failing connection, but to the client, say, and not
		// to the database.
		return already
	case errors.Is(err, context.Canceled):
		// Nobody hears the answer; it only keeps the log quiet.
		return fault.New(clientGone, "client-gone", "the client went away").WithCause(err)
	case record.Full(err):
		return fault.New(fault.Full, "database-full", "the disk of the database is full").
			WithHint("Nothing was changed. Whoever runs the server must make room on it.").WithCause(err)
	case record.Collided(err):
		return fault.New(fault.Conflict, "changed-meanwhile", "somebody else changed the same at this very moment").
			WithHint("Look at it again, and try again.").WithCause(err)
	case record.Unreachable(err):
		return fault.New(fault.Unavailable, "database-away", "the database does not answer at the moment").
			WithHint("Try again in a few seconds.").WithCause(err)
	case errors.As(err, &tooLarge):
		return fault.New(fault.TooLarge, "too-large", "the request has more than %d bytes", tooLarge.Limit)
	case errors.As(err, &e):
		return fault.New(fault.Kind(e.Code), "http-"+strconv.Itoa(e.Code), "%s", strings.ToLower(e.Message))
	}
	if status := echo.StatusCode(err); status != 0 {
		return fault.New(fault.Kind(status), "http-"+strconv.Itoa(status), "%s", strings.ToLower(http.StatusText(status)))
	}
	return fault.Of(err)
}

// onError answers with a problem; the doors have their own way.
func (w *Server) onError(c *echo.Context, err error) {
	response, unwrapErr := echo.UnwrapResponse(c.Response())
	if unwrapErr != nil || response.Committed {
		return
	}
	problem := problemOf(err, requestID(c))
	retryAfter(c.Response().Header(), asFault(err))
	c.Response().Header().Set("Content-Type", "application/problem+json")
	if err := c.JSON(problem.Status, problem); err != nil {
		w.log.Debug("an error could not be told", "error", err)
	}
}

// problemOf is an error as the API tells it, by the request that met it.
func problemOf(err error, request string) *api.Problem {
	var already *api.Problem
	if errors.As(err, &already) {
		return already
	}
	f := named(asFault(err), request)
	return &api.Problem{Status: f.Status(), Title: http.StatusText(f.Status()), Code: f.Code, Detail: f.Message,
		Hint: f.Hint, Line: f.Line}
}

const sessionCookie = "crelvo_session"

// identify finds who makes a request. No credentials are no error; wrong ones
// are. Nobody is found for a request whose words do not pass the gate.
func (w *Server) identify(c *echo.Context) (access.Caller, error) {
	r := c.Request()
	if err := admit(r); err != nil {
		return access.Caller{}, err
	}
	from := rights.Origin{Address: text.Clean(c.RealIP(), false, text.MaxRemark),
		UserAgent: text.Clean(r.UserAgent(), false, text.MaxRemark)}
	caller, err := w.whoIs(c, from)
	if err == nil && !caller.Anonymous() {
		c.Set(whoKey, caller.Name)
	}
	if err == nil && !caller.TokenEnds.IsZero() && rights.EndsSoon(caller.TokenMade, caller.TokenEnds, w.service.Now()) {
		w.warn(c.Response().Header(), caller)
	}
	return caller, err
}

// warn tells a client that its token ends soon: our own, and npm, which shows
// what a server notes.
func (w *Server) warn(h http.Header, caller access.Caller) {
	at := caller.TokenEnds.UTC()
	h.Set(api.TokenEndsHeader, at.Format(time.RFC3339))
	h.Set("Npm-Notice", fmt.Sprintf("The token %q of %s ends on %s; make a new one with crelvo token new.", caller.Token,
		caller.Name, at.Format("2006-01-02 15:04 UTC")))
}

func (w *Server) whoIs(c *echo.Context, from rights.Origin) (access.Caller, error) {
	r := c.Request()
	header := r.Header.Get("Authorization")
	if header == "" {
		cookie, err := r.Cookie(sessionCookie)
		if err != nil {
			return w.service.Rights.Nobody(r.Context(), from)
		}
		if err := w.crossing.Check(r); err != nil {
			return access.Caller{}, fault.New(fault.Denied, "cross-site", "another site made this request").WithCause(err)
		}
		return w.service.Rights.BySession(r.Context(), cookie.Value, from)
	}
	// Schemes are written in any case (RFC 9110, 11.1).
	if scheme, token, ok := strings.Cut(header, " "); ok && strings.EqualFold(scheme, "Bearer") {
		token = strings.TrimSpace(token)
		if rights.IsPass(token) {
			return w.service.Rights.ByPass(r.Context(), token, from)
		}
		return w.service.Rights.ByToken(r.Context(), token, from)
	}
	name, secret, ok := r.BasicAuth()
	if !ok {
		return access.Caller{}, fault.New(fault.Unknown, "bad-authorization",
			"the Authorization header is neither Basic nor Bearer")
	}
	if name == "" && secret == "" { // some clients send these where they have none
		return w.service.Rights.Nobody(r.Context(), from)
	}
	return w.service.Rights.BySecret(r.Context(), name, secret, from)
}

// address is how the client of a request reaches the service, with no slash at
// the end.
func (w *Server) address(r *http.Request) string {
	if w.settings.PublicURL != "" {
		return strings.TrimSuffix(w.settings.PublicURL, "/")
	}
	scheme := "http"
	if w.secure(r) {
		scheme = "https"
	}
	return (&url.URL{Scheme: scheme, Host: r.Host}).String()
}

func challenge(h http.Header) {
	h.Add("WWW-Authenticate", `Basic realm="Crelvo", charset="UTF-8"`)
	h.Add("WWW-Authenticate", `Bearer realm="Crelvo"`)
}

// ListenFault explains why an address cannot be listened on.
func ListenFault(address string, err error) error {
	return fault.New(fault.Internal, "cannot-listen", "cannot listen on %s: %v", address, rootCause(err)).
		WithHint("Choose another address, such as --listen 127.0.0.1:8710.")
}

func rootCause(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		if _, ok := inner.(fmt.Stringer); ok {
			return inner
		}
		err = inner
	}
}
