package web

import (
	"io"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
)

// addDoors adds the package protocols: /at/<repository>/<ecosystem>/….
func (w *Server) addDoors() {
	for _, e := range kinds.All() {
		prefix := "/at/:repository/" + e.Name()
		for _, route := range e.Routes() {
			w.route(route.Method, prefix+route.Path, Need{route.Action, true}, w.door(e, route))
		}
		if d, ok := e.(ecosystem.Doored); ok {
			w.addOwnDoor(e, d)
		}
		w.route(http.MethodGet, prefix, forAnyone, func(c *echo.Context) error {
			return c.Redirect(http.StatusMovedPermanently, c.Request().URL.Path+"/")
		})
		for _, method := range []string{http.MethodPost, http.MethodPut} {
			w.route(method, prefix, forAnyone, func(c *echo.Context) error {
				if err := admit(c.Request()); err != nil {
					return err
				}
				call := &ecosystem.Call{Context: c, Desk: w.service.Desk()}
				return call.RefuseInReason(fault.New(fault.NotFound, "wrong-address", "the address lacks its last slash").
					WithHint("It is %s/", w.address(c.Request())+c.Request().URL.Path))
			})
		}
	}
	w.route(http.MethodGet, "/at/:repository", toRead, w.repositoryFolder)
	w.route(http.MethodGet, "/at/:repository/", toRead, w.repositoryFolder)
	w.echo.RouteNotFound("/at/*", func(c *echo.Context) error {
		var known []string
		for _, e := range kinds.All() {
			known = append(known, e.Name())
		}
		return c.String(http.StatusNotFound,
			"There is nothing at this address. Addresses are /at/<repository>/<ecosystem>/…; the ecosystems are: "+
				strings.Join(known, ", ")+".\n")
	})
}

// entrance is what a request asks for below the name of its repository.
type entrance struct {
	repository string
	rest       string
	parts      map[string]string
	byHost     bool
	base       func(r catalog.Repository) string
}

// door finds caller, repository and right for a route of an ecosystem.
func (w *Server) door(e ecosystem.Ecosystem, route ecosystem.Route) echo.HandlerFunc {
	prefix := "/" + e.Name() + "/"
	return func(c *echo.Context) error {
		r := c.Request()
		_, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/at/"), prefix)
		return w.enterDoor(c, e, route, entrance{repository: param(c, "repository"), rest: rest,
			base: func(of catalog.Repository) string { return w.address(r) + "/at/" + of.At() + prefix }})
	}
}

// addOwnDoor adds the addresses of an ecosystem that has a door of its own.
func (w *Server) addOwnDoor(e ecosystem.Ecosystem, d ecosystem.Doored) {
	type below struct {
		ecosystem.Route
		whole string // its path with what is before it
	}
	root, byMethod := d.Door(), map[string][]below{}
	for _, route := range d.DoorRoutes() {
		whole := root + "/:repository" + route.Path
		byMethod[route.Method] = append(byMethod[route.Method], below{route, whole})
		declared := route.Method + " " + whole
		w.needs[declared], w.declared = Need{route.Action, true}, append(w.declared, declared)
	}
	nothing := ecosystem.Route{Action: access.Anyone, Asks: true, Serve: func(*ecosystem.Call) error {
		return fault.New(fault.NotFound, "no-such-address", "there is nothing at this address").
			WithHint("Addresses begin with %s/REPOSITORY/NAME.", root)
	}}
	for method, routes := range byMethod {
		w.echo.Add(method, root+"/:repository/*", func(c *echo.Context) error {
			r := c.Request()
			rest := strings.TrimPrefix(r.URL.Path, root+"/")
			at := entrance{base: func(of catalog.Repository) string { return w.address(r) + root + "/" + of.AtSpelled() + "/" }}
			if at.repository = w.service.Directory.AtHost(r.Host); at.repository != "" {
				at.byHost = true
			} else {
				at.repository, rest, _ = strings.Cut(rest, "/")
				at.repository = catalog.Spelled(at.repository)
			}
			at.rest = rest
			for _, route := range routes {
				if parts, ok := ecosystem.MatchPath(route.Path, rest); ok {
					at.parts = parts
					c.Set(routeKey, route.whole)
					return w.enterDoor(c, e, route.Route, at)
				}
			}
			return w.enterDoor(c, e, nothing, at)
		})
	}
	greet := ecosystem.Route{Action: access.Anyone, Asks: true, Serve: func(call *ecosystem.Call) error {
		if call.Caller.Anonymous() {
			return w.service.Directory.Allow(call.Caller, access.SignedIn, access.Object{})
		}
		return d.Greet(call)
	}}
	for _, path := range []string{root, root + "/"} {
		w.both(path, forAnyone, func(c *echo.Context) error { return w.enterDoor(c, e, greet, entrance{}) })
	}
}

// enterDoor lets a request in at a route of an ecosystem, or refuses it.
func (w *Server) enterDoor(c *echo.Context, e ecosystem.Ecosystem, route ecosystem.Route, at entrance) error {
	r := c.Request()
	h := c.Response().Header()
	h["Content-Security-Policy"] = actsNowhere
	call := &ecosystem.Call{Context: c, Desk: w.service.Desk(), ByHost: at.byHost}
	err := func() error {
		escaped := strings.ToLower(r.URL.EscapedPath())
		if strings.Contains(escaped, "%5c") || strings.Contains(escaped, "%2f") && !route.EncodedSlash {
			return fault.New(fault.Invalid, "bad-path", "the path has an encoded slash, which cannot be part of a name")
		}
		if keyed, ok := e.(ecosystem.Keyed); ok {
			// A token in that header has no scheme, and so no blank.
			key, said := r.Header.Get(keyed.KeyHeader()), r.Header.Get("Authorization")
			if key != "" && !strings.Contains(key, " ") && (said == "" || said == key) {
				r.Header.Set("Authorization", "Bearer "+key)
			}
		}
		caller, err := w.identify(c)
		if err != nil {
			return err
		}
		call.Caller = caller
		if call.Repository, err = w.service.Directory.Repository(caller, at.repository, route.Action); err != nil {
			return err
		}
		if route.Action == access.Publish {
			call.Caller.LabelsLater = r.Header.Get(ecosystem.LabelsLater) != ""
			if call.Caller.Build, err = w.saidBuild(r, caller); err != nil {
				return err
			}
		}
		call.Rest, call.Parts = at.rest, at.parts
		call.Base = func() string { return at.base(call.Repository) }
		call.Folder = func(path string) (ecosystem.Folder, error) {
			return w.service.Resolving.Folder(r.Context(), call.Repository, e, path)
		}
		call.ShowFolder = func() error { return w.showFolder(c, call, e) }
		if r.Header.Get(api.DryRunHeader) != "" && !route.Asks {
			return w.dryRun(c, call, route)
		}
		if r.Method == http.MethodPut || r.Method == http.MethodPost || r.Method == http.MethodPatch {
			if err := w.receive(c, call.Repository, route.Action == access.Publish && !route.Asks); err != nil {
				return err
			}
		}
		if route.Action == access.Publish && !route.Asks {
			end, err := w.uploads.begin(caller)
			if err != nil {
				return err
			}
			defer end()
		}
		return route.Serve(call)
	}()
	if err == nil {
		return nil
	}
	f := named(asFault(err), requestID(c))
	if response, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil && response.Committed {
		return f // for the log: the answer has begun, and nobody can be told
	}
	w.refused(c, call.Caller, at.repository, f)
	f = w.service.Vetting.Wanted(r.Context(), call.Caller, f)
	if f.Kind == fault.Unknown {
		w.challengeAt(e, call, at)
	}
	retryAfter(h, f)
	h.Set(api.CodeHeader, f.Code)
	h.Del("ETag")
	if refuseErr := e.Refuse(call, f); refuseErr != nil {
		return refuseErr
	}
	return f // for the log; the answer is out
}

// challengeAt asks a client to sign in, in the way that it knows.
func (w *Server) challengeAt(e ecosystem.Ecosystem, call *ecosystem.Call, at entrance) {
	h := call.Response().Header()
	d, ok := e.(ecosystem.Doored)
	if !ok {
		challenge(h)
		return
	}
	call.Parts, call.Repository.Name = at.parts, at.repository
	for _, asked := range d.Challenge(call, w.address(call.Request())+passPath) {
		h.Add("WWW-Authenticate", asked)
	}
}

// saidBuild is the build that an upload says it belongs to.
func (w *Server) saidBuild(r *http.Request, caller access.Caller) (int64, error) {
	text := r.Header.Get(api.BuildHeader)
	if text == "" {
		text = r.URL.Query().Get("build")
	}
	if text == "" || caller.Anonymous() || r.Header.Get(api.DryRunHeader) != "" {
		return 0, nil
	}
	return w.service.Builds.SayBuild(r.Context(), caller, text)
}

// dryRun answers a client that only wants to know whether its request would be
// let in: the right, and for what is published the repository that takes it. The
// body was sent like any other.
func (w *Server) dryRun(c *echo.Context, call *ecosystem.Call, route ecosystem.Route) error {
	c.Response().Header().Set(api.DryRunHeader, "would do")
	if route.Action == access.Publish {
		if _, err := io.Copy(io.Discard, io.LimitReader(c.Request().Body, 1<<20)); err != nil {
			return fault.New(fault.Invalid, "cut-upload", "the request did not arrive whole").WithCause(err)
		}
		snapshot := c.Request().Header.Get(api.DryRunHeader) == "snapshot"
		target, err := w.service.Directory.Target(call.Caller, call.Repository, snapshot)
		if err != nil {
			return err
		}
		if err := w.service.Publishing.Takes(target, snapshot); err != nil {
			return err
		}
		c.Response().Header().Set(api.DryRunHeader, "would go to "+target.Name)
	}
	return c.NoContent(http.StatusNoContent)
}

// repositoryFolder lists the doors of a repository for a person.
func (w *Server) repositoryFolder(c *echo.Context) error {
	caller, err := w.identify(c)
	if err != nil {
		return err
	}
	r, err := w.service.Directory.Repository(caller, param(c, "repository"), access.Read)
	if err != nil {
		if fault.Is(err, fault.Unknown) {
			challenge(c.Response().Header())
		}
		return err
	}
	names, err := w.service.Repositories.EcosystemsIn(c.Request().Context(), r)
	if err != nil {
		return err
	}
	page := folderPage{Title: r.At(), Base: "/at/" + r.At() + "/"}
	for _, name := range names {
		page.Entries = append(page.Entries, ecosystem.Entry{Name: name, Folder: true})
	}
	return renderFolder(c, page)
}

func (w *Server) showFolder(c *echo.Context, call *ecosystem.Call, e ecosystem.Ecosystem) error {
	folder, err := w.service.Resolving.Folder(c.Request().Context(), call.Repository, e, call.Rest)
	if err != nil {
		return err
	}
	entries, next := folder.Page(c.QueryParam("after"), folderLines)
	page := folderPage{Title: call.Repository.At() + " / " + folder.Path, Up: "../",
		Base: "/at/" + call.Repository.At() + "/" + e.Name() + "/", Entries: entries, Next: next, Total: len(folder.Entries)}
	if folder.Path != "" {
		page.Base += folder.Path + "/"
	}
	return renderFolder(c, page)
}
