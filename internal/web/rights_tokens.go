package web

import (
	"cmp"
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/record"
	"crelvo/internal/service/rights"
)

func (w *Server) addTokens() {
	type Owner struct {
		For string `query:"for" maxLength:"63" doc:"a user or robot; left out: the caller"`
	}
	operate(w, "list-tokens", forSignedIn, http.MethodGet, "/api/v1/tokens",
		"The tokens of the caller, or for an admin of somebody else",
		func(ctx context.Context, v visit, in *Owner) (*answer[[]api.Token], error) {
			tokens, err := w.service.Rights.Tokens(ctx, v.caller, in.For)
			shown := make([]api.Token, len(tokens))
			for i, t := range tokens {
				shown[i] = w.showToken(record.OwnedToken{Token: t, Owner: cmp.Or(in.For, v.caller.Name), Robot: in.For == "" &&
					v.caller.Robot})
			}
			return &answer[[]api.Token]{shown}, err
		})
	operate(w, "list-all-tokens", forAdmin, http.MethodGet, "/api/v1/tokens/all",
		"The tokens of everybody, the ones that end soonest first",
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
			return &answer[api.MadeToken]{api.MadeToken{Token: w.showToken(record.OwnedToken{Token: t,
				Owner: cmp.Or(in.Body.For, v.caller.Name)}), Secret: secret}}, err
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
		EndsSoon: rights.EndsSoon(t.CreatedAt, t.ExpiresAt, w.service.Now()), Can: append([]string{}, t.Can...),
		On:        append([]string{}, t.On...),
		CreatedAt: t.CreatedAt.UTC(), ExpiresAt: t.ExpiresAt.UTC(), UsedFrom: t.UsedFrom, UsedClient: t.UsedClient}
	if t.UsedAt != nil {
		at := t.UsedAt.UTC()
		shown.UsedAt = &at
	}
	return shown
}
