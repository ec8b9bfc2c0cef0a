package web

import (
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
)

// Need is the right that a route asks for before anything else is done. What is
// asked in detail, such as about one package, the use case decides.
type Need struct {
	Action access.Action
	// Repository: it is about the repository that the path names; else it is about
	// none.
	Repository bool
}

var (
	forAnyone    = Need{Action: access.Anyone}
	forSignedIn  = Need{Action: access.SignedIn}
	forAdmin     = Need{Action: access.Manage}
	forSomeAdmin = Need{Action: access.ManageSome}
	toRead       = Need{access.Read, true}
	toPublish    = Need{access.Publish, true}
	toRemove     = Need{access.Remove, true}
	toManage     = Need{access.Manage, true}
)

const needKey = "need" // in the metadata of operations

// Needs tells what each route needs, by method and path as the router has them.
func (w *Server) Needs() map[string]Need { return w.needs }

// Routes names all routes of the router, as Needs does.
func (w *Server) Routes() (all []string) {
	for _, r := range w.echo.Router().Routes() {
		if !strings.HasSuffix(r.Path, "/:repository/*") { // which leads to those that are declared
			all = append(all, r.Method+" "+r.Path)
		}
	}
	return append(all, w.declared...)
}

// route adds a route that is no typed operation, with what it needs.
func (w *Server) route(method, path string, need Need, handler echo.HandlerFunc, with ...echo.MiddlewareFunc) {
	w.needs[method+" "+path] = need
	w.echo.Add(method, path, handler, with...)
}

// meet checks that the caller may use a route, and gives the repository that it
// is about.
func (w *Server) meet(caller access.Caller, need Need, repository string) (r catalog.Repository, err error) {
	if need.Repository {
		return w.service.Directory.Repository(caller, repository, need.Action)
	}
	return r, w.service.Directory.Allow(caller, need.Action, access.Object{})
}

// guarded is a route whose handler gets the caller, who may use it, and the
// repository that it is about.
func (w *Server) guarded(
	method, path string, need Need, handler func(c *echo.Context, caller access.Caller, r catalog.Repository) error,
) {
	w.route(method, path, need, func(c *echo.Context) error {
		caller, err := w.identify(c)
		if err != nil {
			return err
		}
		name := ""
		if need.Repository {
			name = param(c, "name")
		}
		r, err := w.meet(caller, need, name)
		if err == nil {
			err = handler(c, caller, r)
		}
		if err != nil {
			w.refused(c, caller, name, err)
		}
		return err
	})
}

// refused notes an attempt that was refused for lack of a right. Who did not sign
// in is only being asked to.
func (w *Server) refused(c *echo.Context, caller access.Caller, repository string, err error) {
	f := asFault(err)
	if caller.Anonymous() || f.Kind != fault.Denied && f.Code != "no-such-repository" {
		return
	}
	w.service.Rights.Refused(caller, repository, c.Request().Method+" "+w.hideSecrets(c.Request().URL.Path), f)
}

// enter finds the caller of an operation, and checks that it may be used.
func (w *Server) enter(ctx huma.Context, next func(huma.Context)) {
	c := ctx.(*operationContext).echo
	need := ctx.Operation().Metadata[needKey].(Need)
	caller, err := w.identify(c)
	if err != nil && (ctx.Operation().OperationID != "sign-in" || !fault.Is(err, fault.Unknown)) {
		w.onError(c, err)
		return
	}
	name := ""
	if need.Repository {
		name = param(c, "name")
	}
	if _, err := w.meet(caller, need, name); err != nil {
		w.refused(c, caller, name, err)
		w.onError(c, err)
		return
	}
	v := visit{caller: caller, address: w.address(c.Request()), secure: w.secure(c.Request()), request: requestID(c),
		failed: func(f *fault.Error) {
			c.Set(errorKey, f)
			w.refused(c, caller, name, f)
		}}
	if cookie, err := c.Request().Cookie(sessionCookie); err == nil {
		v.session = cookie.Value
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	next(huma.WithValue(ctx, visitKey{}, v))
}

// both adds a route for GET and HEAD.
func (w *Server) both(path string, need Need, handler echo.HandlerFunc, with ...echo.MiddlewareFunc) {
	w.route(http.MethodGet, path, need, handler, with...)
	w.route(http.MethodHead, path, need, handler)
}
