package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
)

func (w *Server) addSearches() {
	operate(w, "complete-query", forAnyone, http.MethodGet, "/api/v1/searches/completions", "How a query could go on",
		func(ctx context.Context, v visit, in *struct {
			Query string `query:"q" maxLength:"1000"`
		}) (*answer[[]api.Completion], error) {
			all := []api.Completion{}
			found, err := w.service.Search.Completions(ctx, v.caller, in.Query)
			for _, c := range found {
				all = append(all, api.Completion(c))
			}
			return &answer[[]api.Completion]{all}, err
		})
	operate(w, "list-searches", forAnyone, http.MethodGet, "/api/v1/searches",
		"The saved searches of the caller, and those that others share",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.SavedSearch], error) {
			all := []api.SavedSearch{}
			saved, err := w.service.Search.SavedSearches(ctx, v.caller)
			for _, s := range saved {
				all = append(all, api.SavedSearch{Name: s.Name, Query: s.Query, Owner: s.Owner, Shared: s.Shared, At: s.At.UTC()})
			}
			return &answer[[]api.SavedSearch]{all}, err
		})
	operate(w, "save-search", forSignedIn, http.MethodPut, "/api/v1/searches/{name}",
		"Keep a query under a name; @name in a query asks for it",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.SaveSearch
		}) (*answer[api.SaveSearch], error) {
			return &answer[api.SaveSearch]{in.Body}, w.service.Search.SaveSearch(ctx, v.caller, in.Name, in.Body.Query,
				in.Body.Shared)
		})
	operate(w, "forget-search", forSignedIn, http.MethodDelete, "/api/v1/searches/{name}", "Drop a saved search",
		func(ctx context.Context, v visit, in *ByName) (*none, error) {
			return nil, w.service.Search.ForgetSearch(ctx, v.caller, in.Name)
		})
}
