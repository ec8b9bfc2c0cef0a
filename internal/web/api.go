package web

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

// visit is what an operation knows of its request besides its input.
type visit struct {
	caller  access.Caller
	address string
	secure  bool   // it came over TLS
	session string // the secret of the browser's session, if there is one
	refused func(error)
}

type visitKey struct{}

func visitOf(ctx context.Context) visit { return ctx.Value(visitKey{}).(visit) }

// answer is the output of an operation.
type answer[T any] struct{ Body T }

type none struct{}

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
	config.Info.Description = "The management API of Crelvo. Package clients use the addresses /at/<repository>/<ecosystem>/."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer"}, "password": {Type: "http", Scheme: "basic"}}
	config.Security = []map[string][]string{{"token": {}}, {"password": {}}}
	w.api = huma.NewAPI(config, adapter{w.echo})
	w.api.UseMiddleware(w.enter)
	w.addSessions()
	w.addRepositories()
	w.addPackages()
	w.addPointing()
	w.addSearches()
	w.addMirrors()
	w.addChains()
	w.addTokens()
	w.addUsers()
	w.addGrants()
	w.addActivity()
	w.addBuilds()
	w.addTracks()
	w.addPromotions()
	w.addKeys()
	w.addRetention()
	w.addUsage()
	w.addUpload()
	w.addLook()
	w.addContinue()
	w.addLive()
}

// largeBodies are the operations that take more than the usual MiB, in bytes.
var largeBodies = map[string]int64{"record-build": 32 << 20, "attach-document": builds.MaxDocument + 1,
	"look": publishing.MostLookedAt/3*4 + 1<<20}

// operate adds an operation. Faults that do returns become problems.
func operate[I, O any](w *Server, id string, need Need, method, path, summary string, do func(ctx context.Context, v visit, in *I) (*O, error)) {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary,
		Errors: []int{400, 401, 403, 404, 409, 422, 503}, Metadata: map[string]any{needKey: need}, MaxBodyBytes: largeBodies[id]}
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
			v.refused(err)
			f := asFault(err)
			if f.Status() >= 500 {
				w.log.Error("operation failed", "operation", id, "error", errors.Join(f, f.Cause))
			}
			headers := http.Header{}
			retryAfter(headers, f)
			return nil, huma.ErrorWithHeaders(problemOf(f), headers)
		}
		return out, nil
	})
}

func (w *Server) addSessions() {
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      api.Me
	}
	operate(w, "sign-in", forAnyone, http.MethodPost, "/api/v1/session", "Start a browser's session",
		func(ctx context.Context, v visit, in *answer[api.SignIn]) (*signedIn, error) {
			secret, ends, err := w.service.Rights.SignIn(ctx, in.Body.Name, in.Body.Password,
				rights.Origin{Address: v.caller.Address, UserAgent: v.caller.UserAgent})
			if err != nil {
				return nil, err
			}
			caller, err := w.service.Rights.BySession(ctx, secret, rights.Origin{})
			if err != nil {
				return nil, err
			}
			me, err := w.me(ctx, caller)
			return &signedIn{SetCookie: cookie(secret, ends, v.secure), Body: me}, err
		})
	type signedOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	operate(w, "sign-out", forAnyone, http.MethodDelete, "/api/v1/session", "End the browser's session",
		func(ctx context.Context, v visit, _ *none) (*signedOut, error) {
			return &signedOut{cookie("", time.Unix(0, 0), v.secure)}, w.service.Rights.SignOut(ctx, v.session)
		})
	operate(w, "me", forAnyone, http.MethodGet, "/api/v1/me", "Who the caller is",
		func(ctx context.Context, v visit, _ *none) (*answer[api.Me], error) {
			me, err := w.me(ctx, v.caller)
			return &answer[api.Me]{me}, err
		})
}

func cookie(secret string, ends time.Time, secure bool) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: secret, Path: "/", Expires: ends, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: secure}
}

// me is who the caller is, with what is on record of it.
func (w *Server) me(ctx context.Context, c access.Caller) (api.Me, error) {
	me := meOf(c)
	if c.Anonymous() {
		return me, nil
	}
	given, teams, err := w.service.Rights.Standing(ctx, c)
	me.ChangePassword, me.Teams = given, append(me.Teams, teams...)
	return me, err
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

// ByName names a repository. It is exported for the sake of the reflection that
// reads inputs.
type ByName struct {
	Name string `path:"name" maxLength:"110" doc:"the repository; for reading also as of a moment: platform@2026-11-01T08:00Z"`
}

func (w *Server) addRepositories() {
	const path = "/api/v1/repositories"
	operate(w, "list-repositories", forAnyone, http.MethodGet, path, "The repositories that the caller may read",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Repository], error) {
			readable := w.service.Directory.Readable(v.caller)
			totals, err := w.service.Repositories.Totals(ctx, readable...)
			if err != nil {
				return nil, err
			}
			all := []api.Repository{}
			contacts, err := w.service.Mirrors.MirrorContacts(ctx)
			if err != nil {
				return nil, err
			}
			for _, r := range readable {
				all = append(all, w.showRepository(v, r, totals, contacts[r.ID]))
			}
			return &answer[[]api.Repository]{all}, nil
		})
	operate(w, "show-repository", toRead, http.MethodGet, path+"/{name}", "One repository",
		func(ctx context.Context, v visit, in *ByName) (*answer[api.Repository], error) {
			r, err := w.service.Directory.Repository(v.caller, in.Name, access.Read)
			return w.oneRepository(ctx, v, r, err)
		})
	operate(w, "add-repository", forSomeAdmin, http.MethodPost, path, "Make a repository",
		func(ctx context.Context, v visit, in *answer[api.NewRepository]) (*answer[api.Repository], error) {
			r, err := w.service.Repositories.AddRepository(ctx, v.caller, newRepository(in.Body))
			return w.oneRepository(ctx, v, r, err)
		})
	operate(w, "edit-repository", toManage, http.MethodPatch, path+"/{name}", "Change the settings of a repository",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.RepositoryChange
		}) (*answer[api.Repository], error) {
			change := repositories.Change{Holds: (*catalog.Holds)(in.Body.Holds),
				Description: in.Body.Description, AnonymousRead: in.Body.AnonymousRead, OnlyBuilds: in.Body.OnlyBuilds, OnlyRobots: in.Body.OnlyRobots,
				Closed: in.Body.Closed, LargestFile: in.Body.LargestFile}
			if m := in.Body.Mirror; m != nil {
				change.Mirror = func(settings *catalog.MirrorSettings) { applyMirror(m, settings) }
			}
			if c := in.Body.Chain; c != nil {
				change.Members, change.ReleasesTo, change.SnapshotsTo, change.OpenMembers = membersOf(c.Members), c.ReleasesTo, c.SnapshotsTo, c.OpenMembers
			}
			r, err := w.service.Repositories.EditRepository(ctx, v.caller, in.Name, change)
			return w.oneRepository(ctx, v, r, err)
		})
	operate(w, "remove-repository", toManage, http.MethodDelete, path+"/{name}", "Take a repository out of use",
		func(ctx context.Context, v visit, in *struct {
			ByName
			WithContents bool `query:"withContents" doc:"also if it holds anything"`
		}) (*none, error) {
			return nil, w.service.Repositories.RemoveRepository(ctx, v.caller, in.Name, in.WithContents)
		})
	operate(w, "list-removed-repositories", forSignedIn, http.MethodGet, "/api/v1/removed-repositories", "Repositories that were removed and can be brought back",
		func(_ context.Context, v visit, _ *none) (*answer[[]api.RemovedRepository], error) {
			all := []api.RemovedRepository{}
			for _, r := range w.service.Directory.RemovedRepositories(v.caller) {
				all = append(all, api.RemovedRepository{Name: r.Name, Kind: string(r.Kind), By: r.By, At: r.At.UTC(), Until: r.At.Add(retention.DefaultGrace).UTC()})
			}
			return &answer[[]api.RemovedRepository]{all}, nil
		})
	operate(w, "bring-repository-back", forAdmin, http.MethodPost, path+"/{name}/undo", "Put a repository that was removed into use again, within 14 days",
		func(ctx context.Context, v visit, in *ByName) (*answer[api.Repository], error) {
			r, err := w.service.Repositories.BringBackRepository(ctx, v.caller, in.Name)
			return w.oneRepository(ctx, v, r, err)
		})
	operate(w, "show-folder", toRead, http.MethodGet, path+"/{name}/folder", "A level of a repository's tree",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Ecosystem string `query:"ecosystem" default:"maven"`
			Path      string `query:"path" maxLength:"1024"`
			After     string `query:"after" maxLength:"255" doc:"go on after the entry of this name"`
			Limit     int    `query:"limit" minimum:"1" maximum:"5000" default:"500"`
		}) (*answer[api.Folder], error) {
			r, err := w.service.Directory.Repository(v.caller, in.Name, access.Read)
			if err != nil {
				return nil, err
			}
			e := w.service.Ecosystem(in.Ecosystem)
			if e == nil {
				return nil, noEcosystem(in.Ecosystem)
			}
			folder, err := w.service.Resolving.Folder(ctx, r, e, in.Path)
			if err != nil {
				return nil, err
			}
			entries, next := folder.Page(in.After, in.Limit)
			shown := api.Folder{Total: len(folder.Entries), Next: next, Repository: r.Name, Ecosystem: e.Name(), Path: folder.Path, Entries: []api.Entry{},
				Address: v.address + "/at/" + r.At() + "/" + e.Name() + "/" + folder.Path}
			for _, entry := range entries {
				line := api.Entry{Name: entry.Name, Folder: entry.Folder, Size: entry.Size, PURL: entry.PURL, Document: entry.Document}
				if !entry.ChangedAt.IsZero() {
					at := entry.ChangedAt.UTC()
					line.ChangedAt = &at
				}
				if entry.Digests != nil {
					line.Checksums = checksums(*entry.Digests)
				}
				shown.Entries = append(shown.Entries, line)
			}
			return &answer[api.Folder]{shown}, nil
		})
}

func noEcosystem(name string) error {
	return fault.New(fault.NotFound, "no-such-ecosystem", "this server does not know the ecosystem %q", name)
}

func (w *Server) oneRepository(ctx context.Context, v visit, r catalog.Repository, err error) (*answer[api.Repository], error) {
	if err != nil {
		return nil, err
	}
	totals, err := w.service.Repositories.Totals(ctx, r)
	if err != nil {
		return nil, err
	}
	if r.AsOf != 0 {
		if totals[r.ID], err = w.service.Repositories.TotalAsOf(ctx, r); err != nil {
			return nil, err
		}
	}
	contacts, err := w.service.Mirrors.MirrorContacts(ctx)
	if err != nil {
		return nil, err
	}
	return &answer[api.Repository]{w.showRepository(v, r, totals, contacts[r.ID])}, nil
}

func (w *Server) showRepository(v visit, r catalog.Repository, totals map[int64]record.Total, contacts []record.UpstreamContact) api.Repository {
	total := totals[r.ID]
	shown := api.Repository{Name: r.Name, Kind: string(r.Kind), Holds: string(r.Holds), Description: r.Description,
		AnonymousRead: r.AnonymousRead, OnlyBuilds: r.OnlyBuilds, OnlyRobots: r.OnlyRobots, Closed: r.Closed, LargestFile: r.LargestFile, Address: v.address + "/at/" + r.At() + "/", AsOf: asOf(r), Ecosystems: []string{},
		Packages: total.Packages, Versions: total.Versions, Bytes: total.Bytes, CreatedAt: r.CreatedAt.UTC(), May: []string{}}
	shown.Ecosystems = append(shown.Ecosystems, total.Ecosystems...)
	switch r.Kind {
	case catalog.Mirror:
		shown.Ecosystem, shown.Mirror, shown.Ecosystems = r.Ecosystem, showMirror(r, contacts, w.service.Now()), []string{r.Ecosystem}
	case catalog.Chain:
		shown.Chain = w.showChain(v.caller, r)
	}
	if total.LastChange != nil {
		at := total.LastChange.UTC()
		shown.LastChange = &at
	}
	for _, action := range access.Actions {
		if (r.AsOf == 0 || action == access.Read) && w.service.Directory.Allow(v.caller, action, access.Of(r)) == nil {
			shown.May = append(shown.May, string(action))
		}
	}
	return shown
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
		sums[algorithm] = d.Hex(algorithm)
	}
	return sums
}

func (w *Server) addTokens() {
	type Owner struct {
		For string `query:"for" maxLength:"63" doc:"a user or robot; left out: the caller"`
	}
	operate(w, "list-tokens", forSignedIn, http.MethodGet, "/api/v1/tokens", "The tokens of the caller, or for an admin of somebody else",
		func(ctx context.Context, v visit, in *Owner) (*answer[[]api.Token], error) {
			tokens, err := w.service.Rights.Tokens(ctx, v.caller, in.For)
			shown := make([]api.Token, len(tokens))
			for i, t := range tokens {
				shown[i] = w.showToken(record.OwnedToken{Token: t, Owner: cmp.Or(in.For, v.caller.Name), Robot: in.For == "" && v.caller.Robot})
			}
			return &answer[[]api.Token]{shown}, err
		})
	operate(w, "list-all-tokens", forAdmin, http.MethodGet, "/api/v1/all-tokens", "The tokens of everybody, the ones that end soonest first",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Token], error) {
			tokens, err := w.service.Rights.AllTokens(ctx, v.caller)
			shown := make([]api.Token, len(tokens))
			for i, t := range tokens {
				shown[i] = w.showToken(t)
			}
			return &answer[[]api.Token]{shown}, err
		})
	operate(w, "add-token", forSignedIn, http.MethodPost, "/api/v1/tokens", "Make a token",
		func(ctx context.Context, v visit, in *answer[api.NewToken]) (*answer[api.MadeToken], error) {
			n := rights.NewToken{For: in.Body.For, Name: in.Body.Name, On: in.Body.On, Only: in.Body.Only,
				Length: time.Duration(in.Body.Seconds) * time.Second}
			for _, can := range in.Body.Can {
				n.Can = append(n.Can, access.Action(can))
			}
			secret, t, err := w.service.Rights.AddToken(ctx, v.caller, n)
			return &answer[api.MadeToken]{api.MadeToken{Token: w.showToken(record.OwnedToken{Token: t, Owner: cmp.Or(in.Body.For, v.caller.Name)}), Secret: secret}}, err
		})
	operate(w, "revoke-token", forSignedIn, http.MethodDelete, "/api/v1/tokens/{token}", "End a token at once",
		func(ctx context.Context, v visit, in *struct {
			Owner
			Token string `path:"token" maxLength:"63"`
		}) (*none, error) {
			return nil, w.service.Rights.RevokeToken(ctx, v.caller, in.For, in.Token)
		})
}

func (w *Server) showToken(t record.OwnedToken) api.Token {
	shown := api.Token{Name: t.Name, Owner: t.Owner, Robot: t.Robot, Only: append([]string{}, t.Only...),
		EndsSoon: rights.EndsSoon(t.CreatedAt, t.ExpiresAt, w.service.Now()), Can: append([]string{}, t.Can...), On: append([]string{}, t.On...),
		CreatedAt: t.CreatedAt.UTC(), ExpiresAt: t.ExpiresAt.UTC(), UsedFrom: t.UsedFrom, UsedClient: t.UsedClient}
	if t.UsedAt != nil {
		at := t.UsedAt.UTC()
		shown.UsedAt = &at
	}
	return shown
}
