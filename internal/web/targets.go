package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/service/targets"
)

func (w *Server) addTargets() {
	const at = "/api/v1/targets"
	operate(w, "list-targets", forAdmin, http.MethodGet, at,
		"Repositories on other servers that promotions go on to",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Target], error) {
			all, err := w.service.Targets.Targets(ctx)
			shown := make([]api.Target, len(all))
			for i, d := range all {
				shown[i] = api.Target{Name: d.Name, Ecosystem: d.Ecosystem, URL: d.URL, HasSecret: d.Secret != nil,
					By: d.ByName, At: d.At.UTC()}
			}
			return &answer[[]api.Target]{shown}, err
		})
	operate(w, "set-target", forAdmin, http.MethodPost, at, "Make a target, or write it anew",
		func(ctx context.Context, v visit, in *answer[api.NewTarget]) (*none, error) {
			return nil, w.service.Targets.SetTarget(ctx, v.caller, targets.NewTarget(in.Body))
		})
	operate(w, "remove-target", forAdmin, http.MethodDelete, at+"/{target}", "Remove a target",
		func(ctx context.Context, v visit, in *struct {
			Target string `path:"target" maxLength:"63"`
		}) (*none, error) {
			return nil, w.service.Targets.RemoveTarget(ctx, v.caller, in.Target)
		})
}
