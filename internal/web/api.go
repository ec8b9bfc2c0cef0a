package web

import (
	"context"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/publishing"
)

// visit is what an operation knows of its request besides its input.
type visit struct {
	caller  access.Caller
	address string
	secure  bool   // it came over TLS
	session string // the secret of the browser's session, if there is one
	request string // its id
	failed  func(*fault.Error)
}

type visitKey struct{}

func visitOf(ctx context.Context) visit { return ctx.Value(visitKey{}).(visit) }

// answer is the output of an operation.
type answer[T any] struct{ Body T }

type none struct{}

// schemaName names what the description of the API calls a type. Parts of bundles are called as other things are.
func schemaName(of reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(of, hint)
	if of.PkgPath() == reflect.TypeFor[bundle.Manifest]().PkgPath() {
		return "Bundle" + name
	}
	return name
}

func (w *Server) addAPI() {
	huma.DefaultArrayNullable = false // empty lists are written as such
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		p := &api.Problem{Status: status, Title: http.StatusText(status), Code: "bad-input", Detail: message}
		for _, err := range errs {
			if err != nil {
				p.Errors = append(p.Errors, err.Error())
			}
		}
		if status >= 500 {
			p.Code = "internal"
		} else if len(p.Errors) > 0 {
			p.Detail += ": " + strings.Join(p.Errors, "; ")
			p.Hint = "Compare the request with /api/openapi.json."
		}
		return p
	}
	config := huma.DefaultConfig("Crelvo", w.settings.Version)
	config.CreateHooks = nil
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", ""
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Info.Description = "The management API of Crelvo. Package clients use the addresses " +
		"/at/<repository>/<ecosystem>/."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer"}, "password": {Type: "http", Scheme: "basic"}}
	config.Security = []map[string][]string{{"token": {}}, {"password": {}}}
	w.api = huma.NewAPI(config, adapter{w.echo})
	w.api.UseMiddleware(w.enter)
	w.addSessions()
	w.addRepositories()
	w.addRemovedRepositories()
	w.addFolders()
	w.addPackages()
	w.addReceiving()
	w.addPointing()
	w.addSearches()
	w.addMirrors()
	w.addChanges()
	w.addPrefetch()
	w.addSchedule()
	w.addExplanations()
	w.addClaims()
	w.addTokens()
	w.addUsers()
	w.addTeams()
	w.addGrants()
	w.addStatus()
	w.addActivity()
	w.addVerification()
	w.addBuilds()
	w.addBuildNames()
	w.addDocuments()
	w.addTracks()
	w.addPromotions()
	w.addKeys()
	w.addStores()
	w.addNodes()
	w.addQuotas()
	w.addSafety()
	w.addVettings()
	w.addLooks()
	w.addChecks()
	w.addBackups()
	w.addTransfers()
	w.addBundles()
	w.addTelling()
	w.addRelays()
	w.addMarks()
	w.addTargets()
	w.addRetention()
	w.addMakeup()
	w.addSets()
	w.addSymbols()
	w.addUsage()
	w.addUpload()
	w.addLook()
	w.addContinue()
	w.addLive()
}

// largeBodies are the operations that take more than the usual MiB, in bytes.
var largeBodies = map[string]int64{"record-build": 32 << 20, "import-advisories": largestImport + 1,
	"attach-document": builds.MaxDocument + 1,
	"look":            publishing.MostLookedAt/3*4 + 1<<20}

// operate adds an operation. Faults that do returns become problems.
func operate[I, O any](
	w *Server, id string, need Need, method, path, summary string,
	do func(ctx context.Context, v visit, in *I) (*O, error),
) {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary,
		Errors: []int{400, 401, 403, 404, 409, 422, 503}, Metadata: map[string]any{needKey: need},
		MaxBodyBytes: largeBodies[id]}
	w.needs[method+" "+routerPath(path)] = need
	if method == http.MethodDelete {
		op.DefaultStatus = http.StatusNoContent
	}
	huma.Register(w.api, op, func(ctx context.Context, in *I) (*O, error) {
		v := visitOf(ctx)
		err := admitBody(reflect.ValueOf(in), "", false)
		var out *O
		if err == nil {
			out, err = do(ctx, v, in)
		}
		if err != nil {
			f := asFault(err)
			v.failed(f)
			headers := http.Header{}
			retryAfter(headers, f)
			return nil, huma.ErrorWithHeaders(problemOf(f, v.request), headers)
		}
		return out, nil
	})
}

func cookie(secret string, ends time.Time, secure bool) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: secret, Path: "/", Expires: ends, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: secure}
}

func meOf(c access.Caller) api.Me {
	me := api.Me{Name: c.Name, Kind: "user", Token: c.Token, Roles: []api.Role{}, Teams: []string{},
		Admin:     access.Decide(c, access.Manage, access.Object{}).Allowed,
		SomeAdmin: access.Decide(c, access.ManageSome, access.Object{}).Allowed}
	switch {
	case c.Anonymous():
		me.Kind = "anonymous"
	case c.Robot:
		me.Kind = "robot"
	}
	for _, g := range c.Grants {
		role := api.Role{Role: string(g.Role), Repositories: g.Repositories, Packages: g.Packages.String()}
		if g.Holder != c.Name {
			role.Through = g.Holder
		}
		me.Roles = append(me.Roles, role)
	}
	if !c.TokenEnds.IsZero() {
		me.TokenEnds = utc(&c.TokenEnds)
	}
	for _, can := range c.Can {
		me.LimitedTo = append(me.LimitedTo, string(can))
	}
	return me
}

func noEcosystem(name string) error {
	return fault.New(fault.NotFound, "no-such-ecosystem", "this server does not know the ecosystem %q", name)
}

// asOf is the moment as of which a repository is read; nil for now.
func asOf(r catalog.Repository) *time.Time {
	if r.AsOf == 0 {
		return nil
	}
	at := r.AsOf.Time()
	return &at
}

func checksums(d catalog.Digests) map[string]string {
	sums := map[string]string{}
	for _, algorithm := range catalog.Algorithms {
		if d.Has(algorithm) { // of a file within a set, one is known
			sums[algorithm] = d.Hex(algorithm)
		}
	}
	return sums
}
