package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/quotas"
)

// ByQuota names a quota. It is exported for the sake of the reflection that reads inputs.
type ByQuota struct {
	About string `path:"about" maxLength:"200" doc:"a repository, team:NAME or store:NAME"`
}

func (w *Server) addQuotas() {
	const path = "/api/v1/quotas"
	operate(w, "list-quotas", forSignedIn, http.MethodGet, path, "How much may be used, and how much is",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Quota], error) {
			all, err := w.service.Quotas.Quotas(ctx, v.caller)
			shown := make([]api.Quota, len(all))
			for i, q := range all {
				shown[i] = showQuota(q)
			}
			return &answer[[]api.Quota]{shown}, err
		})
	operate(w, "show-quota", forSignedIn, http.MethodGet, path+"/{about}", "One quota, and what it is used for",
		func(ctx context.Context, v visit, in *ByQuota) (*answer[api.QuotaDetail], error) {
			d, err := w.service.Quotas.Quota(ctx, v.caller, in.About)
			return &answer[api.QuotaDetail]{w.showQuotaDetail(d)}, err
		})
	operate(w, "set-quota", forAdmin, http.MethodPut, path+"/{about}", "Give a repository, a team or a store a quota",
		func(ctx context.Context, v visit, in *struct {
			ByQuota
			Body api.QuotaChange
		}) (*answer[api.QuotaDetail], error) {
			d, err := w.service.Quotas.SetQuota(ctx, v.caller, in.About, in.Body.Soft, in.Body.Hard)
			return &answer[api.QuotaDetail]{w.showQuotaDetail(d)}, err
		})
	operate(w, "remove-quota", forAdmin, http.MethodDelete, path+"/{about}", "Take a quota away",
		func(ctx context.Context, v visit, in *ByQuota) (*none, error) {
			return nil, w.service.Quotas.RemoveQuota(ctx, v.caller, in.About)
		})
}

func showQuota(q quotas.View) api.Quota {
	shown := api.Quota{About: quotas.Title(q.Quota), Kind: string(q.About), Name: q.Name, Soft: q.Soft, Hard: q.Hard,
		Used: q.Used, State: q.State(), AsOf: q.AsOf.UTC()}
	if q.About == record.QuotaOfTeam {
		shown.Repositories = q.Repositories
	}
	return shown
}

func (w *Server) showQuotaDetail(d quotas.Detail) api.QuotaDetail {
	shown := api.QuotaDetail{Quota: showQuota(d.View), Most: []api.QuotaUse{}, Sweeps: []api.QuotaSweep{}}
	for _, h := range d.Most {
		r, _ := w.service.Directory.RepositoryByID(h.RepositoryID)
		shown.Most = append(shown.Most, api.QuotaUse{Repository: r.Name,
			PURL: purl.PURL{Ecosystem: h.Ecosystem, Namespace: h.Namespace, Name: h.Name}.String(), Bytes: h.Bytes})
	}
	for _, s := range d.Sweeps {
		shown.Sweeps = append(shown.Sweeps, api.QuotaSweep{Policy: s.Policy, Versions: s.Versions, Bytes: s.Bytes})
	}
	return shown
}
