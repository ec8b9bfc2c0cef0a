package web

import (
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/service/rights"
)

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
