package web

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"strings"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/rights"
)

// OfName names a user, robot or team. It is exported for the sake of the
// reflection that reads inputs.
type OfName struct {
	Name string `path:"name" maxLength:"63"`
}

func (w *Server) addUsers() {
	const users = "/api/v1/users"
	operate(w, "list-users", forSomeAdmin, http.MethodGet, users, "Users and robots",
		func(ctx context.Context, v visit, in *struct {
			Kind string `query:"kind" enum:"user,robot,"`
		}) (*answer[[]api.User], error) {
			all, err := w.service.Rights.Principals(ctx, v.caller, in.Kind)
			shown := make([]api.User, len(all))
			for i, p := range all {
				shown[i] = api.User{Name: p.Name, Kind: p.Kind, Description: p.Description,
					Teams:       append([]string{}, strings.Fields(p.Teams)...),
					HasPassword: p.PasswordHash != "", Tokens: p.Tokens, Sessions: p.Sessions, CreatedAt: p.CreatedAt.UTC(),
					BlockedAt: utc(p.BlockedAt), SeenAt: utc(p.SeenAt)}
			}
			return &answer[[]api.User]{shown}, err
		})
	operate(w, "add-user", forSomeAdmin, http.MethodPost, users, "Make a user or robot",
		func(ctx context.Context, v visit, in *answer[api.NewUser]) (*answer[api.MadeUser], error) {
			n := rights.NewPrincipal{Name: in.Body.Name, Robot: in.Body.Kind == "robot", Description: in.Body.Description,
				Password: in.Body.Password, Given: true}
			made := api.MadeUser{Name: n.Name}
			if !n.Robot && n.Password == "" {
				made.Password = rights.GeneratedPassword()
				n.Password = made.Password
			}
			return &answer[api.MadeUser]{made}, w.service.Rights.AddPrincipal(ctx, v.caller, n)
		})
	operate(w, "edit-user", forAdmin, http.MethodPatch, users+"/{name}", "Change a user or robot",
		func(ctx context.Context, v visit, in *struct {
			OfName
			Body api.UserChange
		}) (*none, error) {
			return nil, w.service.Rights.EditPrincipal(ctx, v.caller, in.Name, rights.PrincipalChange(in.Body))
		})
	operate(w, "remove-user", forAdmin, http.MethodDelete, users+"/{name}",
		"Remove a user or robot with its tokens, sessions and grants",
		func(ctx context.Context, v visit, in *OfName) (*none, error) {
			return nil, w.service.Rights.RemovePrincipal(ctx, v.caller, in.Name)
		})
	operate(w, "give-password", forAdmin, http.MethodPost, users+"/{name}/password",
		"Give a user a new password, which is to be changed at the next sign-in",
		func(ctx context.Context, v visit, in *OfName) (*answer[api.MadeUser], error) {
			made := api.MadeUser{Name: in.Name, Password: rights.GeneratedPassword()}
			return &answer[api.MadeUser]{made}, w.service.Rights.SetPassword(ctx, v.caller, in.Name, "", made.Password, "")
		})
	operate(w, "change-password", forSignedIn, http.MethodPut, "/api/v1/me/password",
		"Change one's own password; other sessions end",
		func(ctx context.Context, v visit, in *answer[api.PasswordChange]) (*none, error) {
			return nil, w.service.Rights.SetPassword(ctx, v.caller, "", in.Body.Old, in.Body.New, v.session)
		})
	operate(w, "sign-out-everywhere", forSignedIn, http.MethodPost, "/api/v1/sign-out",
		"End all sessions of the caller, or for an admin of somebody else",
		func(ctx context.Context, v visit, in *struct {
			For    string `query:"for" maxLength:"63"`
			Tokens bool   `query:"tokens" doc:"revoke all tokens too"`
		}) (*answer[api.Ended], error) {
			sessions, tokens, err := w.service.Rights.SignOutEverywhere(ctx, v.caller, in.For, in.Tokens)
			return &answer[api.Ended]{api.Ended{Sessions: sessions, Tokens: tokens}}, err
		})
	operate(w, "first-steps", forAdmin, http.MethodGet, "/api/v1/first-steps",
		"Which of the first steps with a new service are done",
		func(ctx context.Context, v visit, _ *none) (*answer[api.FirstSteps], error) {
			steps, err := w.service.Rights.FirstSteps(ctx, v.caller)
			return &answer[api.FirstSteps]{api.FirstSteps(steps)}, err
		})
}

func (w *Server) addGrants() {
	const path = "/api/v1/grants"
	operate(w, "list-grants", forSomeAdmin, http.MethodGet, path, "The grants on what the caller is an admin of",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Grant], error) {
			all, err := w.service.Rights.Grants(ctx, v.caller)
			shown := make([]api.Grant, len(all))
			for i, g := range all {
				shown[i] = showGrant(g)
			}
			return &answer[[]api.Grant]{shown}, err
		})
	operate(w, "add-grant", forSomeAdmin, http.MethodPost, path, "Give somebody a role",
		func(ctx context.Context, v visit, in *answer[api.NewGrant]) (*answer[api.Grant], error) {
			g, err := w.service.Rights.AddGrant(ctx, v.caller, rights.NewGrant(in.Body))
			return &answer[api.Grant]{showGrant(g)}, err
		})
	operate(w, "remove-grant", forSomeAdmin, http.MethodDelete, path+"/{id}", "Take a role away",
		func(ctx context.Context, v visit, in *struct {
			ID int64 `path:"id"`
		}) (*none, error) {
			return nil, w.service.Rights.RemoveGrant(ctx, v.caller, in.ID)
		})
	operate(w, "check-grant", toRead, http.MethodGet, "/api/v1/repositories/{name}/check",
		"Whether somebody may do something, and because of which grant",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Who    string `query:"who" maxLength:"80" doc:"a user, a robot, team:NAME, signed-in or anonymous; left out: the caller"`
			Action string `query:"action" required:"true" enum:"read,publish,promote,remove,manage"`
			PURL   string `query:"purl" maxLength:"1024" doc:"a package; left out: the repository as such"`
		}) (*answer[api.Verdict], error) {
			var p purl.PURL
			if in.PURL != "" {
				var err error
				if p, err = purl.Parse(in.PURL); err != nil {
					return nil, err
				}
			}
			verdict, err := w.service.Rights.CheckGrant(ctx, v.caller, in.Who, in.Action, in.Name, p)
			return &answer[api.Verdict]{showVerdict(verdict, in.Action, p)}, err
		})
}

func showGrant(g record.StoredGrant) api.Grant {
	return api.Grant{ID: g.ID, Holder: g.Holder, Role: string(g.Role), Repositories: g.Repositories,
		Packages: g.Packages.String(), By: g.By, At: g.At.UTC()}
}

func showVerdict(v rights.Verdict, action string, p purl.PURL) api.Verdict {
	shown := api.Verdict{Allowed: v.Allowed, Missing: string(v.Missing), Repository: v.In}
	what := fmt.Sprintf("%s may %s %s", v.Who, action, v.In)
	if p.Name != "" {
		what = fmt.Sprintf("%s may %s %s in %s", v.Who, action, p, v.In)
	}
	if action == string(access.Publish) && p.Name == "" {
		what = fmt.Sprintf("%s may publish to %s", v.Who, v.In)
	}
	for _, g := range v.Elsewhere {
		shown.Elsewhere = append(shown.Elsewhere, g.String())
	}
	switch {
	case v.Allowed:
		because := showGrant(record.StoredGrant{Grant: v.Because})
		shown.Because = &because
		shown.Sentence = "Yes: " + what + ", because " + v.Because.Holder + " is " + v.Because.String() + "."
		if v.Because.ID == 0 {
			shown.Sentence = "Yes: " + what + ", because everybody may read it."
		}
	case v.TokenLimit:
		shown.Sentence = "No: the token of this request is limited to less."
	default:
		shown.Sentence = fmt.Sprintf("No: %s, which needs the role %s on %s.", strings.Replace(what, " may ", " may not ", 1),
			cmp.Or(string(v.Missing), "admin"), v.In)
		if shown.Elsewhere != nil {
			shown.Sentence += " " + v.Who + " is " + strings.Join(shown.Elsewhere, " and ") + "."
		}
		shown.Sentence += " " + v.Can + "."
	}
	return shown
}

func (w *Server) addTeams() {
	const teams = "/api/v1/teams"
	operate(w, "list-teams", forSignedIn, http.MethodGet, teams, "All teams; who is no admin sees their own",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Team], error) {
			all, err := w.service.Rights.Teams(ctx, v.caller)
			shown := make([]api.Team, len(all))
			for i, t := range all {
				shown[i] = api.Team{Name: t.Name, Description: t.Description, Members: append([]string{}, t.Members()...),
					CreatedAt: t.CreatedAt.UTC()}
			}
			return &answer[[]api.Team]{shown}, err
		})
	operate(w, "add-team", forAdmin, http.MethodPost, teams, "Make a team",
		func(ctx context.Context, v visit, in *answer[api.NewTeam]) (*none, error) {
			return nil, w.service.Rights.AddTeam(ctx, v.caller, in.Body.Name, in.Body.Description, in.Body.Members)
		})
	operate(w, "edit-team", forSomeAdmin, http.MethodPatch, teams+"/{name}", "Change a team",
		func(ctx context.Context, v visit, in *struct {
			OfName
			Body api.TeamChange
		}) (*none, error) {
			return nil, w.service.Rights.EditTeam(ctx, v.caller, in.Name, rights.TeamChange(in.Body))
		})
	operate(w, "remove-team", forAdmin, http.MethodDelete, teams+"/{name}", "Remove a team with its grants",
		func(ctx context.Context, v visit, in *OfName) (*none, error) {
			return nil, w.service.Rights.RemoveTeam(ctx, v.caller, in.Name)
		})
}
